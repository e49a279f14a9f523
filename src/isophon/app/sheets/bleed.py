"""The Bleed sheet's extras: learning, what was found, and pictures of the delay and the path in time and frequency."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QCheckBox, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.leaks import CLICK
from isophon.app.model.passes import Controls, HandTools, Knob, Pass, SkylineView, TraceView, Words
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Extras
from isophon.app.translation import tr
from isophon.app.views.label_room import LabelRoom, width_of
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row
from isophon.app.views.ticked import Ticked
from isophon.core.audio.leak import Leak
from isophon.core.passes.bleed.learn import response
from isophon.core.session.model import Part
from isophon.core.takes.pictures import Axis

_PATH_MS, _PATH_HZ, _PATH_DB, _BETWEEN = (-3.0, 45.0), (100.0, 10_000.0), 40.0, 6
_SOURCE = 230


class BleedExtras(Extras):
    """Learn, switch, and see."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.on = QCheckBox(tr("remove it"))
        self.on.setToolTip("Subtract what was learned of the leak from the selected parts")
        self.on.clicked.connect(lambda on: workspace.settings.set_of_kind("bleed", "on", on))
        self.source = Ticked(self._sources, _SOURCE)
        self.source.toggled_one.connect(self._toggle)
        self.source.setAccessibleName(tr("What the leak is found from"))
        self.source.setToolTip("What leaked: cues, the music or another singer, several at once; or a click that only "
                               "the take itself tells of")  # fmt: skip
        self.learn = QPushButton("")
        self.learn.setToolTip(
            "Find what leaked into the selected parts and how it reached the microphone: from the selected "
            "time, else from the moments in which it is clearest"
        )
        self.learn.clicked.connect(lambda: self._learn(workspace.selected_parts, workspace.selected_time))
        self.learn_all = QPushButton(tr("In all parts"))
        self.learn_all.setToolTip("The same for every part of the session")
        self.learn_all.clicked.connect(lambda: self._learn([p.id for p in workspace.session.parts], None))
        self.words = Label("", objectName="soft", wordWrap=True)
        self.picture = LeakPicture(workspace)
        self.in_head = (self.on,)
        row = make_row()
        row.addWidget(self.learn)
        row.addWidget(self.learn_all)
        row.addStretch(1)
        column = make_column(self)
        column.addWidget(self.source)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(self.picture, 1)

    def show_part(self) -> None:
        """Show the selected part."""
        part, leak = self.workspace.part, self.workspace.part.leak
        self.on.setChecked(part.bleed.on)
        self.on.setEnabled(bool(leak and leak.key))
        self.source.show_rows()
        self._show_words()
        self._show_span()
        self.picture.update()

    def _sources(self) -> list[tuple[str, str, bool]]:
        """All that can leak, and whether it is chosen."""
        leaks, part = self.workspace.analysis.leaks, self.workspace.part
        chosen = leaks.chosen(part)
        return [(name, words, name in chosen) for name, words in leaks.sources(part)]

    def _toggle(self, name: str) -> None:
        self.workspace.analysis.leaks.toggle(self.workspace.part, self.workspace.selected_parts, name)
        self._show_words()

    def _learn(self, part_ids: Collection[str], span: tuple[float, float] | None) -> None:
        self.workspace.analysis.leaks.learn(part_ids, self.workspace.analysis.leaks.chosen(self.workspace.part), span)

    def _show_words(self) -> None:
        part, leaks = self.workspace.part, self.workspace.analysis.leaks
        self.words.setText(tr(_leak_words(part.leak, leaks.chosen(part) == (CLICK,), bool(leaks.cues))))

    def _show_span(self) -> None:
        span = self.workspace.selected_time
        self.learn.setText(
            tr("Find the leak here" if span is None else f"Find the leak from {span[1] - span[0]:.1f} s")
        )


def _leak_words(leak: Leak | None, by_click: bool, has_cue: bool) -> str:
    if leak is None and by_click:
        more = "" if has_cue else " With the headphone feed as a cue (Lay out, 1) more than a click can go."
        return f"Not found yet: a regular click is looked for in the take itself.{more}"
    if leak is None:
        return "Not found yet."
    if not leak.key and leak.own_click:
        return "No regular click was found; nothing is removed."
    if not leak.key:
        return f"No leak of {', '.join(leak.cues)} was found; nothing is removed. Move the cue, or leave it."
    drift = f", drifts {theme.signed(leak.ppm)} ppm" if leak.ppm else ""
    start, end = leak.moments[0] if leak.moments else (0.0, 0.0)
    learned = f", from {start:.1f} to {end:.1f} s" if leak.moments else ""
    less = f"{leak.less_db:.0f} dB less of it"
    if leak.own_click:
        return f"a click every {1000 * leak.beat_s:.2f} ms{learned}; {less}"
    return f"{', '.join(leak.cues)}: comes {1000 * leak.delay_s:.2f} ms later{drift}{learned}; {less}"


