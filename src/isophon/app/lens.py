"""The lens: the mark in hand close up, as sung beside cleaned, with its box to drag."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.app.ink import ink_image
from isophon.app.slider import Slider
from isophon.core.marks import Mark
from isophon.core.passes.ticks.settings import DAMAGE
from isophon.core.pictures import Axis, close_margin, close_picture
from isophon.core.session import edits

_AROUND_S, _AROUND_TICK_S = 0.13, 0.006
_GRAB, _CAPTION = 7, 18
_LISP_UNDER_VOICE_DB = -20.0
_COLUMNS = 360


class LensPictures(QWidget):
    """As sung beside cleaned, at the same scale. The box's edges drag in time and frequency."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.desk = desk
        self._sung: tuple[object, QImage] | None = None
        self._cleaned: tuple[object, QImage] | None = None
        self._drag: str | None = None
        self._gesture = 0
        self._window: tuple[float, float] | None = None
        self.setMinimumHeight(80)
        self.setMouseTracking(True)
        self.setAccessibleName("Lens")
        self.setToolTip("Drag the edges of the box: its time and its band, by hand.")
        desk.part_changed.connect(self.update)
        desk.hand_changed.connect(self._taken)
        desk.take_changed.connect(self.update)

    @property
    def axis(self) -> Axis:
        """The frequencies shown."""
        return self.desk.pass_.axis

    def _taken(self) -> None:
        self._window = None
        self.update()

    def window_s(self, mark: Mark) -> tuple[float, float]:
        """The seconds shown: the mark and what is around it; kept while the mark stays in hand."""
        if self._window is None:
            start, end = mark.span
            around = _AROUND_TICK_S if mark.kind == "tick" else _AROUND_S
            self._window = (max(0.0, start - around), end + around)
        return self._window

    def boxes(self) -> tuple[QRectF, QRectF]:
        """Where as sung and cleaned are drawn."""
        left, gap = 44, 10
        width, height = (self.width() - left - gap) / 2, self.height() - _CAPTION
        return QRectF(left, _CAPTION, width, height), QRectF(left + width + gap, _CAPTION, width, height)

    def mark_box(self, mark: Mark, picture: QRectF) -> QRectF:
        """The mark's time and band within a picture."""
        first, last = self.window_s(mark)
        start, end = mark.span
        low, high = mark.band
        x = [picture.left() + (t - first) / (last - first) * picture.width() for t in (start, end)]
        if mark.kind in ("tick", "pop"):
            low, high = (0.0, None) if mark.kind == "tick" else (self.axis.low, mark.hand.high_hz or mark.high_hz)
        top = picture.top() + (0.0 if high is None else max(0.0, self.axis.place(high))) * picture.height()
        bottom = picture.top() + min(1.0, self.axis.place(low)) * picture.height()
        return QRectF(x[0], top + 1, x[1] - x[0], bottom - top - 1)

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.PAPER)
        mark = self.desk.mark
        if mark is None:
            painter.setPen(theme.SOFT_INK)
            painter.setFont(theme.sans(14))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "Take a mark in hand: click a bar, or press →" if self.desk.marks else "",
            )
            return
        sung, cleaned = self.boxes()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        if mark.kind == "tick":
            self._draw_waves(painter, mark, sung, cleaned)
        else:
            painter.drawImage(sung, self._picture(mark, False))
            painter.drawImage(cleaned, self._picture(mark, True))
            self._draw_axis(painter, sung)
        for box, text in ((sung, "as sung"), (cleaned, "cleaned")):
            painter.setPen(theme.INK)
            painter.setFont(theme.sans(12, theme.QFont.Weight.DemiBold))
            label = QRectF(box.left(), 0, box.width(), _CAPTION - 2)
            painter.drawText(label, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
        self._draw_box(painter, self.mark_box(mark, sung), mark)
        painter.setPen(QPen(theme.IN_HAND, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.mark_box(mark, cleaned))

    def _draw_waves(self, painter: QPainter, mark: Mark, sung: QRectF, cleaned: QRectF) -> None:
        """The samples around a tick, as sung and cleaned, on one scale."""
        take, (start, end) = self.desk.take, self.window_s(mark)
        rate = take.recording.sample_rate
        first, count = round(start * rate), max(4, round((end - start) * rate))
        plan = tuple(t for t in self.desk.part.plan if t.last > first and t.first < first + count)
        waves = [take.renderer.cleaned(what, first, count)[0] for what in ((), plan)]
        full = max(1e-6, float(np.abs(waves[0]).max()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for box, wave in ((sung, waves[0]), (cleaned, waves[1])):
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
            x = box.left() + np.arange(count) / (count - 1) * box.width()
            y = box.center().y() - wave / full * (box.height() / 2 - 12)
            painter.setPen(QPen(theme.INK, 1.4))
            painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        painter.setFont(theme.mono(12))
        painter.setPen(theme.SOFT_INK)
        words = f"{1000 * (end - start):.0f} ms"
        painter.drawText(QRectF(0, sung.bottom() - 20, 40, 16), Qt.AlignmentFlag.AlignRight, words)

    def _draw_axis(self, painter: QPainter, box: QRectF) -> None:
        painter.setFont(theme.mono(12))
        painter.setPen(theme.SOFT_INK)
        for hz in self.axis.ticks:
            y = max(8.0, box.top() + self.axis.place(hz) * box.height())
            text = theme.hertz(hz)
            painter.drawText(
                QRectF(0, y - 8, 38, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text
            )

    def _draw_box(self, painter: QPainter, box: QRectF, mark: Mark) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.IN_HAND, 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        painter.setBrush(theme.PAPER)
        for name, point in self._handles(box).items():
            if mark.kind == "ess" or name in ("start", "end") or (mark.kind == "pop" and name == "high"):
                painter.drawEllipse(point, 4, 4)

    @staticmethod
    def _handles(box: QRectF) -> dict[str, QPointF]:
        return {
            "start": QPointF(box.left(), box.center().y()),
            "end": QPointF(box.right(), box.center().y()),
            "low": QPointF(box.center().x(), box.bottom()),
            "high": QPointF(box.center().x(), box.top() + 4),
        }

    def _picture(self, mark: Mark, cleaned: bool) -> QImage:
        take, window = self.desk.take, self.window_s(mark)
        rate = take.recording.sample_rate
        margin = close_margin(rate, self.axis)
        first, count = round(window[0] * rate) - margin, round((window[1] - window[0]) * rate) + 2 * margin
        plan = tuple(t for t in self.desk.part.plan if t.last > first and t.first < first + count) if cleaned else ()
        key = (take, window, plan, self.axis)
        kept = self._cleaned if cleaned else self._sung
        if kept is None or kept[0] != key:
            start = max(0, first)
            read = take.renderer.cleaned(plan, start, first + count - start)
            samples = np.pad(read, ((0, 0), (start - first, 0)))
            image = ink_image(close_picture(samples, rate, _COLUMNS, self.axis), self.desk.part.voice_lufs)
            kept = (key, image)
            if cleaned:
                self._cleaned = kept
            else:
                self._sung = kept
        return kept[1]

    def _under(self, at: QPointF) -> str | None:
        mark = self.desk.mark
        if mark is None:
            return None
        box = self.mark_box(mark, self.boxes()[0])
        if box.top() - _GRAB <= at.y() <= box.bottom() + _GRAB and box.left() - _GRAB <= at.x() <= box.right() + _GRAB:
            distance = {
                "start": abs(at.x() - box.left()),
                "end": abs(at.x() - box.right()),
            }
            if mark.kind == "ess":
                distance["low"] = abs(at.y() - box.bottom())
            if mark.kind in ("ess", "pop"):
                distance["high"] = abs(at.y() - box.top())
            name = min(distance, key=distance.__getitem__)
            return name if distance[name] <= _GRAB else None
        return None

    def mousePressEvent(self, event) -> None:
        self._drag = self._under(event.position())
        self._gesture += 1

    def mouseMoveEvent(self, event) -> None:
        mark, at = self.desk.mark, event.position()
        if self._drag is None or mark is None:
            edge = self._under(at)
            shape = {"start": Qt.CursorShape.SizeHorCursor, "end": Qt.CursorShape.SizeHorCursor}
            self.setCursor(
                Qt.CursorShape.ArrowCursor if edge is None else shape.get(edge, Qt.CursorShape.SizeVerCursor)
            )
            return
        picture = self.boxes()[0]
        first, last = self.window_s(mark)
        time = first + (at.x() - picture.left()) / picture.width() * (last - first)
        hz = self.axis.hz(float(np.clip((at.y() - picture.top()) / picture.height(), 0, 1)))
        (start, end), (low, high) = mark.span, mark.band
        if self._drag in ("start", "end"):
            self.desk.set_edge(self._drag, time, ("lens", self._gesture))
            return
        if self._drag == "low":
            low = min(hz, 0.7 * (high or self.axis.high))
        else:
            high = None if hz >= 0.97 * self.axis.high else max(hz, low / 0.7)
        self.desk.edit(
            f"box by hand · {self.desk.part.name}",
            lambda s: edits.set_box(s, self.desk.part.id, mark.id, start, end, low, high),
            ("lens", self._gesture),
        )

    def mouseReleaseEvent(self, event) -> None:
        self._drag = None


class Lens(QWidget):
    """The pictures with their numbers, the blend, and what a hand can decide."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.desk = desk
        self.head, self.numbers = QLabel(objectName="head"), QLabel()
        self.numbers.setFont(theme.mono(13))
        self.pictures = LensPictures(desk)
        self.warning = QLabel(objectName="soft")
        self.blend = Slider("Blend", 0, 100, 100, lambda v: f"{v:.0f} %")
        self.blend.setToolTip("How much of the change is kept")
        self.blend.moved.connect(self._blend)
        self.leave = QPushButton("Leave as sung", checkable=True)
        self.leave.setToolTip("Leave as sung (L)")
        self.leave.clicked.connect(desk.toggle_leave)
        self.forget = QPushButton("Back to the ceiling")
        self.forget.setToolTip("Forget what was set by hand (Backspace)")
        self.forget.clicked.connect(desk.forget_hand)
        head = QHBoxLayout()
        head.addWidget(self.head)
        head.addStretch()
        head.addWidget(self.numbers)
        foot = QHBoxLayout()
        foot.addWidget(self.leave)
        foot.addWidget(self.forget)
        foot.addWidget(self.blend, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 12, 8)
        layout.setSpacing(6)
        layout.addLayout(head)
        layout.addWidget(self.pictures, 1)
        layout.addWidget(self.warning)
        layout.addLayout(foot)
        desk.part_changed.connect(self._show)
        desk.hand_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        mark, part = self.desk.mark, self.desk.part
        marks = self.desk.marks_in_hand()
        for widget in (self.leave, self.forget, self.blend):
            widget.setEnabled(mark is not None)
        self.warning.setText(self._warning(mark))
        self.warning.setVisible(bool(self.warning.text()))
        if mark is None:
            self.head.setText("Lens")
            self.numbers.setText("")
            return
        which, all_marks = self.desk.pass_, self.desk.marks
        place = all_marks.index(mark) + 1 if mark in all_marks else 0
        one = f"{which.one.capitalize()} {place} of {len(all_marks)}"
        self.head.setText(one if len(marks) == 1 else f"{len(marks)} {which.many} in hand")
        change = part.change(mark)
        at, level = theme.clock(mark.span[0] + self.desk.offset), theme.level(mark.level_db, "LUFS")
        over = "over the room" if mark.kind == "gap" else "over the voice"
        gone = {"ess": "", "tick": "repaired"}.get(mark.kind, "gone") if change <= -36 else ""
        done = gone or ("left" if mark.kind == "tick" else f"change {theme.signed(change)} dB")
        band = {"ess": f"   from {mark.band[0] / 1000:.1f} kHz", "pop": f"   up to {mark.high_hz:.0f} Hz"}
        band = f"   {mark.sound}" if mark.sound in DAMAGE else band.get(mark.kind, "")
        self.numbers.setText(f"{at}   {level}   {theme.signed(which.height(mark))} dB {over}   {done}{band}")
        self.leave.setChecked(all(m.hand.leave for m in marks))
        self.forget.setEnabled(any(m.hand.any for m in marks))
        self.blend.setVisible(mark.kind == "ess")
        self.blend.show_value(100 * (1.0 if mark.hand.blend is None else mark.hand.blend))

    def _warning(self, mark: Mark | None) -> str:
        """What a wary eye would say about the mark in hand."""
        if mark is None:
            return ""
        part = self.desk.part
        change = part.change(mark)
        left = mark.standout_db + change
        if mark.kind == "ess" and change < 0 and left < _LISP_UNDER_VOICE_DB:
            return f"A lisp is likely: this ess would be {theme.signed(left)} dB over the voice."
        if mark.confidence < getattr(getattr(part, mark.kind), "sure", 0.0) and not mark.hand.any:
            one = "an ess" if mark.kind == "ess" else f"a {self.desk.pass_.one}"
            return f"Not sure enough to be {one}: left unless a hand decides."
        if mark.sound in DAMAGE and change == 0:
            return "The recording is damaged here. It is repaired on request: in the sheet, or ↓ for this one."
        reaches = mark.span[0] < mark.start - 0.005 or mark.span[1] > mark.end + 0.005
        if mark.kind == "gap" and (reaches or (mark.hand.drawn and self.desk.sung_within(*mark.span) > 0.05)):
            return "This gap reaches into the singing: listen for the word’s start and tail."
        return ""

    def _blend(self, value: float, gesture: object) -> None:
        self.desk.edit(
            f"blend · {self.desk.part.name}",
            lambda s: edits.set_blend(s, self.desk.part.id, self.desk.in_hand, value / 100),
            gesture,
        )
