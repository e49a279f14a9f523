"""The transport: play, loop, compare, level match, the output's level."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QIcon, QPainter, QPixmap, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QFrame, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.appearance import appearance
from isophon.app.model.hearing import HEARS
from isophon.app.model.keys import key_tip
from isophon.app.translation import tr
from isophon.app.views.clock_field import ClockField
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named, switch
from isophon.app.views.meter import Meter
from isophon.app.views.output_panel import SIDES, OutputPanel
from isophon.app.views.rough_panel import RoughPanel
from isophon.core.playing.heard_as import COMPARES
from isophon.core.playing.remote_device import RemoteDevice

_WIDE, _SMALL, _SMALLEST, _LEAST = 1_400, 1_240, 990, 56
_FOR_NOW = "as sung for now"
_LIMITS_DB = 0.1
_SPEEDS = {0.75: "¾ speed", 0.5: "half speed"}
_SHORT_WAIT = 3  # turns of the clock that are not worth a word


class Transport(QFrame):
    """Signals what is asked for; shows what is so."""

    play_asked = Signal()
    loop_toggled = Signal(bool)
    compare_chosen = Signal(str)
    match_toggled = Signal(bool)
    hear_chosen = Signal(str)
    all_toggled = Signal(bool)
    turns_toggled = Signal(bool)
    rough_switched = Signal(bool)
    chain_changed = Signal(object, object)
    output_changed = Signal(object)
    output_opened = Signal()
    time_chosen = Signal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._playing, self._waited, self._time = False, 0, "0:00.00"
        self._unmade, self._device = 0, ""
        self._shown_device: tuple = ()
        self.play = named(QPushButton(), "plain")
        self.play.setIcon(_play_icon(False))
        self.play.setIconSize(QSize(34, 34))
        key_tip(self.play, "Play or stop ({play})")
        self.play.setAccessibleName(tr("Play or stop"))
        self.play.clicked.connect(self.play_asked)
        self.clock = ClockField()
        self.clock.chosen.connect(self.time_chosen)
        self.loop = switch(tr("Loop"))
        self.loop.setChecked(True)
        key_tip(self.loop, "Loop the selected mark or the selected time ({loop})")
        self.loop.toggled.connect(self.loop_toggled)
        self.compare = QButtonGroup(self)
        self.buttons = {}
        chosen = make_row(between=0)
        for name in COMPARES:
            button = switch(tr(name))
            button.setToolTip("Compare (C: the next; hold S: as sung)")
            button.clicked.connect(lambda _=False, name=name: self.compare_chosen.emit(name))
            self.compare.addButton(button)
            self.buttons[name] = button
            chosen.addWidget(button)
        self.all = switch(tr("all parts"))
        key_tip(self.all, "Compare all parts at once, or only the selected ones ({compare_all})")
        self.all.toggled.connect(self.all_toggled)
        self.turns = switch(tr("alternate"))
        key_tip(self.turns, "As sung and cleaned alternate, each time the loop begins ({in_turn})")
        self.turns.toggled.connect(self.turns_toggled)
        chosen.addSpacing(8)
        chosen.addWidget(self.turns)
        chosen.addWidget(self.all)
        self.hear = QButtonGroup(self)
        self.hears = {}
        listen_buttons = make_row(between=0)
        for name, tip in zip(HEARS, _HEAR_TIPS, strict=True):
            button = switch(tr(name))
            button.setToolTip(f"{tip} (H: the next)")
            button.clicked.connect(lambda _=False, name=name: self.hear_chosen.emit(name))
            self.hear.addButton(button)
            self.hears[name] = button
            listen_buttons.addWidget(button)
            button.setMinimumWidth(theme.u(_LEAST))
        self.match = switch(tr("Match loudness"))
        key_tip(self.match, "Play cleaned at the loudness of as sung ({match})")
        self.match.toggled.connect(self.match_toggled)
        self.rough = switch(tr("Rough chain"))
        key_tip(
            self.rough, "Listen through the rough chain: compressors, shelf, drive, room; never in a file ({rough})"
        )
        self.rough.clicked.connect(self._open_rough)
        self.rough_panel = RoughPanel(self)
        self.rough_panel.switched.connect(self._rough_switched)
        self.rough_panel.changed.connect(self.chain_changed)
        self.match_value = Label("", objectName="number")
        self.meter = Meter()
        self.output_panel = OutputPanel(self)
        self.output_panel.changed.connect(self.output_changed)
        self.output_panel.opened.connect(self.output_opened)
        self.device = named(QPushButton(), "link")
        self.device.setAccessibleName(tr("Output"))
        self.device.setFixedHeight(theme.u(15))
        self.device.clicked.connect(lambda: self._open(self.output_panel, self.device))
        row = self._row = make_row(self, around=(12, 4, 12, 4))
        for button in (self.all, self.turns):
            button.setMinimumWidth(theme.u(_LEAST))
        row.addWidget(self.play)
        row.addWidget(self.clock)
        row.addWidget(self.loop)
        row.addSpacing(8)
        row.addLayout(chosen)
        row.addSpacing(8)
        row.addLayout(listen_buttons)
        row.addSpacing(8)
        level = self._level = make_row()
        level.addWidget(self.match)
        level.addWidget(self.rough)
        level.addWidget(self.match_value)
        row.addLayout(level)
        self.still = Label("", objectName="soft")
        self.still.setMinimumWidth(1)
        self.still.setToolTip("The noise floor in dBFS, as sung and cleaned: of this part, and of all together")
        row.addWidget(self.still)
        row.addStretch(1)
        row.addSpacing(8)
        out = make_column(between=0)
        out.addWidget(self.device, 0, Qt.AlignmentFlag.AlignRight)
        out.addWidget(self.meter)
        row.addLayout(out)
        self.show_compare("cleaned")
        appearance().changed.connect(self._show_icon)

    def _show_icon(self) -> None:
        self.play.setIcon(_play_icon(self._playing))

    def minimumSizeHint(self) -> QSize:
        """As small as it gets once it is small."""
        hint = super().minimumSizeHint()
        return QSize(min(hint.width(), theme.u(_SMALLEST)), hint.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is little room, the noise floor goes (the parts show it too) and words are shorter."""
        super().resizeEvent(event)
        wide, narrow = self.width() >= theme.u(_WIDE), self.width() < theme.u(_SMALL)
        self.still.setVisible(wide)
        self.all.setText(tr("all parts" if wide else "all"))
        self.match.setText(tr("Loudness" if narrow else "Match loudness"))
        self.rough.setText(tr("Chain" if narrow else "Rough chain"))
        for name, button in self.hears.items():
            button.setText(tr(name if wide else name.split()[-1]))
        self.meter.setMaximumWidth(theme.u(230 if wide else 100 if narrow else 206))
        for layout in (self._row, self._level):
            layout.setSpacing(4 if narrow else 8)
        chosen = (*self.hears.values(), *self.buttons.values())
        for button in (*chosen, self.all, self.turns, self.match, self.rough, self.loop):
            button.setObjectName("small" if narrow else "" if wide else "snug")
            button.style().unpolish(button)
            button.style().polish(button)
            button.setMinimumWidth(button.sizeHint().width())

    def _open_rough(self) -> None:
        self.show_rough()
        self._open(self.rough_panel, self.rough)

    def _open(self, panel: QFrame, button: QPushButton) -> None:
        """A panel over its button, inside the window."""
        panel.adjustSize()
        corner = button.mapTo(self.window(), QPoint(0, -panel.height() - 6))
        corner.setX(max(4, min(corner.x(), self.window().width() - panel.width() - 4)))
        panel.move(self.window().mapToGlobal(corner))
        panel.show()

    def toggle_rough(self) -> None:
        """Through the rough chain, or not."""
        self.rough_panel.switch.toggle()

    def _rough_switched(self, on: bool) -> None:
        self.show_rough()
        self.rough_switched.emit(on)

    def show_rough(self) -> None:
        """Show whether the rough chain is on."""
        on = self.rough_panel.switch.isChecked()
        self.rough.setChecked(on)

    def show_playing(self, playing: bool, preparing: bool = False, for_now: bool = False) -> None:
        """Show the triangle or the bars; while sound is asked for and none is there yet, say so.

        ``for_now``: what is heard is not rendered yet, so it is heard as it was, or as sung.
        """
        if playing != self._playing:
            self._playing = playing
            self._show_icon()
        self._waited = self._waited + 1 if preparing else 0
        self.clock.show_time("preparing" if self._waited > _SHORT_WAIT else self._time)
        self._unmade = self._unmade + 1 if for_now else 0
        limits = f"limiter {theme.signed(-self.meter.limited_db)} dB" if self.meter.limited_db > _LIMITS_DB else ""
        state = _FOR_NOW if self._unmade > _SHORT_WAIT else limits or self._device
        if state != self.device.text():
            self.device.setText(tr(state))

    def show_time(self, text: str) -> None:
        """Show where it is heard."""
        self._time = text

    def show_compare(self, name: str) -> None:
        """Show what is heard."""
        self.buttons[name].setChecked(True)

    def show_hear(self, name: str) -> None:
        """Show what it is heard with."""
        self.hears[name].setChecked(True)

    def show_match(self, on: bool, gain_db: float) -> None:
        """Show the gain of the level match."""
        self.match_value.setText(tr(f"{theme.signed(gain_db)} LU" if on else "off"))

    def show_noise_floor(self, here: tuple[float, float] | None, together: tuple[float, float] | None) -> None:
        """Show the level of the noise floor in dBFS, as sung and cleaned, of the selected part and of all parts."""
        rows = (("noise floor", here), ("of all", together))
        self.still.setText(
            tr("\n".join(f"{name} {theme.from_to(*level)}".removesuffix(" dB") for name, level in rows if level))
        )

    def show_device(self, device: RemoteDevice, volume_db: float, sides: int, speed: float) -> None:
        """Say where the sound goes, and how; the name is empty while that is not known yet."""
        shown = device.name, device.silent, device.gone, volume_db, sides, speed
        if shown == self._shown_device:
            return
        self._shown_device = shown
        name = device.name if len(device.name) <= 18 else device.name[:17] + "…"
        how = ", ".join(filter(None, (_SPEEDS.get(speed, ""), SIDES[sides] if sides else "",
                                      f"{theme.signed(volume_db)} dB" if volume_db else "")))  # fmt: skip
        name = "no sound device" if device.silent else name if how else f"plays on {name}"
        self._device = f"{name}{how and ', '}{how} ▾"
        gone = f"\n{device.gone} is not there; it is used as soon as it is" if device.gone else ""
        self.device.setToolTip(f"{device.name}{gone}\nDevice, volume, mono and limiter: click. What is not rendered "
                               "yet plays as it was last, else as sung")  # fmt: skip


_HEAR_TIPS = (
    "Only the selected parts",
    "The lead on the left, the selected part on the right, nothing else",
    "With all parts that are not muted",
    "With all parts that are not muted and the music",
)


def _play_icon(playing: bool) -> QIcon:
    pixmap = QPixmap(68, 68)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.INK)
    painter.drawEllipse(0, 0, 68, 68)
    painter.setBrush(theme.PAPER)
    if playing:
        painter.drawRect(QRectF(23, 20, 8, 28))
        painter.drawRect(QRectF(37, 20, 8, 28))
    else:
        painter.drawPolygon(QPolygonF([QPointF(26, 18), QPointF(50, 34), QPointF(26, 50)]))
    painter.end()
    return QIcon(pixmap)
