"""Hiss turned down: the minimum mean-square error log-spectral amplitude estimator.

Ephraim & Malah, "Speech enhancement using a minimum mean-square error
log-spectral amplitude estimator", IEEE Trans. ASSP 33 (1985), with their
decision-directed a-priori SNR, whose smoothing is what keeps the rest of the
noise from warbling (Cappé 1994); its lower limit and the floor on the gain
leave a quieter noise of the same colour instead of holes.

Gains are made in pieces that begin at fixed places with a run-up of their own,
so that any span can be made alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from typing import Any

import msgspec
import numpy as np
from scipy import fft, ndimage, signal, special

from isophon.core.passes.hiss.settings import BANDS, SILENT_DB, emphasis, noise_in
from isophon.core.passes.kind import Read, Stage, Still

_WINDOW_S = 0.0213
_OVERLAP = 4
_PIECE, _RUN_UP = 128, 48  # frames
_MEMORY_S = 0.4  # decision-directed weight 0.98 at the 8 ms hop of the paper
_LEAST_PRIOR_DB, _MOST_POSTERIOR = -25.0, 1e4
_PRESENT_DB = 6.0
_LOWEST_LOG, _HIGHEST_LOG, _STEPS = -14.0, 5.0, 8_192
_GAIN_OF_V = np.exp(0.5 * special.exp1(np.exp(np.linspace(_LOWEST_LOG, _HIGHEST_LOG, _STEPS)))).astype(np.float32)


class HissCut(msgspec.Struct, frozen=True):
    """Noise turned down over frames ``first`` to ``last`` (the whole take).

    ``noise``: see :func:`isophon.core.passes.hiss.settings.noise_of`;
    ``esses``: (start, end) in frames, which get no top back.
    """

    first: int
    last: int
    noise: tuple[float, ...]
    amount_db: float
    from_hz: float
    top_db: float
    sample_rate: int
    esses: tuple[tuple[int, int], ...] = ()


def treatments(part: Any) -> Iterator[HissCut]:
    """What is done to a part."""
    settings, noise, rate = part.hiss, noise_in(part), part.source.sample_rate
    if not (settings.on and noise and (max(noise) > SILENT_DB or settings.top_db > 0)):
        return
    esses = tuple((round(m.start * rate), round(m.end * rate)) for m in part.of_kind("ess"))
    yield HissCut(0, part.source.frames, noise, settings.amount_db, settings.from_hz, settings.top_db, rate,
                  esses if settings.top_db > 0 else ())  # fmt: skip


def apply(read: Read, start: int, frames: int, cut: HissCut, keep: Callable | None = None) -> np.ndarray:
    """The take's frames from ``start`` on with less hiss, float32 ``(channels, frames)``.

    ``read`` gives the take as it is, zeros outside. ``keep(key, first, last, make)``
    may hold the gains of a piece, which depend on frames ``first`` to ``last``, for the next span.
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
        gains = [keep((cut, piece), (piece * _PIECE - _RUN_UP) * hop, (piece + 1) * _PIECE * hop + size,
                      lambda piece=piece: _gains(read, cut, range(piece, piece + 1))) for piece in pieces]  # fmt: skip
    gain = np.concatenate(gains, axis=1)[:, first - pieces[0] * _PIECE :][:, :count]
    out = np.zeros((len(samples), (count - 1) * hop + size), np.float32)
    lowest = _lowest_bin(cut, size)
    for channel, sound in enumerate(samples):
        spectra = fft.rfft(_framed(sound, size, hop) * window, axis=1)
        spectra[:, lowest:] *= gain[channel]
        _overlap_add(out[channel], fft.irfft(spectra, size, axis=1) * window, hop)
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


def _overlap_add(out: np.ndarray, frames: np.ndarray, hop: int) -> None:
    quarters = frames.reshape(len(frames), _OVERLAP, hop)
    for i in range(_OVERLAP):
        out[i * hop : (i + len(frames)) * hop] += quarters[:, i].reshape(-1)


