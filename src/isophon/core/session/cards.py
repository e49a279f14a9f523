"""Voice cards: settings for one singer, or for one's own taste, as files that can travel."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import msgspec
from msgspec.structs import replace

from isophon.core.errors import InputError
from isophon.core.passes import BY_NAME, NAMES, Settings
from isophon.core.ranges import Name
from isophon.core.session.file import converted, outline, write_json
from isophon.core.session.model import Part
from isophon.core.session.settings import carried, role_default

OF_ALL, OF_SOME = 1, 2  # versions of the file: with all settings, with some of them
_MOST_NAMED = 1_000  # settings that a card may name


class _CardFile(Settings, frozen=True):
    """``only``: the settings that the card is about, as ``kind.setting``; none: all."""

    isophon_voice_card: int
    name: Name
    only: Annotated[tuple[Name, ...], msgspec.Meta(max_length=_MOST_NAMED)] = ()


class Card(NamedTuple):
    """Whose a card is, its settings by kind, and which of them it is about, as ``kind.setting``; none: all."""

    name: str
    settings: dict[str, Any]
    only: tuple[str, ...] = ()

    def onto(self, mine: Mapping[str, Any]) -> dict[str, Any]:
        """Settings by kind once the card is applied to others; what belongs to one take alone stays."""
        if not self.only:
            return {kind: carried(kind, value, mine[kind]) for kind, value in self.settings.items()}
        changed: dict[str, Any] = {}
        for kind, setting in (name.split(".") for name in self.only):
            value = getattr(self.settings[kind], setting)
            changed[kind] = replace(changed.get(kind, mine[kind]), **{setting: value})
        return changed


def _travelling(kind: str) -> set[str]:
    return set(role_default(kind, "lead").__struct_fields__) - set(BY_NAME[kind].one_take)


def settings_by_kind(part: Part) -> dict[str, Any]:
    """All settings of a part."""
    return {kind: part.settings(kind) for kind in NAMES}


def save_card(name: str, part: Part, path: Path) -> None:
    """Write a part's settings as a voice card; nothing of its one take goes into it."""
    settings = {kind: carried(kind, part.settings(kind), role_default(kind, part.role)) for kind in NAMES}
    write_json(path, _CardFile(OF_ALL, name, **settings))


def save_some(name: str, part: Part, names: tuple[str, ...], path: Path) -> None:
    """Write some settings of a part, as ``kind.setting``, into a card; what an earlier card at ``path`` holds stays.

    InputError where that cannot be read.
    """
    earlier = load_card(path) if path.exists() else Card(name, {kind: role_default(kind, "lead") for kind in NAMES})
    settings = earlier.settings | Card(name, settings_by_kind(part), names).onto(earlier.settings)
    of_all = path.exists() and not earlier.only
    only = () if of_all else tuple(dict.fromkeys((*earlier.only, *names)))
    write_json(path, _CardFile(OF_ALL if of_all else OF_SOME, earlier.name, only, **settings))


def load_card(path: Path) -> Card:
    """Read a voice card; InputError says what is wrong and where. What an older one tells of one take is left out."""
    card = converted(path, outline(path, "isophon_voice_card", "a voice card", OF_SOME), _CardFile)
    for name in card.only:
        kind, _, setting = name.partition(".")
        if kind not in NAMES or setting not in _travelling(kind):
            raise InputError(f'{path.name}: only: "{name[:60]}" is no setting; nothing was changed, use another card')
    settings = {kind: carried(kind, getattr(card, kind), role_default(kind, "lead")) for kind in NAMES}
    return Card(card.name, settings, card.only)
