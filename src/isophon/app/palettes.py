"""The inks of paper and of dusk. The colours are changed in place, so that whoever holds one has the one in force."""

from __future__ import annotations

from PySide6.QtGui import QColor

_FAINT = 70  # of 255: what was over the ceiling and has come down
_PAPER = {
    "PAPER": "#F6F2E9", "PANEL": "#EFE9DB", "RULE": "#DAD1BE", "CONTOUR": "#C3B79C", "INK": "#22303A",
    "SOFT_INK": "#55626B", "SELECTED": "#1E5E8A", "OVER": "#B93C26", "DONE": "#1F7468", "ADDED": "#6A4A86",
    "HAND_FLAG": "#8A5A00",
}  # fmt: skip
_DUSK = {
    "PAPER": "#1C2128", "PANEL": "#252B33", "RULE": "#39424C", "CONTOUR": "#6B757F", "INK": "#ECE5D6",
    "SOFT_INK": "#AEB5B9", "SELECTED": "#85BCEB", "OVER": "#F47C5C", "DONE": "#5CBBA8", "ADDED": "#C2A3DF",
    "HAND_FLAG": "#E0AE52",
}  # fmt: skip

# Where the desktop asks for high contrast: 7:1 for text, 4.5:1 for lines.
_PAPER_CLEAR = _PAPER | {
    "PAPER": "#FFFFFF", "PANEL": "#F4F2EC", "RULE": "#8A8578", "CONTOUR": "#6A665C", "INK": "#10181E",
    "SOFT_INK": "#37434B", "SELECTED": "#0E4469", "OVER": "#8C2412", "DONE": "#0E5047", "ADDED": "#4F3268",
    "HAND_FLAG": "#633F00",
}  # fmt: skip
_DUSK_CLEAR = _DUSK | {
    "PAPER": "#0B0E12", "PANEL": "#15191F", "RULE": "#78838E", "CONTOUR": "#98A2AB", "INK": "#FBF7EE",
    "SOFT_INK": "#D3D8DB", "SELECTED": "#A9D2F6", "OVER": "#FF9C81", "DONE": "#86DBCA", "ADDED": "#D9C2EF",
    "HAND_FLAG": "#F2C877",
}  # fmt: skip

PAPER, PANEL, RULE, CONTOUR = (QColor(_PAPER[name]) for name in ("PAPER", "PANEL", "RULE", "CONTOUR"))
INK, SOFT_INK = QColor(_PAPER["INK"]), QColor(_PAPER["SOFT_INK"])
SELECTED, OVER, DONE = QColor(_PAPER["SELECTED"]), QColor(_PAPER["OVER"]), QColor(_PAPER["DONE"])
ADDED, HAND_FLAG, OVER_FAINT = QColor(_PAPER["ADDED"]), QColor(_PAPER["HAND_FLAG"]), QColor(_PAPER["OVER"])
OVER_FAINT.setAlpha(_FAINT)

_COLOURS = {"PAPER": PAPER, "PANEL": PANEL, "RULE": RULE, "CONTOUR": CONTOUR, "INK": INK, "SOFT_INK": SOFT_INK,
            "SELECTED": SELECTED, "OVER": OVER, "DONE": DONE, "ADDED": ADDED, "HAND_FLAG": HAND_FLAG}  # fmt: skip
_state = {"dusk": False, "clear": False}


def is_dusk() -> bool:
    """Whether the inks of dusk are in force."""
    return _state["dusk"]


def in_force() -> tuple[bool, bool]:
    """Whether dusk is in force, and whether high contrast is; what is drawn is drawn anew where that changes."""
    return _state["dusk"], _state["clear"]


def use(dusk: bool, clear: bool = False) -> None:
    """Let the inks of dusk be in force, or those of paper; ``clear``: with high contrast."""
    _state.update(dusk=dusk, clear=clear)
    inks = (_DUSK_CLEAR if clear else _DUSK) if dusk else (_PAPER_CLEAR if clear else _PAPER)
    for name, value in inks.items():
        _COLOURS[name].setRgba(QColor(value).rgba())
    OVER_FAINT.setRgba(OVER.rgba())
    OVER_FAINT.setAlpha(_FAINT)
