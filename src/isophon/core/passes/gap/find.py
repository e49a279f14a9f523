"""Finding pauses: what lies between the words, the breaths in it, and how loud the rest is; the sound of the room."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

import numpy as np

from isophon.core.audio.loudness import db, lufs
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.gap.mark import GapMark, Spans, without
from isophon.core.passes.noise_floor import ROOM_EDGES, SILENT_DB, Density, still_power
from isophon.core.survey import Survey

_SHORTEST_S = 0.1  # a pause with less dead air is none (a limit of ours)
_MOMENT_S = 0.05  # the length of its loudest moment
_STILLER_PERCENTILE = 25.0  # the level that counts as the floor of a pause


def find(
    survey: Survey, sounds: Iterable[tuple[float, float]], breaths: Iterable[tuple[float, float]]
) -> tuple[Mark, ...]:
    """The pauses of a take: its head, its tail, and all between words; with 100 ms or more of dead air."""
    sounds, air, length = list(sounds), sorted(breaths), survey.samples / survey.sample_rate
    if not sounds or survey.voice_lufs is None:
        return ()
    pauses = without((0.0, length), sounds)
    inside = [(span, tuple(b for b in air if b[0] < span[1] and b[1] > span[0])) for span in pauses]
    return tuple(measured(survey, start, end, air) for (start, end), air in inside
                 if sum(b - a for a, b in without((start, end), air)) >= _SHORTEST_S)  # fmt: skip


def measured(survey: Survey, start: float, end: float, breaths: Spans = ()) -> GapMark:
    """A pause with the level of its loudest 50 ms, breaths aside, against the voice around it and against the room."""
    frames = slice(survey.frame(start), max(survey.frame(start) + 1, survey.frame(end)))
    level = lufs(max(_loudest(survey, *piece) for piece in without((start, end), breaths)))
    still = still_power(survey)
    room = level if still is None else lufs(still)
    standout = level - float(np.mean(survey.voice_level[frames]))
    return GapMark(
        mark_id("gap", start), round(start, 4), round(end, 4), round(level, 2), round(standout, 2),
        20.0, 20_000.0, 1.0, over_room_db=round(max(0.0, level - max(room, SILENT_DB)), 1), breaths=breaths,
    )  # fmt: skip


def floor_in(survey: Survey, mark: GapMark) -> float | None:
    """The lower quartile of the level in a pause, LUFS; None where it has no dead air."""
    powers = [survey.k_power[survey.frame(start) : survey.frame(end)] for start, end in mark.dead_air]
    power = np.concatenate(powers) if powers else np.zeros(0)
    return lufs(float(np.percentile(power, _STILLER_PERCENTILE))) if len(power) else None


def _loudest(survey: Survey, start: float, end: float) -> float:
    """The power of the loudest 50 ms of a span."""
    first, moment = survey.frame(start), max(1, round(_MOMENT_S / survey.hop_s))
    power = survey.k_power[first : max(first + 1, survey.frame(end))].astype(np.float64)
    return float(np.convolve(power, np.ones(min(moment, len(power))) / min(moment, len(power)), mode="valid").max())


def room_of(density: Density | None) -> tuple[float, ...]:
    """The sound of the room: third-octave levels in dBFS from 20 Hz to 16 kHz.

    All −150 where the noise floor is digital silence or nothing is still.
    """
    edges = third_octave_edges(*ROOM_EDGES)
    if density is None:
        return (SILENT_DB,) * (len(edges) - 1)
    freqs, power = density
    bands = [float(power[(freqs >= low) & (freqs < high)].sum()) if (freqs < high)[freqs >= low].any() else 0.0
             for low, high in pairwise(edges)]  # fmt: skip
    return tuple(round(max(SILENT_DB, db(band)), 1) for band in bands)
