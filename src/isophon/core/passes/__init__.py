"""The registry: every kind of blemish that there is, one line each.

A kind is a room (a folder here, holding its settings, its marks, its finder and its treatment) and a line in
:class:`Settings`; in the window, a file under ``app/sheets`` and a line there. Everything else goes through these: what
is measured of a take and what marks can be are made from them, and finding, planning, rendering, session file, hand
over and command line name no kind. The orders of working and of rendering follow from what each kind and each stage
says it comes after. See docs/contributing.md.
"""

from __future__ import annotations

from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, Union

import msgspec

from isophon.core.marks import Mark
from isophon.core.passes.band.settings import BandSettings
from isophon.core.passes.bleed.settings import BleedSettings
from isophon.core.passes.breath.settings import BreathSettings
from isophon.core.passes.carry.settings import CarrySettings
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.passes.gap.settings import GapSettings
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.passes.hum.settings import HumSettings
from isophon.core.passes.kind import Kind
from isophon.core.passes.order import in_order
from isophon.core.passes.pop.settings import PopSettings
from isophon.core.passes.rumble.settings import RumbleSettings
from isophon.core.passes.spot.settings import SpotSettings
from isophon.core.passes.stage import Stage
from isophon.core.passes.tick.settings import TickSettings
from isophon.core.passes.timing.settings import TimingSettings


class Settings(msgspec.Struct, frozen=True, kw_only=True):
    """The settings of all kinds, by their names; a part has them, and a voice card. Each name is that of a room."""

    rumble: RumbleSettings = RumbleSettings()
    hum: HumSettings = HumSettings()
    hiss: HissSettings = HissSettings()
    bleed: BleedSettings = BleedSettings()
    gap: GapSettings = GapSettings()
    pop: PopSettings = PopSettings()
    tick: TickSettings = TickSettings()
    breath: BreathSettings = BreathSettings()
    ess: EssSettings = EssSettings()
    band: BandSettings = BandSettings()
    spot: SpotSettings = SpotSettings()
    timing: TimingSettings = TimingSettings()
    carry: CarrySettings = CarrySettings()


def _kind(room: str) -> Kind:
    kind: Kind = import_module(f"{__name__}.{room}").KIND
    return kind


KINDS: tuple[Kind, ...] = in_order([_kind(room) for room in Settings.__struct_fields__])
BY_NAME = MappingProxyType({kind.name: kind for kind in KINDS})
NAMES = tuple(BY_NAME)
STAGES: tuple[Stage, ...] = in_order(list(dict.fromkeys(stage for kind in KINDS for stage in kind.cure.stages)))

if TYPE_CHECKING:
    AnyMark = Mark

    class Measured(msgspec.Struct, frozen=True):
        """What was measured of a whole take beside its marks; each kind names its own."""

        def __getattr__(self, name: str) -> Any:
            """What was measured by that name."""
else:
    AnyMark = Union[tuple(kind.mark for kind in KINDS if kind.mark)]  # noqa: UP007 (made of what is there)
    Measured = msgspec.defstruct(
        "Measured",
        [(name, what, nothing) for kind in KINDS for name, (what, nothing) in kind.finder.measures.items()],
        frozen=True,
        module=__name__,
        namespace={"__doc__": "What was measured of a whole take beside its marks; each kind names its own."},
    )
