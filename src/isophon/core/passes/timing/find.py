"""Finding how early or late the words of a stack part are against the lead's."""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace
from scipy import signal

from isophon.core.audio.loudness import lufs
from isophon.core.marks import mark_id
from isophon.core.passes import align
from isophon.core.passes.context import FinderContext
from isophon.core.passes.kind import Found
from isophon.core.passes.timing.mark import WordMark
from isophon.core.passes.timing.settings import AlikeWith
from isophon.core.survey import Survey, words

SAME = 0.37  # likeness over which two words are the same
FEWEST_SHARE = 0.3  # of the words that must be the same, for two parts to sing the same text
_START_S = (0.08, 0.14)  # s before and after a word's start that are compared
_END_S = (0.14, 0.08)  # the same at its end
_INNER_S = (0.07, 0.1)  # the same at a turn inside of it
_APART_S = 0.09  # s between turns, and from the ends
_TURN_S = 0.015  # s before and after a turn whose sounds are compared
_TURN_SHARE = 0.35  # of the largest change in the word that makes a turn
_SURE = 0.3  # likeness over which a moment is believed
_FINE_S = 0.005  # s: step of the sounds that are compared
_BEND = 0.4  # of the time between two moments by which they may be moved differently
_BEND_S = 0.03  # s more than that
_FARTHEST_S = 0.42  # s: no word is looked for further away
_LEAST_SUNG = 0.3  # share of the lead's word that must be voiced, or half as much as here
_UNLIKELY = 0.4  # confidence is multiplied with this where they do not agree
_LONGEST_WORD_S = 6.0  # s: what is longer is no word
_SHORT_S = (0.06, 1.5)  # s: of stretches, what may be one word
_HEARD_DB, _OVER_FLOOR_DB = 28.0, 6.0  # of a word: under its loudest, and over the floor of the take
_LEAST_HEARD_S = 0.06  # s: what sounds for less is not lined up
_AROUND_S = 0.01  # s added before and after what sounds


def find(context: FinderContext, lead: Survey, later_s: float) -> Found:
    """The words of a part with what they are in the lead; none where the two do not sing the same.

    ``context``: the part's; ``lead``: the survey of the lead; ``later_s``: how much later the part starts.
    """
    mine, theirs = context.survey, lead
    if mine.voice_lufs is None or theirs.voice_lufs is None:
        return Found((), {"lined_up": AlikeWith(0.0, False)})
    coarse = align.sounds_of(mine, align.STEP_S), align.sounds_of(theirs, align.STEP_S)
    alike = round(min(1.0, align.alike(*coarse, later_s)), 3)
    if alike < SAME:
        return Found((), {"lined_up": AlikeWith(alike, False)})
    late, _ = align.path(*coarse, later_s)
    fine = align.sounds_of(mine, _FINE_S), align.sounds_of(theirs, _FINE_S)
    marks: list[WordMark] = []
    for start, end in (_sounding(mine, *word) for word in _all_words(context)):
        if end - start <= _LONGEST_WORD_S:
            mark = _word(fine, mine, late, later_s, start, end)
            marks.append(replace(mark, id=mark_id("timing", mark.start, {m.id for m in marks[-3:]})))
    same = sum(m.confidence >= _SURE for m in marks) >= FEWEST_SHARE * len(marks)
    return Found(tuple(marks) if same else (), {"lined_up": AlikeWith(alike, same)})


def _all_words(context: FinderContext) -> list[tuple[float, float]]:
    """The words of a part, and what is sung alone and too short to be a phrase."""
    found = words(context.survey)
    short = [(start, end) for start, end in context.singing if _SHORT_S[0] <= end - start <= _SHORT_S[1]
             and not any(start < last and end > first for first, last in found)]  # fmt: skip
    return sorted([*found, *short])


def _sounding(survey: Survey, start: float, end: float) -> tuple[float, float]:
    """A word without the pause before and after it, which words that were cut apart have between them."""
    first, last = survey.frame(start), survey.frame(end)
    level = lufs(survey.k_power[first:last])
    if not len(level):
        return start, end
    sounding = np.flatnonzero(level > max(level.max() - _HEARD_DB, survey.floor_dbfs + _OVER_FLOOR_DB))
    if not len(sounding) or (sounding[-1] - sounding[0]) * survey.hop_s < _LEAST_HEARD_S:
        return start, end
    begins = float(first + sounding[0]) * survey.hop_s - _AROUND_S
    ends = float(first + sounding[-1] + 1) * survey.hop_s + _AROUND_S
    return round(max(start, begins), 4), round(min(end, ends), 4)


