"""Words as high as they stand out of their phrase: K-weighted level of the voice in each (ITU-R BS.1770 weighting)."""

from __future__ import annotations

import numpy as np

from isophon.core.audio.loudness import lufs
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.stage import Read
from isophon.core.survey import VOICED, Survey, phrases, words

_FEWEST = 4  # voiced frames that tell a level


def find(survey: Survey) -> tuple[Mark, ...]:
    """All words of a take."""
    if survey.voice_lufs is None:
        return ()
    spans = phrases(survey)
    marks: list[Mark] = []
    names: set[str] = set()
    for start, end in words(survey):
        level = level_in(survey, start, end)
        phrase = next(((a, b) for a, b in spans if a <= (start + end) / 2 <= b), None)
        around = level_in(survey, *phrase) if phrase else None
        if level is None or around is None:
            continue
        name = mark_id("spot", start, names)
        names.add(name)
        marks.append(SpotMark(name, round(start, 4), round(end, 4), round(level, 2), round(level - around, 2),
                              0.0, 0.0, 1.0))  # fmt: skip
    return tuple(marks)


def level_in(survey: Survey, start: float, end: float) -> float | None:
    """The level of the voice in a span, LUFS; None where there is too little of it."""
    span = slice(survey.frame(start), survey.frame(end) + 1)
    voiced = survey.k_power[span][survey.state[span] == VOICED]
    return lufs(float(voiced.mean())) if len(voiced) >= _FEWEST else None


def drawn(_read: Read, survey: Survey, start: float, end: float) -> Mark:
    """A spot over a span of the whole band, as high as it stands out of the voice around it."""
    span = slice(survey.frame(start), survey.frame(end) + 1)
    level = lufs(float(np.mean(survey.k_power[span])))
    voice = float(survey.voice_level[survey.frame((start + end) / 2)])
    return SpotMark("", start, end, round(level, 2), round(level - voice, 2), 0.0, 0.0, 1.0)
