"""A take at hand: its recording, its renderer, and as much as is known of it so far."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import db, gated_loudness
from isophon.core.errors import InputError
from isophon.core.passes.stage import Stage, Still
from isophon.core.reading import path_of
from isophon.core.render import Renderer
from isophon.core.render_cache import RenderCache
from isophon.core.session.adopting import Findings
from isophon.core.session.edits import check_source
from isophon.core.session.items import Source
from isophon.core.staging import Plan, by_stage
from isophon.core.survey import STILL, Survey
from isophon.core.takes import cache as take_cache
from isophon.core.takes.cache import Surveyed
from isophon.core.takes.heads import kept_head
from isophon.core.takes.pictures import Wave
from isophon.core.takes.scan import Figures

Staged = tuple[tuple[Stage, Plan], ...]

_STEP_S = 0.1  # s between levels
_NOTHING_DBFS = -120.0  # dBFS: no level is shown that is lower


class Absent:
    """Stands in for a recording that cannot be read: silence of the same shape."""

    def __init__(self, source: Source) -> None:
        self.path = path_of(source.path)
        self.sample_rate, self.channels, self.frames = source.sample_rate, source.channels, source.frames
        self.duration = source.duration

    def read(self, _start: int, frames: int) -> np.ndarray:
        """Zeros, ``(channels, frames)``."""
        return np.zeros((self.channels, frames), np.float32)

    def close(self) -> None:
        """Nothing is open."""


@dataclass(eq=False)
class Sound:
    """A recording and its renderer; ``trouble`` says in one line why the recording cannot be used."""

    source: Source
    recording: Recording | Absent
    renderer: Renderer
    trouble: str = ""


@dataclass(eq=False)
class Take(Sound):
    """What the window needs of one recording, beside the session's decisions.

    ``wave``, ``figures`` and ``surveyed`` are None until they are known.
    """

    wave: Wave | None = None
    figures: Figures | None = None
    surveyed: Surveyed | None = None
    _still: tuple[Staged, tuple[float, float]] | None = None
    _matched: tuple[Plan, float] | None = None

    def refresh(self, without: str | None = None) -> None:
        """Map in what has been measured by now; ``without`` some bleed, where that is wanted and there.

        See :class:`isophon.core.takes.cache.FindingResult`; None for what is there already, or the take as sung.
        """
        try:
            place = take_cache.place_of(self.recording.path)
        except InputError:
            return
        if self.wave is None and (scanned := take_cache.kept_scan(place)):
            self.wave, self.figures = scanned
        if without is not None and (self.surveyed is None or self.surveyed.heard_without != without):
            self.surveyed = take_cache.kept_survey(place, without) or self.surveyed
            self._still = self._matched = None
        if self.surveyed is None:
            self.surveyed = take_cache.kept_survey(place)

    @property
    def findings(self) -> Findings | None:
        """What was found in it, None until it was surveyed."""
        if self.surveyed is None:
            return None
        survey = self.surveyed.survey
        found = self.surveyed.found
        return Findings(self.source, found.marks, survey.voice_lufs, survey.floor_dbfs, found.measured,
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
        if self._matched is None or self._matched[0] != plan:
            self._matched = plan, self._gain_of(self.surveyed.survey, plan)
        return self._matched[1]

    def noise_floor(self, plan: Plan) -> tuple[float, float] | None:
        """Level in dBFS of the still moments, above 100 Hz, as sung and cleaned; None before the survey."""
        if self.surveyed is None:
            return None
        touched = tuple((stage, mine) for stage, mine in by_stage(plan) if stage.still is not None)
        if self._still is None or self._still[0] != touched:
            self._still = (touched, self._noise_floor_of(self.surveyed.survey, touched))
        return self._still[1]

    def _noise_floor_of(self, survey: Survey, touched: Staged) -> tuple[float, float]:
        quiet = np.flatnonzero(survey.state == STILL)
        if not len(quiet):
            return survey.floor_dbfs, survey.floor_dbfs
        still = Still(survey, survey.bands[quiet].astype(np.float64), quiet)
        take_cache.let_go(survey.bands)  # of many parts they take much room, and are looked at once
        before = float(np.median(still.power.sum(axis=1)))
        for stage, mine in touched:
            assert stage.still is not None, "only those are asked"
            stage.still(still, mine)
        after = float(np.median(still.power.sum(axis=1)))
        return max(_NOTHING_DBFS, round(db(before), 1)), max(_NOTHING_DBFS, round(db(after), 1))

    def _gain_of(self, survey: Survey, plan: Plan) -> float:
        power = survey.k_power.astype(np.float64)
        for stage, mine in by_stage(plan):
            if stage.power is not None:
                stage.power(power, survey, mine)
        steps = max(1, round(_STEP_S / survey.hop_s))
        complete = len(power) // steps * steps
        if not complete:
            return 0.0
        cleaned = gated_loudness(np.maximum(power[:complete], 0).reshape(-1, steps).mean(axis=1))
        return round(survey.loudness - cleaned, 2)


class _Kept:
    """What is kept on disk beside a recording as it was when it was opened: its leaks, and what was rendered ahead."""

    def __init__(self, recording: Recording | Absent) -> None:
        self._channels = recording.channels
        self._sounds: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        try:
            self._place: Path | None = take_cache.place_of(recording.path)
        except InputError:
            self._place = None

    def sounds(self, key: str) -> tuple[np.ndarray, np.ndarray] | None:
        """The sounds of a leak, ``(channels, frames)`` each, opened once each; None where they are not there."""
        if key not in self._sounds:
            found = take_cache.kept_leak(self._place, key) if self._place else None
            if found is None:
                return None
            self._sounds[key] = found
        return self._sounds[key]

    def head(self, name: str) -> np.ndarray | None:
        """A block of what slow stages leave, ``(channels, HEAD_BLOCK)``; None where it is not there."""
        return kept_head(self._place, name, self._channels) if self._place else None


def renderer_of(recording: Recording | Absent, cache: RenderCache | None = None) -> Renderer:
    """A renderer of a recording, with what is kept beside that."""
    files = _Kept(recording)
    return Renderer(recording.read, recording.sample_rate, recording.frames, cache, files.sounds, files.head)


def open_sound(source: Source, cache: RenderCache | None = None) -> Sound:
    """A recording with its renderer; never raises, see :attr:`Sound.trouble`."""
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
    return Sound(source, recording, renderer_of(recording, cache), trouble)


def open_take(source: Source, cache: RenderCache | None = None) -> Take:
    """The take of a recording, with what is already known of it; never raises, see :attr:`Sound.trouble`."""
    sound = open_sound(source, cache)
    take = Take(source, sound.recording, sound.renderer, sound.trouble)
    if not take.trouble:
        take.refresh()
    return take