class LeakPicture(QWidget):
    """How alike take and cue are at each delay (or how the click comes again), the path in time, and in frequency."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.setMinimumHeight(56)
        self.setAccessibleName(tr("The delay, and the path that was found, over time and frequency"))

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width = (self.width() - 2 * _BETWEEN) / 3
        boxes = [QRectF(i * (width + _BETWEEN) + 0.5, 1, width - 1, self.height() - 2) for i in range(3)]
        painter.setBrush(theme.PAPER)
        for box in boxes:
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawRect(box)
        leak = self.workspace.part.leak
        if leak is None or not leak.heights:
            painter.setPen(theme.SOFT_INK)
            painter.setFont(theme.sans(theme.SMALL))
            for box, words in zip(boxes, ("delay", "path over time", "over frequency"), strict=True):
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr(words))
            return
        self._draw_delay(painter, boxes[0], leak)
        if leak.path:
            path = np.frombuffer(leak.path, np.float32).reshape(leak.ways, -1)[0].astype(float)
            self._draw_path(painter, boxes[1], leak, path)
            self._draw_response(painter, boxes[2], leak, path)

    def _draw_delay(self, painter: QPainter, box: QRectF, leak: Leak) -> None:
        heights = np.frombuffer(leak.heights, np.uint8) / 255
        x = np.linspace(box.left(), box.right(), len(heights))
        y = box.bottom() - 16 - heights * (box.height() - 22)
        _line(painter, x, y, theme.SELECTED if leak.key else theme.SOFT_INK)
        first, last = leak.lags
        if leak.own_click:
            _words(painter, box, (f"{first:.1f} s", "beat", f"{last:.1f} s"))
        else:
            _words(painter, box, (f"{theme.signed(first)} s", "delay", f"{theme.signed(last)} s"))

    def _draw_path(self, painter: QPainter, box: QRectF, leak: Leak, path: np.ndarray) -> None:
        ms = (np.arange(len(path)) / leak.rate - leak.before_s) * 1_000
        shown = (ms >= _PATH_MS[0]) & (ms <= _PATH_MS[1])
        full = float(np.abs(path).max()) + 1e-12
        x = box.left() + (ms[shown] - _PATH_MS[0]) / (_PATH_MS[1] - _PATH_MS[0]) * box.width()
        y = box.center().y() - 6 - path[shown] / full * (box.height() / 2 - 10)
        _line(painter, x, y, theme.INK)
        _words(painter, box, (f"{theme.signed(_PATH_MS[0])} ms", "path", f"{_PATH_MS[1]:.0f} ms"))

    def _draw_response(self, painter: QPainter, box: QRectF, leak: Leak, path: np.ndarray) -> None:
        """The path's gain over frequency, the strongest at the top."""
        hz, level = response(path, leak.rate, _PATH_HZ)
        x = box.left() + np.log(hz / _PATH_HZ[0]) / np.log(_PATH_HZ[1] / _PATH_HZ[0]) * box.width()
        y = box.top() + 5 + np.minimum(level.max() - level, _PATH_DB) / _PATH_DB * (box.height() - 24)
        _line(painter, x, y, theme.INK)
        _words(painter, box, (f"{_PATH_HZ[0]:.0f} Hz", "", f"{_PATH_HZ[1] / 1000:.0f} kHz"))


def _line(painter: QPainter, x: np.ndarray, y: np.ndarray, ink: QColor) -> None:
    painter.setPen(QPen(ink, 1.2))
    painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))


def _words(painter: QPainter, box: QRectF, words: tuple[str, str, str]) -> None:
    painter.setFont(theme.sans(theme.SMALL))
    painter.setPen(theme.SOFT_INK)
    foot = QRectF(box.left() + 1, box.bottom() - 16, box.width() - 2, 14)
    room, (left, middle, right) = LabelRoom(), words
    for text, side in ((left, 0.0), (right, 1.0), (middle, 0.5)):  # what is between them goes where it has no place
        wide = width_of(painter, text)
        box = QRectF(foot.left() + side * (foot.width() - wide), foot.top(), wide, foot.height())
        if text and room.take(box):
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr(text))


def _empty(part: Part) -> str:
    return "No hits of a leak stand out here." if part.leak is not None else "Find the leak in the sheet."


PASS = Pass(
    "bleed",
    "Bleed",
    theme.bleed_shape,
    words=Words(
        one="hit",
        many="hits of the leak",
        first_look="Choose what leaked, find its leak, then listen to removed ({compare}): no voice should be in it.",
        over_what=" in dB over the voice around them",
        empty=_empty,
    ),
    controls=Controls(
        knobs=(
            Knob("much", "Amount", 0.05, "%", "How much of the predicted leak is removed"),
            Knob(
                "careful",
                "Careful with the voice",
                0.05,
                "%",
                "How much of what the prediction missed is left, so that nothing sounds under water",
            ),
            Knob(
                "nudge_ms",
                "Cue moved by",
                1,
                "ms",
                "Where the cue is looked for, when it is found at the wrong place; find the leak again afterwards",
                True,
            ),
        ),
        setting_words={("bleed", "on"): "bleed"},
        extras=BleedExtras,
    ),
    skyline=SkylineView(bounds=(-54.0, -12.0, -80.0, 12.0)),
    trace=TraceView(axis=Axis(200.0, 16_000.0, 160, 0.012)),
    hand=HandTools(by_hand="How much of the leak goes is set for the whole part; a hit can be left as sung ({leave})."),
)
