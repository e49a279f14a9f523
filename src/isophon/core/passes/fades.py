"""Fades: a span turned down or taken out between smooth edges, the room going on underneath.

Fades that touch or overlap are one hole: the deeper counts, there is no edge between them, and one of them says for
all what goes on underneath. The room is noise of the room's own third-octave spectrum, made from random
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
from isophon.core.marks import GONE_DB, Mark
from isophon.core.passes.noise_floor import ROOM_EDGES, SILENT_DB
from isophon.core.passes.noise_track import levels_at
from isophon.core.passes.stage import Stage, Still
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_PIECE = 4_096  # samples of noise that are made together
_TAPS = 4_095  # of the filter that gives the noise the room's colour
_SEED = 71_993  # of the noise, so that a stem is the same each time
_CORRECTIONS = 4  # times that the filter is corrected by what it misses
_FEWEST = 8  # frames: what is shorter is not faded, and fades nearer than that are one
_EDGE_POINTS = 9  # that a fade is drawn by
_MOST_DB = 12.0  # dB: nothing is made louder by more


class Fade(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` are changed: ``gain`` inside, within ``edges`` of so many frames.

    ``room``: the third-octave levels that go on underneath, empty for none, and ``under``: the gain of that.
    ``beside``: the gains at both ends, from which and to which the edges lead. ``leads``: whether its room goes on
    under all fades that it touches. ``line``: (frame, dB), the change along it where that is not the same throughout.
    """

    first: int
    last: int
    edges: tuple[int, int]
    gain: float
    room: tuple[float, ...] = ()
    sample_rate: int = 48_000
    under: float = 1.0
    beside: tuple[float, float] = (1.0, 1.0)
    leads: bool = False
    line: tuple[tuple[int, float], ...] = ()


