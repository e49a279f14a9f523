"""The sheets: the few settings of each pass, and a picture of what comes down."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QPushButton, QScrollArea, QStackedWidget, QWidget

from isophon.app import theme
from isophon.app.model import first_looks
from isophon.app.model.keys import KeyWords
from isophon.app.model.passes import Knob, Pass
from isophon.app.model.workspace import Workspace
from isophon.app.sheets import PASSES
from isophon.app.sheets.extras import Following
from isophon.app.sheets.mark_fades import MarkFades
from isophon.app.translation import tr
from isophon.app.views.keyboard import enable, same_held, workable
from isophon.app.views.labels import ElidedLabel, Label
from isophon.app.views.made import make_column, make_row, named, switch
from isophon.app.views.slider import Slider
from isophon.core.session.settings import role_default

_NARROWEST, _LOWEST, _PICTURE = 118, 110, 120
_OF_WHAT_IS_LEFT = 8  # of nine parts
_MAKING_MS = 20


class Sheets(QStackedWidget):
    """The sheet of the pass that is open; the others are made in turns of their own after it, so that none waits."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self._scrolls: dict[str, _Scrolled] = {}
        self._begun: dict[str, Iterator[None]] = {}
        self._making = QTimer(self, interval=_MAKING_MS)
        self._making.timeout.connect(self._go_on)

    def building(self) -> Iterator[None]:
        """Make the sheet of the pass that is open, with turns of the window's in between."""
        while not self._go_on_with(self.workspace.pass_):
            yield
        self.workspace.part_changed.connect(self._show)
        self._show()

    @property
    def open(self) -> Sheet:
        """The one that is seen."""
        return self._of(self.workspace.pass_).sheet

    def showEvent(self, event: QShowEvent) -> None:
        self._making.start()
        super().showEvent(event)

    def _show(self) -> None:
        self.setCurrentWidget(self._of(self.workspace.pass_))

    def _of(self, which: Pass) -> _Scrolled:
        while not self._go_on_with(which):  # at once, since it is asked for
            pass
        return self._scrolls[which.kind]

    def _go_on_with(self, which: Pass) -> bool:
        """One turn of making a sheet, if it is not made yet; True once it is."""
        if which.kind not in self._scrolls:
            begun = self._begun.pop(which.kind, None) or self._make(which)
            if next(begun, self) is not self:
                self._begun[which.kind] = begun
        return which.kind in self._scrolls

    def _make(self, which: Pass) -> Iterator[None]:
        scroll = _Scrolled(self)
        scroll.sheet = Sheet(self.workspace, which, scroll.viewport())
        yield from scroll.sheet.building()
        scroll.setWidget(scroll.sheet)
        workable(scroll)
        self.addWidget(scroll)
        self._scrolls[which.kind] = scroll

    def _go_on(self) -> None:
        """One turn of making the next sheet that is missing."""
        missing = next((which for which in PASSES if which.kind not in self._scrolls), None)
        if missing is None:
            self._making.stop()
        else:
            self._go_on_with(missing)


class _Scrolled(QScrollArea):
    """A sheet that is scrolled where the window is too low for it; never narrower than the sheet."""

    sheet: Sheet

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, widgetResizable=True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def minimumSizeHint(self) -> QSize:
        wide = self.sheet.minimumSizeHint().width() + self.verticalScrollBar().sizeHint().width()
        return QSize(wide, theme.u(_LOWEST))


