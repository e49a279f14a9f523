"""The pictures of the Esses sheet: what comes down over frequency, the rule at work, vowels and esses as spectra."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.jobs import Job
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Following
from isophon.app.translation import tr
from isophon.core.audio.bell import response_db
from isophon.core.audio.dynamics import static_db
from isophon.core.passes import STAGES
from isophon.core.passes.ess import air, rule
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import LEFT_ALONE
from isophon.core.passes.stage import Treatment
from isophon.core.session.model import Part
from isophon.core.survey import VOICED, Survey

PICTURES = ("what comes down", "the rule at work", "vowels and esses")
_CHUNK_S, _BEFORE_S, _AROUND_S = 3.0, 0.8, 1.0
_LOWEST_DB, _HIGHEST_DB = -36.0, 12.0


class Picture(Following):
    """What is left of the sheet: one of the three; the rule's follows what is heard."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.shown = workspace, PICTURES[0]
        self._at = 0.0
        self._job: Job | None = None
        self._chunk: tuple[object, float, np.ndarray, np.ndarray] | None = None
        self.setMinimumHeight(theme.u(58))
        self.setAccessibleName(tr("What comes down, over frequency"))
        for changed in (workspace.part_changed, workspace.selection_changed, workspace.take_changed):
            changed.connect(self._changed)

    def show_picture(self, which: str) -> None:
        """Show one of ``PICTURES``."""
        self.shown = which
        self.setAccessibleName(tr(f"Picture: {which}"))
        self.setMinimumHeight(theme.u(58 if which == PICTURES[0] else 104))
        self._changed()

    def follow(self, seconds: float, playing: bool) -> None:
        """Show the rule at a second of the part, while it plays."""
        if playing and self.shown == PICTURES[1] and abs(seconds - self._at) > 0.01:
            self._at = seconds
            self._look()
            self.update()

    def _changed(self) -> None:
        if self.workspace.mark is not None:
            self._at = sum(self.workspace.mark.span) / 2
        if self.shown == PICTURES[1] and self.workspace.pass_.kind == "ess":
            self._look()
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.sans(theme.SMALL))
        box = QRectF(self.rect()).adjusted(0.5, 8, -0.5, -2)
        if self.shown == PICTURES[0]:
            _draw_curve(painter, box, self.workspace)
        elif self.shown == PICTURES[1]:
            self._draw_rule(painter, box)
        else:
            _draw_spectra(painter, box, self.workspace)

    # the rule

    @property
    def _cut(self) -> rule.RuleCut | None:
        return next((t for t in self.workspace.part.plan if isinstance(t, rule.RuleCut)), None)

    def _look(self) -> None:
        """Work out in a thread what the rule hears around the moment that is shown."""
        cut, take = self._cut, self.workspace.take
        first = max(0.0, np.floor(self._at / _AROUND_S) * _AROUND_S - _AROUND_S)
        key = cut, take, self.workspace.part.plan, first
        if cut is None or take.surveyed is None or self._job is not None or (self._chunk and self._chunk[0] == key):
            return
        rate, plan = take.recording.sample_rate, tuple(t for t in self.workspace.part.plan if _is_before(t))
        begin = (first - _BEFORE_S) * rate // rule.tick_of(rate) * rule.tick_of(rate)

        def work(_progress: Callable[[float], None]) -> object:
            frames = round((_CHUNK_S + _BEFORE_S) * rate)
            start = max(0, int(begin))
            samples = take.renderer.cleaned(plan, start, frames)
            level, taken = rule.sidechain(samples, start, rate, cut)
            return key, start / rate, level, taken

        self._job = Job(work)
        self._job.done.connect(self._seen)
        self._job.failed.connect(self._failed)
        self._job.start()

    def _failed(self, _words: str) -> None:
        self._seen(None)  # the take's own trouble is shown where it is listed

    def _seen(self, chunk: Any) -> None:
        self._job = None
        if chunk is not None:
            self._chunk = chunk
            self._look()
        self.update()

    def _draw_rule(self, painter: QPainter, box: QRectF) -> None:
        cut = self._cut
        if cut is None or self._chunk is None:
            _ground(painter, box)
            words = "Esses are brought down by the ceiling; choose the rule to see it at work." if cut is None else ""
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, tr(words))
            return
        side = min(box.height(), 0.4 * box.width())
        curve, time = box.adjusted(0, 0, side - box.width(), 0), box.adjusted(side + 8, 0, 0, 0)
        tick_s = rule.tick_of(self.workspace.take.recording.sample_rate) / self.workspace.take.recording.sample_rate
        _, start, level, taken = self._chunk
        seconds = start + (np.arange(len(level)) + 0.5) * tick_s
        here = min(len(level) - 1, max(0, int((self._at - start) / tick_s)))
        _draw_static(painter, curve, cut, float(level[here]), float(taken[here]))
        _ground(painter, time)
        shown = (seconds > self._at - _AROUND_S / 2) & (seconds < self._at + _AROUND_S / 2)
        step = max(1, int(np.count_nonzero(shown) / max(1, time.width())))
        at, level, taken = (values[shown][::step] for values in (seconds, level, taken))
        x = time.left() + (at - self._at + _AROUND_S / 2) / _AROUND_S * time.width()
        painter.setClipRect(time)
        painter.setPen(QPen(theme.INK, 1.4))
        painter.drawPolyline(_line(x, _y(time, level)))
        painter.setPen(QPen(theme.OVER, 1.2, Qt.PenStyle.DashLine))
        threshold = float(_y(time, np.array([cut.over_db]))[0])
        painter.drawLine(QPointF(time.left(), threshold), QPointF(time.right(), threshold))
        painter.setPen(QPen(theme.OVER, 2))
        painter.drawPolyline(_line(x, time.top() + taken / (_HIGHEST_DB - _LOWEST_DB) * time.height()))
        painter.setPen(QPen(theme.SELECTED, 1))
        painter.drawLine(QPointF(time.center().x(), time.top()), QPointF(time.center().x(), time.bottom()))
        painter.setClipping(False)
        painter.setPen(theme.SOFT_INK)
        words = f"takes off {float(taken[len(taken) // 2]) if len(taken) else 0:.1f} dB"
        box, where = time.adjusted(6, 0, -6, -3), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
        painter.fillRect(painter.boundingRect(box, where, words), theme.PAPER)  # no wave through the words
        painter.drawText(box, where, tr(words))


