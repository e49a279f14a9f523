"""The low cut done: linear phase and centred, so that nothing is delayed and no partial is turned against another.

The magnitude is that of a Butterworth high-pass (Butterworth 1930).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import fft, signal

from isophon.core.passes.rumble.settings import cut_in, loss_db
from isophon.core.passes.stage import Read, Stage, Still

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_FILTER_S = 0.4  # s: length of the filter, several periods of 20 Hz


class LowCut(msgspec.Struct, frozen=True):
    """A low cut over frames ``first`` to ``last`` (the whole take), at ``sample_rate`` Hz."""

    first: int
    last: int
    cut_hz: float
    slope: int
    sample_rate: int


def treatments(part: Part) -> Iterator[LowCut]:
    """What is done to a part."""
    hz = cut_in(part)
    if hz is not None:
        yield LowCut(0, part.source.frames, hz, part.rumble.slope, part.source.sample_rate)


def apply(read: Read, start: int, frames: int, cut: LowCut) -> np.ndarray:
    """A span of a take through the low cut.

    Parameters
    ----------
    read : reads the take, zeros outside.
    start, frames : the span.
    cut : the low cut.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    taps = _taps(cut.cut_hz, cut.slope, cut.sample_rate)
    reach = len(taps) // 2
    samples = read(start - reach, frames + 2 * reach)
    size = fft.next_fast_len(samples.shape[1], real=True)
    spectrum = fft.rfft(samples, size, axis=1) * fft.rfft(taps, size)
    return fft.irfft(spectrum, size, axis=1)[:, 2 * reach : 2 * reach + frames].astype(np.float32)


@lru_cache(maxsize=16)
def _taps(cut_hz: float, slope: int, sample_rate: int) -> np.ndarray:
    count = round(_FILTER_S * sample_rate) | 1
    size = fft.next_fast_len(8 * count, real=True)
    freqs = fft.rfftfreq(size, 1 / sample_rate)
    gain = 10 ** (-loss_db(cut_hz, slope, freqs) / 20)
    gain[0] = 0.0
    taps = np.roll(fft.irfft(gain, size), count // 2)[:count] * signal.get_window("hann", count, fftbins=False)
    return taps.astype(np.float32)


def _still(still: Still, mine: Sequence[LowCut]) -> None:
    for cut in mine:
        still.power *= 10 ** (-loss_db(cut.cut_hz, cut.slope, still.centres) / 10)


STAGE = Stage(
    "rumble", (LowCut,), lambda at, mine: apply(at.read, at.start, at.frames, mine[0]), ("hum",),
    reach=lambda rate: round(_FILTER_S * rate) // 2 + 1, still=_still, slow=True,
)  # fmt: skip
