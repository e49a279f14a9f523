"""What stands elsewhere in the take, as it is handed over there, put over a span.

It is read from what all stages before have left, so that whatever is decided about the passage later is in its copies.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.splicing import stretched
from isophon.core.passes.stage import At, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_PIECE_S = 4.0  # of a passage that is stretched
_AROUND_S = 0.1  # around a piece that its splices may read


class Carried(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` come from ``length`` frames at ``source``, fading over ``rises`` frames at their
    start and ``falls`` frames at their end."""

    first: int
    last: int
    source: int
    length: int
    rises: int
    falls: int


def treatments(part: Part) -> Iterator[Carried]:
    """What is done to a part; times are those of the song, as the passage is heard."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark, _ in part.changes_of(PassageMark):
        if mark.from_s is None:
            continue
        first, last = round(mark.start * rate), round(mark.end * rate)
        source = round(mark.from_s * rate)
        length = last - first if mark.length_s is None else round(mark.length_s * rate)
        over = max(0, source + length - frames)
        last, length = last - over, length - over
        if 0 <= first < last and source >= 0 and length > 0:
            edge = max(1, min(round(part.carry.fade_ms / 1000 * rate), (last - first) // 2))
            yield from _pieces(Carried(first, last, source, length, edge, edge), rate)


def _pieces(one: Carried, rate: int) -> Iterator[Carried]:
    """A passage that is stretched, in pieces, so that no more of it is worked on at once than what is asked for."""
    frames = one.last - one.first
    count = 1 if one.length == frames else max(1, round(frames / (_PIECE_S * rate)))
    for i in range(count):
        first, last = (one.first + frames * k // count for k in (i, i + 1))
        source, stop = (one.source + one.length * k // count for k in (i, i + 1))
        yield Carried(first, last, source, stop - source, one.rises * (i == 0), one.falls * (i == count - 1))


def end_of(part: Part) -> float:
    """Where the last passage that was carried on ends, s of the part; 0 where there is none."""
    return max((mark.end for mark, _ in part.changes_of(PassageMark)), default=0.0)


def _remote_input(one: Carried, start: int, stop: int) -> tuple[int, int]:
    if one.length != one.last - one.first:
        return one.source, one.source + one.length
    by = one.source - one.first
    return max(start, one.first) + by, min(stop, one.last) + by


def _apply(at: At, mine: Sequence[Carried]) -> np.ndarray:
    out = at.block().copy()
    for one in mine:
        first, last, here = at.within(one)
        place = np.arange(first, last)
        share = np.ones(last - first)
        if one.rises:
            share = np.minimum(share, (place - one.first + 0.5) / one.rises)
        if one.falls:
            share = np.minimum(share, (one.last - place - 0.5) / one.falls)
        share = raised_cosine(share).astype(np.float32)
        out[:, here] += share * (_passage(at, one, first, last) - out[:, here])
    return out


def _passage(at: At, one: Carried, first: int, last: int) -> np.ndarray:
    """What stands at frames ``first`` to ``last`` of a treatment, float32 ``(channels, last - first)``."""
    frames = one.last - one.first
    if one.length == frames:
        return at.read(one.source + first - one.first, last - first)
    make = partial(stretched, at.read, one.source, one.length, frames, at.sample_rate)
    around = round(_AROUND_S * at.sample_rate)
    passage = at.keep(one, one.source - around, one.source + one.length + around, make)
    return passage[:, first - one.first : last - one.first]


STAGE = Stage("carry", (Carried,), _apply, ("timing",), cache_input=True, remote_input=_remote_input, grows=True)
