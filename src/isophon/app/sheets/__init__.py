"""The passes as the window shows them, one file each; in working order here, one line each."""

from isophon.app.model.passes import Pass
from isophon.app.sheets import bands, bleed, breaths, esses, floor, line_up, pops, spots, ticks

PASSES: tuple[Pass, ...] = (
    floor.PASS,
    bleed.PASS,
    pops.PASS,
    ticks.PASS,
    breaths.PASS,
    esses.PASS,
    bands.PASS,
    spots.PASS,
    line_up.PASS,
)
FIRST = esses.PASS  # open at first: the heart of the work
