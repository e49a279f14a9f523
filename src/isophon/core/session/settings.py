"""The settings of each kind of blemish: their types, and the defaults of the roles."""

from __future__ import annotations

from typing import Any

import msgspec

from isophon.core.errors import CallError
from isophon.core.passes.bleed import settings as bleed
from isophon.core.passes.breaths import settings as breaths
from isophon.core.passes.esses import settings as esses
from isophon.core.passes.gaps import settings as gaps
from isophon.core.passes.hiss import settings as hiss
from isophon.core.passes.hum import model as hum
from isophon.core.passes.pops import settings as pops
from isophon.core.passes.rumble import lowcut
from isophon.core.passes.ticks import settings as ticks

Settings = (
    lowcut.RumbleSettings
    | hum.HumSettings
    | hiss.HissSettings
    | bleed.BleedSettings
    | gaps.GapSettings
    | pops.PopSettings
    | ticks.TickSettings
    | breaths.BreathSettings
    | esses.EssSettings
)

_DEFAULTS = {
    "rumble": lowcut.role_default,
    "hum": hum.role_default,
    "hiss": hiss.role_default,
    "bleed": bleed.role_default,
    "gap": gaps.role_default,
    "pop": pops.role_default,
    "tick": ticks.role_default,
    "breath": breaths.role_default,
    "ess": esses.role_default,
}
_DRAWN_S = {"gap": gaps.DRAWN_S, "pop": pops.DRAWN_S, "tick": ticks.DRAWN_S, "breath": breaths.DRAWN_S,
            "ess": esses.DRAWN_S}  # fmt: skip
WORKING_KINDS = tuple(_DEFAULTS)
WHOLE_KINDS = ("rumble", "hum", "hiss", "bleed")  # work on the whole take and can be switched on and off


ONE_TAKE = {"hiss": ("learn_from", "learn_to"), "bleed": ("nudge_ms", "learn_from", "learn_to")}


def drawn_lengths(kind: str) -> tuple[float, float]:
    """The shortest and longest mark of a kind that a hand can make, in s."""
    return _DRAWN_S.get(kind, (0.005, 86_400.0))


def carried(kind: str, settings: Settings, onto: Settings) -> Settings:
    """``settings`` for another take, whose own are ``onto``: what belongs to one take alone does not come along."""
    return msgspec.structs.replace(settings, **{name: getattr(onto, name) for name in ONE_TAKE.get(kind, ())})


def role_default(kind: str, role: str) -> Settings:
    """The settings of a kind that a part of a role starts with."""
    return _DEFAULTS[kind](role)


def with_setting(kind: str, settings: Settings, name: str, value: Any) -> Settings:
    """``settings`` with one value changed and checked; CallError for a name or value that cannot be."""
    if name not in settings.__struct_fields__:
        known = ", ".join(settings.__struct_fields__)
        raise CallError(f"{kind}.{name}: no such setting; the settings of {kind} are {known}")
    try:
        return msgspec.convert({**msgspec.to_builtins(settings), name: value}, type(settings), strict=False)
    except msgspec.ValidationError as error:
        raise CallError(f"{kind}.{name}={value}: out of range ({str(error).split(' - ')[0]})") from error
