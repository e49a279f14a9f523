"""The registry: every kind of blemish that there is, one line each, in working order.

A kind is a room (a folder here, holding its settings, its finder and its treatment) and a line in ``KINDS``; in the
window, a file under ``app/sheets`` and a line there. Everything else goes through these: the settings that parts and
voice cards share and what is measured of a take are made from them, and finding, planning, rendering, session file,
hand over and command line name no kind. See docs/contributing.md.
"""

from __future__ import annotations

from types import MappingProxyType
from typing import Any

import msgspec

from isophon.core.passes import band, bleed, breath, carry, ess, gap, hiss, hum, pop, rumble, spot, tick, timing
from isophon.core.passes.kind import Kind, Stage

KINDS: tuple[Kind, ...] = (
    rumble.KIND,
    hum.KIND,
    hiss.KIND,
    bleed.KIND,
    gap.KIND,
    pop.KIND,
    tick.KIND,
    breath.KIND,
    ess.KIND,
    band.KIND,
    spot.KIND,
    timing.KIND,
    carry.KIND,
)

BY_NAME = MappingProxyType({kind.name: kind for kind in KINDS})
NAMES = tuple(BY_NAME)
_STAGES = {stage for kind in KINDS for stage in (kind.stage, *kind.later) if stage}
STAGES: tuple[Stage, ...] = tuple(sorted(_STAGES, key=lambda stage: stage.place))

Settings: Any = msgspec.defstruct(
    "Settings",
    [(kind.name, kind.settings, kind.settings()) for kind in KINDS],
    frozen=True,
    kw_only=True,
    module=__name__,
    namespace={"__doc__": "The settings of all kinds, by their names; a part has them, and a voice card."},
)
Measured: Any = msgspec.defstruct(
    "Measured",
    [(name, told, nothing) for kind in KINDS for name, (told, nothing) in kind.measures.items()],
    frozen=True,
    module=__name__,
    namespace={"__doc__": "What was measured of a whole take beside its marks; each kind names its own."},
)
