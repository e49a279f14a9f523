"""The shelf of voice cards: settings kept for singers on this machine; each is a file that can travel."""

from __future__ import annotations

from pathlib import Path
from typing import Any, NamedTuple

import platformdirs

from isophon.core import log
from isophon.core.audio.writing import write_text
from isophon.core.errors import InputError, IsophonError, OutputError
from isophon.core.reading import read_bytes
from isophon.core.session import file
from isophon.core.session.model import Part

ENDING = ".voicecard"
_MOST_CARDS, _LONGEST = 500, 120


class Card(NamedTuple):
    """A card on the shelf: whose voice it is for, its settings by kind, and its file."""

    singer: str
    settings: dict[str, Any]
    path: Path


def shelf() -> Path:
    """The folder that cards lie in."""
    return Path(platformdirs.user_data_dir("isophon")) / "voice-cards"


def cards() -> list[Card]:
    """The cards on the shelf by name; one that cannot be read is left out and noted in the log."""
    found = []
    for path in sorted(shelf().glob(f"*{ENDING}"))[:_MOST_CARDS]:
        try:
            found.append(Card(*file.read_card(path), path))
        except IsophonError as error:
            log.note(str(error))
    return sorted(found, key=lambda card: card.singer.casefold())


def card_of(singer: str) -> Card | None:
    """The card of a singer, None for none."""
    wanted = singer.strip().casefold()
    return next((card for card in cards() if wanted and card.singer.casefold() == wanted), None)


def keep(singer: str, part: Part) -> Path:
    """Keep a part's settings as a singer's card, over an earlier one of the same name."""
    earlier = card_of(singer)
    path = earlier.path if earlier else _free(singer)
    file.save_card(singer.strip(), part, path)
    return path


def bring_in(path: Path) -> Card:
    """Put a card from elsewhere on the shelf; InputError where it is none."""
    singer, settings = file.read_card(path)
    place = _free(singer)
    _copy(path, place)
    return Card(singer, settings, place)


def copy_out(card: Card, path: Path) -> None:
    """Copy a card to where it can be given away."""
    _copy(card.path, path)


def take_away(card: Card) -> None:
    """Take a card off the shelf."""
    try:
        card.path.unlink(missing_ok=True)
    except OSError as error:
        raise OutputError(f"{card.path.name}: cannot be deleted ({error.strerror})") from error


def _copy(source: Path, target: Path) -> None:
    write_text(target, read_bytes(source).decode(errors="replace"))


def _free(singer: str) -> Path:
    """A place on the shelf that no card has yet."""
    name = "".join(c if c.isalnum() or c in " -_" else "_" for c in singer.strip())[:_LONGEST].strip() or "voice"
    for number in range(1, _MOST_CARDS + 1):
        path = shelf() / f"{name}{'' if number == 1 else f' {number}'}{ENDING}"
        if not path.exists():
            return path
    raise InputError(f"{name}: there are too many cards of this name; delete some first")
