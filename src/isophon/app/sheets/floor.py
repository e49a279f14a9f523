"""The Floor pass: gaps, and the noise under the voice."""

from __future__ import annotations

from operator import attrgetter

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import (
    QButtonGroup,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.passes import Controls, HandTools, Knob, Pass, SkylineView, TraceView, Words
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Extras
from isophon.app.sheets.floor_noise import FloorNoise
from isophon.app.sheets.gap_fades import GapFades
from isophon.app.translation import tr
from isophon.app.views.gate import draw_fades, draw_warnings
from isophon.app.views.ground import Ground
from isophon.app.views.keyboard import Choice
from isophon.app.views.label_room import draw_label, width_of
from isophon.app.views.made import make_column, make_row, switch
from isophon.core.marks import Mark
from isophon.core.passes.gap.ending import ending_of
from isophon.core.passes.gap.find import floor_in, measured
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.gap.pause import breaths_of
from isophon.core.passes.gap.settings import near_words
from isophon.core.session.model import Part
from isophon.core.takes.pictures import Axis

_GAPS = {"room tone": "filled with room tone", "turn down": "turned down", "silence": "silenced"}


class GapChoice(QWidget):
    """What is done with gaps."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.how = Choice()
        self.how.setAccessibleName(tr("What becomes of gaps"))
        for how, words in _GAPS.items():
            self.how.addItem(tr(f"gaps {words}"), how)
        self.how.activated.connect(lambda _: workspace.settings.set_of_kind("gap", "how", self.how.currentData()))
        column = make_column(self, around=(0, 0, 0, 4))
        column.addWidget(self.how)

    def show_part(self) -> None:
        """Show the selected part."""
        self.how.setCurrentIndex(self.how.findData(self.workspace.part.gap.how))


class FloorExtras(Extras):
    """The Floor has two sides: what lies under the voice, and what lies between the words."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.noise, self.gaps = FloorNoise(workspace), GapChoice(workspace)
        self._picture: QWidget | None = None
        self.how = self.gaps.how
        self.under, self.between = (switch(tr(text)) for text in ("noise", "gaps"))
        self.under.setToolTip("Low cut, hum and hiss: what lies under the voice all the time")
        self.between.setToolTip("What is done between the words")
        sides, both = QButtonGroup(self), QWidget()
        row = make_row(both, between=0)
        for button in (self.under, self.between):
            sides.addButton(button)
            row.addWidget(button)
        self.in_head = (both,)
        self.under.setChecked(True)
        self.between.toggled.connect(lambda _: self.knobs_turned.emit())
        column = make_column(self)
        column.addWidget(self.noise, 1)
        column.addWidget(self.gaps)

    @property
    def has_more(self) -> bool:
        return True

    @property
    def knobs_shown(self) -> bool:
        return self.between.isChecked()

    def show_part(self) -> None:
        self.noise.show_part()
        self.gaps.show_part()

    def show_beside(self, picture: QWidget) -> None:
        """The picture of the gaps, which belongs to their side alone."""
        self._picture = picture

    def show_more(self, on: bool) -> None:
        self.gaps.setVisible(self.knobs_shown)
        self.noise.setVisible(not self.knobs_shown)
        self.noise.show_more(on)
        if self._picture is not None:
            self._picture.setVisible(self.knobs_shown)


def _warning(workspace: Workspace, mark: Mark) -> str:
    reaches = mark.span[0] < mark.start - 0.005 or mark.span[1] > mark.end + 0.005
    if reaches or (mark.hand.drawn and workspace.sung_within(*mark.span) > 0.05):
        return "This gap reaches into the singing: listen for the word’s start and tail."
    return ""


def _more_words(workspace: Workspace, mark: GapMark) -> str:
    """The noise floor of a pause, and its breaths."""
    surveyed = workspace.take.surveyed
    floor = None if surveyed is None else floor_in(surveyed.survey, mark)
    here = "" if floor is None else f"floor here {theme.level(floor, 'LUFS')}"
    return " · ".join(filter(None, (_breath_words(workspace.part, mark), here)))


def _breath_words(part: Part, mark: GapMark) -> str:
    """The breaths in a pause, and what becomes of them."""
    inside = breaths_of(part).inside(mark)
    if not inside:
        return ""
    going, one = sum(breath.goes for breath in inside), len(inside) == 1
    who = "its breath" if one else f"{len(inside)} breaths"
    if going in (0, len(inside)):
        return f"{who} {'goes' if one else 'go'} too" if going else f"{who} {'stays' if one else 'stay'}"
    return f"{going} of {who} {'goes' if going == 1 else 'go'}"


def _draw_said(painter: QPainter, box: QRectF, words: str) -> None:
    """A bracket over the wave where a person said what is singing."""
    painter.setPen(QPen(theme.HAND_FLAG, 1.4))
    painter.drawPolyline([box.topLeft() + QPointF(0, 8), box.topLeft() + QPointF(0, 1), box.topRight() + QPointF(0, 1),
                          box.topRight() + QPointF(0, 8)])  # fmt: skip
    painter.setFont(theme.sans(theme.SMALL))
    wide = width_of(painter, words)
    label = QRectF(box.left() + 2, box.top() + 2, wide, painter.fontMetrics().height())
    if wide < box.width():
        draw_label(painter, label, words, theme.HAND_FLAG)


def _draw(painter: QPainter, ground: Ground) -> None:
    """The fades of gaps, the breaths in them, and where one comes close to a word."""
    part, (start, end) = ground.workspace.part, ground.view
    for breath in breaths_of(part).each:
        if breath.end > start and breath.start < end:
            left, right, y = ground.x_of(breath.start), ground.x_of(breath.end), ground.wave.bottom() - 14
            ink = theme.DONE if breath.goes else theme.SOFT_INK
            painter.setPen(QPen(ink, 1.5))
            painter.setBrush(ink if breath.goes else Qt.BrushStyle.NoBrush)
            painter.drawLine(QLineF(left, y + 8, right, y + 8))
            painter.drawPath(theme.breath_shape((left + right) / 2, y, 4.2))
    for said, words in ((part.gap.sung, "singing"), (part.gap.unsung, "not singing")):
        for first, last in said:
            if last > start and first < end:
                _draw_said(painter, QRectF(QPointF(ground.x_of(first), ground.wave.top()),
                                           QPointF(ground.x_of(last), ground.wave.bottom())), words)  # fmt: skip
    for mark in ground.workspace.marks:
        if part.change(mark) < 0 and mark.span[1] > start and mark.span[0] < end:
            near = near_words(mark, part.gap, part.source.duration)
            places = [ground.x_of(t) for t, is_near in zip(mark.span, near, strict=True) if is_near]
            draw_warnings(painter, ground.wave, places)
    draw_fades(painter, ground)


PASS = Pass(
    "gap",
    "Floor",
    theme.gap_shape,
    also=("rumble", "hum", "hiss"),
    words=Words(
        one="gap",
        many="gaps",
        first_look="Brackets over the map are dead air; red ones go. {pauses} plays the pauses alone, lifted.",
        over_what=" in dB over the noise floor",
        over="over the noise floor",
        gone=lambda part: "filled" if part.gap.how == "room tone" else "gone",
        more_words=_more_words,
        warning=_warning,
        letter=lambda mark: {0: "", 1: "breath"}.get(len(mark.breaths), f"{len(mark.breaths)} breaths"),
    ),
    controls=Controls(
        knobs=(
            Knob(
                "floor_db",
                "Act above the noise floor by",
                0.5,
                "dB",
                "Gaps in which nothing stands this far over the noise floor are left as they are",
            ),
            Knob(
                "sensitivity_db",
                "Singing counts from",
                0.5,
                "dB",
                "What stands this far over the noise floor counts as singing; higher: soft tails count as gaps",
            ),
            Knob("after_ms", "Keep after a word", 5, "ms", "The tail of a word that stays untouched"),
            Knob("before_ms", "Keep before a word", 5, "ms", "The soft start of a word that stays untouched"),
            Knob("down_db", "Turned down by", 1, "dB", "Where gaps are turned down, by how much", True),
            Knob("least_ms", "Shortest gap", 10, "ms", "Shorter gaps are left as they are", True),
            Knob("closes_ms", "Fade out", 1, "ms", "How long the gap takes to fade out after a word", True),
            Knob("opens_ms", "Fade in", 1, "ms", "How long the gap takes to fade in before the next word", True),
        ),
        greyed=lambda settings: () if settings.how == "turn down" else ("down_db",),
        setting_words={
            ("gap", "how"): "gaps",
            ("rumble", "on"): "low cut",
            ("rumble", "cut_hz"): "low cut at",
            ("rumble", "slope"): "low cut, dB an octave",
            ("hum", "on"): "hum",
            ("hiss", "on"): "hiss",
            ("hiss", "amount_db"): "hiss reduced by",
            ("hiss", "from_hz"): "hiss above",
            ("hiss", "top_db"): "top given back",
            ("hiss", "follow"): "hiss followed",
        },
        choices={("gap", "how"): _GAPS},
        extras=FloorExtras,
        picture=GapFades,
    ),
    skyline=SkylineView(
        bounds=(0.0, 18.0, 0.0, 60.0),
        ceilings=lambda part: [("floor_db", "level over the noise floor", part.gap.floor_db, True)],
        height=attrgetter("over_room_db"),
    ),
    trace=TraceView(
        axis=Axis(100.0, 16_000.0, 160, 0.02),
        draw=_draw,
        high=True,
        still=True,
    ),
    hand=HandTools(
        measure=lambda _read, survey, start, end: measured(survey, start, end),
        shaped="time",
        fades=lambda part: (part.gap.closes_ms, part.gap.opens_ms),
        ending=ending_of,
    ),
)
