"""Stretches of a take made longer or shorter without changing pitch or formants.

Length is given and taken by splices: the take goes on at a place that looks like the one it left, the most alike that
there is nearby (waveform similarity, Verhelst & Roelands 1993), so that periods join periods; a splice lies rather in a
pause or a soft moment than in a loud one. Between two splices every sample is as it was, and both ends of a stretch are
its own samples, so that neighbours join without a seam.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.stage import Read

_FADE_S, _COMPARED_S = 0.006, 0.008  # half of a splice's fade, and half of what is compared
_MOST_LAG_S = 0.03  # s: a splice skips or repeats no more, several periods of a voice
_LEAST_LAG_S = 0.0025  # s: nor less
_STILL_LAG_S = 0.3  # s: the first where it is quiet
_STILL_DB = -30.0  # dB under the loudest, where it is
_GRID_S = 0.002  # s between the places that are tried first
_FEW_LAGS = 8  # with so few the search is made at the full rate
_SEARCH_HZ = 12_000  # Hz at which it is made otherwise
_AT_ONCE = 64  # places compared at once
_LOUD_WEIGHT = 0.05  # how much a splice in a loud place costs beside one that does not fit


class Splice(msgspec.Struct, frozen=True):
    """At frame ``at`` of a stretch it goes on ``by`` frames later (negative: earlier, so that it gets longer)."""

    at: int
    by: int


def splices(samples: np.ndarray, inside: slice, gain: int, rate: int) -> list[Splice]:
    """Where to splice a stretch so that it gets longer or shorter.

    For every length of 1 or more and every gain that leaves 1 frame or more, the splices leave and enter inside the
    stretch, in order, and add up to ``-gain``.

    Parameters
    ----------
    samples : ``(n,)``, with what is around the stretch.
    inside : the stretch.
    gain : frames by which it gets longer.
    rate : Hz.
    """
    start, length = inside.start, inside.stop - inside.start
    fade = _fade(length, length + gain, rate)
    level = np.abs(samples)
    loudest = float(np.sqrt(np.mean(samples[inside] ** 2)) + 1e-9)
    sign, rest = (1 if gain < 0 else -1), abs(gain)
    found: list[Splice] = []
    begin = fade  # the earliest place to leave at
    while rest:
        latest = length - fade - (rest if sign > 0 else 0)
        room = length - begin if sign > 0 else length
        most = max(1, min(_most_lag(level[start + begin : inside.stop], loudest, rate), room // 3))
        left = -(-rest // most)
        until = begin + (latest - begin) // left
        if sign > 0 and until > latest - fade:
            left, until = 1, latest  # no room for another: all that is left at once
        lags = [rest] if left == 1 else _lags(rest / left, rate, rest if sign > 0 else min(rest, length // 2))
        if sign < 0:
            begin = max(begin, lags[-1])
            until = latest if left == 1 else max(begin, until)
        at, lag = _best(samples, start + begin, start + until, lags, sign, loudest, rate)
        at -= start
        found.append(Splice(at, sign * lag))
        rest -= lag
        if sign > 0:
            begin = at + lag + fade
        else:  # where the end is near, what was gone back over is gone over again
            begin = at + fade if at + fade < latest - fade else min(at - lag + fade, latest)
    return found


def _fade(length: int, total: int, rate: int) -> int:
    """Half of a splice's fade, so that two of them have room in a stretch before and after."""
    return min(round(_FADE_S * rate), length // 6, total // 2)


def _most_lag(level: np.ndarray, loudest: float, rate: int) -> int:
    """The longest jump: long in a pause, a few periods in a sound."""
    still = len(level) == 0 or float(np.sqrt(np.mean(level**2))) < 10 ** (_STILL_DB / 20)
    return round((_STILL_LAG_S if still and loudest < 10 ** (_STILL_DB / 20) else _MOST_LAG_S) * rate)


def _lags(about: float, rate: int, most: int) -> list[int]:
    """The lags that are tried, 1 to ``most``."""
    low, high = max(round(_LEAST_LAG_S * rate), round(0.5 * about)), min(most, round(1.6 * about) + 1)
    low = max(1, min(low, most))
    return list(range(low, max(low + 1, high)))


def _best(samples: np.ndarray, begin: int, until: int, lags: list[int], sign: int, loudest: float, rate: int
          ) -> tuple[int, int]:  # fmt: skip
    """The place and lag at which what is left and what is gone on with are most alike."""
    every = max(1, rate // _SEARCH_HZ) if len(lags) > _FEW_LAGS else 1
    half = round(_COMPARED_S * rate) // every
    coarse = samples[::every].astype(np.float64)
    around = np.pad(coarse, (half, half), "edge")
    power = np.concatenate([[0.0], np.cumsum(around**2)])
    power = (power[2 * half :] - power[: -2 * half]) / (2 * half)
    tried = sign * np.unique(np.maximum(1, np.array(lags) // every))
    best, where = np.inf, (begin, lags[0])
    last = len(coarse) - 1
    first, step = begin // every, max(1, round(_GRID_S * rate / every))
    places = range(first, max(first + 1, until // every), step)
    for some in (np.array(places[i : i + _AT_ONCE]) for i in range(0, len(places), _AT_ONCE)):
        mine, to = np.minimum(some, last)[:, None], np.clip(some[:, None] + tried, 0, last)
        lowest, highest = to.min(axis=1), to.max(axis=1)
        alike = np.empty(to.shape)
        for row, (low, high, at) in enumerate(zip(lowest.tolist(), highest.tolist(), mine[:, 0].tolist(), strict=True)):
            products = np.correlate(around[low : high + 2 * half], around[at : at + 2 * half], "valid")
            alike[row] = products[to[row] - low]
        loud = power[mine] + power[to]
        apart = loud - alike / half
        cost = np.sqrt(np.maximum(0.0, apart)) / loudest + _LOUD_WEIGHT * np.sqrt(loud) / loudest
        row, i = divmod(int(np.argmin(cost)), len(tried))
        if cost[row, i] < best:
            best, where = float(cost[row, i]), (int(some[row]) * every, abs(int(tried[i])) * every)
    at, lag = where
    return _finely(samples, (min(until, max(begin, at)), lag), lags, sign, every, round(_COMPARED_S * rate))


def _finely(samples: np.ndarray, where: tuple[int, int], lags: list[int], sign: int, every: int, half: int
            ) -> tuple[int, int]:  # fmt: skip
    """The same place with the best lag frame by frame."""
    at, lag = where
    near = [n for n in range(lag - every, lag + every + 1) if lags[0] <= n <= lags[-1]] or [
        min(lags[-1], max(lags[0], lag))
    ]
    if len(near) == 1:
        return at, near[0]
    mine = _window(samples, at, half)
    return at, min(near, key=lambda n: float(np.sum((_window(samples, at + sign * n, half) - mine) ** 2)))


def _window(samples: np.ndarray, at: int, half: int) -> np.ndarray:
    first, last = at - half, at + half
    if first >= 0 and last <= len(samples):
        return samples[first:last]
    return samples[np.clip(np.arange(first, last), 0, len(samples) - 1)]


def spliced(samples: np.ndarray, start: int, length: int, cuts: Sequence[Splice], rate: int) -> np.ndarray:
    """A stretch, spliced. Beyond the ends of ``samples`` their first and last frame go on.

    Parameters
    ----------
    samples : ``(channels, n)``.
    start, length : the stretch.
    cuts : splices in it.
    rate : Hz.

    Returns
    -------
    float32 ``(channels, length - Σ by)``.
    """
    entered = [0, *(cut.at + cut.by for cut in cuts)]
    left = [*(cut.at for cut in cuts), length]
    pieces = [stop - first for first, stop in zip(entered, left, strict=True)]
    total = sum(pieces)
    at = np.concatenate([np.arange(first, stop) for first, stop in zip(entered, left, strict=True)])
    out = _frames(samples, start + at).astype(np.float32)
    room = [pieces[0], *(piece // 2 for piece in pieces[1:-1]), pieces[-1]]
    most, place = max(1, _fade(length, total, rate)), 0
    for i, cut in enumerate(cuts):  # across each splice the one fades into the other
        place += pieces[i]
        fade = min(most, room[i], room[i + 1])
        step = np.arange(-fade, fade)
        rise = raised_cosine((step + fade + 0.5) / (2 * fade or 1))
        before, after = _frames(samples, start + cut.at + step), _frames(samples, start + entered[i + 1] + step)
        out[:, place - fade : place + fade] = _crossed(before, after, rise)
    return out


def _frames(samples: np.ndarray, at: np.ndarray) -> np.ndarray:
    return samples[:, np.clip(at, 0, samples.shape[1] - 1)]


def _crossed(before: np.ndarray, after: np.ndarray, rise: np.ndarray) -> np.ndarray:
    """One sound fading into another at even power, however alike they are."""
    both = float(np.sum(before * after))
    alike = both / (float(np.sqrt(np.sum(before**2) * np.sum(after**2))) + 1e-20)
    fall = 1 - rise
    even = np.sqrt(fall**2 + rise**2 + 2 * fall * rise * min(1.0, max(0.0, alike)))
    return ((before * fall + after * rise) / even).astype(np.float32)


def stretched(read: Read, source: int, length: int, frames: int, rate: int) -> np.ndarray:
    """A span of a take, made longer or shorter.

    Parameters
    ----------
    read : reads the take.
    source, length : the span.
    frames : that it is to last.
    rate : Hz.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    around = round((_COMPARED_S + _FADE_S + _MOST_LAG_S + 0.01) * rate)
    samples = read(source - around, length + 2 * around)
    mono = samples.mean(axis=0).astype(np.float64)
    cuts = splices(mono, slice(around, around + length), frames - length, rate)
    return spliced(samples, around, length, cuts, rate)
