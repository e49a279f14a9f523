"""Fades: a span turned down or taken out between smooth edges, the room going on underneath.

The room is noise of the room's own third-octave spectrum, made from random
numbers that belong to their place in the take, so that any part of it can be
made alone and no loop is ever heard.
"""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise

import msgspec
import numpy as np
from scipy import fft, signal

from isophon.core.audio.spectra import third_octave_edges
from isophon.core.passes.gaps.find import ROOM_EDGES, SILENT_DB

_PIECE = 4_096
_TAPS = 4_095
_SEED = 71_993
_CORRECTIONS = 4


class Fade(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` are changed: ``gain`` inside, within edges of ``edge`` frames.

    ``room``: the third-octave levels that go on underneath, empty for none.
    ``opens``: the length of the second edge, 0 for that of the first.
    """

    first: int
    last: int
    edge: int
    gain: float
    room: tuple[float, ...] = ()
    sample_rate: int = 48_000
    opens: int = 0


def apply(block: np.ndarray, start: int, fades: list[Fade]) -> np.ndarray:
    """A copy of ``block`` (the take's frames from ``start``, ``(channels, n)``) with the fades in it."""
    out = block.copy()
    for fade in fades:
        first, last = max(start, fade.first), min(start + block.shape[1], fade.last)
        if last <= first:
            continue
        weight = weights(fade, first, last)
        piece = slice(first - start, last - start)
        out[:, piece] *= 1 - (1 - np.float32(fade.gain)) * weight
        if fade.room and max(fade.room) > SILENT_DB:
            tone = room_tone(fade.room, fade.sample_rate, first, last - first, len(block))
            # as much as was taken away, so that the room keeps its power through the edges too
            kept = 1 - (1 - fade.gain) * weight
            out[:, piece] += tone * np.sqrt(1 - kept**2).astype(np.float32)
    return out


def room_tone(room: tuple[float, ...], sample_rate: int, start: int, frames: int, channels: int) -> np.ndarray:
    """Noise with a room's spectrum for frames ``start`` on, float32 ``(channels, frames)``; one for each side."""
    taps = _room_filter(room, sample_rate)
    reach = len(taps) // 2
    first = (start - reach) // _PIECE
    last = (start + frames + reach) // _PIECE
    out = np.empty((channels, frames), np.float32)
    size = fft.next_fast_len((last - first + 1) * _PIECE + len(taps), real=True)
    response = fft.rfft(taps, size)
    for channel in range(channels):
        white = np.concatenate([_white(piece, channel) for piece in range(first, last + 1)])
        whole = fft.irfft(fft.rfft(white, size) * response, size)
        at = start - first * _PIECE + reach
        out[channel] = whole[at : at + frames]
    return out


def _white(piece: int, channel: int) -> np.ndarray:
    return np.random.default_rng((_SEED, channel, piece + (1 << 40))).standard_normal(_PIECE)


@lru_cache(maxsize=32)
def _room_filter(room: tuple[float, ...], sample_rate: int) -> np.ndarray:
    """A linear-phase filter that gives white noise of power 1 the room's third-octave levels.

    The density between the bands' centres is interpolated; since that and the
    window smear steep spectra (hum), the bands are corrected by what came out.
    """
    edges = third_octave_edges(*ROOM_EDGES)
    centres = np.sqrt(edges[:-1] * edges[1:])
    inside = centres < 0.45 * sample_rate
    wanted = 10 ** (np.array(room) / 10)
    density = wanted / np.diff(edges) + 1e-24
    freqs = np.linspace(0, sample_rate / 2, 8_193)
    window = signal.get_window("hann", _TAPS, fftbins=False)
    taps = np.zeros(_TAPS)
    for _ in range(_CORRECTIONS):
        shape = np.exp(np.interp(np.log(np.maximum(freqs, 1.0)), np.log(centres[inside]), np.log(density[inside])))
        magnitude = np.sqrt(shape * sample_rate / 2)
        taps = np.roll(fft.irfft(magnitude), _TAPS // 2)[:_TAPS] * window
        power = np.square(np.abs(fft.rfft(taps, 2 * (len(freqs) - 1)))) / (len(freqs) - 1)
        came = np.array([power[(freqs >= low) & (freqs < high)].sum() for low, high in pairwise(edges)])
        known = inside & (came > 0)
        density[known] *= np.clip((wanted[known] + 1e-18) / (came[known] + 1e-18), 0.2, 5.0)
    return taps


def weights(fade: Fade, first: int, last: int) -> np.ndarray:
    """0 at the ends of a fade, 1 within, raised cosines between, for frames ``first`` to ``last``."""
    at = np.arange(first, last)
    half = (fade.last - fade.first) // 2
    rise = np.clip((at - fade.first + 0.5) / max(1, min(fade.edge, half)), 0, 1)
    fall = np.clip((fade.last - at - 0.5) / max(1, min(fade.opens or fade.edge, half)), 0, 1)
    return (0.5 - 0.5 * np.cos(np.pi * np.minimum(rise, fall))).astype(np.float32)
