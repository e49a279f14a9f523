"""The Bands sheet: what stands out of the singer's spectrum, over frequency; bells and shelves by hand."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QCheckBox, QPushButton

from isophon.app import theme
from isophon.app.model.passes import SURE, Controls, HandTools, Knob, LensView, Pass, SkylineView, TraceView, Words
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.band_spectrum import FineSpectrum
from isophon.app.sheets.extras import Extras
from isophon.app.translation import tr, tr_all
from isophon.app.views.frequencies import band_of
from isophon.app.views.ground import Ground
from isophon.app.views.keyboard import Choice, Field
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row
from isophon.core.audio.bell import SHAPES
from isophon.core.marks import Mark
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import USUAL_Q, centre_of, edges_of, name_of
from isophon.core.passes.band.treat import response_of
from isophon.core.session import edits
from isophon.core.session.model import Part
from isophon.core.survey import VOICED
from isophon.core.takes.pictures import Axis

_DULL_DB, _DULL_HZ = 3.0, (200.0, 6_000.0)
_MADE_DB = -3.0
_BY = {"always": "cut always", "level": "cut by level"}


class BandExtras(Extras):
    """The selected band in numbers, and giving all bands to other parts."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.shape = Choice()
        self.shape.addItems(tr_all(list(SHAPES)))
        self.shape.setAccessibleName(tr("Shape"))
        self.shape.setToolTip("The shape of the selected band’s filter")
        self.shape.activated.connect(self._set_shape)
        self.fields = {name: Field() for name in ("frequency", "Q", "change")}
        row = make_row(between=4)
        self.shape.setMaximumWidth(theme.u(70))
        row.addWidget(self.shape)
        for name, unit in (("frequency", "Hz"), ("Q", "Q"), ("change", "dB")):
            field = self.fields[name]
            field.setMinimumWidth(theme.u(48 if name == "frequency" else 42))  # "12.8" fits
            field.setMaximumWidth(theme.u(58 if name == "frequency" else 54))
            field.setAccessibleName(tr(f"{name} of the selected band"))
            field.setToolTip(f"The {name} of the selected band; type a number")
            field.editingFinished.connect(lambda name=name: self._typed(name))
            row.addWidget(field)
            row.addWidget(Label(unit, objectName="soft"))
        row.addStretch()
        self.by = Choice()
        for by, words in _BY.items():
            self.by.addItem(tr(words), by)
        self.by.setAccessibleName(tr("When the selected band is cut"))
        self.by.setToolTip("Always, or only while it stands over what lies beside it")
        self.by.activated.connect(self._set_by)
        self.loud = QCheckBox(tr("cut bands of loud words"))
        self.loud.setToolTip("Bands that stand out only in loud words are cut while they do")
        self.loud.clicked.connect(lambda on: workspace.settings.set_of_kind("band", "by_level", on))
        below = make_row()
        below.addWidget(self.by)
        self.give = QPushButton(tr("To the others"))
        self.give.setToolTip("Give these bands to the other selected parts, else to all parts of the same singer")
        self.give.clicked.connect(self._give)
        self.words = Label("", objectName="soft", wordWrap=True)
        below.addStretch()
        below.addWidget(self.give, 0, Qt.AlignmentFlag.AlignRight)
        column = make_column(self, around=(0, 0, 0, 4))
        column.addLayout(row)
        column.addLayout(below)
        column.addWidget(self.loud)
        column.addWidget(self.words)

    def show_part(self) -> None:
        """Show the selected band, and what the cuts do to the voice."""
        mark, part = self.workspace.mark, self.workspace.part
        mine = mark if isinstance(mark, BandMark) else None
        for widget in (self.shape, self.by, *self.fields.values()):
            widget.setEnabled(mine is not None)
        self.loud.setChecked(part.band.by_level)
        self.loud.setEnabled(any(m.is_by_level and not m.hand.drawn for m in part.of(BandMark)))
        self.give.setEnabled(bool(part.of_kind("band")) and bool(self._others()))
        self.words.setText(tr(self._warning(part)))
        self.words.setVisible(bool(self.words.text()))
        if mine is None:
            for field in self.fields.values():
                field.clear()
            return
        hz, q = centre_of(mine)
        self.shape.setCurrentText(mine.shape if mine.shape in SHAPES else SHAPES[0])
        self.shape.setEnabled(mine.hand.drawn and not mine.is_by_level)
        self.by.setCurrentIndex(self.by.findData(mine.by))
        self.by.setEnabled(mine.hand.drawn)
        for name, text in (("frequency", f"{hz:.0f}"), ("Q", f"{q:.1f}"), ("change", theme.signed(part.change(mine)))):
            if not self.fields[name].hasFocus():
                self.fields[name].setText(tr(text))

    def _typed(self, name: str) -> None:
        mark = self.workspace.mark
        if mark is None or not self.fields[name].isModified():
            return
        self.fields[name].setModified(False)
        try:
            value = float(self.fields[name].text().replace("−", "-").replace(",", "."))
        except ValueError:
            return
        if not math.isfinite(value):
            return
        hz, q = centre_of(mark)
        if name == "change":
            self.workspace.commands.set_changes({mark.id: value})
        elif name == "Q":
            self.workspace.commands.set_band(mark.id, *edges_of(hz, min(40.0, max(0.3, value))))
        else:
            self.workspace.commands.set_band(mark.id, *edges_of(min(20_000.0, max(20.0, value)), q))

    def _set_shape(self) -> None:
        mark, part = self.workspace.mark, self.workspace.part
        if mark is not None:
            shape = list(SHAPES)[self.shape.currentIndex()]
            self.workspace.edit(f"{shape} · {part.name}", lambda s: edits.set_detail(s, part.id, mark.id, shape=shape))

    def _set_by(self) -> None:
        mark, part, by = self.workspace.mark, self.workspace.part, self.by.currentData()
        if mark is not None:
            words = f"{_BY[by]} · {part.name}"
            self.workspace.edit(words, lambda s: edits.set_detail(s, part.id, mark.id, by=by))

    def _others(self) -> list[str]:
        workspace, part = self.workspace, self.workspace.part
        in_hand = [p for p in workspace.selected_parts if p != part.id]
        same = [p.id for p in workspace.session.parts if p.id != part.id and part.singer and p.singer == part.singer]
        return in_hand or same

    def _give(self) -> None:
        part, others = self.workspace.part, self._others()
        self.workspace.edit(f"bands from {part.name}", lambda s: edits.give_marks(s, part.id, "band", others))

    def _warning(self, part: Part) -> str:
        """A warning about the sum of the cuts."""
        surveyed = self.workspace.take.surveyed
        if surveyed is None or not part.of_kind("band"):
            return ""
        survey = surveyed.survey
        centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
        inside = (centres >= _DULL_HZ[0]) & (centres <= _DULL_HZ[1])
        sung = survey.k_bands[survey.state == VOICED][:, inside].mean(axis=0)
        after = sung * 10 ** (response_of(part, centres[inside]) / 10)
        lost = 10 * np.log10((sung.sum() + 1e-20) / (after.sum() + 1e-20))
        return f"The cuts take {lost:.1f} dB off the voice: it may sound thin or dull." if lost > _DULL_DB else ""


