"""A row of the parts panel: what is undecided in a part, and how it is listened to."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QEnterEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.export_drop import ExportDrop
from isophon.app.views.keyboard import asks_first, draw_focus, workable
from isophon.app.views.made import make_column, make_row, named, switch
from isophon.app.views.part_menu import part_menu
from isophon.app.views.slider import Slider
from isophon.core.session import layout
from isophon.core.session.items import Guide
from isophon.core.session.model import Part

_ROW, _BUTTON = 40, 20


class ItemRow(QWidget):
    """One part or reference: name, role, where its open marks are, solo and mute; gain and pan while it is in use.

    A part is in use while it is selected, a reference once it was clicked, until it is clicked again.
    """

    taken = Signal(str, object)

    def __init__(self, workspace: Workspace, item_id: str, is_guide: bool) -> None:
        super().__init__()
        self.workspace, self.item_id, self.is_guide = workspace, item_id, is_guide
        self.hear, self.mute = (named(switch(tr(text)), "tiny") for text in ("solo", "mute"))
        key_tip(self.hear, "Solo: only this plays, with the stack or the music; several may be chosen ({hear_only})")
        key_tip(self.mute, "Mute: leave it out of the stack and the music ({mute})")
        self.hear.clicked.connect(lambda: workspace.audition.toggle_heard_only(item_id))
        self.mute.clicked.connect(self.toggle_mute)
        self._pointed = self._opened = False
        self.gain: Slider | None = None
        self.pan: Slider | None = None
        buttons = make_row(between=4)
        buttons.addStretch(1)
        for button in (self.hear, self.mute):
            button.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            button.setFixedHeight(theme.u(_BUTTON))
            hidden = button.sizePolicy()
            hidden.setRetainSizeWhenHidden(True)
            button.setSizePolicy(hidden)
            buttons.addWidget(button)
        column = self._column = make_column(self, between=0, around=(12, theme.u(_ROW - _BUTTON), 8, 0))
        column.addLayout(buttons)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._drop = ExportDrop(self, lambda path: workspace.replacing.begin(item_id, path))
        workable(self)

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), max(theme.u(_ROW), super().sizeHint().height()))

    def minimumSizeHint(self) -> QSize:
        """As high as all that stands in it: where there is no room for the rows, the list scrolls."""
        return QSize(super().minimumSizeHint().width(), self.sizeHint().height())

    @property
    def item(self) -> Part | Guide:
        """What this row shows."""
        return self.workspace.session.item(self.item_id)

    def _add_sliders(self) -> None:
        """What few rows show is made where it is shown first: a session has many rows."""
        low, high = layout.GAIN_RANGE_DB
        self.gain = Slider("Gain", low, high, 0.0, lambda v: f"{theme.signed(v)} dB", 0.5, 38, self)
        self.pan = Slider("Pan", -1.0, 1.0, 0.0, _side, 0.05, 38, self)
        for slider, name in ((self.gain, "gain_db"), (self.pan, "pan")):
            slider.setToolTip("For listening only, never handed over")
            slider.moved.connect(lambda value, gesture, name=name: self._listen(name, value, gesture))
            self._column.addWidget(slider)

    def show_state(self) -> None:
        """Show what the session says now."""
        item, listening = self.item, self.item.listening
        in_use = self._in_use()
        self.hear.setChecked(self.item_id in self.workspace.audition.heard_only)
        self.mute.setChecked(listening.muted)
        self._show_buttons()
        if in_use and self.gain is None:
            self._add_sliders()
        if self.gain is not None and self.pan is not None:
            self.gain.show_value(listening.gain_db)
            self.pan.show_value(listening.pan)
            self.gain.setVisible(in_use)
            self.pan.setVisible(in_use and not self.is_guide)
        trouble = self.workspace.pool.take(item.source).trouble
        self.setToolTip(trouble or (_REFERENCE_TIP if self.is_guide else _TIP))
        self.setAccessibleName(tr(f"{'Reference' if self.is_guide else 'Part'} {item.name}"))
        about = self._of_reference(item) if isinstance(item, Guide) else f"{self._undecided(item)} undecided"
        self.setAccessibleDescription(about)
        self.update()

    def _in_use(self) -> bool:
        return self._opened if self.is_guide else self.item_id == self.workspace.part.id

    def _take(self, modifiers: Qt.KeyboardModifier) -> None:
        if self.is_guide:
            self._opened = not self._opened
            self.show_state()
        else:
            self.taken.emit(self.item_id, modifiers)

    def _show_buttons(self) -> None:
        """The buttons are seen on pointing at a row, in the selected one, and as long as one of them is on."""
        near = self._in_use() or self._pointed
        for button in (self.hear, self.mute):
            button.setVisible(near or button.isChecked() or button.hasFocus())

    def enterEvent(self, _event: QEnterEvent) -> None:
        self._pointed = True
        self._show_buttons()
        self.update()

    def leaveEvent(self, _event: QEvent) -> None:
        self._pointed = False
        self._show_buttons()
        self.update()

    def toggle_mute(self) -> None:
        """Mute, or no longer."""
        self.workspace.keeper.mute(self.item_id, not self.item.listening.muted)

    def _listen(self, name: str, value: float, gesture: object) -> None:
        words = f"{'gain' if name == 'gain_db' else 'pan'} {value:g} · {self.item.name}"
        self.workspace.edit(
            words, lambda s: layout.set_listening(s, self.item_id, **{name: value}), (self.item_id, gesture)
        )

    def paintEvent(self, _event: QPaintEvent) -> None:
        item = self.item
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ids = self.workspace.selected_parts
        if item.id in ids:
            painter.fillRect(self.rect(), theme.PAPER)
            painter.fillRect(0, 0, 4, self.height(), theme.SELECTED if item.id == ids[0] else theme.CONTOUR)
        if self._drop.over:
            painter.fillRect(self.rect(), theme.RULE)
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        what = self._of_reference(item) if isinstance(item, Guide) else self._undecided(item)
        painter.setFont(theme.sans(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        room = painter.fontMetrics().horizontalAdvance(what) + 8
        painter.drawText(QRectF(self.width() - room - 6, 2, room, theme.u(19)), _RIGHT, what)
        left = 12.0
        if isinstance(item, Part):
            self._draw_standing(painter, item, QPointF(18, theme.u(12)))
            left = 30.0
        weight = theme.QFont.Weight.Bold if item.id in ids else theme.QFont.Weight.Normal
        painter.setFont(theme.sans(theme.TEXT, weight))
        muted = item.listening.muted
        painter.setPen(theme.SOFT_INK if muted else theme.INK)
        space = self.width() - left - room - 12
        name = painter.fontMetrics().elidedText(item.name, Qt.TextElideMode.ElideRight, round(space))
        painter.drawText(QRectF(left, 2, space, theme.u(19)), _LEFT, name)
        free = self.hear.x() - 6 if self.hear.isVisible() or self.mute.isVisible() else self.width() - 10
        self._draw_strip(painter, item, QRectF(left, theme.u(24), free - left, theme.u(11)))
        draw_focus(painter, self)

    def _of_reference(self, reference: Guide) -> str:
        """What it is, and its gain where that is not shown otherwise."""
        gain = reference.listening.gain_db
        level = f"  {theme.signed(gain)} dB" if gain and not self._opened else ""
        return f"{tr(theme.ROLE_WORDS[reference.kind])}{level}"

    def _undecided(self, part: Part) -> str:
        """The role, and how many marks are undecided; in the Floor pass the noise floor too, as sung and cleaned."""
        which = self.workspace.pass_
        still = self.workspace.pool.take(part.source).noise_floor(part.plan) if which.trace.still else None
        left = len(part.undecided(which.kind))
        words = tr(theme.ROLE_WORDS[part.role]) if still is None else tr(f"→ {theme.level(still[1], 'dB')}")
        return f"{words}  {left}" if left else words

    def _draw_standing(self, painter: QPainter, part: Part, at: QPointF) -> None:
        """A ring that fills as the pass's marks are decided; called done: full, with a tick."""
        which = self.workspace.pass_
        done = which.kind in part.done
        over = len(part.over(which.kind))
        share = 1 - len(part.undecided(which.kind)) / over if over else 0.0
        ink = theme.DONE if done else theme.INK
        painter.setPen(QPen(ink, 1.4))
        painter.setBrush(ink if done else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 5.5, 5.5)
        if done:
            tick = QPainterPath(at + QPointF(-2.6, 0.2))
            tick.lineTo(at + QPointF(-0.6, 2.3))
            tick.lineTo(at + QPointF(2.8, -2.2))
            painter.setPen(QPen(theme.PAPER, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(tick)
        elif share:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.DONE)
            painter.drawPie(QRectF(at.x() - 4, at.y() - 4, 8, 8), 90 * 16, -round(360 * 16 * share))

    def _draw_strip(self, painter: QPainter, item: Part | Guide, box: QRectF) -> None:
        """Where in the song the item lies, and its open marks."""
        take = self.workspace.pool.take(item.source)
        words, fraction = self.workspace.pool.state(item.source)
        painter.setFont(theme.sans(theme.SMALL))
        if take.trouble or words:
            awaited = self.workspace.pool.awaited(item.source) if take.trouble else ""
            painter.setPen(theme.OVER if take.trouble and not awaited else theme.SOFT_INK)
            text = awaited or ("cannot be used" if take.trouble else words)
            painter.drawText(QRectF(box.left(), box.top() - 4, box.width(), 18), _LEFT, tr(text))
            if words and not take.trouble:
                painter.fillRect(QRectF(box.left(), box.bottom() + 2, box.width() * fraction, 2), theme.DONE)
            return
        start, end = self.workspace.session.span
        scale = box.width() / max(1e-3, end - start)
        first = box.left() + (item.offset_s - start) * scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.fillRect(QRectF(first, box.bottom() - 1, item.source.duration * scale, 2), theme.CONTOUR)
        if isinstance(item, Part):
            starts = item.undecided_at(self.workspace.pass_.kind)
            for x in np.unique(np.round(first + starts * scale)):
                painter.fillRect(QRectF(x, box.top() + 1, 1.6, box.height() - 3), theme.OVER)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._take(event.modifiers())

    def event(self, event: QEvent) -> bool:
        """While it has the focus, Return and Space select it."""
        if asks_first(event, _TAKING):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in _TAKING:
            self._take(event.modifiers())
        else:
            event.ignore()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.is_guide:
            return
        if self.item_id not in self.workspace.selected_parts:
            self.workspace.select_part(self.item_id)
        part_menu(self.workspace, self).popup(event.globalPos())


def _side(pan: float) -> str:
    if abs(pan) < 0.005:
        return "middle"
    return f"{abs(100 * pan):.0f} % {'left' if pan < 0 else 'right'}"


_TAKING = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
_TIP = (
    "Click: select. Ctrl: several. Shift: all between. Right button: apply settings to others. "
    "Drop a new export here to replace the recording."
)
_REFERENCE_TIP = "Click: show or hide its gain. Drop another file here to replace it."
_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
