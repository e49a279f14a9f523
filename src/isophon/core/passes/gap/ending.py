"""How far the sound before a gap goes on in it."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import lufs
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.noise_floor import SILENT_DB, still_power
from isophon.core.survey import Survey

_SMOOTH_S = 0.03  # s over which the level is averaged
_OVER_ROOM_DB = 2.0  # dB over the room at which a tail is over
_LONGEST_S = 2.0  # s: no tail is followed further


def ending_of(survey: Survey, mark: GapMark) -> float:
    """The second at which the sound before a gap has sunk to the room: within 2 s, and before the first breath."""
    still = still_power(survey)
    room = SILENT_DB if still is None else lufs(still)
    until = min([mark.end, mark.start + _LONGEST_S, *(start for start, _ in mark.breaths if start > mark.start)])
    first, last = survey.frame(mark.start), max(survey.frame(mark.start) + 1, survey.frame(until))
    smooth = ndimage.uniform_filter1d(survey.k_power.astype(np.float64), max(1, round(_SMOOTH_S / survey.hop_s)))
    sounds = lufs(smooth[first:last]) > room + _OVER_ROOM_DB
    ends = np.flatnonzero(~sounds)
    return mark.start + float(ends[0] if len(ends) else len(sounds)) * survey.hop_s
