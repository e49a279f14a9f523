"""Finding ticks: short peaks of the prediction error that are likely no sound of the voice.

What is measured of each peak is in :mod:`.peaks`, how likely it is a tick in :mod:`.likelihood`. What sounds alike
again and again after the same time is a leaked click track, which is bleed. Damage of the recording is found beside.
"""

from __future__ import annotations

import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.stage import Read
from isophon.core.passes.tick import damage
from isophon.core.passes.tick.likelihood import likelihood
from isophon.core.passes.tick.mark import TickMark
from isophon.core.passes.tick.peaks import peaks_of
from isophon.core.survey import STILL, Survey

_LEAST = 0.4  # likelihood of a mark; those under the minimum confidence of the settings are shown and left
_APART_S = 0.0015  # marks nearer than that to damage are the same
_TOGETHER_S = 0.001  # s: ticks that are nearer together are one
_LONGEST_S = 0.006  # s: one tick is no longer
_FEWEST_BEATS = 7  # so many at one distance make a click track
_BEAT_S = (0.2, 4.2)  # s: the distances of one, up to a slow bar: often only its accent leaks
_BEAT_OFF_S = 0.003  # s: how far from its beat one may lie
_PARTS = 4  # a beat has so many parts, at which softer clicks may lie
_MOST_BEATS = 4  # clicks are compared over so many beats
_ALIKE_S = 0.002  # s: their waves are compared from so long before to twice as long after the start
_ALIKE_WAVES = 0.75  # correlation over which two are the same click
_BEAT_OVER_MEAN = 5  # times as many pairs at one distance as at the others on average


def find(read: Read, survey: Survey) -> tuple[Mark, ...]:
    """The ticks of a take; of a stereo take, those of both sides together."""
    if survey.voice_lufs is None:
        return ()
    peaks = peaks_of(read, survey)
    sure = likelihood(peaks)
    likely = zip(peaks.start, peaks.end, sure, strict=True)
    spans = _joined([(float(start), float(end), float(one)) for start, end, one in likely if one >= _LEAST])
    marks = [_mark(read, survey, *span) for span in _without_beats(read, survey.sample_rate, spans)]
    damaged = damage.find(read, survey)
    marks = [m for m in marks if not any(d.start - _APART_S < m.end and m.start < d.end + _APART_S for d in damaged)]
    return tuple(sorted((*marks, *damaged), key=lambda m: m.start))


def drawn(read: Read, survey: Survey, start: float, end: float) -> Mark:
    """A tick drawn by hand, with its level."""
    return _mark(read, survey, start, end, 1.0)


def _joined(spans: list[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Ticks that touch are one."""
    joined: list[tuple[float, float, float]] = []
    for start, end, over in sorted(spans):
        if joined and start - joined[-1][1] < _TOGETHER_S and end - joined[-1][0] < _LONGEST_S:
            joined[-1] = (joined[-1][0], max(end, joined[-1][1]), max(over, joined[-1][2]))
        else:
            joined.append((start, end, over))
    return joined


def _without_beats(read: Read, rate: int, spans: list[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Without those that sound alike and come again after the same time or a part of it: a leaked click track."""
    starts = np.array([start for start, _, _ in spans])
    if len(starts) < _FEWEST_BEATS:
        return spans
    steps = (starts[None, :] - starts[:, None])[np.triu_indices(len(starts), 1)]
    steps = steps[(steps > _BEAT_S[0]) & (steps < _BEAT_S[1])]
    counts = np.bincount(np.round(steps / _BEAT_OFF_S).astype(int), minlength=2)
    near = counts[:-1] + counts[1:]
    if near.max(initial=0) < _FEWEST_BEATS or near.max() < _BEAT_OVER_MEAN * near[near > 0].mean():
        return spans
    beat = (np.argmax(near) + 0.5) * _BEAT_OFF_S
    waves = [read(round((a - _ALIKE_S) * rate), round(3 * _ALIKE_S * rate)).mean(axis=0) for a in starts]
    beats = set()
    for i, start in enumerate(starts):
        later = starts - start
        off = np.abs(later - beat / _PARTS * np.round(later * _PARTS / beat))  # softer clicks may lie between the loud
        for j in np.flatnonzero((later > _BEAT_S[0]) & (later < _MOST_BEATS * beat) & (off < _BEAT_OFF_S)):
            if _likeness(waves[i], waves[j]) > _ALIKE_WAVES:
                beats |= {i, int(j)}
    return [span for i, span in enumerate(spans) if i not in beats]


def _likeness(one: np.ndarray, other: np.ndarray) -> float:
    """The highest correlation of two sounds, 0 to 1, bright parts first."""
    a, b = np.diff(one), np.diff(other)
    norm = np.sqrt(np.sum(a**2) * np.sum(b**2))
    return float(np.abs(np.correlate(a, b, "full")).max() / (norm + 1e-20))


def _mark(read: Read, survey: Survey, start: float, end: float, sure: float) -> Mark:
    rate = survey.sample_rate
    first = max(0, round(start * rate))
    frames = max(8, round((end - start) * rate))
    wave = np.diff(
        read(first - 1, frames + 1).astype(np.float64), axis=1
    )  # a tick is bright: its slope tells its level
    level = db(float(np.square(wave).sum(axis=0).max()) + 1e-16)
    voice = float(survey.voice_level[survey.frame(start)])
    return TickMark(
        mark_id("tick", start), round(first / rate, 5), round((first + frames) / rate, 5), round(level, 2),
        round(level - voice, 2), 1_000.0, min(20_000.0, rate / 2), round(sure, 3),
        voiced=bool(survey.state[survey.frame(start)] != STILL),
    )  # fmt: skip
