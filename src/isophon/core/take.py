"""A take at hand: its recording, its renderer, and as much as is known of it so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from isophon.core import takes
from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import db, gated_loudness
from isophon.core.errors import InputError
from isophon.core.passes.bleed.settings import BleedCut
from isophon.core.passes.gaps.treat import Fade
from isophon.core.passes.hiss.settings import emphasis
from isophon.core.passes.hiss.treat import HissCut
from isophon.core.passes.hum.model import HumCut
from isophon.core.passes.pops.treat import PopCut
from isophon.core.passes.rumble.lowcut import LowCut, loss_db
from isophon.core.passes.ticks.treat import Repair
from isophon.core.pictures import Wave
from isophon.core.reading import path_of
from isophon.core.render import Plan, RenderCache, Renderer
from isophon.core.scan import Figures
from isophon.core.session.edits import Findings, check_source
from isophon.core.session.model import Source
from isophon.core.survey import STILL
from isophon.core.takes import Surveyed

_STEP_S = 0.1
_NOTHING_DBFS = -120.0
_HARDLY = (BleedCut, LowCut, HumCut, HissCut, PopCut, Repair)  # what they take hardly counts, K-weighted


class Absent:
    """Stands in for a recording that cannot be read: silence of the same shape."""

    def __init__(self, source: Source) -> None:
        self.path = path_of(source.path)
        self.sample_rate, self.channels, self.frames = source.sample_rate, source.channels, source.frames
        self.duration = source.duration

    def read(self, start: int, frames: int) -> np.ndarray:
        """Zeros, ``(channels, frames)``."""
        return np.zeros((self.channels, frames), np.float32)

    def close(self) -> None:
        """Nothing is open."""


@dataclass(eq=False)
class Take:
    """What the window and the player need of one recording, beside the session's decisions.

    ``wave``, ``figures`` and ``surveyed`` are None until they are known;
    ``trouble`` says in one line why the recording cannot be used.
    """

    source: Source
    recording: Recording | Absent
    renderer: Renderer
    trouble: str = ""
    wave: Wave | None = None
    figures: Figures | None = None
    surveyed: Surveyed | None = None
    _still: tuple[Plan, tuple[float, float]] | None = None
    _matched: dict[Plan, float] = field(default_factory=dict)

    def refresh(self) -> None:
        """Map in what has been measured by now."""
        try:
            place = takes.place_of(self.recording.path)
        except InputError:
            return
        if self.wave is None and (scanned := takes.kept_scan(place)):
            self.wave, self.figures = scanned
        if self.surveyed is None:
            self.surveyed = takes.kept_survey(place)

    @property
    def findings(self) -> Findings | None:
        """What was found in it, None until it was surveyed."""
        if self.surveyed is None:
            return None
        survey = self.surveyed.survey
        found = self.surveyed.found
        return Findings(self.source, found.marks, survey.voice_lufs, survey.floor_dbfs, found.facts,
                        self.surveyed.heard_without)  # fmt: skip

    @property
    def phrases(self) -> tuple[tuple[float, float], ...]:
        """(start, end) in s; none before the survey."""
        return self.surveyed.phrases if self.surveyed else ()

    @property
    def words(self) -> tuple[tuple[float, float], ...]:
        """(start, end) in s; none before the survey."""
        return self.surveyed.words if self.surveyed else ()

    def matched_gain_db(self, plan: Plan) -> float:
        """Gain in dB that brings the cleaned take to the loudness of the take as sung (BS.1770).

        From the survey's K-weighted levels: cleaning lowers those of the treated
        bands and frames only. 0 before the survey.
        """
        if self.surveyed is None:
            return 0.0
        if plan not in self._matched:
            self._matched = {plan: self._gain_of(plan)}
        return self._matched[plan]

    def stillness(self, plan: Plan) -> tuple[float, float] | None:
        """Level in dBFS of the still moments, above 100 Hz, as sung and cleaned; None before the survey."""
        if self.surveyed is None:
            return None
        if self._still is None or self._still[0] is not plan:
            self._still = (plan, self._stillness_of(plan))
        return self._still[1]

    def _stillness_of(self, plan: Plan) -> tuple[float, float]:
        survey = self.surveyed.survey
        quiet = survey.state == STILL
        if not quiet.any():
            return survey.floor_dbfs, survey.floor_dbfs
        before, rate = float(np.median(survey.bands[quiet].sum(axis=1, dtype=np.float64))), survey.sample_rate
        power = np.zeros(len(quiet))
        power[quiet] = _without_floor(survey.bands[quiet], survey.band_edges, plan)
        room = float(np.median(power[quiet]))
        for fade in (t for t in plan if isinstance(t, Fade)):
            frames = slice(survey.frame(fade.first / rate), survey.frame(fade.last / rate) + 1)
            under = room if fade.room else 0.0
            power[frames] = power[frames] * fade.gain**2 + under * (1 - fade.gain**2)
        return tuple(max(_NOTHING_DBFS, round(db(level), 1)) for level in (before, float(np.median(power[quiet]))))

    def _gain_of(self, plan: Plan) -> float:
        survey = self.surveyed.survey
        power = survey.k_power.astype(np.float64)
        rate = survey.sample_rate
        for treatment in plan:
            if isinstance(treatment, _HARDLY):
                continue
            frames = slice(survey.frame(treatment.first / rate), survey.frame(treatment.last / rate) + 1)
            if isinstance(treatment, Fade):
                power[frames] *= treatment.gain**2
                continue
            inside = survey.band_slice(treatment.span.low, treatment.span.high or np.inf)
            power[frames] -= (1 - treatment.gain**2) * survey.k_bands[frames, inside].sum(axis=1)
        steps = max(1, round(_STEP_S / survey.hop_s))
        whole = len(power) // steps * steps
        if not whole:
            return 0.0
        cleaned = gated_loudness(np.maximum(power[:whole], 0).reshape(-1, steps).mean(axis=1))
        return round(survey.loudness - cleaned, 2)


class _Leaks:
    """The leaks of a take, opened once each."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._kept: dict[str, tuple[np.ndarray, np.ndarray]] = {}

    def __call__(self, key: str) -> tuple[np.ndarray, np.ndarray] | None:
        if key not in self._kept:
            try:
                found = takes.kept_leak(takes.place_of(self._path), key)
            except InputError:
                return None
            if found is None:
                return None
            self._kept[key] = found
        return self._kept[key]