def _word(fine: tuple[align.Sounds, align.Sounds], survey: Survey, late: np.ndarray, later_s: float, start: float,
          end: float) -> WordMark:  # fmt: skip
    """One word with its anchors: (second of the part, the second at which the lead has the same)."""
    moments = [(start, _START_S), *((t, _INNER_S) for t in _turns(fine[0], start, end)), (end, _END_S)]
    placed, sure = [], []
    for moment, (before, after) in moments:
        expected = float(np.interp(moment, np.arange(len(late)) * align.STEP_S, late))
        found, alike = align.lateness(*fine, later_s, moment, expected, before, after)
        if moment in (start, end) or alike >= _SURE:
            placed.append((moment, found, alike))
        sure.append(alike)
    anchors = [(round(moment, 4), round(moment - found, 4)) for moment, found, _ in _outliers_replaced(placed)]
    confidence = float(np.median(sure)) * _plausible(anchors, fine, later_s)
    late_ms = 1000 * (anchors[0][0] - anchors[0][1])
    first, last = survey.frame(start), survey.frame(end)
    level = float(survey.voice_level[first : last + 1].mean())
    return WordMark("", round(start, 4), round(end, 4), round(level, 2), 0.0, 0.0, 0.0, round(confidence, 3),
                    late_ms=round(late_ms, 1), lead_s=anchors[0][1], anchors=tuple(anchors))  # fmt: skip


def _outliers_replaced(placed: list[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Moments of a word, (when, how late, how alike): a start or end that no voice could have bent so far from the
    moment next to it, which is more alike, goes along with that one. It was taken for the like of another word."""
    ends = {0: 1, len(placed) - 1: len(placed) - 2} if len(placed) > 2 else {}
    result = list(placed)
    for at, next_to in ends.items():
        (moment, found, alike), (other, its, its_alike) = placed[at], placed[next_to]
        if abs(found - its) > _BEND * abs(moment - other) + _BEND_S and alike < its_alike:
            result[at] = (moment, its, alike)
    return result


def _plausible(anchors: list[tuple[float, float]], fine: tuple[align.Sounds, align.Sounds], later_s: float) -> float:
    """1 where a word may be what its anchors say, less where they are as far off as is looked, or do not agree.

    What is hardly voiced in the part need not be voiced in the lead.
    """
    moments = np.array(anchors)
    late = moments[:, 0] - moments[:, 1]
    length = moments[-1, 0] - moments[0, 0]
    agree = np.ptp(late) <= _BEND * length + _BEND_S
    within = np.abs(late).max() <= _FARTHEST_S
    own = _voiced(fine[0], moments[0, 0], moments[-1, 0])
    sung = _voiced(fine[1], moments[0, 1] + later_s, moments[-1, 1] + later_s) >= min(_LEAST_SUNG, 0.5 * own)
    return 1.0 if agree and within and sung else _UNLIKELY


def _voiced(sounds: align.Sounds, start: float, end: float) -> float:
    """How much of a span is voiced, 0 to 1; nothing of an empty one."""
    first, last = (round(t / sounds.step_s) for t in (start, end))
    inside = sounds.sung[max(0, first) : max(0, last)]
    return float(inside.mean()) if len(inside) else -1.0


def _turns(sounds: align.Sounds, start: float, end: float) -> list[float]:
    """The moments inside a word at which one sound turns into the next, not near its start and end."""
    times = np.arange(start + _APART_S, end - _APART_S, sounds.step_s)
    if len(times) < 3:
        return []
    turn = np.linalg.norm(sounds.at(times + _TURN_S) - sounds.at(times - _TURN_S), axis=1)
    every = np.arange(start, end, sounds.step_s)
    usual = float(np.linalg.norm(sounds.at(every + _TURN_S) - sounds.at(every - _TURN_S), axis=1).max())
    peaks, _ = signal.find_peaks(turn, height=_TURN_SHARE * usual, distance=max(1, round(_APART_S / sounds.step_s)))
    return [float(times[i]) for i in peaks]