class Sheet(QWidget):
    """Every setting acts at once and is heard at once; the tick marks the role's default."""

    def __init__(self, workspace: Workspace, which: Pass, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.workspace, self.which = workspace, which

    def building(self) -> Iterator[None]:
        """Make what is on it, with turns of the window's in between."""
        workspace, which = self.workspace, self.which
        self.sliders = {knob.name: self._slider(knob) for knob in which.controls.knobs}
        yield
        self.extras = which.controls.extras(workspace) if which.controls.extras else None
        yield
        self.picture = which.controls.picture(workspace) if which.controls.picture else None
        head = make_row()
        self.about = ElidedLabel("soft", least=0.7)  # half a word tells nothing
        head.addWidget(Label(tr(which.name), objectName="head"))
        head.addSpacing(8)
        head.addWidget(self.about, 1)
        self.more = named(switch(tr("More")), "plain")
        self.more.setToolTip("Show the settings of this pass that are needed less often, or hide them")
        self.more.toggled.connect(self._show_more)
        self.reset = named(QPushButton(tr("Defaults")), "plain")
        self.reset.setToolTip("All settings back to the role’s default, for the selected parts")
        self.reset.clicked.connect(workspace.settings.role_settings)
        self.again = named(QPushButton(tr("Find again")), "plain")
        self.again.setToolTip("The bleed has changed since the marks were found: find them as the take is now; "
                              "what was decided by hand stays")  # fmt: skip
        self.again.clicked.connect(workspace.analysis.leaks.look_again)
        for button in (self.more, self.reset):
            head.addWidget(button)
        column = self._column = make_column(self, between=0, around=(12, 8, 8, 8))
        column.addLayout(head)
        self.first_look = Label("", objectName="hint", wordWrap=True)
        KeyWords(self.first_look, which.words.first_look, self.first_look.setText)
        self.first_look.setMinimumWidth(theme.u(_NARROWEST))  # it wraps, and makes no sheet wider
        column.addWidget(self.first_look)  # first: what has no parent would be shown as a window
        self.first_look.setVisible(bool(which.words.first_look) and which.kind not in first_looks.known())
        if self.extras is not None and self.extras.in_head:
            under_head = make_row()
            for widget in self.extras.in_head:
                under_head.addWidget(widget)
            under_head.addStretch(1)
            column.addLayout(under_head)
        column.addWidget(self.again, 0, Qt.AlignmentFlag.AlignRight)  # a line of its own: the head is full
        if self.extras is not None:
            column.addWidget(self.extras)
            self.extras.knobs_turned.connect(lambda: self._show_more(self.more.isChecked()))
        if self.picture is not None:
            self._place_picture(self.picture, column.count())
            if self.extras is not None:
                self.extras.show_beside(self.picture)
        for slider in self.sliders.values():
            column.addWidget(slider)
        self.fades = MarkFades(workspace, which) if which.hand.fades else None
        if self.fades is not None:
            column.addWidget(self.fades)
        column.addStretch(1)
        self._away: Sequence[str] = ()
        yield
        self._show_more(False)
        more = any(knob.more for knob in which.controls.knobs) or (self.extras is not None and self.extras.has_more)
        self.more.setVisible(more)
        workspace.part_changed.connect(self._part_changed)
        workspace.take_changed.connect(self._part_changed)
        workspace.selection_changed.connect(self._hand_changed)
        self._show()

    def lend_picture(self, parent: QWidget) -> QWidget:
        """Its picture, for another place, until :meth:`take_picture_back`."""
        picture = self.picture
        assert picture is not None
        self._place = self._column.indexOf(picture)
        self._column.removeWidget(picture)
        picture.setParent(parent)
        picture.setMaximumHeight(theme.NO_LIMIT)
        return picture

    def take_picture_back(self) -> None:
        """Its picture is where it was."""
        picture = self.picture
        assert picture is not None
        self._place_picture(picture, self._place)
        picture.show()
        if isinstance(picture, Following):
            picture.put_back()

    def _place_picture(self, picture: QWidget, place: int) -> None:
        picture.setMaximumHeight(theme.u(getattr(picture, "MOST_HIGH", _PICTURE)))
        self._column.insertWidget(place, picture, _OF_WHAT_IS_LEFT)

    def _slider(self, knob: Knob) -> Slider:
        low, high = self.which.range_of(knob)
        default = getattr(role_default(self.which.kind, "lead"), knob.name)
        factor = 100 if knob.unit == "%" else 1
        slider = Slider(knob.words, low, high, default, lambda v: knob.show(v, low), knob.step, self._words_width(),
                        factor=factor, spare=28)  # fmt: skip
        slider.setToolTip(knob.tip)
        slider.moved.connect(
            lambda value, gesture: self.workspace.settings.set_setting(knob.name, value, gesture, same_held())
        )
        return slider

    def _words_width(self) -> int:
        """The room for the words of all knobs: their lines begin at one place, as far left as these words let them."""
        widest = max(theme.text_width(tr(knob.words), theme.TEXT) for knob in self.which.controls.knobs)
        return max(_NARROWEST, round(widest / theme.scale()) + 8)

    def _show_more(self, on: bool) -> None:
        knobs = self.extras is None or self.extras.knobs_shown
        away = self.which.controls.away(self.workspace.part.settings(self.which.kind))
        for knob in self.which.controls.knobs:
            self.sliders[knob.name].setVisible(knobs and (on or not knob.more) and knob.name not in away)
        self._away = away
        if self.extras is not None:
            self.extras.show_more(on)
            self._column.setStretchFactor(self.extras, 0 if knobs else 1)

    def _hand_changed(self) -> None:
        if self._open():
            self._show_hand()

    def _part_changed(self) -> None:
        if self._open():
            self._show()

    def _open(self) -> bool:
        """Whether this is the sheet that is seen; the others are shown anew when they are opened."""
        return self.workspace.pass_ is self.which

    def _show_hand(self) -> None:
        if self.extras is not None:
            self.extras.show_part()
        if self.fades is not None:
            self.fades.show_mark()

    def _show(self) -> None:
        part, kind = self.workspace.part, self.which.kind
        settings, default = part.settings(kind), role_default(kind, part.role)
        greyed = self.which.controls.greyed(settings)
        for name, slider in self.sliders.items():
            slider.show_value(getattr(settings, name), getattr(default, name))
            slider.setEnabled(name not in greyed)
        if self.which.controls.away(settings) != self._away:
            self._show_more(self.more.isChecked())
        count = len(self.workspace.selected_parts)
        self.about.setText(tr(f"for the {count} parts selected" if count > 1 else self.which.words.about(part)))
        parts = [p for p in self.workspace.session.parts if p.id in self.workspace.selected_parts]
        enable(self.reset, any(p.settings(k) != role_default(k, p.role) for p in parts for k in self.which.kinds))
        self.again.setVisible(any(p.stale for p in parts))
        if self.first_look.isVisibleTo(self) and any(mark.hand.decided for mark in part.of_kind(kind)):
            first_looks.learned(kind)
            self.first_look.hide()
        self._show_hand()
