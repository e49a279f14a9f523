"""The Esses sheet."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QWidget

from isophon.app import theme
from isophon.app.model.passes import SURE, Ceiling, Knob, Pass
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import AlikeExtras
from isophon.app.views.keyboard import Choice
from isophon.core.marks import Mark
from isophon.core.passes.esses.find import measure
from isophon.core.passes.esses.settings import ceiling_over_voice
from isophon.core.passes.kind import Read
from isophon.core.session.model import Part
from isophon.core.survey import Survey

_LISP_UNDER_VOICE_DB = -20.0
LETTERS = {"s": "S", "sh": "Sh", "t": "T", "f": "F"}


class Curve(QWidget):
    """The gain over frequency of the mark in hand."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.setMinimumHeight(46)
        self.setAccessibleName("What comes down, over frequency")
        for changed in (workspace.part_changed, workspace.hand_changed, workspace.take_changed):
            changed.connect(self.update)

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 8, -0.5, -2)
        painter.setPen(QPen(theme.RULE, 1))
        painter.setBrush(theme.PAPER)
        painter.drawRect(box)
        mark = self.workspace.mark
        change = self.workspace.part.change(mark) if mark else 0.0
        low, high = mark.band if mark else (4_000.0, None)
        freqs = np.geomspace(500, 20_000, 160)
        inside = 1 / (1 + (low / freqs) ** 14) * (1 if high is None else 1 / (1 + (freqs / high) ** 14))
        gain = 20 * np.log10(np.maximum(1e-3, 1 + (10 ** (change / 20) - 1) * inside))
        x = box.left() + np.log(freqs / 500) / np.log(40) * box.width()
        depth = box.height() - 26
        y = box.top() + 7 - gain / 12 * depth
        painter.setClipRect(box)
        painter.setPen(QPen(theme.OVER if change < 0 else theme.SOFT_INK, 2))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        painter.setPen(theme.SOFT_INK)
        painter.setFont(theme.sans(12))
        if mark is None:
            text = "Take a mark in hand to see what comes down."
        elif change == 0:
            text = "This mark stays as sung."
        else:
            top = "up" if high is None else f"to {high / 1000:.1f} kHz"
            text = f"{theme.signed(change)} dB from {low / 1000:.1f} kHz {top}"
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
        painter.drawText(box.adjusted(8, 0, -8, -3), flags, text)


