"""The passes as the window shows them, one file each; in working order here, one line each."""

from isophon.app.model.passes import Pass
from isophon.app.sheets import band, bleed, breath, ess, floor, pop, spot, tick, timing

PASSES: tuple[Pass, ...] = (
    floor.PASS,
    bleed.PASS,
    pop.PASS,
    tick.PASS,
    breath.PASS,
    ess.PASS,
    band.PASS,
    spot.PASS,
    timing.PASS,
)
FIRST = ess.PASS  # open at first: the heart of the work
