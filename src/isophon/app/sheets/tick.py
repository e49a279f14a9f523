"""The Ticks sheet."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QVBoxLayout

from isophon.app import theme
from isophon.app.model.passes import Knob, Pass, over_the_voice
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Extras
from isophon.core.marks import Mark
from isophon.core.passes.tick.find import drawn
from isophon.core.passes.tick.settings import DAMAGE
from isophon.core.takes.pictures import Axis


class TickExtras(Extras):
    """Whether damage is mended too, and how much of it there is."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.mend = QCheckBox("")
        self.mend.clicked.connect(lambda on: workspace.set_of_kind("tick", "mend", on))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.mend)

    def show_part(self) -> None:
        """Show the part in hand."""
        part = self.workspace.part
        counts = [sum(m.sound == sound for m in part.of_kind("tick")) for sound in DAMAGE]
        told = [
            f"{n} {one}{'s' if n > 1 else ''}" for n, one in zip(counts, ("clipped place", "dropout"), strict=True) if n
        ]
        self.mend.setText(f"mend {' and '.join(told)}" if told else "no clipped peaks, no dropouts")
        self.mend.setEnabled(bool(told))
        self.mend.setChecked(part.tick.mend)


def _told(mark: Mark, change: float) -> str:
    return "repaired" if change < 0 else "left"


def _warning(workspace: Workspace, mark: Mark) -> str:
    if mark.sound in DAMAGE and workspace.part.change(mark) == 0:
        return "The recording is damaged here. It is repaired on request: in the sheet, or ↓ for this one."
    return ""


PASS = Pass(
    "tick", "Ticks", "tick", "ticks", " in dB over the voice around them", theme.tick_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", 0.5, "dB",
             "Ticks that stand out less than this under the voice around them are left"),
        Knob("sure", "Act when this sure", 0.05, "%", "Marks that are less sure are left as sung"),
    ),
    (-48.0, 0.0, -80.0, 30.0), drawn, ceilings=over_the_voice("tick"), axis=Axis(1_000.0, 16_000.0, 160, 0.003),
    extras=TickExtras, words={("tick", "ceiling_db"): "ceiling", ("tick", "mend"): "mend damage"},
    waves=True, around_s=0.006, box=lambda mark, axis: (0.0, None), told=_told, warning=_warning,
    more_told=lambda mark: mark.sound if mark.sound in DAMAGE else "", gone=lambda part: "repaired",
)  # fmt: skip
