"""Bands from a file: the rows that ``find --json`` prints."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from isophon.core.errors import InputError
from isophon.core.marks import Hand, Mark, mark_id
from isophon.core.passes.band.mark import LOUD, BandMark
from isophon.core.passes.band.settings import DEEPEST_DB, MOST_DB, NARROWEST_Q, WIDEST_Q, edges_of
from isophon.core.ranges import Level
from isophon.core.reading import read_bytes

_MOST_ROWS = 12  # bands in a file, and words in each that are read: a file may ask for no more
_MOST_WORDS = 2_000  # words of each band that are read
_At = Annotated[float, Meta(ge=0.0, le=86_400.0)]


class _Row(msgspec.Struct):
    freq_hz: Annotated[float, Meta(ge=20.0, le=20_000.0)]
    q: Annotated[float, Meta(ge=WIDEST_Q, le=NARROWEST_Q)]
    change_db: Annotated[float, Meta(ge=DEEPEST_DB, le=MOST_DB)]
    kind: Literal["band", "hum"] = "band"
    by: Literal["always", "level"] = "always"
    shape: Literal["bell", "low shelf", "high shelf"] = "bell"
    over_db: Level = 0.0
    words: Annotated[list[tuple[_At, _At]], Meta(max_length=_MOST_WORDS)] = []


class _Found(msgspec.Struct):
    bands: list[_Row]


def load_bands(path: Path, duration: float) -> tuple[Mark, ...]:
    """The bands of a file for a take of ``duration`` s: a list of rows, or all that ``find --json`` prints.

    InputError says what is wrong.
    """
    try:
        content = msgspec.json.decode(read_bytes(path), type=list[_Row] | _Found)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise InputError(f"{path.name}: holds no bands as find --json prints them ({error})") from error
    rows = [row for row in (content.bands if isinstance(content, _Found) else content) if row.kind == "band"]
    if len(rows) > _MOST_ROWS:
        raise InputError(f"{path.name}: holds {len(rows)} bands; {_MOST_ROWS} is the most")
    names: set[str] = set()
    return tuple(mark for row in rows for mark in _marks(row, duration, path, names))


def _marks(row: _Row, duration: float, path: Path, names: set[str]) -> list[BandMark]:
    """A mark over the whole take, or one for each word."""
    low, high = edges_of(row.freq_hz, row.q)
    shape = LOUD if row.words else row.shape
    hand = Hand(change_db=row.change_db, drawn=True)
    marks = []
    for start, end in row.words or [(0.0, duration)]:
        if not start < end <= duration + 0.5:
            raise InputError(f"{path.name}: {start:g} to {end:g} s is no span within the recording ({duration:.1f} s)")
        name = f"{mark_id('band', start, names)}-{row.freq_hz:.0f}"
        names.add(name)
        marks.append(BandMark(name, start, min(end, duration), 0.0, -row.change_db, round(low, 1), round(high, 1), 1.0,
                              hand, shape, row.by, row.over_db))  # fmt: skip
    return marks
