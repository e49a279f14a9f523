"""A mark in one line."""

from __future__ import annotations

from isophon.app import theme
from isophon.app.model.audibility import Audible
from isophon.app.model.workspace import Workspace
from isophon.core.marks import GONE_DB, Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.notes import note_at

_DIFFERS_DB = 1.0  # less is not shown


def mark_words(workspace: Workspace, mark: Mark) -> str:
    """When a mark of the pass that is open begins, how loud it is, how far it stands out, and what is done."""
    which, part = workspace.pass_, workspace.part
    change = part.change(mark)
    at, level = theme.clock(mark.span[0] + workspace.offset), theme.level(mark.level_db, "LUFS")
    in_time = which.skyline.over_frequency and not workspace.over_frequency
    over_what = which.words.in_time[1] if in_time else which.words.over
    over = f"{theme.signed(which.skyline.height(mark))} {which.unit} {over_what}"
    gone = which.words.gone(part) if change <= GONE_DB else ""
    done = which.words.change_words(mark, change) or gone or f"change {theme.signed(change)} {which.unit}"
    risk = BY_NAME[mark.kind].risk
    known = workspace.risks_of(part, which).get(mark.id, 0.0)
    risky = f"risky: {known:.0f} {risk.unit} {risk.words}" if known >= risk.risky_from else ""
    audible = workspace.audibility.of_mark(part, mark)
    masked = "" if audible is None else _audible_words(audible)
    note = note_at(workspace.session, part.id, mark.id)
    where = () if workspace.over_frequency else (at, level)
    return " · ".join(filter(None, (*where, over, done, which.words.more_words(workspace, mark), risky, masked,
                                    f"note: {note.name}" if note else "")))  # fmt: skip


def _audible_words(audible: Audible) -> str:
    """How audible a mark is in the mix, as sung and, where that differs, after the rough chain."""
    if max(audible) <= 0:
        return "not audible in the mix"
    after = f"{theme.signed(audible.after_chain_db)} dB after the rough chain"
    if audible.as_sung_db <= 0:
        return f"audible by {after}"
    differs = abs(audible.after_chain_db - audible.as_sung_db) >= _DIFFERS_DB
    return f"audible by {theme.signed(audible.as_sung_db)} dB" + (f" ({after})" if differs else "")
