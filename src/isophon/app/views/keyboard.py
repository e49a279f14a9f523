"""Working by keyboard alone: buttons that Return presses, lists that leave letters to the work, and visible focus."""

from __future__ import annotations

from collections.abc import Collection
from typing import TypeGuard

from PySide6.QtCore import QEvent, QObject, QPoint, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QScrollArea,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QWidget,
)

from isophon.app import theme

_WIDEST, _NARROWEST = 320, 76
_FIRST_DIGIT = 10  # the key of 1 on X11 and Wayland (linux/input-event-codes.h, and 8 more)
_LINE = 26  # pixels: what lies no further apart is on one line
_PRESSING = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
_LISTED = (*_PRESSING, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End)


class Choice(QComboBox):
    """A list to choose from: turns only while it has the focus, letters are not its own, and long names make no room
    for themselves."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)

    def sizeHint(self) -> QSize:
        return super().sizeHint().boundedTo(QSize(theme.u(_WIDEST), 10_000))

    def minimumSizeHint(self) -> QSize:
        return super().minimumSizeHint().boundedTo(QSize(theme.u(_NARROWEST), 10_000))

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter, look = QStylePainter(self), QStyleOptionComboBox()
        self.initStyleOption(look)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, look)
        field = self.style().subControlRect(
            QStyle.ComplexControl.CC_ComboBox, look, QStyle.SubControl.SC_ComboBoxEditField, self
        )
        look.currentText = self.fontMetrics().elidedText(look.currentText, Qt.TextElideMode.ElideRight, field.width())
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, look)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()

    def event(self, event: QEvent) -> bool:
        if asks_first(event, _LISTED) and not event.modifiers():
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in _PRESSING:
            self.showPopup()
        elif event.key() in _LISTED or event.key() in (Qt.Key.Key_F4, Qt.Key.Key_Tab):
            super().keyPressEvent(event)
        else:
            event.ignore()  # letters, numbers and the rest are keys of the work


def asks_first(event: QEvent, keys: Collection[int]) -> TypeGuard[QKeyEvent]:
    """Whether a widget is asked if one of some keys is its own, before it is a key of the work."""
    override = event.type() == QEvent.Type.ShortcutOverride
    return override and isinstance(event, QKeyEvent) and event.key() in keys


class Field(QLineEdit):
    """A field to type into: Return and Esc are its own, and lead back to the page."""

    def event(self, event: QEvent) -> bool:
        if asks_first(event, (*_PRESSING, Qt.Key.Key_Escape)):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        super().keyPressEvent(event)
        if event.key() in _PRESSING[:2]:
            self.clearFocus()
            back_to_page(self)


class _Pressed(QObject):
    """Lets Return and Space press the button that has the focus, before any key of the work."""

    def eventFilter(self, button: QObject, event: QEvent) -> bool:
        if not isinstance(event, QKeyEvent) or event.modifiers() or not isinstance(button, QAbstractButton):
            return False
        if asks_first(event, _PRESSING):
            event.accept()
            return True
        if event.type() == QEvent.Type.KeyPress and event.key() in _PRESSING[:2]:
            button.click()
            return True
        return False


def workable(inside: QWidget) -> None:
    """Let every button in a widget be reached with Tab and pressed with Return or Space; a click moves no focus."""
    app = QApplication.instance()
    assert app is not None, "there are widgets"
    pressed = app.findChild(_Pressed) or _Pressed(app)
    for button in inside.findChildren(QAbstractButton):
        button.removeEventFilter(pressed)
        button.installEventFilter(pressed)
        if button.focusPolicy() in (Qt.FocusPolicy.NoFocus, Qt.FocusPolicy.StrongFocus):
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    for area in inside.findChildren(QScrollArea):  # what is in it has a name, the area itself has none
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)


def enable(widget: QWidget, on: bool) -> None:
    """Enable a widget or not; its focus goes back to the page, not on to whatever comes next."""
    if not on and widget.hasFocus():
        back_to_page(widget)
    widget.setEnabled(on)


def back_to_page(widget: QWidget) -> None:
    """Give the focus to the page that a widget is on."""
    page, around = None, widget.parentWidget()
    while around is not None:
        page = around if around.objectName() == "page" else page
        around = around.parentWidget()
    if page is not None:
        page.setFocus()


def reachable(area: QWidget) -> list[QWidget]:
    """What Tab reaches in an area, itself too: line by line, from left to right."""
    found = [w for w in (area, *area.findChildren(QWidget))
             if (w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus and not w.focusProxy()
             and not isinstance(w, QAbstractScrollArea | QAbstractSpinBox)) or (isinstance(w, QAbstractItemView)
             and w.isVisible() and w.focusPolicy() & Qt.FocusPolicy.TabFocus)]  # fmt: skip
    places = [(w.mapTo(area, QPoint(0, 0)), w) for w in found]
    line = theme.u(_LINE)
    return [w for at, w in sorted(places, key=lambda one: ((one[0].y() + one[1].height() // 2) // line, one[0].x()))]


def show_in_scroll_areas(widget: QWidget) -> None:
    """Let every area that scrolls around a widget show it."""
    around = widget.parentWidget()
    while around is not None:
        if isinstance(around, QScrollArea):
            around.ensureWidgetVisible(widget)
        around = around.parentWidget()


def same_held() -> bool:
    """Whether Ctrl is held: the same in all selected parts, instead of as much in each (window managers take Alt)."""
    return bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ControlModifier)


def draw_focus(painter: QPainter, widget: QWidget) -> None:
    """A frame around a widget that has the focus."""
    if widget.hasFocus():
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(theme.SELECTED, 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(widget.rect()).adjusted(1, 1, -1, -1))


def place_in_digit_row(event: QKeyEvent) -> int | None:
    """Which key of the row of digits was pressed, from 0 on, where the keyboard's layout writes no digits there."""
    place = event.nativeScanCode() - _FIRST_DIGIT
    if event.isAutoRepeat() or event.modifiers() or not 0 <= place <= 9 or event.text().isdigit():
        return None
    return place
