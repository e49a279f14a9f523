"""The shelf of voice cards: settings kept for singers on this machine; each is a file that can travel."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import NamedTuple

import platformdirs

from isophon.core.atomic import write_text
from isophon.core.errors import InputError, IsophonError, OutputError
from isophon.core.reading import read_bytes
from isophon.core.session.cards import Card, load_card, save_card, save_some
from isophon.core.session.model import Part

_log = logging.getLogger(__name__)

ENDING = ".voicecard"
OWN = "My taste"  # the name of the card that is for no singer but for the person who mixes
_MOST_CARDS, _LONGEST = 500, 120


class KeptCard(NamedTuple):
    """A card on the shelf, and its file."""

    card: Card
    path: Path

    @property
    def singer(self) -> str:
        """Whose voice it is for."""
        return self.card.name


def shelf() -> Path:
    """The folder that cards lie in."""
    return Path(platformdirs.user_data_dir("isophon")) / "voice-cards"


def cards() -> list[KeptCard]:
    """The cards on the shelf by name; one that cannot be read is left out and noted in the log."""
    found = []
    for path in sorted(shelf().glob(f"*{ENDING}"))[:_MOST_CARDS]:
        try:
            found.append(KeptCard(load_card(path), path))
        except IsophonError as error:
            _log.warning(str(error))
    return sorted(found, key=lambda card: card.singer.casefold())


def card_of(singer: str) -> KeptCard | None:
    """The card of a singer, None for none."""
    wanted = singer.strip().casefold()
    return next((card for card in cards() if wanted and card.singer.casefold() == wanted), None)


def keep(singer: str, part: Part) -> Path:
    """Keep a part's settings as a singer's card, over an earlier one of the same name."""
    earlier = card_of(singer)
    path = earlier.path if earlier else _free(singer)
    save_card(singer.strip(), part, path)
    return path


def keep_accepted(singer: str, part: Part) -> Path:
    """Keep the settings of a part that were accepted from proposals in a singer's card; what else is in it stays."""
    earlier = card_of(singer)
    path = earlier.path if earlier else _free(singer)
    save_some(singer.strip(), part, part.accepted, path)
    return path


def bring_in(path: Path) -> KeptCard:
    """Put a card from elsewhere on the shelf; InputError where it is none."""
    card = load_card(path)
    place = _free(card.name)
    _copy(path, place)
    return KeptCard(card, place)


def copy_out(card: KeptCard, path: Path) -> None:
    """Copy a card to where it can be given away."""
    _copy(card.path, path)


def take_away(card: KeptCard) -> None:
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
