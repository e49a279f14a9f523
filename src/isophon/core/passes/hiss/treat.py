"""Hiss turned down: the minimum mean-square error log-spectral amplitude estimator.

Ephraim & Malah, "Speech enhancement using a minimum mean-square error
log-spectral amplitude estimator", IEEE Trans. ASSP 33 (1985). What is estimated
is not the voice alone but the voice with its noise turned down by the amount
asked for: of noise alone that much is left, quieter and of the same colour,
and of soft partials no more than must be goes. Their decision-directed a-priori
SNR is followed forwards and backwards, since both the past and the future are
known (Cohen 2005), and the larger counts. Where a wide part of the spectrum is
nothing but noise, all of it is turned down alike, and so stays even
(speech presence: Cohen & Berdugo 2001).

Gains are made in pieces that begin at fixed places with run-ups of their own at
both ends, so that any span can be made alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import fft, ndimage, signal, special

from isophon.core.audio.spectra import overlap_add
from isophon.core.passes.hiss.settings import BANDS, SILENT_DB, noise_in, share_at, track_in
from isophon.core.passes.noise_track import Track, levels_at
from isophon.core.passes.stage import Read, Stage, Still

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_WINDOW_S = 0.0213  # s: length of the window, about the 20 ms in which speech is steady (common practice)
_OVERLAP = 4  # windows over each sample
_PIECE = 128  # frames whose gains are made together
_RUN_UP = 24  # frames before and after them, in which the estimate forgets where it began
# s: time constant of the decision-directed estimate; with 5 ms steps the weight is 0.9 (0.98 in the paper, from memory)
_MEMORY_S = 0.05
_AROUND_S = 0.048  # s: a bin's surroundings, in which the voice must show
_AROUND_HZ = 2_900.0  # Hz: the same in frequency
_NOISE_DB, _VOICE_DB = 0.4, 1.4  # over the noise, around a bin
_MOST_HEARD = 30.0  # one bin alone is no voice around it
_LEAST_PRIOR_DB = -25.0  # dB: no a-priori SNR is lower (Cappé 1994 on musical noise; from memory)
_MOST_POSTERIOR = 1e4  # power over the noise; higher ones change no gain
_PRESENT_DB = 6.0  # dB: a frame whose median a-priori SNR is more than so far under 0 holds no voice
_LOWEST_LOG = -14.0  # natural logarithm of the argument at which the table of the exponential integral begins
_HIGHEST_LOG = 5.0  # and ends
_STEPS = 8_192  # its entries
# half the exponential integral of the paper's gain, as a table
_LOG_GAIN = (0.5 * special.exp1(np.exp(np.linspace(_LOWEST_LOG, _HIGHEST_LOG, _STEPS)))).astype(np.float32)


class HissCut(msgspec.Struct, frozen=True):
    """Noise turned down over frames ``first`` to ``last`` (the whole take).

    ``noise``: see :func:`isophon.core.passes.hiss.settings.noise_of`;
    ``esses``: (start, end) in frames, which get no top back; ``track``: how the noise changes, see
    :func:`isophon.core.passes.noise_track.track_of`.
    """

    first: int
    last: int
    noise: tuple[float, ...]
    amount_db: float
    from_hz: float
    top_db: float
    sample_rate: int
    esses: tuple[tuple[int, int], ...] = ()
    track: Track = ()


def treatments(part: Part) -> Iterator[HissCut]:
    """What is done to a part."""
    settings, noise, rate = part.hiss, noise_in(part), part.source.sample_rate
    if not (settings.on and noise and (max(noise) > SILENT_DB or settings.top_db > 0)):
        return
    esses = tuple((round(m.start * rate), round(m.end * rate)) for m in part.of_kind("ess"))
    yield HissCut(0, part.source.frames, noise, settings.amount_db, settings.from_hz, settings.top_db, rate,
                  esses if settings.top_db > 0 else (), track_in(part))  # fmt: skip


def apply(read: Read, start: int, frames: int, cut: HissCut, keep: Callable | None = None) -> np.ndarray:
    """A span of a take with less hiss.

    Parameters
    ----------
    read : reads the take, zeros outside.
    start, frames : the span.
    cut : the noise and what is done.
    keep : ``keep(key, first, last, make)`` may hold the gains of a piece, which depend on frames ``first`` to ``last``,
        for the next span.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    size, hop = shape_of(cut.sample_rate)
    window = _window(size)
    first = (start - size) // hop + 1
    count = (start + frames - 1) // hop - first + 1
    samples = read(first * hop, (count - 1) * hop + size)
    pieces = range(first // _PIECE, (first + count - 1) // _PIECE + 1)
    if keep is None:
        gains = [_gains(read, cut, pieces)]
    else:
        gains = [keep((cut, piece), (piece * _PIECE - _RUN_UP) * hop, ((piece + 1) * _PIECE + _RUN_UP) * hop + size,
                      lambda piece=piece: _gains(read, cut, range(piece, piece + 1))) for piece in pieces]  # fmt: skip
    gain = np.concatenate(gains, axis=1)[:, first - pieces[0] * _PIECE :][:, :count]
    out = np.zeros((len(samples), (count - 1) * hop + size), np.float32)
    lowest = _lowest_bin(cut, size)
    for channel, sound in enumerate(samples):
        spectra = fft.rfft(_framed(sound, size, hop) * window, axis=1)
        spectra[:, lowest:] *= gain[channel]
        overlap_add(out[channel], fft.irfft(spectra, size, axis=1) * window, hop)
    at = start - first * hop
    return out[:, at : at + frames]


def shape_of(sample_rate: int) -> tuple[int, int]:
    """Window and hop in frames."""
    size = fft.next_fast_len(round(_WINDOW_S * sample_rate) // 8 * 8, real=True)
    size += -size % (2 * _OVERLAP)
    return size, size // _OVERLAP


@lru_cache(maxsize=8)
def _window(size: int) -> np.ndarray:
    """Root of a Hann window, scaled so that analysis and synthesis at quarter hops give the signal back."""
    return np.sqrt(signal.get_window("hann", size) * 2 / _OVERLAP).astype(np.float32)


def _framed(sound: np.ndarray, size: int, hop: int) -> np.ndarray:
    return np.lib.stride_tricks.sliding_window_view(sound, size)[::hop]


def _lowest_bin(cut: HissCut, size: int) -> int:
    """The first bin that is changed at all."""
    hz = np.fft.rfftfreq(size, 1 / cut.sample_rate)
    return int(np.argmax(share_at(hz, cut.from_hz) > 0))


def _gains(read: Read, cut: HissCut, pieces: range) -> np.ndarray:
    """Gains of pieces that follow each other, float32 ``(channels, frames, bins from the lowest that changes)``.

    Each piece is worked out by itself from its own run-up on, all of them side by side.
    """
    size, hop = shape_of(cut.sample_rate)
    first, count = pieces[0] * _PIECE - _RUN_UP, len(pieces) * _PIECE + 2 * _RUN_UP
    samples = read(first * hop, (count - 1) * hop + size)
    lowest = _lowest_bin(cut, size)
    hz = np.fft.rfftfreq(size, 1 / cut.sample_rate)[lowest:]
    share = share_at(hz, cut.from_hz).astype(np.float32)
    partly = int(np.count_nonzero(share < 1))
    noise = _noise_power(cut, size)[lowest:]
    left = float(10 ** (cut.amount_db / 20))
    around = (round(_AROUND_S * cut.sample_rate / hop) | 1, 1, round(_AROUND_HZ * size / cut.sample_rate) | 1)
    out = np.empty((len(samples), len(pieces) * _PIECE, len(hz)), np.float32)
    middles = (first + _RUN_UP + np.arange(len(pieces) * _PIECE)) * hop + size // 2
    if cut.track:
        seconds = ((first + np.arange(count)) * hop + size // 2) / cut.sample_rate
        noise = noise * (10 ** (levels_at(cut.track, seconds, hz) / 10)).astype(np.float32)
    for channel, sound in enumerate(samples):
        spectra = fft.rfft(_framed(sound, size, hop) * _window(size), axis=1)[:, lowest:]
        posterior = (np.square(spectra.real) + np.square(spectra.imag)) / noise
        runs = np.lib.stride_tricks.sliding_window_view(posterior, _PIECE + 2 * _RUN_UP, axis=0)[::_PIECE]
        gain, prior = _log_spectral(runs.transpose(2, 0, 1), hop / cut.sample_rate, left, around)
        gain, prior = (x[_RUN_UP:-_RUN_UP].transpose(1, 0, 2).reshape(out.shape[1:]) for x in (gain, prior))
        gain[:, :partly] **= share[:partly]
        if cut.top_db > 0:
            for at in range(0, len(gain), _PIECE):
                piece = slice(at, at + _PIECE)
                gain[piece] *= _top(prior[piece], share, middles[piece], cut)
        out[channel] = gain
    return out


def _log_spectral(
    posterior: np.ndarray, hop_s: float, left: float, around: tuple[int, int, int]
) -> tuple[np.ndarray, np.ndarray]:
    """Gains and a-priori SNRs for a-posteriori SNRs, all ``(frames, …, bins)``; ``left``: gain of noise alone.

    Voice plus noise times ``left``, given voice plus noise, is normal with the mean and the variance of a Wiener
    filter; ``certain`` is the square of the one over the other, and the integral of the paper is that of it.
    """
    posterior = np.clip(posterior, 1e-6, _MOST_POSTERIOR).astype(np.float32)
    memory = np.float32(np.exp(-hop_s / _MEMORY_S))
    prior = np.maximum(_prior(posterior, memory), _prior(posterior[::-1], memory)[::-1])
    mean = (prior + np.float32(left)) / (1 + prior)
    certain = mean * mean * posterior * (1 + prior) / (prior * np.float32(max((1 - left) ** 2, 1e-6)))
    per_step = np.float32((_STEPS - 1) / (_HIGHEST_LOG - _LOWEST_LOG))
    place = ((np.log(certain) - _LOWEST_LOG) * per_step).astype(np.int32)
    gain = np.minimum(np.log(mean) + _LOG_GAIN.take(place, mode="clip"), 0)
    posterior_db = 10 * np.log10(ndimage.uniform_filter(np.minimum(posterior, np.float32(_MOST_HEARD)), around))
    voice = np.clip((posterior_db - _NOISE_DB) / (_VOICE_DB - _NOISE_DB), 0, 1)
    alone = np.float32(np.log(left))
    return np.exp(alone + voice * (gain - alone)), prior


def _prior(posterior: np.ndarray, memory: np.float32) -> np.ndarray:
    """The decision-directed a-priori SNR, in order of the frames."""
    now = np.maximum(posterior - 1, 0) * (1 - memory)
    least = np.float32(10 ** (_LEAST_PRIOR_DB / 10))
    prior = np.empty_like(posterior)
    before = np.maximum(posterior[0] - 1, 0)
    for i in range(len(posterior)):
        here = np.maximum(memory * before + now[i], least)
        wiener = here / (1 + here)
        prior[i], before = here, wiener * wiener * posterior[i]
    return prior


def _noise_power(cut: HissCut, size: int) -> np.ndarray:
    """Mean |spectrum|² of the noise in each bin, as the analysis window gives it."""
    hz = np.fft.rfftfreq(size, 1 / cut.sample_rate)
    centres = (np.arange(BANDS) + 0.5) / BANDS * cut.sample_rate / 2
    density = 10 ** (np.interp(hz, centres, cut.noise) / 10)
    return (density * cut.sample_rate / 2 * np.square(_window(size)).sum()).astype(np.float32) + np.float32(1e-20)


def _top(prior: np.ndarray, share: np.ndarray, middles: np.ndarray, cut: HissCut) -> np.ndarray:
    """The gain that gives top back where the voice stands over the noise and no ess sounds."""
    present = 10 * np.log10(np.median(prior, axis=1)) > -_PRESENT_DB
    for start, end in cut.esses:
        present &= ~((middles >= start) & (middles <= end))
    smooth = np.minimum(ndimage.uniform_filter1d(present.astype(float), 9), 1)
    return (10 ** (cut.top_db / 20 * smooth[:, None] * share)).astype(np.float32)


def _reach(rate: int) -> int:
    size, hop = shape_of(rate)
    return (_PIECE + 2 * _RUN_UP) * hop + 2 * size


def _still(still: Still, mine: Sequence[HissCut]) -> None:
    for cut in mine:
        still.power *= 10 ** (cut.amount_db * share_at(still.centres, cut.from_hz) / 10)


STAGE = Stage(
    "hiss", (HissCut,), lambda at, mine: apply(at.read, at.start, at.frames, mine[0], at.kept), ("pop",),
    reach=_reach, cache_input=True, slow=True, still=_still,
)  # fmt: skip
