"""The Floor sheet's noise: low cut, hum and hiss, with a picture of the lows and what is taken from them."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QPushButton,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.picture import FOOT
from isophon.app.translation import tr
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import ElidedLabel
from isophon.app.views.made import make_column, named
from isophon.app.views.slider import Slider
from isophon.core.passes.hiss.settings import SILENT_DB, level_in, noise_in
from isophon.core.passes.kind import Span
from isophon.core.passes.rumble.settings import RumbleSettings, cut_in, cut_of, loss_db
from isophon.core.session.settings import role_default
from isophon.core.survey import VOICED
from isophon.core.takes.cache import Surveyed
from isophon.core.takes.pictures import QUIETEST_DB

_LOWEST_HZ, _HIGHEST_HZ = 30.0, 1_200.0
_DEPTH_DB = 60.0


class FloorNoise(QWidget):
    """What lies under the voice all the time: each with a switch, how much of it there is, and how much goes."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.on = _switch("Low cut", "Takes away what lies under the voice; proposed from this part’s lowest notes")
        self.on.clicked.connect(lambda on: workspace.settings.set_of_kind("rumble", "on", on))
        self.cut = Slider("", 20, 300, 80, lambda v: f"{v:.0f} Hz", 1, 4, spare=30, number_width=54)
        self.cut.setAccessibleName(tr("Low cut"))
        self.cut.setToolTip("Where it is 3 dB down; double-click: what the lowest notes propose")
        self.cut.moved.connect(self._cut)
        self.slope = Choice()
        for slope in (12, 24, 48):
            self.slope.addItem(f"{slope} dB", slope)
        self.slope.setToolTip("How steep it is, dB an octave")
        self.slope.setAccessibleName(tr("Slope of the low cut, dB an octave"))
        self.slope.activated.connect(
            lambda _: workspace.settings.set_of_kind("rumble", "slope", self.slope.currentData())
        )
        self.hum = _switch("Hum", "The mains and its harmonics, modelled and subtracted; notes near them stay")
        self.hum.clicked.connect(lambda on: workspace.settings.set_of_kind("hum", "on", on))
        self.hum_words = ElidedLabel("soft")
        self.hiss = _switch("Hiss", "Steady noise turned down under the voice")
        self.hiss.clicked.connect(lambda on: workspace.settings.set_of_kind("hiss", "on", on))
        self.sliders = {
            "amount_db": Slider("", -24, 0, -6, lambda v: f"{theme.signed(v)} dB", 0.5, 4, spare=30, number_width=64),
            "from_hz": Slider("above", 100, 12_000, 5_000, lambda v: f"{v / 1000:.1f} kHz", 100, 44),
            "top_db": Slider("top given back", 0, 6, 0, lambda v: f"{theme.signed(v)} dB", 0.25, 66),
        }
        tips = ("How far the noise comes down", "What lies below is left alone",
                "How much top the voice gets back above that, its esses aside")  # fmt: skip
        for (name, slider), tip in zip(self.sliders.items(), tips, strict=True):
            slider.setToolTip(tip)
            slider.setAccessibleName(tr(f"Hiss: {tip[0].lower()}{tip[1:]}"))
            slider.moved.connect(lambda v, g, name=name: workspace.settings.set_of_kind("hiss", name, round(v, 2), g))
        self.follow = _switch("steady", "Noise that rises or falls is followed through the pauses")
        self.follow.clicked.connect(lambda on: workspace.settings.set_of_kind("hiss", "follow", on))
        self.learn = named(QPushButton(""), "plain")
        self.learn.clicked.connect(self._learn)
        self.hiss_words = ElidedLabel("soft")
        self.loss = ElidedLabel("soft")
        self.lows = Lows(workspace)
        self._lay_out()

    def _lay_out(self) -> None:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(4)
        grid.setVerticalSpacing(0)
        grid.addWidget(self.on, 0, 0)
        grid.addWidget(self.cut, 0, 1)
        grid.addWidget(self.slope, 0, 2)
        grid.addWidget(self.hum, 1, 0)
        grid.addWidget(self.hum_words, 1, 1, 1, 2)
        grid.addWidget(self.hiss, 2, 0)
        grid.addWidget(self.sliders["amount_db"], 2, 1, 1, 2)
        grid.addWidget(self.learn, 3, 1, 1, 2, Qt.AlignmentFlag.AlignLeft)
        self.more = QWidget()
        inner = make_column(self.more, between=0)
        for widget in (self.hiss_words, self.sliders["from_hz"], self.sliders["top_db"], self.follow):
            inner.addWidget(widget)
        grid.addWidget(self.more, 4, 1, 1, 2)
        grid.setColumnStretch(1, 1)
        column = make_column(self, between=0)
        column.addLayout(grid)
        column.addWidget(self.loss)
        column.addWidget(self.lows, 1)

    def show_more(self, on: bool) -> None:
        """Show the rarer settings instead of the picture."""
        self.more.setVisible(on)
        self.lows.setVisible(not on)
        self.loss.setVisible(not on)

    def _cut(self, value: float, gesture: object) -> None:
        proposed = value == self.cut.default
        self.workspace.settings.set_of_kind("rumble", "cut_hz", 0.0 if proposed else value, gesture)

    def _learn(self) -> None:
        workspace, part = self.workspace, self.workspace.part
        if workspace.selected_time is None and part.learned:
            workspace.analysis.span_lessons.forget(part, "hiss", f"noise from the pauses · {part.name}")
        elif workspace.selected_time is None:
            workspace.notice.emit("Drag over the ruler to select a moment in which only the noise sounds.")
        elif workspace.take.surveyed is None:
            workspace.notice.emit("This part is still being analysed; its noise can be taken afterwards.")
        else:
            at = workspace.selected_time[0] + workspace.offset
            words = f"noise from {at:.1f} s · {part.name}"
            workspace.analysis.span_lessons.learn(part, "hiss", Span(*workspace.selected_time), words)

    def show_part(self) -> None:
        """Show the selected part."""
        part = self.workspace.part
        hz = cut_of(RumbleSettings(slope=part.rumble.slope), part.measured.lowest_hz)
        self.on.setChecked(part.rumble.on)
        self.cut.setEnabled(part.rumble.on)
        self.slope.setEnabled(part.rumble.on)
        self.cut.show_value(cut_in(part) or part.rumble.cut_hz or hz or 80.0, hz or 80.0)
        self.slope.setCurrentIndex(self.slope.findData(part.rumble.slope))
        self._show_loss()
        self._show_hum()
        self._show_hiss()
        self.lows.update()

    def _show_loss(self) -> None:
        part = self.workspace.part
        lowest = part.measured.lowest_hz
        words = "The lowest notes are not known yet."
        cut_hz = cut_in(part)
        if lowest and cut_hz:
            lost = float(loss_db(cut_hz, part.rumble.slope, lowest))
            words = f"lowest notes {lowest:.0f} Hz, they lose {lost:.1f} dB"
            if lost > 2:
                words += ": this eats the voice"
        elif lowest:
            words = f"lowest notes {lowest:.0f} Hz"
        self.loss.setText(tr(words))

    def _show_hum(self) -> None:
        part = self.workspace.part
        hum, of_all = (
            part.measured.hum,
            [p.measured.hum.level_db for p in self.workspace.session.parts if p.measured.hum],
        )
        self.hum.setChecked(part.hum.on)
        self.hum.setEnabled(hum is not None)
        words = "none found" if part.found else "not looked for yet"
        if hum is not None:
            words = f"{hum.base_hz:.2f} Hz, {len(hum.partials)} partials, {theme.signed(hum.level_db)} dBFS"
        if len(of_all) > 1:
            together = 10 * np.log10(sum(10 ** (level / 10) for level in of_all))
            words += f" · {len(of_all)} parts {theme.signed(float(together))}"
        self.hum_words.setText(tr(words))

    def _show_hiss(self) -> None:
        part, settings = self.workspace.part, self.workspace.part.hiss
        known = bool(noise_in(part)) and max(noise_in(part)) > SILENT_DB
        self.hiss.setChecked(settings.on)
        self.hiss.setEnabled(known)
        track = part.measured.noise_track
        self.follow.setChecked(settings.follow)
        self.follow.setEnabled(bool(track) and settings.on and not part.learned)
        overall = [sum(levels) / len(levels) for _, levels in track] or [0.0]
        self.follow.setText(tr(f"followed: it changes by {max(overall) - min(overall):.0f} dB" if track else "steady"))
        default = role_default("hiss", part.role)
        for name, slider in self.sliders.items():
            slider.setEnabled(known and settings.on)
            slider.show_value(getattr(settings, name), getattr(default, name))
        words = "no noise in the pauses" if part.found else "not looked for yet"
        if known:
            words = f"{theme.signed(level_in(part))} dBFS above {settings.from_hz / 1000:g} kHz, taken from "
            chosen = part.learned and settings.learn_to > settings.learn_from
            span = f"{settings.learn_from + part.offset_s:.1f} to {settings.learn_to + part.offset_s:.1f} s"
            words += span if chosen else "the pauses"
        self.hiss_words.setText(tr(words))
        from_selection = self.workspace.selected_time is not None or not part.learned
        self.learn.setText(tr("Take the noise from here" if from_selection else "From the pauses"))
        self.learn.setToolTip(
            words + (". Takes it from the selected time instead." if from_selection
                     else ". Takes it from the pauses again.")
        )  # fmt: skip