class EssExtras(AlikeExtras):
    """What brings esses down, and what the lead's esses make of a stack part's."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.by, self.stack = Choice(), Choice()
        for choice, name, words in ((self.by, "by", _BY), (self.stack, "stack", _STACK)):
            for value, text in words.items():
                choice.addItem(text, value)
            choice.activated.connect(lambda _, c=choice, n=name: workspace.set_of_kind("ess", n, c.currentData()))
        self.by.setAccessibleName("What brings esses down")
        self.stack.setAccessibleName("Where an ess meets one of the lead’s")
        row = QHBoxLayout()
        row.addWidget(self.by, 1)
        row.addWidget(self.stack, 1)
        self.layout().insertLayout(0, row)

    def show_part(self) -> None:
        """Show the part in hand."""
        super().show_part()
        part = self.workspace.part
        self.by.setCurrentIndex(list(_BY).index(part.ess.by))
        self.stack.setCurrentIndex(list(_STACK).index(part.ess.stack))
        self.stack.setEnabled(part.role != "lead")


_BY = {"ceiling": "by the ceiling", "rule": "by the rule", "both": "by both"}
_STACK = {"own": "judged alone", "under": "under the lead’s", "drop": "where the lead has one: gone"}


_WORDS = {("ess", "ceiling_db"): "ceiling", ("ess", "by"): "esses by", ("ess", "stack"): "with the lead’s esses"}


def _greyed(settings) -> tuple[str, ...]:
    ceilings = ("usual_db", "limit_db") if settings.by == "rule" else ()
    rule = tuple(k.name for k in _RULE) if settings.by == "ceiling" else ()
    return (*ceilings, *rule, *(() if settings.stack == "under" else ("under_db",)),
            *(() if settings.air_db else ("air_hz",)))  # fmt: skip


_RULE = (
    Knob("rule_over_db", "Rule: over the voice", 0.5, "dB", "Its threshold: the level in its band over the voice level",
         True),
    Knob("rule_ratio", "Rule: ratio", 0.5, ": 1", "How much of what is over stays; 100 acts as a limit", True),
    Knob("rule_knee_db", "Rule: knee", 0.5, "dB", "How softly it begins around the threshold", True),
    Knob("rule_range_db", "Rule: at most", 0.5, "dB", "The most it takes off", True),
    Knob("rule_attack_ms", "Rule: attack", 0.1, "ms", "How fast it comes down", True),
    Knob("rule_release_ms", "Rule: release", 1, "ms", "How fast it lets go", True),
    Knob("rule_hold_ms", "Rule: hold", 1, "ms", "How long it waits before it lets go", True),
    Knob("rule_ahead_ms", "Rule: look ahead", 0.5, "ms", "How much earlier it comes than the sound", True),
    Knob("rule_low_hz", "Rule: hears from", 100, "Hz", "The lower edge of the band that it hears and turns down", True),
)  # fmt: skip


def _ceilings(part: Part) -> list[Ceiling]:
    over_voice, usual = part.ess.ceiling_db, part.context("ess")
    if usual is None:
        return [("ceiling_db", "ceiling over the voice", over_voice, True)]
    over_usual = usual + part.ess.usual_db
    lowest = ceiling_over_voice(part.ess, usual)
    return [
        ("ceiling_db", "ceiling over the voice", over_voice, lowest == over_voice),
        ("usual_db", "over the singer’s usual", over_usual, lowest != over_voice),
    ]


def _drawn(read: Read, survey: Survey, start: float, end: float) -> Mark:
    level, standout, low, high, sound = measure(survey, start, end)
    return Mark("", "ess", start, end, level, standout, low, high, 1.0, sound)


def _about(part: Part) -> str:
    usual = part.context("ess")
    return "" if usual is None else f"usual ess {theme.signed(usual)} dB over the voice"


def _warning(workspace: Workspace, mark: Mark) -> str:
    change = workspace.part.change(mark)
    left = mark.standout_db + change
    if change < 0 and left < _LISP_UNDER_VOICE_DB:
        return f"A lisp is likely: this ess would be {theme.signed(left)} dB over the voice."
    return ""


def _more_told(mark: Mark) -> str:
    letter = LETTERS.get(mark.sound, "")
    return " ".join(filter(None, (letter and f"{letter},", f"from {mark.band[0] / 1000:.1f} kHz")))


PASS = Pass(
    "ess", "Esses", "ess", "esses", " in dB over the voice around them", theme.ess_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", 0.5, "dB",
             "What stands out more than this over the voice around it comes down to it"),
        Knob("usual_db", "Over the singer’s usual", 0.5, "dB",
             "What stands out more than this over the singer’s own usual ess comes down too"),
        Knob("limit_db", "Never more than", 0.5, "dB", "No change is deeper than this"),
        Knob("edge_ms", "Edges", 1, "ms", "How long the change takes to come and go", True),
        Knob("under_db", "Under the lead’s ess", 0.5, "dB", "How far under it an ess that meets it comes", True),
        Knob("air_db", "Air", 0.5, "dB", "Top given back after the taming; the esses get none of it", True),
        Knob("air_hz", "Air from", 100, "Hz", "Where the air begins", True),
        *_RULE,
        SURE,
    ),
    (-18.0, 6.0, -36.0, 30.0), _drawn, ceilings=_ceilings, extras=EssExtras, picture=Curve, greyed=_greyed,
    about=_about,
    words=_WORDS, handles=("start", "end", "low", "high"), blends=True,
    told=lambda mark, change: "", gone=lambda part: "",
    more_told=_more_told, warning=_warning, shaped=True, letter=lambda mark: LETTERS.get(mark.sound, ""),
)  # fmt: skip
