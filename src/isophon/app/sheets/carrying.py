"""Carrying a finished passage on: its sound or its decisions, to where the song repeats it, or to any other time."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QMenu, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr, tr_all
from isophon.app.views.clock_field import seconds_of
from isophon.app.views.keyboard import Choice, Field
from isophon.app.views.made import make_column, make_row
from isophon.core.errors import CallError
from isophon.core.marks import Mark
from isophon.core.passes.carry import passages
from isophon.core.passes.carry.places import places
from isophon.core.session import edits
from isophon.core.session.model import Part, Session
from isophon.core.session.treating import decisions_carried

_DRIFTS_S = 0.02
_WHAT = ("its sound", "its decisions")
Row = tuple[str, Callable[[], object] | None]


class Carrying(QWidget):
    """A button that lists the places, what of the passage is carried, and a field for a time that is typed."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.button = QPushButton(tr("Carry on…"))
        self.button.setToolTip("Let the passage that is selected stand at other places: where the song repeats it, at "
                               "the playhead, a marker or a time")  # fmt: skip
        self.button.clicked.connect(self._offer)
        self.what = Choice()
        self.what.addItems(tr_all(_WHAT))
        self.what.setAccessibleName(tr("What is carried on"))
        self.what.setToolTip("Its sound: the passage is heard there. Its decisions: what is sung there stays, and its "
                             "marks are decided as those of the passage")  # fmt: skip
        self.typed = Field()
        self.typed.setPlaceholderText(tr("to 1:07.5"))
        self.typed.setAccessibleName(tr("A time of the song to carry the passage to"))
        self.typed.returnPressed.connect(self._to_typed)
        row = make_row()
        row.addWidget(self.button)
        row.addWidget(self.what, 1)
        column = make_column(self)
        column.addLayout(row)
        column.addWidget(self.typed)
        self.typed.hide()

    def _offer(self) -> None:
        menu = QMenu(self)
        for words, action in self.choices():
            added = menu.addAction(tr(words.replace("&", "&&")))
            if action is None:
                added.setEnabled(False)
            else:
                added.triggered.connect(action)
        menu.exec(self.button.mapToGlobal(self.button.rect().bottomLeft()))

    def choices(self) -> list[Row]:
        """What can be chosen, in words, and what that does."""
        rows: list[Row] = []
        for at, source in passages.passages(self._in_hand()):
            words = f"undo the copy at {theme.clock(at)}, from {theme.clock(source)}"
            rows.append((words, partial(self._edit, words, partial(self._sound, change=passages.taken_back, at=at))))
        if self.workspace.selected_time is None:
            return [*rows, ("Drag over the ruler to select the passage first", None)]
        return [*rows, *self._alike(), *self._elsewhere()]

    def _alike(self) -> list[Row]:
        """The places where the lead is most like the passage."""
        workspace = self.workspace
        assert workspace.selected_time is not None, "a passage is selected"
        lead = self._lead_of_the_passage()
        surveyed = workspace.pool.take(lead.source).surveyed
        if surveyed is None:
            return [("The lead is still being analysed", None)]
        start, end = (t + workspace.offset for t in workspace.selected_time)
        found = places(surveyed.survey, start - lead.offset_s, end - lead.offset_s)
        rows: list[Row] = []
        for place in found:
            at = place.at + lead.offset_s
            words = f"to {theme.clock(at)}, {100 * place.alike:.0f} % alike"
            rows.append((words + _drift(place.drift_s), partial(self.carry_to, at, words)))
            if abs(place.drift_s) >= _DRIFTS_S:
                tempo = 1 + place.drift_s / (end - start)
                words = f"{words}, stretched to its tempo ({100 * tempo:.1f} % as long)"
                rows.append((words, partial(self.carry_to, at, words, tempo)))
        return rows or [("Nothing in the song is like this passage", None)]

    def _elsewhere(self) -> list[Row]:
        """The playhead, the markers, and a time that is typed."""
        at = self.workspace.playhead_s() + self.workspace.offset
        rows: list[Row] = [(f"to the playhead, {theme.clock(at)}", partial(self.carry_to, at))]
        for marker in self.workspace.session.markers:
            rows.append((f"to {marker.name}, {theme.clock(marker.at)}", partial(self.carry_to, marker.at)))
        return [*rows, ("to a time that is typed…", self._ask)]

    def _in_hand(self) -> list[Part]:
        return [part for part in self.workspace.session.parts if part.id in self.workspace.selected_parts]

    def _ask(self) -> None:
        self.typed.show()
        self.typed.setFocus()

    def _to_typed(self) -> None:
        seconds = seconds_of(self.typed.text())
        if seconds is None:
            self.workspace.notice.emit("That is no time; type minutes and seconds, as 1:07.5.")
            return
        self.typed.clear()
        self.typed.hide()
        self.carry_to(seconds)

    def carry_to(self, at: float, words: str = "", tempo: float = 1.0) -> None:
        """Carry the selected passage to a second of the song, where it is ``tempo`` times as long."""
        workspace = self.workspace
        if workspace.selected_time is None:
            workspace.notice.emit("Drag over the ruler to select the passage first.")
            return
        start, end = (t + workspace.offset for t in workspace.selected_time)
        words = words or f"to {theme.clock(at)}"
        what = _WHAT[self.what.currentIndex()]
        if what == _WHAT[0]:
            change = partial(self._sound, change=passages.carried_on, start=start, end=end, at=at, tempo=tempo)
        else:
            change = partial(decisions_carried, part_ids=workspace.selected_parts, start=start, end=end, at=at,
                             tempo=tempo)  # fmt: skip
        self._edit(f"carry on {what} {words}", change)

    def _sound(self, session: Session, change: Callable[..., tuple[Mark, ...]], **where: float) -> Session:
        return edits.with_marks(session, self.workspace.selected_parts, partial(change, **where))

    def _edit(self, words: str, change: Callable[..., Session], *_: object) -> None:
        try:
            self.workspace.edit(words, lambda s: change(session=s))
        except CallError as error:
            self.workspace.notice.emit(f"That cannot be carried on: {error}.")
            return
        longer = [f"{part.name} by {part.ends_s - part.source.duration:.1f} s" for part in self._in_hand()
                  if part.ends_s > part.source.duration]  # fmt: skip
        if longer:
            words = (
                f"Longer than the recording: {', '.join(longer)}. Hand over writes that where all stems begin and end"
            )
            self.workspace.notice.emit(f"{words} with the song.")

    def _lead_of_the_passage(self) -> Part:
        """The lead that sings most in the selected time; the selected part where there is none."""
        workspace = self.workspace
        start, end = workspace.selected_time or (0.0, 0.0)

        def sung_s(lead: Part) -> float:
            surveyed = workspace.pool.take(lead.source).surveyed
            later = workspace.offset - lead.offset_s
            return 0.0 if surveyed is None else surveyed.survey.voiced_s(start + later, end + later)

        return max(workspace.session.leads_met(workspace.part), key=sung_s, default=workspace.part)


def _drift(seconds: float) -> str:
    """How far the tempo there is off, in words; nothing where it is the passage's own."""
    if abs(seconds) < _DRIFTS_S:
        return ""
    return f", its end {abs(1000 * seconds):.0f} ms {'later' if seconds > 0 else 'earlier'}: another tempo"
