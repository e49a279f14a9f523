"""The Spots sheet: boxes drawn over anything, and words that stand out of their phrase."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QPushButton

from isophon.app import theme
from isophon.app.model.passes import Controls, HandTools, Knob, LensView, Pass, SkylineView, TraceView, Words
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Extras, alike_slider
from isophon.app.sheets.spot_curve import SpotCurve
from isophon.app.translation import tr
from isophon.app.views.keyboard import Field
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row
from isophon.core.marks import Mark
from isophon.core.passes.spot.find import drawn
from isophon.core.passes.spot.settings import band_of
from isophon.core.session import edits
from isophon.core.takes.pictures import Axis

_AXIS = Axis(60.0, 16_000.0)
_HIGHEST_HZ = 24_000


class SpotExtras(Extras):
    """Whether words come down by themselves; a curve inside the selected box; the same spots elsewhere; alike ones."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.on = QCheckBox(tr("bring loud words down"))
        self.on.setToolTip("Words that stand out of their phrase by more than the ceiling come down to it")
        self.on.clicked.connect(lambda on: workspace.settings.set_of_kind("spot", "on", on))
        self.in_head = (self.on,)
        self.curve = Field(placeholderText="200 -3, 500 -6, 2000 0")
        self.curve.setAccessibleName(tr("Curve inside the box: Hz and dB, several points"))
        self.curve.setToolTip("Added to the change inside the selected box: frequency in Hz and dB, point by point")
        self.curve.editingFinished.connect(self._typed)
        self.give = QPushButton(tr("To the others"))
        self.give.setToolTip("The same spots in the other parts that are selected, else in all of the stack")
        self.give.clicked.connect(self._give)
        self.alike = alike_slider(workspace)
        row = make_row()
        row.addWidget(Label(tr("Curve"), objectName="soft"))
        row.addWidget(self.curve, 1)
        row.addWidget(self.give, 0, Qt.AlignmentFlag.AlignRight)
        column = make_column(self)
        column.addLayout(row)
        column.addWidget(self.alike)

    def show_part(self) -> None:
        """Show the part and the selected spot."""
        mark = self.workspace.mark
        mine = mark if mark is not None and mark.kind == "spot" else None
        self.on.setChecked(self.workspace.part.spot.on)
        self.curve.setEnabled(mine is not None)
        self.give.setEnabled(any(m.hand.any for m in self.workspace.marks_selected()))
        self.alike.setEnabled(mine is not None)
        if len(self.workspace.selected_marks) < 2:
            self.alike.show_value(0)
        if not self.curve.hasFocus():
            self._show_curve(mine.hand.curve if mine else ())

    def _typed(self) -> None:
        if self.workspace.mark is None or not self.curve.isModified():
            return
        self.curve.setModified(False)
        points, left_out = [], []
        for point in filter(str.strip, self.curve.text().split(",")):
            try:
                hz, db = (float(word) for word in point.replace("−", "-").split())
            except ValueError:
                hz = db = 0.0
            if 0 < hz <= _HIGHEST_HZ and -36 <= db <= 12:
                points.append((hz, db))
            else:
                left_out.append(point.strip())
        self.workspace.commands.set_curve(tuple(points))
        self._show_curve(points)
        if left_out:
            self.workspace.notice.emit(f"Left out of the curve: {', '.join(left_out)}. A point is a frequency up to "
                                     f"{_HIGHEST_HZ} Hz and a change from −36 to +12 dB.")  # fmt: skip

    def _show_curve(self, points: Sequence[tuple[float, float]]) -> None:
        self.curve.setText(", ".join(f"{hz:g} {theme.signed(db)}" for hz, db in points))

    def _give(self) -> None:
        workspace, part = self.workspace, self.workspace.part
        others = [p for p in workspace.selected_parts if p != part.id]
        others = others or [p.id for p in workspace.session.parts if p.id != part.id and p.role != "lead"]
        ids = workspace.selected_marks
        workspace.edit(f"spots from {part.name}", lambda s: edits.copy_marks(s, part.id, ids, others))


def _more_words(_workspace: Workspace, mark: Mark) -> str:
    band = band_of(mark)
    return "the whole band" if band is None else f"{band[0]:.0f} to {band[1]:.0f} Hz"


PASS = Pass(
    "spot",
    "Spots",
    theme.spot_shape,
    words=Words(
        one="spot",
        many="spots",
        first_look="Press {draw_box} and drag a box over what is to go; drag the top of its bar to set by how much.",
        over_what=", each word in dB over its phrase",
        over="over the phrase",
        gone=lambda _part: "",
        more_words=_more_words,
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the phrase",
                0.5,
                "dB",
                "Words that stand out more than this come down to it, where that is switched on",
            ),
            Knob("limit_db", "At most", 0.5, "dB", "No word comes down by more than this by itself"),
            Knob("edge_ms", "Fades", 1, "ms", "How long a change takes to fade in and out, outside of its box", True),
        ),
        greyed=lambda settings: () if settings.on else ("limit_db",),
        setting_words={("spot", "ceiling_db"): "ceiling", ("spot", "on"): "bring loud words down"},
        extras=SpotExtras,
        picture=SpotCurve,
    ),
    skyline=SkylineView(
        bounds=(-12.0, 12.0, -36.0, 24.0),
        ceilings=lambda part: [("ceiling_db", "ceiling over the phrase", part.spot.ceiling_db, part.spot.on)],
    ),
    lens=LensView(box=lambda mark, axis: band_of(mark) or (axis.low, None), blends=True),
    trace=TraceView(axis=_AXIS),
    hand=HandTools(
        measure=drawn,
        handles=("start", "end", "low", "high"),
        boxes=True,
        shaped="frequency",
        fades=lambda part: (part.spot.edge_ms, part.spot.edge_ms),
    ),
)
