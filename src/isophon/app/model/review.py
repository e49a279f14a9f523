"""The loop of review: one key a mark, through the parts of a pass and then the passes; and where undo and redo lead."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, Signal

from isophon.app.model.passes import Pass
from isophon.app.model.workspace import Workspace
from isophon.app.model.worst_first import WorstFirst, where_heard
from isophon.core.marks import Mark
from isophon.core.session import edits
from isophon.core.session.audible import judged
from isophon.core.session.model import Part, Session
from isophon.core.session.treating import Target, same_place, treated_like

_LONGEST_TRAIL = 1_000


class Review(QObject):
    """Decides the selected marks and goes on to the next that nobody has decided.

    ``pass_asked(pass)``: the review goes on in another pass; ``ended``: everything is decided; ``arrived``: a mark was
    selected to be heard. ``context_asked(what)``: what it is to be heard with; '' as before.
    """

    pass_asked = Signal(object)
    ended = Signal()
    arrived = Signal()
    context_asked = Signal(str)

    def __init__(self, workspace: Workspace, passes: Sequence[Pass], parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._passes = workspace, list(passes)
        self._trail: list[tuple[Pass, str, str]] = []
        self.worst_first = WorstFirst(workspace, self._passes)

    # decisions

    def agree(self) -> None:
        """What is done to the selected marks is good; on to the next undecided one."""
        workspace = self._workspace
        ids = [m.id for m in workspace.marks_selected() if not m.hand.decided]
        if ids:
            workspace.edit(f"accept · {workspace.where()}", lambda s: edits.agree(s, workspace.part.id, ids))
        self._go_on()

    def accept_inaudible(self) -> None:
        """Accept what is done to the marks of this pass that cannot be heard in the mix, in all parts, as one step."""
        workspace, which = self._workspace, self._workspace.pass_
        if not judged(which.kind):
            workspace.notice.emit(f"How audible {which.words.many} are is not judged: loudspeakers differ too much.")
        elif not workspace.audibility.complete:
            workspace.notice.emit(
                "Parts or music are still being analysed; what can be heard is worked out after that."
            )
        elif not (marks := workspace.audibility.inaudible(which)):
            workspace.notice.emit(f"All undecided {which.words.many} can be heard in the mix.")
        else:
            count = sum(map(len, marks.values()))
            workspace.edit(
                f"accept {count} {which.words.many} that cannot be heard in the mix", lambda s: _agreed(s, marks)
            )
            workspace.notice.emit(
                f"{count} {which.words.many} that cannot be heard in the mix are accepted as proposed."
            )

    def leave(self) -> None:
        """Leave the selected marks as sung and go on; or leave them no longer."""
        self._workspace.commands.toggle_leave()
        marks = self._workspace.marks_selected()
        if marks and all(m.hand.leave for m in marks):
            self._go_on()

    def back(self) -> None:
        """To the mark that was selected before."""
        workspace = self._workspace
        while self._trail:
            which, part_id, mark_id = self._trail.pop()
            part = next((p for p in workspace.session.parts if p.id == part_id), None)
            if part is not None and part.mark(mark_id) is not None:
                self._take(which, part, mark_id)
                return
        workspace.walk(-1, True)
        if workspace.mark is not None:
            self.arrived.emit()

    def same_there(self) -> None:
        """Decide marks at the same place in other parts like the selected ones: in selected parts, else the doubles."""
        workspace, part = self._workspace, self._workspace.part
        marks = workspace.marks_selected()
        role = "double" if part.role == "lead" else part.role
        others = [p for p in workspace.selected_parts if p != part.id]
        others = others or [p.id for p in workspace.session.parts if p.role == role and p.id != part.id]
        decided = [m for m in marks if m.hand.decided]
        if not decided:
            workspace.notice.emit("Select a mark and decide it first; then the same can be done in other parts.")
            return
        session, touched = workspace.session, set[Target]()
        for mark in decided:
            targets = same_place(session, part.id, mark, others)
            session = treated_like(session, mark, targets)
            touched.update(targets)
        if not touched:
            workspace.notice.emit(f"No other part has {workspace.pass_.an} there.")
            return
        workspace.edit(f"the same there · {workspace.where()}", lambda _: session)
        names = workspace.pass_.words.one if len(touched) == 1 else workspace.pass_.words.many
        workspace.notice.emit(f"The same was done to {len(touched)} {names} at this place in other parts.")

    # the way

    def _go_on(self) -> None:
        """Select the next undecided mark: in this part, the other parts, what was passed over, the next pass."""
        workspace, which = self._workspace, self._workspace.pass_
        if workspace.mark is not None:
            self._trail = [*self._trail, (which, workspace.part.id, workspace.mark.id)][-_LONGEST_TRAIL:]
        if self.worst_first.on:
            self._go_on_worst_first()
            return
        found = self._next_in(which)
        if found is not None:
            part, mark, words = found
            self._take(which, part, mark.id)
            if words:
                workspace.notice.emit(words)
            return
        first = self._passes.index(which) + 1
        for other in (*self._passes[first:], *self._passes[: first - 1]):
            there = next((p for p in workspace.session.parts if p.undecided(other.kind)), None)
            if there is not None:
                self._take(other, there, self._in_order(other, there)[0].id)
                way = "On to" if self._passes.index(other) >= first else "Back to"
                left = undecided(workspace.session, other)
                workspace.notice.emit(f"{which.name}: all decided. {way} {other.name}, {left} undecided.")
                return
        waiting = sum(not p.found for p in workspace.session.parts)
        if waiting:
            workspace.notice.emit(f"All that is known is decided; parts still to be analysed: {waiting}.")
        else:
            self.ended.emit()
            workspace.notice.emit("Everything is decided in all passes; the stems can be handed over.")

    def toggle_worst_first(self) -> None:
        """Walk all parts and passes as one list, what is most worth hearing first; or part by part again."""
        if self.worst_first.on:
            self._end_worst_first()
            self._workspace.notice.emit("Part by part and pass by pass again.")
            self._workspace.selection_changed.emit()
        elif not self._workspace.audibility.complete:
            self._workspace.notice.emit("Parts or music are still being analysed; the list is there then.")
        else:
            self.worst_first.begin()
            self._go_on_worst_first()

    def _go_on_worst_first(self) -> None:
        place = self.worst_first.go_on()
        if place is not None:
            self.context_asked.emit(where_heard(self._workspace.session, place.which))
            self._take(place.which, place.part, place.mark.id)
            return
        self._end_worst_first()
        left = sum(undecided(self._workspace.session, which) for which in self._passes)
        rest = f"; {left} that cannot be heard in the mix are left as proposed" if left else ""
        self._workspace.notice.emit(f"Everything that can be heard is decided, in all parts and passes{rest}.")
        self.ended.emit()

    def _end_worst_first(self) -> None:
        self.worst_first.end()
        self.context_asked.emit("")

    def _next_in(self, which: Pass) -> tuple[Part, Mark, str] | None:
        """The next undecided mark of a pass, and what is to be said of the way there."""
        parts, here, now = self._workspace.session.parts, self._workspace.part, self._workspace.mark
        at = next((i for i, p in enumerate(parts) if p.id == here.id), 0)
        places = self._places(which, here)
        passed = places.get(now.id, -1) if now else -1
        rest = [m for m in self._in_order(which, here) if places[m.id] > passed]
        if rest:
            return here, rest[0], ""
        for part in (*parts[at + 1 :], *parts[: at + 1]):
            marks = self._in_order(which, part)
            if marks:
                way = "Back to" if parts.index(part) <= at else "On to"
                return part, marks[0], f"{way} {part.name}, {len(marks)} undecided in {which.name}."
        return None

    def _places(self, which: Pass, part: Part) -> dict[str, int]:
        """Where each of a part's marks stands: in time, tallest or riskiest first."""
        return {mark.id: i for i, mark in enumerate(self._workspace.ranked(part, which))}

    def _in_order(self, which: Pass, part: Part) -> list[Mark]:
        places = self._places(which, part)
        return sorted(part.undecided(which.kind), key=lambda m: places[m.id])

    def _take(self, which: Pass, part: Part, mark_id: str) -> None:
        workspace = self._workspace
        if which is not workspace.pass_:
            self.pass_asked.emit(which)
        if part.id != workspace.part.id:
            workspace.select_part(part.id)
        workspace.select_marks([mark_id])
        self.arrived.emit()

    # undo and redo

    def undo(self) -> None:
        """Take the last step back, say what it was, and go there."""
        self._step("Undone", self._workspace.keeper.history.undo_name, self._workspace.undo)

    def redo(self) -> None:
        """Do the step last taken back again, say what it is, and go there."""
        self._step("Redone", self._workspace.keeper.history.redo_name, self._workspace.redo)

    def _step(self, what: str, name: str | None, go: Callable[[], None]) -> None:
        workspace = self._workspace
        if name is None:
            workspace.notice.emit(f"{what}: nothing, this is the {'first' if what == 'Undone' else 'last'} step.")
            return
        before = workspace.session
        go()
        place = changed(before, workspace.session, self._passes)
        if place is not None:
            which, part_id, mark_id = place
            self.pass_asked.emit(which)
            if part_id not in workspace.selected_parts:
                workspace.select_part(part_id)
            if mark_id and mark_id not in workspace.selected_marks:
                workspace.select_marks([mark_id])
        workspace.notice.emit(f"{what}: {name}.")


def _agreed(session: Session, marks: dict[str, list[str]]) -> Session:
    """The session with marks, by part, accepted."""
    for part_id, names in marks.items():
        session = edits.agree(session, part_id, names, masked=True)
    return session


def undecided(session: Session, which: Pass) -> int:
    """How many marks of a pass are undecided in all parts."""
    return sum(len(part.undecided(which.kind)) for part in session.parts)


def changed(before: Session, after: Session, passes: Sequence[Pass]) -> tuple[Pass, str, str] | None:
    """The pass, part and mark ('' for none) that a step changed first; None where it changed nothing in a pass."""
    earlier = {part.id: part for part in before.parts}
    for part in after.parts:
        old = earlier.get(part.id)
        if old is None or old is part or old == part:
            continue
        for which in passes:
            marks = {m.id: m for m in which.marks(old)}
            mark = next((m for m in which.marks(part) if m.id not in marks or marks[m.id].hand != m.hand), None)
            settings = any(part.settings(kind) != old.settings(kind) for kind in which.kinds)
            if mark is not None or settings or len(marks) != len(which.marks(part)):
                return which, part.id, mark.id if mark else ""
    return None