def _lowest_bin(cut: HissCut, size: int) -> int:
    """The first bin that is changed at all."""
    hz = np.fft.rfftfreq(size, 1 / cut.sample_rate)
    return int(np.argmax(emphasis(hz, cut.from_hz) > 0))


def _gains(read: Read, cut: HissCut, pieces: range) -> np.ndarray:
    """Gains of pieces that follow each other, float32 ``(channels, frames, bins from the lowest that changes)``.

    Each piece is worked out by itself from its own run-up on, all of them side by side.
    """
    size, hop = shape_of(cut.sample_rate)
    first, count = pieces[0] * _PIECE - _RUN_UP, len(pieces) * _PIECE + _RUN_UP
    samples = read(first * hop, (count - 1) * hop + size)
    lowest = _lowest_bin(cut, size)
    hz = np.fft.rfftfreq(size, 1 / cut.sample_rate)[lowest:]
    share = emphasis(hz, cut.from_hz).astype(np.float32)
    partly = int(np.count_nonzero(share < 1))
    noise = _noise_power(cut, size)[lowest:]
    floor = np.float32(10 ** (cut.amount_db / 20))
    out = np.empty((len(samples), len(pieces) * _PIECE, len(hz)), np.float32)
    middles = (first + _RUN_UP + np.arange(len(pieces) * _PIECE)) * hop + size // 2
    for channel, sound in enumerate(samples):
        spectra = fft.rfft(_framed(sound, size, hop) * _window(size), axis=1)[:, lowest:]
        posterior = (np.square(spectra.real) + np.square(spectra.imag)) / noise
        runs = np.lib.stride_tricks.sliding_window_view(posterior, _PIECE + _RUN_UP, axis=0)[::_PIECE]
        gain, prior = _log_spectral(runs.transpose(2, 0, 1), hop / cut.sample_rate)
        gain, prior = (x[_RUN_UP:].transpose(1, 0, 2).reshape(out.shape[1:]) for x in (gain, prior))
        gain = np.maximum(gain, floor)
        gain[:, :partly] **= share[:partly]
        if cut.top_db > 0:
            for at in range(0, len(gain), _PIECE):
                piece = slice(at, at + _PIECE)
                gain[piece] *= _top(prior[piece], share, middles[piece], cut)
        out[channel] = gain
    return out


def _log_spectral(posterior: np.ndarray, hop_s: float) -> tuple[np.ndarray, np.ndarray]:
    """The estimator's gain and a-priori SNR for a-posteriori SNRs ``(frames, …, bins)``."""
    memory = np.float32(np.exp(-hop_s / _MEMORY_S))
    least = np.float32(10 ** (_LEAST_PRIOR_DB / 10))
    posterior = np.clip(posterior, 1e-6, _MOST_POSTERIOR).astype(np.float32)
    now = np.maximum(posterior - 1, 0) * (1 - memory)
    per_step = np.float32((_STEPS - 1) / (_HIGHEST_LOG - _LOWEST_LOG))
    gains, priors = np.empty_like(posterior), np.empty_like(posterior)
    before = np.maximum(posterior[0] - 1, 0)
    for i in range(len(posterior)):
        prior = np.maximum(memory * before + now[i], least)
        wiener = prior / (1 + prior)
        place = (np.log(wiener * posterior[i]) - _LOWEST_LOG) * per_step
        gains[i] = np.minimum(wiener * _GAIN_OF_V.take(place.astype(np.int32), mode="clip"), 1)
        priors[i] = prior
        before = np.square(gains[i]) * posterior[i]
    return gains, priors


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
    return (_PIECE + _RUN_UP) * hop + 2 * size


def _still(still: Still, mine: Sequence[HissCut]) -> None:
    for cut in mine:
        still.power *= 10 ** (cut.amount_db * emphasis(still.centres, cut.from_hz) / 10)


STAGE = Stage(
    60, (HissCut,), lambda at, mine: apply(at.read, at.start, at.frames, mine[0], at.kept),
    reach=_reach, held=True, still=_still,
)  # fmt: skip
