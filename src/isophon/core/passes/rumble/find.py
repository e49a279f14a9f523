"""What the low cut is proposed from: the lowest notes of a take."""

from __future__ import annotations

import numpy as np

from isophon.core.survey import VOICED, Survey

_LOWEST_NOTES_PERCENTILE = 3.0  # of the pitch: what is deeper is an error of the pitch finder or a creak


def lowest_note(survey: Survey) -> float | None:
    """The frequency in Hz under which hardly a note is sung; None without a voice."""
    f0 = survey.f0[(survey.state == VOICED) & (survey.f0 > 0)]
    return round(float(np.percentile(f0, _LOWEST_NOTES_PERCENTILE)), 1) if len(f0) >= 20 else None