def _is_before(treatment: Treatment) -> bool:
    """Whether a treatment is done before the rule hears the take."""
    stages = [type_ for stage in STAGES[: STAGES.index(rule.STAGE)] for type_ in stage.treats]
    return isinstance(treatment, tuple(stages))


def _ground(painter: QPainter, box: QRectF) -> None:
    painter.setPen(QPen(theme.RULE, 1))
    painter.setBrush(theme.PAPER)
    painter.drawRect(box)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(theme.SOFT_INK)


def _line(x: np.ndarray, y: np.ndarray) -> QPolygonF:
    return QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)])


def _y(box: QRectF, db: np.ndarray) -> np.ndarray:
    return (
        box.bottom() - (np.clip(db, _LOWEST_DB, _HIGHEST_DB) - _LOWEST_DB) / (_HIGHEST_DB - _LOWEST_DB) * box.height()
    )


def _draw_static(painter: QPainter, box: QRectF, cut: rule.RuleCut, level: float, taken: float) -> None:
    """The static curve: what comes in over the voice level, across, and what comes out; a dot where it is now."""
    _ground(painter, box)
    came = np.linspace(_LOWEST_DB, _HIGHEST_DB, 97)
    left = came - np.minimum(cut.range_db, static_db(came - cut.over_db, cut.ratio, cut.knee_db))
    share = (came - _LOWEST_DB) / (_HIGHEST_DB - _LOWEST_DB)
    painter.setPen(QPen(theme.RULE, 1, Qt.PenStyle.DashLine))
    painter.drawLine(box.bottomLeft(), box.topRight())
    painter.setPen(QPen(theme.OVER, 2))
    painter.drawPolyline(_line(box.left() + share * box.width(), _y(box, left)))
    at = min(_HIGHEST_DB, max(_LOWEST_DB, level))
    x = box.left() + (at - _LOWEST_DB) / (_HIGHEST_DB - _LOWEST_DB) * box.width()
    painter.setPen(QPen(theme.SELECTED, 1.5))
    painter.setBrush(theme.PAPER)
    painter.drawEllipse(QPointF(x, float(_y(box, np.array([at - taken]))[0])), 5, 5)
    painter.setBrush(Qt.BrushStyle.NoBrush)


