"""The start page: open, go on where work was left, the demo."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent, QShowEvent
from PySide6.QtWidgets import QFrame, QLabel, QProgressBar, QPushButton, QScrollArea, QWidget

from isophon.app import theme
from isophon.app.model.keys import KeyShortcut, key_tip
from isophon.app.translation import tr
from isophon.app.views.keyboard import workable
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named

_PICTURES = Path(__file__).parents[1] / "assets" / "start"
_WIDE, _BETWEEN, _PICTURE_WIDE, _PICTURE_HIGH = 440, 56, 460, 190


class StartPage(QWidget):
    """What the window shows before a session is open, and while one is being opened."""

    open_asked = Signal()
    demo_asked = Signal()
    tour_asked = Signal()
    path_chosen = Signal(object)
    recover_asked = Signal(object)
    cancel_asked = Signal()
    new_asked = Signal()
    keys_asked = Signal()
    help_asked = Signal()
    preferences_asked = Signal()
    quit_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.open = named(QPushButton(tr("Open recordings or a session…")), "main")
        self.open.clicked.connect(self.open_asked)
        self.demo = QPushButton(tr("Open the demo: Glasshouse Starlings"))
        self.demo.clicked.connect(self.demo_asked)
        self.tour = QPushButton(tr("Take the tour: eight steps in the demo"))
        self.tour.clicked.connect(self.tour_asked)
        self.new = QPushButton(tr("New session"))
        self.new.clicked.connect(self.new_asked)
        key_tip(self.open, "Choose recordings to clean, or a session to go on with ({open})")
        key_tip(self.new, "Begin an empty session, to be filled with recordings ({new})")
        self.demo.setToolTip("A made song with every blemish to try things on; nothing of it can be spoiled")
        key_tip(self.tour, "See the work once from beginning to end; it can be left at any step ({give_up})")
        self.work = Label("")
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.cancel = QPushButton(tr("Cancel"))
        self.cancel.clicked.connect(self.cancel_asked)
        self.lists = make_column(between=8)
        column = make_column(between=12)
        column.addWidget(_Emblem(), 0, Qt.AlignmentFlag.AlignHCenter)
        title = Label("Isophon", objectName="title")
        title.setFont(theme.sans(28, theme.QFont.Weight.Bold))
        title.setStyleSheet("font-size: 21pt")
        column.addWidget(title, 0, Qt.AlignmentFlag.AlignHCenter)
        about = Label(
            tr("Every blemish measured against the voice around it,\nand brought down just enough."),
            objectName="soft", wordWrap=True, alignment=Qt.AlignmentFlag.AlignHCenter,
        )  # fmt: skip
        column.addWidget(about)
        column.addSpacing(8)
        column.addWidget(self.open)
        column.addWidget(self.new)
        column.addWidget(self.demo)
        column.addWidget(self.tour)
        hint = Label(
            tr("or drop recordings, or a folder of them, anywhere on this window (WAV, AIFF, FLAC, Ogg; MP3 as music)"),
            objectName="soft", wordWrap=True, alignment=Qt.AlignmentFlag.AlignHCenter,
        )  # fmt: skip
        column.addWidget(hint)
        column.addSpacing(8)
        column.addLayout(self.lists)
        more = make_row(between=0)
        more.addStretch(1)
        for words, tip, signal in (
            ("Help", "Read the manual ({help})", self.help_asked),
            ("Preferences", "Look, type, keys, folders and what is kept ({preferences})", self.preferences_asked),
        ):
            button = named(QPushButton(tr(words)), "plain")
            key_tip(button, tip)
            button.clicked.connect(signal)
            more.addWidget(button)
        more.addStretch(1)
        column.addLayout(more)
        column.addWidget(self.work)
        column.addWidget(self.bar)
        column.addWidget(self.cancel, 0, Qt.AlignmentFlag.AlignRight)
        middle = QFrame()
        middle.setLayout(column)
        middle.setFixedWidth(theme.u(_WIDE))
        page = named(QWidget(), "page")
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(page)
        page_column = make_column(self)
        page_column.addWidget(scroll)
        outer = make_column(page)
        row = make_row()
        outer.addStretch(2)
        outer.addLayout(row)
        outer.addStretch(3)
        row.addStretch()
        row.addWidget(middle)
        row.addSpacing(theme.u(_BETWEEN))
        self.picture = _BeforeAndAfter()
        row.addWidget(self.picture)
        row.addStretch()
        for action, signal in (
            ("open", self.open_asked), ("new", self.new_asked), ("help", self.help_asked), ("keys", self.keys_asked),
            ("preferences", self.preferences_asked), ("quit", self.quit_asked),
        ):  # fmt: skip
            KeyShortcut(self, action).activated.connect(signal)
        workable(self)
        self.setFocusProxy(self.open)
        self.show_work("", None)

    def take_focus(self) -> None:
        """Let the keyboard begin here."""
        self.open.setFocus()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.picture.show_look()
        self.take_focus()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.picture.setVisible(self.width() >= theme.u(_WIDE + _BETWEEN + _PICTURE_WIDE + 24))

    def show_work(self, words: str, fraction: float | None) -> None:
        """Show long work and how far it is; None: nothing is under way."""
        busy = fraction is not None
        for widget in (self.work, self.bar, self.cancel):
            widget.setVisible(busy)
        for widget in (self.open, self.new, self.demo, self.tour):
            widget.setEnabled(not busy)
        if busy and self.isVisible():
            self.cancel.setFocus()
        self.work.setText(tr(words))
        self.bar.setValue(round(1000 * (fraction or 0)))

    def show_lists(self, unsaved: list[tuple[str, Path]], recent: list[tuple[Path, str]]) -> None:
        """Offer what was not saved, and what was open lately with how far the work was."""
        while self.lists.count():
            item = self.lists.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                widget.deleteLater()
        if unsaved:
            self.lists.addWidget(Label(tr("Go on where work was left, not yet saved"), objectName="head"))
        for name, path in unsaved[:3]:
            self._add_row(name, "everything up to the last step", partial(self.recover_asked.emit, path))
        if recent:
            self.lists.addWidget(Label(tr("Recent"), objectName="head"))
        for path, about in recent[:4]:
            where = f"{about} · {path.parent}" if about else str(path.parent)
            self._add_row(path.stem, where, partial(self.path_chosen.emit, path))
        workable(self)

    def _add_row(self, name: str, where: str, chosen: Callable[[], object]) -> None:
        metrics = self.fontMetrics()
        shown = f"{name}\n{metrics.elidedText(tr(where), Qt.TextElideMode.ElideRight, theme.u(_WIDE - 30))}"
        button = named(QPushButton(shown), "row")
        button.setToolTip(where)
        button.clicked.connect(lambda: chosen())
        self.lists.addWidget(button)


class _BeforeAndAfter(QFrame):
    """What Isophon does, in two pictures of one phrase of the demo."""

    def __init__(self) -> None:
        super().__init__()
        self._pictures: list[tuple[str, QLabel]] = []
        self._shown: tuple[str, float] | None = None
        column = make_column(self, between=6)
        for name, words in (("as-sung", "As sung"), ("cleaned", "Ink is what stays, red is what the cleaning removes")):
            picture = QLabel(textFormat=Qt.TextFormat.PlainText)
            picture.setAccessibleName(tr(words))
            column.addWidget(picture)
            column.addWidget(Label(tr(words), objectName="soft"))
            column.addSpacing(10)
            self._pictures.append((name, picture))

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.PaletteChange and self.isVisible():
            self.show_look()

    def show_look(self) -> None:
        """The pictures on paper or in dusk, as the window is."""
        look, ratio = "dusk" if theme.is_dusk() else "paper", self.devicePixelRatioF()
        if self._shown == (look, ratio):
            return
        self._shown = look, ratio
        for name, picture in self._pictures:
            image = QPixmap(str(_PICTURES / f"{name}-{look}.png"))
            size = QSize(theme.u(_PICTURE_WIDE), theme.u(_PICTURE_HIGH)) * ratio
            scaled = image.scaled(
                size, Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            scaled.setDevicePixelRatio(ratio)
            picture.setPixmap(scaled)


class _Emblem(QWidget):
    """A hill in contour lines."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(150, 92)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for i in range(6):
            share = 1 - 0.16 * i
            painter.setPen(QPen(theme.OVER if i == 5 else theme.INK if i % 2 else theme.CONTOUR, 1.6))
            width, height = 144 * share, 86 * share
            painter.drawEllipse(QRectF(75 - width / 2 + 3 * i, 46 - height / 2 - 2 * i, width, height))
