"""Finding damage: peaks cut off at the top of the scale, and dropouts of a few samples."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from isophon.core.marks import Mark, mark_id
from isophon.core.passes.stage import Read
from isophon.core.passes.tick.mark import TickMark
from isophon.core.survey import Survey

_FLAT = 0.999  # of the highest sample: what is as high is at the top
_FEWEST = 3  # samples in a row that make a flat top
_NEAR_FULL = 0.7  # a flat top under this is a sound, not damage
_TOGETHER_S = 0.02  # s: what is nearer together is one mark
_LONGEST_S = 0.06  # s: a mark is no longer
_DROPOUT_S = 0.004  # s: a longer run of one value is a pause, not a dropout
_DROPOUT_FEWEST = 4  # samples: a shorter run happens in any sound
_JUMP = 12.0  # times the median step around
_AROUND = 200  # samples around that tell it
_READ = 1 << 18  # frames read at once
_EDGE = 512  # frames read beside these, so that no run is cut in two

Runs = list[tuple[int, int, float]]


def find(read: Read, survey: Survey) -> tuple[Mark, ...]:
    """Clipped peaks and dropouts of a take, those that lie close together in one mark."""
    peak = 0.0
    tops: Runs = []
    holes: Runs = []
    for at in range(0, survey.samples, _READ):
        block = read(at - _EDGE, _READ + 2 * _EDGE)
        for channel in block:
            loudest = float(max(channel.max(), -channel.min()))
            peak = max(peak, loudest)
            mine = _flat_tops(channel, loudest), _holes(channel, survey.sample_rate)
            for spans, found in zip((tops, holes), mine, strict=True):
                inside = [run for run in found if _EDGE <= run[0] < _EDGE + _READ]
                spans += [(at - _EDGE + a, at - _EDGE + b, level) for a, b, level in inside]
    clipped = [(a, b) for a, b, level in tops if level >= _FLAT * peak]
    dropped = [(a, b) for a, b, level in holes if not level >= _FLAT * peak > 0]
    marks: list[Mark] = []
    for kind, damaged in (("clipped", clipped), ("dropout", dropped)):
        marks += [_mark(survey, kind, first, last, {m.id for m in marks}) for first, last in _together(damaged, survey)]
    return tuple(sorted(marks, key=lambda m: m.start))


def _flat_tops(channel: np.ndarray, loudest: float) -> Runs:
    """Runs of samples at the top of what is read, with the lowest of each."""
    if loudest < _NEAR_FULL:
        return []
    size = np.abs(channel)
    top = size >= _FLAT * loudest
    runs = ndimage.find_objects(ndimage.label(top)[0])
    return [(r.start, r.stop, float(size[r].min())) for (r,) in runs if r.stop - r.start >= _FEWEST]


def _holes(channel: np.ndarray, rate: int) -> Runs:
    """Runs of one value in the middle of a sound, with a jump at either side that the sound does not have."""
    step = np.abs(np.diff(channel, prepend=channel[:1]))
    still = np.flatnonzero(step == 0)
    if not len(still):
        return []
    breaks = np.flatnonzero(np.diff(still) > 1)
    starts, stops = still[np.concatenate([[0], breaks + 1])], still[np.concatenate([breaks, [len(still) - 1]])] + 1
    lengths = stops - starts + 1
    holes = []
    for run in np.flatnonzero((lengths >= _DROPOUT_FEWEST) & (lengths <= _DROPOUT_S * rate)):
        first, last = int(starts[run]) - 1, int(stops[run])
        sides = step[max(0, first - _AROUND) : max(0, first)], step[last + 1 : last + _AROUND + 1]
        usual = [float(np.median(side)) if len(side) else 0.0 for side in sides]
        if min(usual) > 0 and last < len(step) and max(step[first], step[last]) > _JUMP * max(usual):
            holes.append((first, last, float(np.abs(channel[first]))))
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
    return TickMark(
        mark_id("tick", start, taken), round(start, 5), round(end, 5), round(level, 2),
        round(level - float(survey.voice_level[frame]), 2), 20.0, survey.sample_rate / 2, 1.0, sound=sound,
    )  # fmt: skip