def _without_floor(bands: np.ndarray, edges: np.ndarray, plan: Plan) -> np.ndarray:
    """The power of still frames ``(frames, bands)`` that hum, low cut and hiss leave, ``(frames,)``."""
    left = bands.astype(np.float64)
    centres = np.sqrt(edges[1:] * edges[:-1])
    gain_db = np.zeros(len(centres))
    for treatment in plan:
        if isinstance(treatment, HumCut):
            gone = [p for p in treatment.hum.partials if edges[0] <= p.freq_hz <= min(treatment.top_hz, edges[-1])]
            for partial in gone:
                left[:, np.searchsorted(edges, partial.freq_hz) - 1] -= 10 ** (partial.level_db / 10)
        elif isinstance(treatment, LowCut):
            gain_db -= loss_db(treatment.cut_hz, treatment.slope, centres)
        elif isinstance(treatment, HissCut):
            gain_db += treatment.amount_db * emphasis(centres, treatment.from_hz)
    # a mean partial may be more than what a frame holds; as much as beside the hum is left
    return (np.maximum(left, 0.03 * bands) * 10 ** (gain_db / 10)).sum(axis=1)


def open_take(source: Source, cache: RenderCache | None = None) -> Take:
    """The take of a recording, with what is already known of it; never raises, see :attr:`Take.trouble`."""
    recording: Recording | Absent
    try:
        recording, trouble = Recording(path_of(source.path)), ""
        try:
            check_source(source, recording)
        except InputError:
            recording.close()
            raise
    except InputError as error:
        recording, trouble = Absent(source), str(error)
    shape = recording.sample_rate, recording.frames
    take = Take(source, recording, Renderer(recording.read, *shape, cache, _Leaks(recording.path)), trouble)
    if not trouble:
        take.refresh()
    return take
