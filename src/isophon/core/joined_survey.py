"""Several leads as one: at each moment the one that sings, and where several do, the one that a part sings like.

A song may have a verse lead and a chorus lead. What a stack part is heard beside is then put together from their
surveys, phrase by phrase, so that everything that compares a part with the lead knows one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy import ndimage

from isophon.core.survey import STILL, VOICED, Survey

_AROUND_S = 0.6  # s over which it is asked which lead sounds
_LEAST_SHARE = 0.05  # of what sounds from which a lead counts
_SHIFTS_S = np.arange(-0.3, 0.301, 0.05)  # s by which a lead is moved, to see how like it is
_LEVEL_FLOOR_DB = -40.0  # dB: softer counts as silence

Placed = tuple[Survey, float]  # a survey, and the second at which its take starts


def joined(leads: Sequence[Placed], part: Placed | None = None) -> Placed:
    """The survey of several leads as if one singer had sung them, and the second at which it starts.

    ``leads``: in order, the first counting where nobody sings; times are those of the song. ``part``: where several
    sing at once, the one that this is most like counts. One lead comes back as it is.
    """
    if len(leads) == 1:
        return leads[0]
    first = leads[0][0]
    start = min(at for _, at in leads)
    end = max(at + len(one.k_power) * one.hop_s for one, at in leads)
    times = start + (np.arange(max(1, round((end - start) / first.hop_s))) + 0.5) * first.hop_s
    chosen = _who_sings(leads, times, part)
    bands = min(len(one.band_edges) - 1 for one, _ in leads)
    rows = [_rows(one, at, times) for one, at in leads]
    like = [np.ones(bands), *(_tilt(one, first, bands) for one, _ in leads[1:])]

    def pick(name: str, still: float) -> np.ndarray:
        out = np.full(len(times), still, getattr(first, name).dtype)
        for i, ((one, _), (inside, at)) in enumerate(zip(leads, rows, strict=True)):
            mine = inside & (chosen == i)
            out[mine] = getattr(one, name)[at[mine]]
        return out

    def pick_bands(name: str) -> np.ndarray:
        out = np.zeros((len(times), bands), np.float32)
        for i, ((one, _), (inside, at)) in enumerate(zip(leads, rows, strict=True)):
            mine = inside & (chosen == i)
            out[mine] = getattr(one, name)[at[mine], :bands] * like[i]
        return out

    voices = [one.voice_lufs for one, _ in leads if one.voice_lufs is not None]
    return replace(
        first, samples=round(len(times) * first.hop_s * first.sample_rate), band_edges=first.band_edges[: bands + 1],
        bands=pick_bands("bands"), k_bands=pick_bands("k_bands"),
        k_power=pick("k_power", 0.0), f0=pick("f0", 0.0), strength=pick("strength", 0.0), state=pick("state", STILL),
        voice_level=pick("voice_level", float(np.median(first.voice_level))),
        voice_lufs=float(np.mean(voices)) if voices else None, floor_dbfs=min(one.floor_dbfs for one, _ in leads),
    ), start  # fmt: skip


def _rows(one: Survey, at: float, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which times lie inside a take, and its frames there."""
    frames = np.floor((times - at) / one.hop_s).astype(int)
    inside = (frames >= 0) & (frames < len(one.k_power))
    return inside, np.clip(frames, 0, len(one.k_power) - 1)


def _who_sings(leads: Sequence[Placed], times: np.ndarray, part: Placed | None) -> np.ndarray:
    """The lead that counts at each time, by its place in ``leads``."""
    around = max(1, round(_AROUND_S / leads[0][0].hop_s))
    shares = []
    for one, at in leads:
        inside, frames = _rows(one, at, times)
        voiced = np.where(inside, one.state[frames] == VOICED, False).astype(float)
        shares.append(ndimage.uniform_filter1d(voiced, around))
    share = np.stack(shares)
    chosen = np.where(share.max(axis=0) >= _LEAST_SHARE, share.argmax(axis=0), -1)
    both = (share >= _LEAST_SHARE).sum(axis=0) > 1
    if part is not None:
        for (where,) in ndimage.find_objects(ndimage.label(both)[0]):
            singing = [i for i in range(len(leads)) if share[i, where].max() >= _LEAST_SHARE]
            chosen[where] = min(singing, key=lambda i: _apart(leads[i], part, times[where]))
    return _until_the_next(chosen)


def _until_the_next(chosen: np.ndarray) -> np.ndarray:
    """Where nobody sings, the lead that sang last."""
    known = np.flatnonzero(chosen >= 0)
    if not len(known):
        return np.zeros(len(chosen), int)
    last = np.maximum.accumulate(np.where(chosen >= 0, np.arange(len(chosen)), -1))
    return chosen[np.where(last >= 0, last, known[0])]


def _apart(lead: Placed, part: Placed, times: np.ndarray) -> float:
    """How unlike a lead and a part are at some times, with either a little early: the mean distance of their bands."""
    bands = min(len(lead[0].band_edges), len(part[0].band_edges)) - 1
    mine = _levels(part, times, bands)
    return min(float(np.abs(_levels(lead, times + shift, bands) - mine).mean()) for shift in _SHIFTS_S)


def _levels(placed: Placed, times: np.ndarray, bands: int) -> np.ndarray:
    one, at = placed
    inside, frames = _rows(one, at, times)
    level = 10 * np.log10(one.bands[frames, :bands] + 1e-14) - one.voice_level[frames, None]
    return np.where(inside[:, None], np.maximum(level, _LEVEL_FLOOR_DB), _LEVEL_FLOOR_DB)


def _tilt(one: Survey, first: Survey, bands: int) -> np.ndarray:
    """What gives a voice the colour of the first, as factors of the bands' powers: the rest is what is sung."""
    colours = []
    for survey in (one, first):
        sung = survey.state == VOICED
        if not sung.any():
            return np.ones(bands)
        over = survey.bands[sung, :bands] / 10 ** (survey.voice_level[sung, None] / 10)
        colours.append(np.median(over, axis=0) + 1e-12)
    return np.clip(colours[1] / colours[0], 1e-3, 1e3)