def fade_of(
    part: Part, mark: Mark, span: tuple[float, float], change: float, edges_ms: tuple[float, float],
    room: tuple[float, ...], under_db: float = 0.0, leads: bool = False,
) -> Iterator[Fade]:  # fmt: skip
    """A fade over a span (s) of a mark by ``change`` dB, none where it would be shorter than a few frames.

    It has no edge where the take begins or ends. ``under_db``: the change of the room that goes on underneath.
    """
    rate, frames = part.source.sample_rate, part.source.frames
    first, last = max(0, round(span[0] * rate)), min(frames, round(span[1] * rate))
    if last - first > _FEWEST:
        edge, opens = (min(edge, (last - first) // 2) for edge in mark.edges(edges_ms, rate))
        edges = (edge if first else 0, opens if last < frames else 0)
        (start, end), shape = mark.span, mark.hand.shape
        line = tuple((round((start + share * (end - start)) * rate), change + more) for share, more in shape)
        yield Fade(first, last, edges, gain_of(change), room, rate, gain_of(under_db), leads=leads, line=line)


def gain_of(change: float) -> float:
    """The gain of a change in dB; nothing is left at −36 and less."""
    return 0.0 if change <= GONE_DB else float(10 ** (change / 20))


def room_then(part: Part, room: tuple[float, ...], mark: Mark) -> tuple[float, ...]:
    """The sound of a part's room at a mark, where its noise changes; ``room``: see :func:`room_under`."""
    track = part.measured.noise_track
    if not room or not track:
        return room
    edges = third_octave_edges(*ROOM_EDGES)
    over = levels_at(track, np.array([sum(mark.span) / 2]), np.sqrt(edges[:-1] * edges[1:]))[0]
    return tuple(level + float(more) for level, more in zip(room, np.round(over), strict=True))


def joined(fades: Sequence[Fade]) -> list[Fade]:
    """The same as fades that never overlap and that lead into one another where they touch.

    Where several lie over each other the deepest counts.
    """
    joined_fades: list[Fade] = []
    for group in _touching(sorted(fades, key=lambda fade: (fade.first, fade.last))):
        joined_fades += _one_hole(group) if len(group) > 1 else group
    return joined_fades


def _touching(fades: list[Fade]) -> Iterator[list[Fade]]:
    """Fades, in order, in groups that touch."""
    group: list[Fade] = []
    until = 0
    for fade in fades:
        if group and fade.first > until + _FEWEST:
            yield group
            group = []
        group.append(fade)
        until = max(until, fade.last) if len(group) > 1 else fade.last
    if group:
        yield group


def _one_hole(group: list[Fade]) -> list[Fade]:
    """Fades that touch, cut where they overlap and led into one another."""
    leader = next((fade for fade in group if fade.leads), None)
    cuts = sorted({frame for fade in group for frame in (fade.first, fade.last)})
    pieces: list[tuple[Fade, int, int]] = []
    for first, last in pairwise(cuts):
        over = [fade for fade in group if fade.first <= first and fade.last >= last]
        deepest = min(over, key=lambda fade: (fade.gain, not fade.leads)) if over else pieces[-1][0]
        if pieces and pieces[-1][0] is deepest:
            pieces[-1] = (deepest, pieces[-1][1], last)
        else:
            pieces.append((deepest, first, last))
    hole = []
    for i, (fade, first, last) in enumerate(pieces):
        edges, beside = list(fade.edges), list(fade.beside)
        for side, near in enumerate((i - 1, i + 1)):
            if 0 <= near < len(pieces):
                other = pieces[near][0]
                beside[side] = other.gain
                edges[side] = fade.edges[side] if _has_the_edge(fade, other) else 0
        one = msgspec.structs.replace(fade, first=first, last=last, edges=tuple(edges), beside=tuple(beside))
        hole.append(one if leader is None else
                    msgspec.structs.replace(one, room=leader.room, under=leader.under))  # fmt: skip
    return hole


def room_under(part: Part) -> tuple[float, ...]:
    """The sound of a part's room as all that is done to the whole take leaves it: what goes on under a hole."""
    if not part.measured.room:
        return ()
    edges = third_octave_edges(*ROOM_EDGES)
    levels = part.after_steady(np.array(part.measured.room), np.sqrt(edges[:-1] * edges[1:]))
    return tuple(float(round(level, 1)) for level in levels)


def _has_the_edge(fade: Fade, other: Fade) -> bool:
    """Whether the edge between two fades lies in the first: in what leads, which is dead air, else in the deeper."""
    if fade.gain == other.gain:
        return False
    return fade.leads if fade.leads != other.leads else fade.gain < other.gain


def apply(block: np.ndarray, start: int, fades: Sequence[Fade]) -> np.ndarray:
    """A span of a take with fades in it.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on; it is not changed.
    start : frame.
    fades : fades.
    """
    out = block.copy()
    for fade in fades:
        first, last = max(start, fade.first), min(start + block.shape[1], fade.last)
        if last <= first:
            continue
        gain = gains(fade, first, last)
        piece = slice(first - start, last - start)
        out[:, piece] *= gain
        if fade.room and max(fade.room) > SILENT_DB:
            tone = room_tone(fade.room, fade.sample_rate, first, last - first, len(block))
            # as much as was taken away, so that the room keeps its power through the edges too
            out[:, piece] += tone * np.sqrt(np.maximum(fade.under**2 - gain**2, 0)).astype(np.float32)
    return out


def room_tone(room: tuple[float, ...], sample_rate: int, start: int, frames: int, channels: int) -> np.ndarray:
    """Noise with a room's spectrum; another for each channel.

    Parameters
    ----------
    room : dB in each band.
    sample_rate : Hz.
    start, frames : the span.
    channels : how many.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    taps = _room_filter(room, sample_rate)
    reach = len(taps) // 2
    first = (start - reach) // _PIECE
    last = (start + frames + reach) // _PIECE
    out = np.empty((channels, frames), np.float32)
    size = fft.next_fast_len((last - first + 1) * _PIECE + len(taps), real=True)
    response = fft.rfft(taps, size)
    for channel in range(channels):
        white = np.concatenate([_white(piece, channel) for piece in range(first, last + 1)])
        filtered = fft.irfft(fft.rfft(white, size) * response, size)
        at = start - first * _PIECE + reach
        out[channel] = filtered[at : at + frames]
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


def gains(fade: Fade, first: int, last: int) -> np.ndarray:
    """The gain of a fade in frames ``first`` to ``last``, float32 ``(last - first,)``."""
    return gains_at(fade, np.arange(first, last)).astype(np.float32)


def edges_of(fade: Fade) -> tuple[np.ndarray, np.ndarray]:
    """Frames along both edges of a fade, to draw them by, ``(points,)`` each."""
    half, share = (fade.last - fade.first) // 2, np.linspace(0, 1, _EDGE_POINTS)
    closes, opens = (min(edge, half) for edge in fade.edges)
    return fade.first + closes * share, fade.last - opens * (1 - share)


def gains_at(fade: Fade, at: np.ndarray) -> np.ndarray:
    """The gain of a fade at frames of it: its own within, raised cosines to what is beside it.

    Parameters
    ----------
    fade : a fade.
    at : ``(n,)``, frames.

    Returns
    -------
    ``(n,)``.
    """
    half = (fade.last - fade.first) // 2
    own = _along(fade.line, at) if fade.line else np.full(len(at), fade.gain)
    gain = own.copy()
    for edge, beside, away in zip(fade.edges, fade.beside, (at - fade.first, fade.last - 1 - at), strict=True):
        if edge:
            share = np.clip((away + 0.5) / max(1, min(edge, half)), 0, 1)
            gain += (beside - own) * (1 - raised_cosine(share))
    return gain


def _along(line: Sequence[tuple[int, float]], at: np.ndarray) -> np.ndarray:
    """The gain at frames of a line of (frame, dB)."""
    change = np.interp(at, [frame for frame, _ in line], [db for _, db in line])
    return np.where(change <= GONE_DB, 0.0, 10 ** (np.minimum(change, _MOST_DB) / 20))


def _still(still: Still, mine: Sequence[Fade]) -> None:
    room, rate = np.median(still.power, axis=0), still.survey.sample_rate
    for fade in mine:
        first, last = still.survey.frame(fade.first / rate), still.survey.frame(fade.last / rate)
        inside = slice(*np.searchsorted(still.frames, [first, last + 1]))
        under = room if fade.room else 0.0
        still.power[inside] = still.power[inside] * fade.gain**2 + under * max(0.0, fade.under**2 - fade.gain**2)


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
    joined=joined,
)
