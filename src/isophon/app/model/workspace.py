"""The workspace: the session that is open, what of it is selected, and the objects that act on it.

Views read from here and call its objects; every change of the session is an edit that goes through the
:class:`SessionKeeper`. Times of marks and of the selected time count from the start of the selected part;
:attr:`Workspace.offset` is where that lies in the song.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from isophon.app.model.analysis import Analysis
from isophon.app.model.audibility import Audibility
from isophon.app.model.audition import Audition
from isophon.app.model.mark_commands import MarkCommands
from isophon.app.model.passes import Pass
from isophon.app.model.preferences import preferences
from isophon.app.model.replacing import Replacing
from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.setting_commands import SettingCommands
from isophon.app.model.take_pool import EMPTY_SOURCE, TakePool
from isophon.app.model.viewport import SHORTEST_VIEW_S, Viewport
from isophon.core.marks import Mark
from isophon.core.session import layout
from isophon.core.session.alike import alike
from isophon.core.session.bars import Bars
from isophon.core.session.history import History
from isophon.core.session.items import Marker
from isophon.core.session.model import Part, Session
from isophon.core.session.notes import song_time
from isophon.core.takes.take import Take
from isophon.core.work.workers import Workers

IN_TIME, TALLEST, RISKIEST, AUDIBLE = ORDERS = ("in time", "tallest", "riskiest", "audible")
EMPTY_PART = Part("", "no part", EMPTY_SOURCE)


class Workspace(QObject):
    """What is open and selected: parts, marks, a pass, a time.

    ``commands``: edits of marks; ``settings``: of settings; ``viewport``: what is in view; ``audition``: what is left
    out for listening; ``analysis``: what goes on in the background; ``audibility``: what can be heard in the mix.

    ``part_changed``: what is seen of the selected part has changed. ``band_asked(low, high, without)``: what lies there
    (Hz) is to be heard alone, or all but it, until ``band_left``. ``large_asked(on)``: the picture of the sheet is
    wanted over the map, or back in the sheet. ``outlined``: the marks that something would touch, by part and mark,
    until that is done or not.
    """

    session_changed = Signal()
    part_changed = Signal()
    selection_changed = Signal()
    take_changed = Signal()
    boxes_asked = Signal()
    band_asked = Signal(float, float, bool)
    band_left = Signal()
    large_asked = Signal(bool)
    outlined_changed = Signal()
    notice = Signal(str)
    troubled = Signal(str)

    def __init__(self, history: History, saved_as: Path | None, continued: Path | None, workers: Workers,
                 first: Pass) -> None:  # fmt: skip
        """``continued``: the journal whose unsaved work goes on here; ``first``: the pass that is open at first."""
        super().__init__()
        self.keeper, self.pool = SessionKeeper(history, saved_as, continued), TakePool(workers)
        self.keeper.setParent(self)
        self.pool.setParent(self)
        self.pass_, self.order = first, IN_TIME  # in which marks stand and are walked
        parts = self.session.parts
        self.selected_parts = tuple(p.id for p in parts if p.role == "lead")[:1] or tuple(p.id for p in parts[:1])
        self.selected_marks: tuple[str, ...] = ()
        self.selected_time: tuple[float, float] | None = None
        self.outlined: frozenset[tuple[str, str]] = frozenset()
        self.playhead_s: Callable[[], float] = lambda: 0.0  # what is heard now, s of the selected part
        self.drawing = False  # whether dragging over map and lens draws a box
        self._part_of: tuple[Session, tuple[str, ...], Part] | None = None  # views ask for it often
        self._shown: tuple = (None, None, None, None)
        self._markers: tuple[Session, Part, list[Marker], np.ndarray] | None = None
        self.commands, self.settings, self.audition = MarkCommands(self), SettingCommands(self), Audition(self)
        self.audibility, self.viewport, self.analysis = Audibility(self), Viewport(self), Analysis(self)
        self.replacing = Replacing(self)
        self.keeper.changed.connect(self._session_changed)
        self.keeper.notice.connect(self.notice)
        self.keeper.troubled.connect(self.troubled)
        self.pool.troubled.connect(self.troubled)

    def begin(self) -> None:
        """Start what goes on in the background; called once the views are there."""
        self.analysis.stock()

    def close(self) -> None:
        """Write down what is not yet, and stop all that goes on in the background."""
        self.analysis.stop()
        self.replacing.close()
        self.keeper.close()
        self.pool.close()
        self.blockSignals(True)

    # what is open and selected

    @property
    def session(self) -> Session:
        """The session in force."""
        return self.keeper.session

    @property
    def part(self) -> Part:
        """The selected part, the first of several; one without samples where the session has none."""
        session, ids = self.session, self.selected_parts[:1]
        if self._part_of is None or self._part_of[0] is not session or self._part_of[1] != ids:
            self._part_of = (session, ids, next((p for p in session.parts if p.id in ids), EMPTY_PART))
        return self._part_of[2]

    @property
    def take(self) -> Take:
        """The take of the selected part."""
        return self.pool.take(self.part.source)

    @property
    def offset(self) -> float:
        """Where the selected part starts in the song, in seconds."""
        return self.part.offset_s

    @property
    def song(self) -> tuple[float, float]:
        """First and last second of the song, counted from the start of the selected part."""
        start, end = self.session.span
        return start - self.offset, max(end, start + 1.0) - self.offset

    @property
    def ceiling(self) -> float:
        """The ceiling in force for the selected part."""
        return self.pass_.ceiling(self.part)

    @property
    def marks(self) -> tuple[Mark, ...]:
        """The marks of this pass in the selected part, as they stand in the skyline."""
        each = self.pass_.skyline.each
        if each is None:
            return self.pass_.marks(self.part)
        return self._in_time() or each(self.part)

    @property
    def over_frequency(self) -> bool:
        """Whether the skyline lies over frequency: where the pass does, and no selected mark has several words."""
        return self.pass_.skyline.over_frequency and not self._in_time()

    def _in_time(self) -> tuple[Mark, ...]:
        mark = self.mark
        return () if mark is None or mark.kind != self.pass_.kind else self.pass_.skyline.in_time(self.part, mark)

    def ranked(self, part: Part, which: Pass) -> list[Mark]:
        """All marks of a pass in a part, in the order chosen for the skyline."""
        marks, height = which.marks(part), which.skyline.height
        if self.order == RISKIEST:
            risks = self.risks_of(part, which)
            return sorted(marks, key=lambda m: (-risks.get(m.id, -1.0), m.span[0]))
        if self.order == AUDIBLE:
            worth = self.audibility.worth(part, which)
            return sorted(marks, key=lambda m: (-worth.get(m.id, -1.0), m.span[0]))
        return sorted(marks, key=lambda m: (-height(m) if self.order == TALLEST else 0.0, m.span[0]))

    def risks_of(self, part: Part, which: Pass) -> Mapping[str, float]:
        """How risky what is done to the marks of a part is; none is known before its survey."""
        surveyed = self.pool.take(part.source).surveyed
        return {} if surveyed is None else part.risks(which.kind, surveyed.survey)

    def marks_seen(self, columns: int) -> tuple[Mark, ...]:
        """Those that can be told apart in what is in view, so many columns wide."""
        return self.part.tallest(self.pass_.kind, self.viewport.span, columns)

    def open_pass(self, which: Pass) -> None:
        """Go over to another pass."""
        if which is not self.pass_:
            self.pass_, self.selected_marks, self.selected_time = which, (), None
            self.part_changed.emit()
            self.selection_changed.emit()

    def select_part(self, part_id: str, add: bool = False) -> None:
        """Select a part; ``add``: beside the selected ones, or no longer."""
        place = [t + self.offset for t in self.viewport.span]
        if add and part_id in self.selected_parts and len(self.selected_parts) > 1:
            self.selected_parts = tuple(p for p in self.selected_parts if p != part_id)
        elif add:
            self.selected_parts = (*self.selected_parts, part_id)
        else:
            self.selected_parts = (part_id,)
        self.selected_marks, self.selected_time = (), None
        self.viewport.show_song(*place)
        self.pool.at_hand(self.part.source)
        self.take_changed.emit()
        self.selection_changed.emit()

    def select_parts(self, part_ids: list[str]) -> None:
        """Select several parts; the first is the one that is shown."""
        if part_ids:
            self.select_part(part_ids[0])
            self.selected_parts = tuple(part_ids)
            self.take_changed.emit()

    def walk_parts(self, step: int) -> None:
        """Select the next or previous part."""
        ids = [p.id for p in self.session.parts]
        if ids:
            at = ids.index(self.part.id) if self.part.id in ids else 0
            self.select_part(ids[(at + step) % len(ids)])

    def marks_selected(self) -> list[Mark]:
        """The selected marks that are still there."""
        return [m for name in self.selected_marks if (m := self.part.mark(name))]

    @property
    def mark(self) -> Mark | None:
        """The selected mark: the first of those."""
        marks = self.marks_selected()
        return marks[0] if marks else None

    def select_marks(self, ids: list[str], show: bool = True) -> None:
        """Select marks; the view moves to the first if it is not completely in view."""
        self.selected_marks = tuple(ids)
        self.selected_time = None
        mark = self.mark
        if show and mark and not self.over_frequency:  # what is there throughout needs no other view
            self.viewport.show_span(*mark.span)
        self.selection_changed.emit()

    def walk(self, step: int, over_only: bool = False) -> None:
        """Select the next or previous mark, of all or of those that change, in the order in which they stand."""
        height, part = self.pass_.skyline.height, self.part
        marks = [m for m in self.marks if not over_only or part.acts(m) or height(m) > self.ceiling]
        if not marks:
            return
        now = self.mark
        if self.order != IN_TIME:
            wanted = {m.id for m in marks}
            ids = [m.id for m in self.ranked(part, self.pass_) if m.id in wanted]
            marks = [mark for name in ids if (mark := part.mark(name))]
            here = ids.index(now.id) if now and now.id in ids else None
            place = (0 if step > 0 else -1) if here is None else (here + step) % len(ids)
        elif now is None:
            first = self.viewport.span[0]
            place = next((i for i, m in enumerate(marks) if m.span[0] >= first), 0)
        else:
            later = [i for i, m in enumerate(marks) if m.start > now.start]
            earlier = [i for i, m in enumerate(marks) if m.start < now.start]
            place = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(marks) - 1)
        self.select_marks([marks[place].id])

    def walk_spans(self, spans: tuple[tuple[float, float], ...], step: int, heard_at: float) -> None:
        """Select the next or previous of these phrases or words, from the selection, else from what is heard."""
        if not spans:
            return
        here = self.selected_time[0] if self.selected_time else heard_at
        later = [i for i, (start, _) in enumerate(spans) if start > here + 1e-3]
        earlier = [i for i, (start, _) in enumerate(spans) if start < here - 1e-3]
        index = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(spans) - 1)
        self.viewport.show_span(*spans[index])
        self.select_time(spans[index])

    def outline(self, marks: Iterable[tuple[str, str]] = ()) -> None:
        """Show which marks, by part and mark, something would touch; none: no more."""
        self.outlined = frozenset(marks)
        self.outlined_changed.emit()

    def outlined_here(self) -> list[Mark]:
        """Those of them that are in the selected part."""
        own = (self.part.mark(name) for part_id, name in sorted(self.outlined) if part_id == self.part.id)
        return [mark for mark in own if mark is not None]

    def select_time(self, selection: tuple[float, float] | None) -> None:
        """Select a time, or none."""
        self.selected_time = selection
        self.selection_changed.emit()

    # edits

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> bool:
        """Make one edit; edits of one gesture are one step of the history. Whether anything changed."""
        return self.keeper.edit(name, change, gesture)

    def undo(self) -> None:
        """Take the last step back."""
        self.keeper.go(self.keeper.history.at - 1)

    def redo(self) -> None:
        """Do the step last taken back again."""
        self.keeper.go(self.keeper.history.at + 1)

    def whom(self) -> str:
        """The selected parts, in words."""
        return self.part.name if len(self.selected_parts) == 1 else f"{len(self.selected_parts)} parts"

    def where(self) -> str:
        """The selected part and mark, in words."""
        mark = self.mark
        at = "" if mark is None else f" at {mark.start + self.offset:.1f} s"
        return f"{self.part.name}{at}"

    def sung_within(self, start: float, end: float) -> float:
        """How many seconds of voice lie within a span of the selected part; 0 before its survey."""
        surveyed = self.take.surveyed
        return 0.0 if surveyed is None else surveyed.survey.voiced_s(start, end)

    def take_alike(self, share: float) -> None:
        """Select, beside the selected mark, the ``share`` of the others that are most like it."""
        mark, surveyed = self.mark, self.take.surveyed
        if mark is None or surveyed is None:
            return
        near = alike(surveyed.survey, mark, [m for m in self.marks if m.id != mark.id])
        self.select_marks([mark.id, *near[: round(share * len(near))]], show=False)

    def mark_place(self, song_s: float, name: str = "") -> None:
        """Name a place in the song."""
        self.edit("marker", lambda s: layout.add_marker(s, song_s, name))

    @property
    def counted_bars(self) -> Bars | None:
        """The bars of the song where the ruler is to count these."""
        return self.session.bars if preferences().in_bars and self.session.bars.tempos else None

    def markers_shown(self) -> tuple[list[Marker], np.ndarray]:
        """The markers of the song and the notes of the selected part, and where they stand, in s of the part."""
        if self._markers is None or self._markers[0] is not self.session or self._markers[1] is not self.part:
            shown = [marker for marker in self.session.markers if marker.part in ("", self.part.id)]
            at = np.array([song_time(self.session, marker) for marker in shown])
            self._markers = self.session, self.part, shown, at - self.offset
        return self._markers[2:]

    def _session_changed(self) -> None:
        there = {p.id for p in self.session.parts}
        selected = tuple(p for p in self.selected_parts if p in there) or tuple(p.id for p in self.session.parts[:1])
        sources = tuple(i.source for i in self.session.items)
        if selected != self.selected_parts or sources != self.analysis.sources:
            self.selected_parts = selected
            self.analysis.stock()
            start, end = self.viewport.span
            nothing_seen = end - start <= SHORTEST_VIEW_S
            self.viewport.show_song(*(self.session.span if nothing_seen else (start + self.offset, end + self.offset)))
            self.take_changed.emit()
            self.selection_changed.emit()
        self.session_changed.emit()
        shown = (self.part, self.session.markers, self.song, self.selected_parts)
        if any(one is not other and one != other for one, other in zip(shown, self._shown, strict=True)):
            self._shown = shown
            self.part_changed.emit()
