"""Finding dead air: what lies between the singing and the breaths, and how loud it is; and the sound of the room."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

import numpy as np

from isophon.core.audio.loudness import db, lufs
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.stillness import ROOM_EDGES, SILENT_DB, Density
from isophon.core.survey import STILL, Survey

_SHORTEST_S = 0.1
_MOMENT_S = 0.05


def find(survey: Survey, sounds: list[tuple[float, float]], breaths: Iterable[Mark]) -> tuple[Mark, ...]:
    """The gaps of a take: heads, tails, and all between stretches of singing and breaths; 100 ms or longer."""
    if not sounds or survey.voice_lufs is None:
        return ()
    taken = sorted([*sounds, *((m.start, m.end) for m in breaths)])
    length = survey.samples / survey.sample_rate
    gaps, until = [], 0.0
    for start, end in [*taken, (length, length)]:
        if start - until >= _SHORTEST_S:
            gaps.append((until, min(start, length)))
        until = max(until, end)
    return tuple(measured(survey, start, end) for start, end in gaps)


def measured(survey: Survey, start: float, end: float) -> Mark:
    """A gap with the level of its loudest 50 ms, against the voice around it and against the room."""
    frames = slice(survey.frame(start), max(survey.frame(start) + 1, survey.frame(end)))
    moment = max(1, round(_MOMENT_S / survey.hop_s))
    power = survey.k_power[frames].astype(np.float64)
    whole = np.convolve(power, np.ones(min(moment, len(power))) / min(moment, len(power)), mode="valid")
    level = lufs(float(whole.max()))
    quiet = survey.state == STILL
    room = lufs(float(np.median(survey.k_power[quiet]))) if quiet.any() else level
    standout = level - float(np.mean(survey.voice_level[frames]))
    return GapMark(
        mark_id("gap", start), round(start, 4), round(end, 4), round(level, 2), round(standout, 2),
        20.0, 20_000.0, 1.0, over_room_db=round(max(0.0, level - max(room, SILENT_DB)), 1),
    )  # fmt: skip


def room_of(density: Density | None) -> tuple[float, ...]:
    """The sound of the room: third-octave levels in dBFS from 20 Hz to 16 kHz.

    All −150 where the stillness is digital silence or nothing is still.
    """
    edges = third_octave_edges(*ROOM_EDGES)
    if density is None:
        return (SILENT_DB,) * (len(edges) - 1)
    freqs, power = density
    bands = [float(power[(freqs >= low) & (freqs < high)].sum()) if (freqs < high)[freqs >= low].any() else 0.0
             for low, high in pairwise(edges)]  # fmt: skip
    return tuple(round(max(SILENT_DB, db(band)), 1) for band in bands)