def _made(part: Part, hz: float) -> Mark:
    low, high = edges_of(hz, USUAL_Q)
    return BandMark("", 0.0, part.source.duration, 0.0, -_MADE_DB, round(low, 1), round(high, 1), 1.0, shape=SHAPES[0])


def _more_words(_workspace: Workspace, mark: BandMark) -> str:
    hz, q = centre_of(mark)
    return f"{hz:.0f} Hz, Q {q:.1f}, {name_of(hz)}" + (", by level" if mark.is_by_level else "")


def _same_band(part: Part, mark: Mark) -> tuple[Mark, ...]:
    """All words of a band by level; none of one that is cut always."""
    if not isinstance(mark, BandMark) or not mark.is_by_level:
        return ()
    same = tuple(one for one in part.of(BandMark) if one.is_by_level and centre_of(one) == centre_of(mark))
    return same if len(same) > 1 else ()


def _each(part: Part) -> tuple[Mark, ...]:
    """One mark of each band: of one by level the word in which it stands out most of those in which it acts."""
    by_band: dict[tuple[tuple[float, float], str], Mark] = {}
    for mark in sorted(part.of(BandMark), key=lambda m: (bool(part.change(m)), m.standout_db)):
        by_band[centre_of(mark), mark.id if not mark.is_by_level else "level"] = mark
    return tuple(by_band.values())


def _draw(painter: QPainter, ground: Ground) -> None:
    """Bands across the map."""
    workspace, box = ground.workspace, ground.map
    axis, part, in_hand = workspace.pass_.trace.axis, workspace.part, set(workspace.selected_marks)
    for mark in part.of(BandMark):
        if mark.is_by_level and not part.change(mark) and mark.id not in in_hand:
            continue  # it is not touched in this word
        low, high = band_of(mark)
        place = axis.place((low * high) ** 0.5)
        if 0 <= place <= 1:
            ink = theme.OVER if part.change(mark) else theme.SOFT_INK
            painter.setPen(QPen(theme.SELECTED if mark.id in in_hand else ink, 1.5, Qt.PenStyle.DashLine))
            y = box.top() + place * box.height()
            painter.drawLine(QPointF(ground.x_of(mark.span[0]), y), QPointF(ground.x_of(mark.span[1]), y))


PASS = Pass(
    "band",
    "Bands",
    theme.band_shape,
    words=Words(
        one="band",
        many="bands",
        first_look="Bars over frequency are rings and mud. {band_held} held plays the selected one alone.",
        over_what=" out of the singer’s own spectrum, over frequency",
        over="over the spectrum",
        in_time=("this band in each word, in dB over what is usual of it", "over its usual"),
        gone=lambda _part: "",
        more_words=_more_words,
        empty=lambda _part: "No band stands out of this voice. Double-click to make one by hand.",
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the spectrum",
                0.5,
                "dB",
                "Bands that stand out more than this of the singer’s own spectrum come down to it",
            ),
            Knob("limit_db", "At most", 0.5, "dB", "No cut is deeper than this"),
            Knob("ratio", "By level: ratio", 0.5, ":1", "How much of what stands over is cut, of bands by level", True),
            Knob("attack_ms", "By level: attack", 0.5, "ms", "How fast such a cut begins", True),
            Knob("release_ms", "By level: release", 5, "ms", "How slowly it ends", True),
            SURE,
        ),
        setting_words={("band", "ceiling_db"): "ceiling", ("band", "by_level"): "bands of loud words"},
        extras=BandExtras,
        picture=FineSpectrum,
    ),
    skyline=SkylineView(
        bounds=(-12.0, 12.0, -24.0, 24.0),
        ceilings=lambda part: [("ceiling_db", "ceiling over the spectrum", part.band.ceiling_db, True)],
        over_frequency=True,
        in_time=_same_band,
        each=_each,
    ),
    lens=LensView(box=lambda mark, _axis: band_of(mark)),
    trace=TraceView(draw=_draw, draws_in_hand=True, axis=Axis(60.0, 8_000.0)),
    hand=HandTools(handles=(), response=response_of, made=_made, made_db=_MADE_DB),
)
