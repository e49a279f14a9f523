"""Fades: a span turned down or taken out between smooth edges, the room going on underneath.

The room is noise of the room's own third-octave spectrum, made from random
numbers that belong to their place in the take, so that any part of it can be
made alone and no loop is ever heard.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import fft, signal

from isophon.core.audio.shapes import raised_cosine
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.marks import GONE_DB
from isophon.core.passes.stage import Stage, Still
from isophon.core.passes.stillness import ROOM_EDGES, SILENT_DB
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_PIECE = 4_096
_TAPS = 4_095
_SEED = 71_993
_CORRECTIONS = 4
_FEWEST = 8


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


def fade_of(
    part: Part, start: float, end: float, change: float, edges_ms: tuple[float, float], room: tuple[float, ...]
) -> Iterator[Fade]:
    """A fade over a span in s by ``change`` dB, none where it would be shorter than a few frames."""
    rate = part.source.sample_rate
    first, last = max(0, round(start * rate)), min(part.source.frames, round(end * rate))
    if last - first > _FEWEST:
        edge, opens = (min(round(ms / 1000 * rate), (last - first) // 2) for ms in edges_ms)
        gain = 0.0 if change <= GONE_DB else float(10 ** (change / 20))
        yield Fade(first, last, edge, gain, room, rate, opens)


def room_under(part: Part) -> tuple[float, ...]:
    """The sound of a part's room as all that is done to the whole take leaves it: what goes on under a hole."""
    if not part.measured.room:
        return ()
    edges = third_octave_edges(*ROOM_EDGES)
    levels = part.after_steady(np.array(part.measured.room), np.sqrt(edges[:-1] * edges[1:]))
    return tuple(float(round(level, 1)) for level in levels)


def apply(block: np.ndarray, start: int, fades: Sequence[Fade]) -> np.ndarray:
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
    return raised_cosine(np.minimum(rise, fall)).astype(np.float32)


def _still(still: Still, mine: Sequence[Fade]) -> None:
    room, rate = np.median(still.power, axis=0), still.survey.sample_rate
    for fade in mine:
        first, last = still.survey.frame(fade.first / rate), still.survey.frame(fade.last / rate)
        inside = slice(*np.searchsorted(still.frames, [first, last + 1]))
        under = room if fade.room else 0.0
        still.power[inside] = still.power[inside] * fade.gain**2 + under * (1 - fade.gain**2)


def _power(power: np.ndarray, survey: Survey, mine: Sequence[Fade]) -> None:
    rate = survey.sample_rate
    for fade in mine:
        power[survey.frame(fade.first / rate) : survey.frame(fade.last / rate) + 1] *= fade.gain**2


STAGE = Stage(
    "fades",
    (Fade,),
    lambda at, mine: apply(at.block(), at.start, mine),
    ("bands by level",),
    still=_still,
    power=_power,
)
