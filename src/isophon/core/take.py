"""A take at hand: its recording, survey, pictures and renderer, opened in one reading."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import gated_loudness
from isophon.core.finding import find_marks, survey_recording
from isophon.core.marks import Mark
from isophon.core.pictures import Spectrogram, Wave
from isophon.core.render import Plan, Renderer
from isophon.core.survey import Survey, phrases

_STEP_S = 0.1
_FULL_SCALE = 0.9999


@dataclass(frozen=True, eq=False)
class Take:
    """What the window and the player need of one recording, beside the session's decisions.

    ``phrases``: (start, end) in s. ``clipped``: samples at full scale that stand beside another one.
    """

    recording: Recording
    survey: Survey
    marks: tuple[Mark, ...]
    phrases: tuple[tuple[float, float], ...]
    wave: Wave
    spectrogram: Spectrogram
    renderer: Renderer
    clipped: int

    def matched_gain_db(self, plan: Plan) -> float:
        """Gain in dB that brings the cleaned take to the loudness of the take as sung (BS.1770).

        From the survey's K-weighted levels: cleaning lowers those of the treated
        bands and frames only.
        """
        survey = self.survey
        power = survey.k_power.astype(np.float64)
        for treatment in plan:
            rate = survey.sample_rate
            frames = slice(survey.frame(treatment.first / rate), survey.frame(treatment.last / rate) + 1)
            inside = survey.band_slice(treatment.span.low, treatment.span.high or np.inf)
            power[frames] -= (1 - treatment.gain**2) * survey.k_bands[frames, inside].sum(axis=1)
        steps = max(1, round(_STEP_S / survey.hop_s))
        whole = len(power) // steps * steps
        if not whole:
            return 0.0
        cleaned = gated_loudness(np.maximum(power[:whole], 0).reshape(-1, steps).mean(axis=1))
        return round(survey.loudness - cleaned, 2)


def open_take(path: Path, progress: Callable[[float], None]) -> Take:
    """Open a recording, survey it and find its marks; InputError if it cannot be used.

    ``progress`` is called with a fraction and may raise to cancel.
    """
    recording = Recording(path)
    wave, spectrogram, clipped = Wave(), Spectrogram(recording.sample_rate), [0]

    def listen(block: np.ndarray) -> None:
        full = np.abs(block) >= _FULL_SCALE
        clipped[0] += int(np.count_nonzero(full[:, 1:] & full[:, :-1]))
        wave.add(block)
        spectrogram.add(block)

    try:
        found = survey_recording(recording, lambda f: progress(0.8 * f), listen)
        wave.finish()
        spectrogram.finish()
        marks = find_marks(recording, found)
        progress(1.0)
    except BaseException:
        recording.close()
        raise
    renderer = Renderer(recording.read, recording.sample_rate, recording.frames)
    return Take(recording, found, marks, tuple(phrases(found)), wave, spectrogram, renderer, clipped[0])