def _draw_curve(painter: QPainter, box: QRectF, workspace: Workspace) -> None:
    """The gain over frequency of the selected mark."""
    _ground(painter, box)
    mark = workspace.mark
    change = workspace.part.change(mark) if mark else 0.0
    low, high = mark.band if mark else (4_000.0, None)
    freqs = np.geomspace(500, 20_000, 160)
    inside = 1 / (1 + (low / freqs) ** 14) * (1 if high is None else 1 / (1 + (freqs / high) ** 14))
    gain = 20 * np.log10(np.maximum(1e-3, 1 + (10 ** (change / 20) - 1) * inside))
    x = box.left() + np.log(freqs / 500) / np.log(40) * box.width()
    painter.setClipRect(box)
    painter.setPen(QPen(theme.OVER if change < 0 else theme.SOFT_INK, 2))
    painter.drawPolyline(_line(x, box.top() + 7 - gain / 12 * (box.height() - 26)))
    painter.setPen(theme.SOFT_INK)
    if mark is None:
        text = "Select a mark to see what comes down."
    elif change == 0:
        text = "This mark stays as sung."
    else:
        top = "up" if high is None else f"to {high / 1000:.1f} kHz"
        text = f"{theme.signed(change)} dB from {low / 1000:.1f} kHz {top}"
    painter.drawText(box.adjusted(8, 0, -8, -3), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, tr(text))
    painter.setClipping(False)


def _draw_spectra(painter: QPainter, box: QRectF, workspace: Workspace) -> None:
    """Side by side: the mean spectrum of the vowels and of the esses, as sung (thin) and cleaned (thick)."""
    surveyed, part = workspace.take.surveyed, workspace.part
    boxes = (box.adjusted(0, 0, -box.width() / 2 - 4, 0), box.adjusted(box.width() / 2 + 4, 0, 0, 0))
    spectra = () if surveyed is None else (_vowels(surveyed.survey, part), _esses(surveyed.survey, part))
    for here, words, levels in zip(boxes, ("vowels", "esses"), spectra or (None, None), strict=True):
        _ground(painter, here)
        painter.drawText(
            here.adjusted(6, 2, -6, -2), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, tr(words)
        )
        if levels is None:
            continue
        hz, sung, cleaned = levels
        top = max(sung.max(), cleaned.max()) + 3
        x = here.left() + np.log(hz / 100) / np.log(200) * here.width()
        painter.setClipRect(here)
        for level, pen in ((sung, QPen(theme.CONTOUR, 1.3)), (cleaned, QPen(theme.DONE, 2))):
            painter.setPen(pen)
            painter.drawPolyline(_line(x, here.top() + (top - level) / 60 * here.height()))
        painter.setClipping(False)
        painter.setPen(theme.SOFT_INK)
        change = float(np.mean((cleaned - sung)[hz > 5_000])) if np.any(hz > 5_000) else 0.0
        words = f"over 5 kHz {theme.signed(change)} dB"
        painter.drawText(
            here.adjusted(6, 0, -6, -3), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, tr(words)
        )


Curves = tuple[np.ndarray, np.ndarray, np.ndarray]


def _centres(survey: Survey) -> np.ndarray:
    return np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])


def _lift(part: Part, hz: np.ndarray) -> np.ndarray:
    shelf = next((lift.shelf for lift in air.treatments(part)), None)
    return np.zeros(len(hz)) if shelf is None else response_db((shelf,), hz)


def _vowels(survey: Survey, part: Part) -> Curves | None:
    """Hz, dB as sung and dB cleaned of the voiced frames."""
    voiced = survey.bands[survey.state == VOICED]
    if not len(voiced):
        return None
    hz = _centres(survey)
    sung = 10 * np.log10(voiced[:: max(1, len(voiced) // 4_000)].mean(axis=0) + 1e-16)
    return hz, sung, sung + _lift(part, hz)


def _esses(survey: Survey, part: Part) -> Curves | None:
    """The same of the frames of the esses, each with its own change in its own band."""
    marks = [m for m in part.of(EssMark) if m.sound not in LEFT_ALONE]
    if not marks:
        return None
    hz, sums = _centres(survey), np.zeros((2, survey.bands.shape[1]))
    for mark in marks:
        frames = survey.bands[survey.frame(mark.span[0]) : survey.frame(mark.span[1]) + 1].sum(axis=0, dtype=float)
        low, high = mark.band
        inside = (hz >= low) & (hz <= (high or np.inf))
        sums += frames, frames * np.where(inside, 10 ** (part.change(mark) / 10), 1.0)
    sung, cleaned = 10 * np.log10(sums + 1e-16)
    return hz, sung, cleaned