class Lows(QWidget):
    """The voice's lows (filled), the hum's partials (needles) and the low cut over them, 30 Hz to 1.2 kHz."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._kept: tuple[object, tuple[np.ndarray, np.ndarray]] | None = None
        self.setMinimumHeight(theme.u(92))
        self.setAccessibleName(tr("The lows of this part, the hum and the low cut"))

    def _voice(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Mean third-octave levels of the sung frames, dBFS, and their frequencies."""
        surveyed = self.workspace.take.surveyed
        if surveyed is None:
            return None
        if self._kept is None or self._kept[0] is not surveyed:
            survey = surveyed.survey
            sung = survey.bands[survey.state == VOICED]
            centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
            level = 10 * np.log10(sung.mean(axis=0) + 1e-15) if len(sung) else np.full(len(centres), -150.0)
            deep = _deep(surveyed, centres, level)
            self._kept = surveyed, (np.concatenate([deep[0], centres]), np.concatenate([deep[1], level]))
        return self._kept[1]

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 1, -0.5, -theme.u(FOOT))
        painter.setPen(QPen(theme.RULE, 1))
        painter.setBrush(theme.PAPER)
        painter.drawRect(box)
        painter.save()
        painter.setClipRect(box)
        voice, part = self._voice(), self.workspace.part
        if voice is None:
            return
        top = float(voice[1].max()) + 4
        self._draw_voice(painter, box, voice, top)
        if part.measured.hum is not None:
            pen = QPen(theme.OVER if part.hum.on else theme.CONTOUR, 1.6)
            painter.setPen(pen)
            lines = [(self._x(box, p.freq_hz), self._y(box, p.level_db, top)) for p in part.measured.hum.partials]
            painter.drawLines([QLineF(x, box.bottom(), x, y) for x, y in lines])
        if (cut_hz := cut_in(part)) is not None:
            hz = np.geomspace(_LOWEST_HZ, _HIGHEST_HZ, 160)
            lost = loss_db(cut_hz, part.rumble.slope, hz)
            points = [QPointF(self._x(box, f), box.top() + 5 + d / _DEPTH_DB * box.height())
                      for f, d in zip(hz, lost, strict=True)]  # fmt: skip
            painter.setPen(QPen(theme.SELECTED, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))
        painter.restore()
        self._draw_words(painter, box)

    def _draw_voice(self, painter: QPainter, box: QRectF, voice: tuple[np.ndarray, np.ndarray], top: float) -> None:
        centres, level = voice
        shown = centres < 1.3 * _HIGHEST_HZ
        points = [QPointF(self._x(box, f), self._y(box, v, top))
                  for f, v in zip(centres[shown], level[shown], strict=True)]  # fmt: skip
        first, last = points[0], points[-1]
        painter.setPen(QPen(theme.CONTOUR, 1.2))
        painter.setBrush(theme.PANEL)
        painter.drawPolygon(QPolygonF([QPointF(first.x(), box.bottom()), *points, QPointF(last.x(), box.bottom())]))

    def _draw_words(self, painter: QPainter, box: QRectF) -> None:
        painter.setFont(theme.mono(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        for hz in (50, 100, 200, 400, 800):
            x = self._x(box, hz)
            painter.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() - 4))
            words = "50 Hz" if hz == 50 else str(hz)
            under = QRectF(x - theme.u(24), box.bottom() + 1, theme.u(48), theme.u(FOOT))
            painter.drawText(under, Qt.AlignmentFlag.AlignCenter, tr(words))
        lowest = self.workspace.part.measured.lowest_hz
        if lowest:
            x = self._x(box, lowest)
            painter.setPen(QPen(theme.INK, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setFont(theme.sans(theme.SMALL))
            painter.setPen(theme.INK)
            painter.drawText(QPointF(x + 4, box.top() + 13), tr("lowest notes"))

    def _x(self, box: QRectF, hz: float) -> float:
        return box.left() + np.log(hz / _LOWEST_HZ) / np.log(_HIGHEST_HZ / _LOWEST_HZ) * box.width()

    def _y(self, box: QRectF, level: float, top: float) -> float:
        return box.top() + 6 + min(1.0, (top - level) / _DEPTH_DB) * (box.height() - 6)


def _deep(surveyed: Surveyed, centres: np.ndarray, level: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The third octaves under those of the survey, from the lows' picture, brought to the same level where both are."""
    lows, survey = surveyed.lows, surveyed.survey
    picture = lows.levels[0]
    seconds = np.arange(picture.shape[1]) * lows.hop_s
    sung = survey.state[np.clip((seconds / survey.hop_s).astype(int), 0, len(survey.state) - 1)] == VOICED
    if not sung.any():
        return centres[:0], level[:0]
    power = (10 ** ((picture[:, sung].astype(np.float64) / 2 + QUIETEST_DB) / 10)).mean(axis=1)[::-1]
    hz = np.array([lows.axis.hz((i + 0.5) / len(power)) for i in range(len(power))])[::-1]
    deep = centres[0] * 2.0 ** (np.arange(-7, 0) / 3)
    shared = centres[centres < 0.8 * lows.axis.high]

    def band(middle: float) -> float:
        inside = power[(hz >= middle * 2 ** (-1 / 6)) & (hz < middle * 2 ** (1 / 6))]
        return 10 * np.log10(inside.mean() * middle + 1e-20)  # a third octave is as wide as it is high

    off = float(np.mean(level[: len(shared)] - [band(middle) for middle in shared]))
    return deep, np.array([band(middle) for middle in deep]) + off


def _switch(words: str, tip: str) -> QCheckBox:
    box = QCheckBox(tr(words))
    box.setToolTip(tip)
    box.setMinimumWidth(78)
    return box
