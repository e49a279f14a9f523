"""Finding damage: peaks cut off at the top of the scale, and dropouts of a few samples."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy import ndimage

from isophon.core.marks import Mark, mark_id
from isophon.core.survey import Survey

Read = Callable[[int, int], np.ndarray]

_FLAT, _FEWEST = 0.999, 3  # of the highest sample; samples in a row
_NEAR_FULL = 0.7  # a flat top under this is a sound, not damage
_TOGETHER_S = 0.02
_LONGEST_S = 0.06
_DROPOUT_S, _DROPOUT_FEWEST = 0.004, 4
_JUMP = 12.0  # times the median step around
_READ, _EDGE = 1 << 18, 512


def find(read: Read, survey: Survey) -> tuple[Mark, ...]:
    """Clipped peaks and dropouts of a take, those that lie close together in one mark."""
    peak = max((float(np.abs(read(at, _READ)).max()) for at in range(0, survey.samples, _READ)), default=0.0)
    marks: list[Mark] = []
    for kind, runs in (("clipped", _flat_tops), ("dropout", _holes)):
        spans: list[tuple[int, int]] = []
        for at in range(0, survey.samples, _READ):
            block = read(at - _EDGE, _READ + 2 * _EDGE)
            for channel in block:
                found = runs(channel, peak, survey.sample_rate)
                spans += [(at - _EDGE + a, at - _EDGE + b) for a, b in found if _EDGE <= a < _EDGE + _READ]
        marks += [_mark(survey, kind, first, last, {m.id for m in marks}) for first, last in _together(spans, survey)]
    return tuple(sorted(marks, key=lambda m: m.start))


def _flat_tops(channel: np.ndarray, peak: float, rate: int) -> list[tuple[int, int]]:
    """Runs of samples at the top of the take."""
    if peak < _NEAR_FULL:
        return []
    top = np.abs(channel) >= _FLAT * peak
    runs = ndimage.find_objects(ndimage.label(top)[0]) if top.any() else []
    return [(r.start, r.stop) for (r,) in runs if r.stop - r.start >= _FEWEST]


def _holes(channel: np.ndarray, peak: float, rate: int) -> list[tuple[int, int]]:
    """Runs of one value in the middle of a sound, with a jump at either side that the sound does not have."""
    step = np.abs(np.diff(channel, prepend=channel[:1]))
    runs = ndimage.find_objects(ndimage.label(step == 0)[0])
    holes = []
    for (run,) in runs:
        first, last = run.start - 1, run.stop
        if not _DROPOUT_FEWEST <= last - first <= _DROPOUT_S * rate or np.abs(channel[first]) >= _FLAT * peak > 0:
            continue
        sides = step[max(0, first - 200) : first], step[last + 1 : last + 201]
        usual = [float(np.median(side)) if len(side) else 0.0 for side in sides]
        if min(usual) > 0 and last < len(step) and max(step[first], step[last]) > _JUMP * max(usual):
            holes.append((first, last))
    return holes


def _together(spans: list[tuple[int, int]], survey: Survey) -> list[tuple[int, int]]:
    joined: list[list[int]] = []
    for first, last in sorted(spans):
        if (
            joined
            and first - joined[-1][1] < _TOGETHER_S * survey.sample_rate
            and (last - joined[-1][0] < _LONGEST_S * survey.sample_rate)
        ):
            joined[-1][1] = max(last, joined[-1][1])
        else:
            joined.append([first, last])
    return [(first, last) for first, last in joined]


def _mark(survey: Survey, sound: str, first: int, last: int, taken: set[str]) -> Mark:
    start, end = first / survey.sample_rate, last / survey.sample_rate
    frame = survey.frame(start)
    level = float(10 * np.log10(survey.k_power[frame] + 1e-15) - 0.691)
    return Mark(
        mark_id("tick", start, taken), "tick", round(start, 5), round(end, 5), round(level, 2),
        round(level - float(survey.voice_level[frame]), 2), 20.0, survey.sample_rate / 2, 1.0, sound=sound,
    )  # fmt: skip
