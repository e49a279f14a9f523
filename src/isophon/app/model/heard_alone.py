"""What is heard alone: a band of the selected part, or all but it, or the pauses, lifted."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, Signal

from isophon.app.model.workspace import Workspace
from isophon.core.passes import KINDS
from isophon.core.passes.near_words import floor_of
from isophon.core.playing.mix import BandAlone, PausesAlone
from isophon.core.session.items import Guide
from isophon.core.session.model import Part

_MOST_PAUSES_DB = 40.0
_MOST_LIFT_DB, _SOFTER_DB = 18.0, 6.0  # of a band alone


class HeardAlone(QObject):
    """``band``: what is heard alone, or not; ``before``: kinds that have not acted on it. ``changed``: it is other now.

    ``pauses_db``: by how much the pauses are lifted that alone are heard; 0: all is heard.
    """

    changed = Signal()

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.band: BandAlone | None = None
        self.before: tuple[str, ...] = ()
        self.pauses_db = 0.0

    def hear_band(
        self, low_hz: float, high_hz: float | None, without: bool = False, before: tuple[str, ...] = ()
    ) -> None:
        """Let a band of the selected part be heard alone, softly, or all but it, until :meth:`hear_all`.

        ``before``: kinds that have not acted on what is heard.
        """
        self.before = before
        self.band = BandAlone(low_hz, high_hz, self._band_gain(low_hz, high_hz, without), without)
        self.changed.emit()

    def set_pauses(self, on: bool) -> None:
        """Hear only the pauses of the selected parts, lifted to the loudness of the voice; or all again."""
        part, surveyed = self.workspace.part, self.workspace.take.surveyed
        still = None if surveyed is None else floor_of(surveyed.survey)
        self.pauses_db = 0.0
        if on and still and part.voice_lufs is not None:
            self.pauses_db = round(float(min(_MOST_PAUSES_DB, max(1.0, part.voice_lufs - 10 * np.log10(still)))), 1)
        self.changed.emit()

    def pauses(self, item: Part | Guide, offset: int, rate: int) -> PausesAlone | None:
        """The pauses of a part that alone are heard, in frames of the mix; it begins at the frame ``offset`` there."""
        if not self.pauses_db or not isinstance(item, Part):
            return None
        spans = (span for kind in KINDS if kind.finder.still for span in kind.finder.still(item.of_kind(kind.name)))
        frames = tuple((offset + round(start * rate), offset + round(end * rate)) for start, end in spans)
        return PausesAlone(frames, float(10 ** (self.pauses_db / 20)))

    def hear_all(self) -> None:
        """All frequencies again."""
        if self.band is not None:
            self.band = None
            self.changed.emit()

    def _band_gain(self, low_hz: float, high_hz: float | None, without: bool) -> float:
        """Brings what is heard towards the loudness of the whole (K-weighted), by no more than that allows.

        A band alone stays a little under it.
        """
        surveyed = self.workspace.take.surveyed
        if surveyed is None:
            return 1.0
        survey = surveyed.survey
        inside = survey.band_slice(low_hz / 1.12, 1.12 * (high_hz or survey.sample_rate / 2))
        share = float(survey.k_bands[:, inside].sum()) / (float(survey.k_bands.sum()) + 1e-20)
        audible_share, softer = (1 - share, 0.0) if without else (share, _SOFTER_DB)
        return float(10 ** (min(_MOST_LIFT_DB, -10 * np.log10(max(audible_share, 0.0) + 1e-9) - softer) / 20))
