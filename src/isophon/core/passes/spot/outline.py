"""Free outlines in time and frequency turned down or up.

What lies inside a polygon is changed in the short-time spectrum (Griffin & Lim 1984: analysis and synthesis with the
same Hann window, normalized), with soft sides in both directions; frames lie at fixed places of the take, so that any
span comes out as the same span of the whole, and nothing outside of the frames that touch the outline is changed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import ndimage

from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.stage import At, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_WINDOW_S = 0.021  # s: length of a window, the nearest power of two samples to it
_SOFT_FRAMES = 0.8  # frames: deviation of the soft sides in time
_SOFT_LINES = 1.2  # lines of the spectrum: the same in frequency
_MOST_FRAMES = 1 << 15  # of the short-time spectrum: a longer outline is not treated


class SpotShape(msgspec.Struct, frozen=True):
    """What lies inside an outline between frames ``first`` and ``last`` is changed by ``gain_db``.

    ``points``: (frame, Hz) of its corners.
    """

    first: int
    last: int
    points: tuple[tuple[int, float], ...]
    gain_db: float


def treatments(part: Part) -> Iterator[SpotShape]:
    """What is done to a part."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark in part.of(SpotMark):
        change = part.change(mark)
        if len(mark.hand.outline) < 3 or abs(change) < 0.05:
            continue
        points = tuple((round(t * rate), float(hz)) for t, hz in mark.hand.outline)
        reach = _size(rate)
        first, last = min(p[0] for p in points) - reach, max(p[0] for p in points) + reach
        if (last - first) // (_size(rate) // 4) < _MOST_FRAMES:
            yield SpotShape(max(0, first), min(frames, last), points, round(change, 3))


def _size(rate: int) -> int:
    return 1 << round(np.log2(_WINDOW_S * rate))


@lru_cache(maxsize=64)
def _mask(shape: SpotShape, rate: int) -> tuple[int, np.ndarray]:
    """The first frame of the short-time spectrum that is changed, and how much of each: ``(frames, lines)``, 0 to 1."""
    size, hop = _size(rate), _size(rate) // 4
    begin, stop = shape.first // hop - 4, shape.last // hop + 5
    times = (np.arange(begin, stop) * hop + size / 2)[:, None]
    hz = np.fft.rfftfreq(size, 1 / rate)[None, :]
    inside = np.zeros((stop - begin, size // 2 + 1), bool)
    corners = shape.points
    for (t0, f0), (t1, f1) in zip(corners, (*corners[1:], corners[0]), strict=True):  # even-odd rule
        if f0 == f1:
            continue
        crosses = (f0 > hz) != (f1 > hz)
        inside ^= crosses & (times < t0 + (hz - f0) / (f1 - f0) * (t1 - t0))
    return begin, ndimage.gaussian_filter(inside.astype(np.float32), (_SOFT_FRAMES, _SOFT_LINES))


def _apply(at: At, mine: Sequence[SpotShape]) -> np.ndarray:
    rate = at.sample_rate
    size, hop = _size(rate), _size(rate) // 4
    window = np.sqrt(np.hanning(size + 1)[:-1])
    out = at.block().astype(np.float64)
    for shape in mine:
        begin, mask = _mask(shape, rate)
        low = max(begin, (max(at.start, shape.first) - size) // hop)
        high = min(begin + len(mask), min(at.stop, shape.last) // hop + 1)
        if high <= low:
            continue
        samples = at.read(low * hop, (high - low - 1) * hop + size).astype(np.float64)
        added = np.zeros_like(samples)
        for k in range(low, high):
            here = slice((k - low) * hop, (k - low) * hop + size)
            spectrum = np.fft.rfft(samples[:, here] * window, axis=1)
            change = mask[k - begin] * (10 ** (shape.gain_db / 20) - 1)
            # Hann windows a quarter apart add to 2
            added[:, here] += np.fft.irfft(spectrum * change, size, axis=1) * window / 2
        first, last = max(at.start, low * hop, shape.first), min(at.stop, low * hop + samples.shape[1], shape.last)
        if last > first:
            out[:, first - at.start : last - at.start] += added[:, first - low * hop : last - low * hop]
    return out.astype(np.float32)


STAGE = Stage("outline", (SpotShape,), _apply, ("spot",), reach=lambda rate: 2 * _size(rate), fixed_blocks=True)
