"""The fine spectrum of what is heard, in the Bands sheet: bells are made, moved and widened in it."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QWheelEvent

from isophon.app import theme
from isophon.app.model.jobs import Job
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Following
from isophon.app.translation import tr
from isophon.app.views.made import switch
from isophon.core.audio.files import Recording
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import centre_of, edges_of
from isophon.core.takes.fine_spectrum import (
    Partial,
    fine_levels,
    note_of,
    over_the_fundamental,
    partials_of,
    pitch_in,
)

LOWEST_HZ, HIGHEST_HZ = 80.0, 8_000.0
_DEPTH_DB = 66.0
_MOMENT_S, _LONGEST_S, _STEP_S = 0.5, 4.0, 0.25
_GRAB = 5.0
_HEAD, _LARGE_FROM = 22, 240
_GRID = ((100, "100"), (200, "200"), (500, "500"), (1_000, "1k"), (2_000, "2k"), (5_000, "5k"))


class _Seen(NamedTuple):
    key: tuple[object, ...]  # the take comes first
    hz: np.ndarray
    sung_db: np.ndarray
    cleaned_db: np.ndarray
    pitch_hz: float | None
    partials: list[Partial]


class FineSpectrum(Following):
    """Of the selected time, else of the selected word, else of the half second around what is heard."""

    MOST_HIGH = 300

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._at = 0.0
        self._job: Job | None = None
        self._seen: _Seen | None = None
        self._moved: tuple[str, float, tuple[float, float]] | None = None  # a band, where it was taken and was, Hz
        self._gesture = 0
        self._pointed: float | None = None  # Hz under the pointer
        self.setMinimumHeight(theme.u(104))
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Fine spectrum of the selected time"))
        self.setToolTip("As sung (line) and cleaned (filled). Double-click: a bell. Drag one: its frequency; "
                        "wheel: its width. Press and move beside them: what lies there is heard alone, with Shift "
                        "all but it.")  # fmt: skip
        self.large = switch(tr("large"), self)
        self.large.setObjectName("small")
        self.large.setToolTip("Over the map, as large as that; Esc puts it back")
        self.large.toggled.connect(workspace.large_asked)
        for changed in (workspace.part_changed, workspace.selection_changed, workspace.take_changed):
            changed.connect(self._look)

    def follow(self, seconds: float, _playing: bool) -> None:
        """Show the moment around a second of the part."""
        if abs(seconds - self._at) > _STEP_S:
            self._at = seconds
            self._look()

    def put_back(self) -> None:
        self.large.setChecked(False)

    @property
    def span(self) -> tuple[float, float]:
        """The seconds that are shown."""
        mark, duration = self.workspace.mark, self.workspace.part.source.duration
        start, end = self._at - _MOMENT_S / 2, self._at + _MOMENT_S / 2
        if self.workspace.selected_time is not None:
            start, end = self.workspace.selected_time
        elif isinstance(mark, BandMark) and mark.span[1] - mark.span[0] < _LONGEST_S:
            start, end = mark.span
        return max(0.0, start), min(duration, end, start + _LONGEST_S)

    def _look(self) -> None:
        """Work out in a thread what is to be seen; the last is shown until then."""
        workspace, take = self.workspace, self.workspace.take
        if self._seen is not None and self._seen.key[0] is not take:
            self._seen = None
            self.update()
        start, end = self.span
        key = take, workspace.part.plan, round(start, 3), round(end, 3)
        here = self.isVisible() and workspace.pass_.kind == "band"
        if not here or self._job is not None or (self._seen is not None and self._seen.key == key):
            return
        if take.surveyed is None or not isinstance(take.recording, Recording) or end <= start:
            return
        rate, plan, survey = take.recording.sample_rate, workspace.part.plan, take.surveyed.survey

        def work(progress: Callable[[float], None]) -> object:
            first, frames = round(start * rate), max(1, round((end - start) * rate))
            hz, sung = fine_levels(take.recording.read(first, frames), rate)
            progress(0.5)
            _, cleaned = fine_levels(take.renderer.cleaned(plan, first, frames), rate)
            pitch = pitch_in(survey, start, end)
            found = [] if pitch is None else partials_of(hz, sung, pitch, HIGHEST_HZ)
            return _Seen(key, hz, sung, cleaned, pitch, found)

        self._job = Job(work)
        self._job.done.connect(self._show)
        self._job.failed.connect(self._failed)
        self._job.start()

    def _show(self, seen: Any) -> None:
        self._job = None
        if seen is not None:
            self._seen = seen
            self._look()
        self.update()

    def _failed(self, _words: str) -> None:
        self._show(None)  # the take's own trouble is shown where it is listed

    # places

    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(0.5, theme.u(_HEAD), -0.5, -2)

    def x_of(self, hz: float) -> float:
        """The place of a frequency, over octaves."""
        box = self._box()
        share = math.log(max(hz, 1.0) / LOWEST_HZ) / math.log(HIGHEST_HZ / LOWEST_HZ)
        return box.left() + share * box.width()

    def hz_at(self, x: float) -> float:
        """The frequency at a place."""
        share = min(1.0, max(0.0, (x - self._box().left()) / self._box().width()))
        return LOWEST_HZ * (HIGHEST_HZ / LOWEST_HZ) ** share

    def _bands(self) -> list[BandMark]:
        each = self.workspace.pass_.skyline.each
        return [mark for mark in each(self.workspace.part) if isinstance(mark, BandMark)] if each else []

    def _band_at(self, x: float) -> BandMark | None:
        near = [(abs(self.x_of(centre_of(mark)[0]) - x), mark) for mark in self._bands()]
        off, mark = min(near, key=lambda one: one[0], default=(math.inf, None))
        return mark if off <= _GRAB else None

    # hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._gesture += 1
        mark = self._band_at(event.position().x())
        if mark is None:
            self._hear(event)
            return
        self.workspace.select_marks([mark.id], show=False)
        self._moved = mark.id, self.hz_at(event.position().x()), edges_of(*centre_of(mark))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        self._pointed = self.hz_at(x)
        self.update()
        if not event.buttons():
            self.setCursor(Qt.CursorShape.SizeHorCursor if self._band_at(x) else Qt.CursorShape.ArrowCursor)
        elif self._moved is not None:
            name, hz, (low, high) = self._moved
            ratio = self.hz_at(x) / hz
            self.workspace.commands.set_band(name, low * ratio, high * ratio, ("spectrum", self._gesture))
        else:
            self._hear(event)

    def leaveEvent(self, _event: QEvent) -> None:
        self._pointed = None
        self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._moved = None
        self.workspace.band_left.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._band_at(event.position().x()) is None:
            self.workspace.commands.make_band(self.hz_at(event.position().x()))

    def wheelEvent(self, event: QWheelEvent) -> None:
        mark = self.workspace.mark
        if not isinstance(mark, BandMark):
            event.ignore()
            return
        self.workspace.commands.widen_band(mark, event.angleDelta().y(), ("spectrum wheel", mark.id))

    def _hear(self, event: QMouseEvent) -> None:
        without = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.workspace.commands.hear_near(self.hz_at(event.position().x()), without)

    # what is seen

    def resizeEvent(self, _event: QResizeEvent) -> None:
        size = self.large.sizeHint()
        self.large.setGeometry(self.width() - size.width(), 0, size.width(), round(self._box().top()))

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.sans(theme.SMALL))
        box, seen = self._box(), self._seen
        painter.fillRect(self.rect(), theme.PAPER)  # the map may lie under it
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawRect(box)
        for hz, words in _GRID:
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(self.x_of(hz), box.top()), QPointF(self.x_of(hz), box.bottom()))
            if self.height() > theme.u(_LARGE_FROM):
                painter.setPen(theme.SOFT_INK)
                painter.drawText(QPointF(self.x_of(hz) + 4, box.top() + theme.u(16)), tr(words))
        if seen is None:
            painter.setPen(theme.SOFT_INK)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr("The spectrum appears here while it plays."))
            return
        columns = np.geomspace(LOWEST_HZ, HIGHEST_HZ, max(2, int(box.width())))
        lines = [_at_columns(seen.hz, levels, columns) for levels in (seen.sung_db, seen.cleaned_db)]
        top = max(float(line.max()) for line in lines) + 3
        sung, cleaned = (self._line(box, columns, line, top) for line in lines)
        painter.setClipRect(box)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.PANEL.darker(106))
        painter.drawPolygon(QPolygonF([box.bottomLeft(), *cleaned, box.bottomRight()]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.INK, 1.1))
        painter.drawPolyline(QPolygonF(sung))
        self._draw_partials(painter, box, seen, top)
        self._draw_bands(painter, box)
        painter.setClipping(False)
        self._draw_note(painter, box, seen)

    def _line(self, box: QRectF, hz: np.ndarray, levels: np.ndarray, top: float) -> list[QPointF]:
        share = np.clip((top - levels) / _DEPTH_DB, 0, 1)
        return [QPointF(self.x_of(f), box.top() + s * box.height()) for f, s in zip(hz, share, strict=True)]

    def _draw_partials(self, painter: QPainter, box: QRectF, seen: _Seen, top: float) -> None:
        """A tick at the foot for each; a red head on those that are stronger than the fundamental."""
        strong = {one.number for one in over_the_fundamental(seen.partials)}
        for one in seen.partials:
            x = self.x_of(one.hz)
            painter.setPen(QPen(theme.SOFT_INK, 1))
            painter.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() - 5))
            if one.number in strong:
                y = box.top() + min(1.0, max(0.0, (top - one.level_db) / _DEPTH_DB)) * box.height()
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.OVER)
                painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 3.5, y - 6), QPointF(x + 3.5, y - 6)]))

    def _draw_bands(self, painter: QPainter, box: QRectF) -> None:
        for mark in self._bands():
            x, in_hand = self.x_of(centre_of(mark)[0]), mark.id in self.workspace.selected_marks
            painter.setPen(QPen(theme.SELECTED if in_hand else theme.HAND_FLAG, 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))

    def _draw_note(self, painter: QPainter, box: QRectF, seen: _Seen) -> None:
        """What is under the pointer, else the note and which partials are over its fundamental."""
        words = "no note is sung here"
        if self._pointed is not None:
            words = f"{self._pointed:.0f} Hz, {note_of(self._pointed)}"
        elif seen.pitch_hz is not None:
            strong = [f"{one.number}" for one in over_the_fundamental(seen.partials)[:4]]
            words = note_of(seen.pitch_hz) + (f" · partial {', '.join(strong)} over the 1st" if strong else "")
        painter.setPen(theme.SOFT_INK)
        where = QRectF(box.left() + 4, 0, self.large.x() - box.left() - 8, box.top())
        words = painter.fontMetrics().elidedText(tr(words), Qt.TextElideMode.ElideRight, int(where.width()))
        painter.drawText(where, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, tr(words))


def _at_columns(hz: np.ndarray, levels: np.ndarray, columns: np.ndarray) -> np.ndarray:
    """The strongest of the bins of each column; between bins, the level in between."""
    edges = np.sqrt(columns[:-1] * columns[1:])
    first = np.searchsorted(hz, np.concatenate([[columns[0]], edges]))
    last = np.searchsorted(hz, np.concatenate([edges, [columns[-1]]]))
    between = np.interp(columns, hz, levels)
    peaks = [levels[a:b].max() if b > a else between[i] for i, (a, b) in enumerate(zip(first, last, strict=True))]
    return np.array(peaks)
