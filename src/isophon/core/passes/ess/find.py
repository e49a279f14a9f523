"""Finding esses: the sibilants S, Z, Sh, Zh, Ch and soft G.

A sibilant is a jet of air against the teeth. Jongman, Wayland & Wong 2000
("Acoustic characteristics of English fricatives") tell the sibilants from F, Th
and H by where the noise lies, by its rise above the lower bands and by its
strength against the neighbouring vowel. Four such measures make a linear
discriminant here (Fisher 1936), one for frames without voicing and one for
voiced frames (Z, Zh, where the voice sounds underneath); its weights were fitted
once to 29 recorded and synthetic sources, each with the same say, and rounded (docs/method.md).
All measures are ratios within this take, so a take may be faint or hot.
Afterwards each run is judged against this singer's own surest esses, because an
F is 5 to 20 dB under the S of the same person, and flat.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from scipy import ndimage

from isophon.core.audio.loudness import lufs
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.ess.breathed import without_breaths
from isophon.core.passes.ess.breathiness import upper_harmonicity
from isophon.core.passes.ess.floored import Floored
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.t_and_f import Sounds, others, separated
from isophon.core.passes.ess.traits import Traits, noise_evidence, sibilance, traits_of
from isophon.core.passes.ess.whistle import with_whistle
from isophon.core.passes.stage import Read
from isophon.core.survey import Survey

# Scores are those of the discriminant, whose 0 is as likely an ess as not. Numbers without a source are this program's
# own; how well they do on voices that nothing was fitted to is in bench/left_out.md.
_OPEN, _HOLD = 0.6, -0.6  # scores: a core is over the first, a run is held over the second
_CORE_S, _LONGEST_S = 0.035, 1.2  # the shortest core, and the longest ess
_JOIN_S = 0.012  # shorter holes in a run are bridged
_EDGE_DROP_DB = 12.0  # an ess begins and ends where its hiss is so far under its level
_EDGE_REACH_S = 0.015  # how far its edge may lie outside of its run
_DOUBTFUL = -2.0  # score of voiced frames over which the harmonicity is asked
# this singer's surest esses
_SURE_SCORE, _SURE_S = 2.2, 0.06  # the least score and length of one
_SURE_COUNT = 3  # of so many the usual is known
_UNDER_USUAL_DB, _VOICED_UNDER_USUAL_DB = 9.0, 16.0  # what is softer than the usual by more loses score
_UNDER_USUAL_TOP_DB, _VOWEL_A_DB = 30.0, 0.25  # less top than that by more: a creaking vowel, which loses so much a dB
_STRONG_DB = 3.0  # within this of the usual a struck sound may be an affricate
# what is struck (T, hi-hat): its hiss jumps by so much, or rises within so long and falls by so many dB a second
_BURST_S, _BURST_DROP_DB = 0.055, 20.0
_STRUCK_RISE_S, _STRUCK_DB_S, _VOICED_STRUCK_DB_S = 0.016, -90.0, -160.0
_STRUCK, _STRUCK_STRONG = 4.0, 1.2  # the score that it loses; as strong as an affricate
_UNDER_USUAL_A_DB, _OVER_MID_A_DB = 0.3, 0.3  # score lost a dB under the usual; a dB less over the middle band
_FLAT_CREST = 0.6  # of the usual crest: what is flatter may be an F
_BURST_LOSS = 0.8  # score that a short burst loses
_SHORT_S, _SHORT_A_S = 0.06, 20.0  # a core shorter than that loses so much score a second
_CONFIDENCE_A_SCORE = 2.2  # slope of the logistic curve from score to confidence
_LEVEL_PERCENTILE = 75  # of the hiss around its best frame: the level of an ess
_BAND_HZ = (1_800, np.inf)  # Hz: where the band of an ess lies
_OUTSIDE = 0.02  # of its energy, that is left out below and above
_SH_MIDDLE_HZ, _SH_LOW_HZ = 4_600, 3_200  # an Sh has its middle and its lower end under these


@dataclass(frozen=True)
class _Run:
    """Frames ``start`` to ``end`` that sound like a sibilant, with the means of their core."""

    start: int
    end: int
    score: float
    over_voice: float
    over_mid: float
    crest: float
    high_share: float
    core: int
    voiced: bool
    burst: bool
    fall: float


def find(read: Read, survey: Survey) -> tuple[EssMark, ...]:
    """The esses of a take and its T's and F's, in order of time; none where there is no voice.

    ``read(start, frames)`` gives the take's samples, float ``(channels, frames)``.
    """
    if survey.voice_lufs is None:
        return ()
    powers = Floored(survey.bands), Floored(survey.k_bands)
    traits = traits_of(survey, *powers)
    score = sibilance(traits, survey.hop_s)
    doubtful = traits.voiced & (score > _DOUBTFUL)
    score = score + noise_evidence(upper_harmonicity(read, survey, doubtful), survey.hop_s)
    marks: list[EssMark] = []
    for run, confidence in _judge(_all_runs(traits, score, survey.hop_s), survey.hop_s):
        start, end = round(run.start * survey.hop_s, 4), round(run.end * survey.hop_s, 4)
        if not _CORE_S <= end - start <= _LONGEST_S:
            continue
        mark = replace(_marked(survey, start, end, confidence, marks), voiced=run.voiced)
        marks.append(with_whistle(read, survey.sample_rate, mark))
    sounds = Sounds(survey, *powers)
    marks = separated(sounds, marks)
    for first, last, sound, confidence in others(sounds, tuple(marks)):
        start, end = round(first * survey.hop_s, 4), round(last * survey.hop_s, 4)
        marks.append(replace(_marked(survey, start, end, confidence, marks), sound=sound))
    return tuple(sorted(without_breaths(survey, marks), key=lambda m: (m.start, m.id)))


def _marked(survey: Survey, start: float, end: float, confidence: float, others: Sequence[Mark]) -> EssMark:
    """A mark from ``start`` to ``end`` s, as it measures, with a name that no other has."""
    name = mark_id("ess", start, {m.id for m in others})
    level, standout, low, high, sound = measure(survey, start, end)
    return EssMark(name, start, end, level, standout, low, high, round(confidence, 3), sound=sound)


def measure(survey: Survey, start: float, end: float) -> tuple[float, float, float, float, str]:
    """Level (LUFS), stand-out (dB), band (Hz, Hz) and sound of the ess from ``start`` to ``end`` s.

    The band holds the energy above 1.8 kHz but for 2 % at its lower and 2 % at
    its upper end; the level is K-weighted within it, over the whole span.
    """
    first, last = survey.frame(start), survey.frame(end)
    span = slice(first, max(first + 1, last))
    above = survey.band_slice(*_BAND_HZ)
    edges = survey.band_edges[above.start : above.stop + 1]
    energy = survey.bands[span, above].mean(axis=0)
    share = np.concatenate([[0.0], np.cumsum(energy)]) / max(float(energy.sum()), 1e-30)
    low = float(np.interp(_OUTSIDE, share, edges))
    high = float(np.interp(1 - _OUTSIDE, share, edges))
    middle = float(np.interp(0.5, share, edges))
    inside = survey.band_slice(low / 2 ** (1 / 6), np.inf)
    level = lufs(float(survey.k_bands[span, inside].sum(axis=1).mean()))
    standout = level - float(survey.voice_level[span].mean())
    sound = "sh" if middle < _SH_MIDDLE_HZ and low < _SH_LOW_HZ else "s"
    return round(level, 2), round(standout, 2), round(low), round(high), sound


def _all_runs(traits: Traits, score: np.ndarray, hop_s: float) -> list[_Run]:
    """All runs in order of time, each with its tight edges.

    Where the hiss dips by 12 dB inside a span that was held (an S after a Z), what
    lies beyond the dip is a run of its own if it has a core.
    """
    core = max(2, round(_CORE_S / hop_s))
    waiting, found = _spans(score, hop_s), []
    while waiting:
        start, end = waiting.pop()
        if np.count_nonzero(score[start:end] > _OPEN) < core:
            continue
        first, last = _edges(traits.hiss, score, start, end, hop_s)
        found.append(_describe(first, last, traits, score, hop_s))
        waiting += [(start, first), (last, end)]
    return sorted(found, key=lambda run: run.start)


def _spans(score: np.ndarray, hop_s: float) -> list[tuple[int, int]]:
    """Spans held above the lower threshold."""
    held = ndimage.binary_closing(score > _HOLD, np.ones(max(1, round(_JOIN_S / hop_s))))
    labels, _ = ndimage.label(held)
    return [(where.start, where.stop) for (where,) in ndimage.find_objects(labels)]


def _describe(start: int, end: int, traits: Traits, score: np.ndarray, hop_s: float) -> _Run:
    core = np.flatnonzero(score[start:end] > _OPEN) + start
    core = core if len(core) else np.arange(start, end)
    return _Run(
        start,
        end,
        float(score[core].mean()),
        float(traits.over_voice[core].mean()),
        float(traits.over_mid[core].mean()),
        float(traits.crest[core].mean()),
        float(traits.high_share[core].mean()),
        len(core),
        voiced=float(traits.voiced[core].mean()) > 0.5,
        burst=_bursts(start, traits.hiss),
        fall=_fall(traits.hiss[max(0, start - 2) : end], hop_s),
    )


def _bursts(start: int, hiss: np.ndarray) -> bool:
    """Whether the hiss jumps out of a closure, as a T does: from silence to its height in 15 ms."""
    before = hiss[max(0, start - 4) : start + 1]
    after = hiss[start : start + 4]
    return len(before) > 0 and float(after.max() - before.min()) > _BURST_DROP_DB


def _fall(hiss: np.ndarray, hop_s: float) -> float:
    """How fast a hiss that rose at once dies away from its peak, dB/s; 0 where it rose slowly.

    A hi-hat and a T are struck and die away; a jet of air swells and stays.
    """
    peak = int(np.argmax(hiss))
    rise = peak - int(np.argmax(hiss[: peak + 1] > hiss[peak] - 10.0))
    fall = hiss[peak : peak + max(3, round(0.6 * (len(hiss) - peak)) + 1)]
    if rise * hop_s > _STRUCK_RISE_S or len(fall) < 3:
        return 0.0
    return float(np.polyfit(np.arange(len(fall)) * hop_s, fall, 1)[0])


def _judge(runs: list[_Run], hop_s: float) -> list[tuple[_Run, float]]:
    """The runs that stand beside this singer's surest esses, with a confidence each."""
    sure = [r for r in runs if r.score >= _SURE_SCORE and r.core * hop_s >= _SURE_S and not r.voiced]
    judged = []
    for run in runs:
        score, strong = run.score, False
        if len(sure) >= _SURE_COUNT:
            usual = float(np.median([r.over_voice for r in sure]))
            crest = float(np.median([r.crest for r in sure]))
            reach = _VOICED_UNDER_USUAL_DB if run.voiced else _UNDER_USUAL_DB
            score -= max(0.0, usual - reach - run.over_voice) * _UNDER_USUAL_A_DB
            strong = run.over_voice > usual - _STRONG_DB  # as an affricate is, that is struck too
            rise = float(np.median([r.over_mid for r in sure]))
            under = min(1.0, max(0.0, (usual - run.over_voice) / 4))
            if not run.voiced:  # what has so much less top than this singer's esses is a vowel that creaks
                top = float(np.median([r.high_share for r in sure]))
                score -= _VOWEL_A_DB * max(0.0, top - _UNDER_USUAL_TOP_DB - run.high_share)
            if not run.voiced and run.crest < _FLAT_CREST * crest:
                score -= under * _OVER_MID_A_DB * max(0.0, rise - 2 - run.over_mid)
        if run.fall < (_VOICED_STRUCK_DB_S if run.voiced else _STRUCK_DB_S):
            score -= _STRUCK_STRONG if strong and run.over_mid > rise - _STRONG_DB else _STRUCK
        if run.burst and not run.voiced and run.core * hop_s < _BURST_S:
            score -= _BURST_LOSS
        score -= max(0.0, _SHORT_S - run.core * hop_s) * _SHORT_A_S
        if score > _OPEN:
            judged.append((run, 1 / (1 + float(np.exp(-_CONFIDENCE_A_SCORE * (score - _OPEN))))))
    return judged


def _edges(hiss: np.ndarray, score: np.ndarray, start: int, end: int, hop_s: float) -> tuple[int, int]:
    """Where the hiss around the span's best frame rises to within 12 dB of its level, and falls back again."""
    reach = round(_EDGE_REACH_S / hop_s)
    middle = start + int(np.argmax(score[start:end]))
    near = hiss[max(start, middle - 4 * reach) : min(end, middle + 4 * reach)]
    level = float(np.percentile(near, _LEVEL_PERCENTILE)) - _EDGE_DROP_DB
    first = last = middle
    while first > max(0, start - reach) and hiss[first - 1] >= level:
        first -= 1
    while last < min(len(hiss) - 1, end - 1 + reach) and hiss[last + 1] >= level:
        last += 1
    return first, last + 1
