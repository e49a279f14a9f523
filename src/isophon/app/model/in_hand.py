"""What is in hand and in view: parts, marks, the pass that is open, the selection; and how a person walks through them.

Times of the view, of marks and of the selection count from the start of the selected part; :attr:`InHand.offset` is
where that lies in the song.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from PySide6.QtCore import QObject, Signal

from isophon.app.model.audibility import Audibility
from isophon.app.model.glide import Glide
from isophon.app.model.passes import Pass
from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.take_pool import EMPTY_SOURCE, TakePool
from isophon.core.marks import Mark
from isophon.core.passes import NAMES
from isophon.core.session.model import Part, Session
from isophon.core.takes.take import Take

SHORTEST_VIEW_S = 0.01
IN_TIME, TALLEST, RISKIEST, AUDIBLE = ORDERS = ("in time", "tallest", "riskiest", "audible")
ALL_HEARD, WITHOUT, ONLY = ASIDE = ("all passes", "all but this pass", "only this pass")
EMPTY_PART = Part("", "no part", EMPTY_SOURCE)


class InHand(QObject):
    """``part_changed``: what is seen of the selected part has changed.

    ``band_asked(low, high, without)``: what lies there (Hz) is to be heard alone, or all but it, until ``band_left``.
    ``large_asked(on)``: the picture of the sheet is wanted over the map, or back in the sheet. ``outlined``: the marks
    that something would touch, by part and mark, until that is done or not.
    """

    session_changed = Signal()
    part_changed = Signal()
    hand_changed = Signal()
    view_changed = Signal()
    take_changed = Signal()
    boxes_asked = Signal()
    band_asked = Signal(float, float, bool)
    band_left = Signal()
    large_asked = Signal(bool)
    outlined_changed = Signal()
    notice = Signal(str)
    troubled = Signal(str)

    def __init__(self, keeper: SessionKeeper, pool: TakePool, first: Pass) -> None:
        """``first``: the pass that is open at first."""
        super().__init__()
        self.keeper, self.pool, self.pass_ = keeper, pool, first
        self._part_of: tuple[Session, tuple[str, ...], Part] | None = None  # views ask for it often
        self.in_hand: tuple[str, ...] = ()
        self.outlined: frozenset[tuple[str, str]] = frozenset()
        self.order = IN_TIME  # in which marks stand and are walked
        self.selection: tuple[float, float] | None = None
        parts = self.session.parts
        self.parts_in_hand = tuple(p.id for p in parts if p.role == "lead")[:1] or tuple(p.id for p in parts[:1])
        self.heard_only: frozenset[str] = frozenset()
        self._glide = Glide(self)
        self._glide.moved.connect(self._show)
        self.aside: tuple[str, Pass | None] = (ALL_HEARD, None)  # which pass is left out, or alone, for listening
        self.audibility = Audibility(self)
        self.view = self.song

    @property
    def session(self) -> Session:
        """The session in force."""
        return self.keeper.session

    @property
    def part(self) -> Part:
        """The selected part, the first of several; one without samples where the session has none."""
        session, ids = self.session, self.parts_in_hand[:1]
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
        """Whether the skyline lies over frequency: where the pass does, and nothing in hand stands in several words."""
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
        return self.part.tallest(self.pass_.kind, self.view, columns)

    def open_pass(self, which: Pass) -> None:
        """Go over to another pass."""
        if which is not self.pass_:
            self.pass_, self.in_hand, self.selection = which, (), None
            self.part_changed.emit()
            self.hand_changed.emit()

    def take_part(self, part_id: str, add: bool = False) -> None:
        """Take a part in hand; ``add``: beside those in hand, or no longer."""
        place = [t + self.offset for t in self.view]
        if add and part_id in self.parts_in_hand and len(self.parts_in_hand) > 1:
            self.parts_in_hand = tuple(p for p in self.parts_in_hand if p != part_id)
        elif add:
            self.parts_in_hand = (*self.parts_in_hand, part_id)
        else:
            self.parts_in_hand = (part_id,)
        self.in_hand, self.selection = (), None
        self._show_song(*place)
        self.pool.at_hand(self.part.source)
        self.take_changed.emit()
        self.hand_changed.emit()

    def take_parts(self, part_ids: list[str]) -> None:
        """Select several parts; the first is the one that is shown."""
        if part_ids:
            self.take_part(part_ids[0])
            self.parts_in_hand = tuple(part_ids)
            self.take_changed.emit()

    def walk_parts(self, step: int) -> None:
        """Take the next or previous part in hand."""
        ids = [p.id for p in self.session.parts]
        if ids:
            at = ids.index(self.part.id) if self.part.id in ids else 0
            self.take_part(ids[(at + step) % len(ids)])

    @property
    def unheard(self) -> tuple[str, ...]:
        """The kinds whose work is switched off for listening."""
        how, which = self.aside
        if which is None:
            return ()
        return which.kinds if how == WITHOUT else tuple(name for name in NAMES if name not in which.kinds)

    def set_aside(self, how: str, which: Pass) -> None:
        """Hear the parts without a pass, with it alone, or with all; for listening only."""
        self.aside = (how, None if how == ALL_HEARD else which)
        self.take_changed.emit()

    def next_aside(self, which: Pass) -> None:
        """The next of those."""
        now = self.aside[0] if self.aside[1] is which else ALL_HEARD
        self.set_aside(ASIDE[(ASIDE.index(now) + 1) % len(ASIDE)], which)

    def toggle_heard_only(self, item_id: str) -> None:
        """Hear only this (and what else is chosen so), or no longer."""
        self.heard_only = self.heard_only ^ {item_id}
        self.take_changed.emit()

    def marks_in_hand(self) -> list[Mark]:
        """The marks in hand that are still there."""
        return [m for name in self.in_hand if (m := self.part.mark(name))]

    @property
    def mark(self) -> Mark | None:
        """The mark in hand: the first of those."""
        marks = self.marks_in_hand()
        return marks[0] if marks else None

    def take_in_hand(self, ids: list[str], show: bool = True) -> None:
        """Take marks in hand; the view moves to the first if it is not seen whole."""
        self.in_hand = tuple(ids)
        self.selection = None
        mark = self.mark
        if show and mark and not self.over_frequency:  # what is there throughout needs no other view
            self.show_span(*mark.span)
        self.hand_changed.emit()

    def walk(self, step: int, over_only: bool = False) -> None:
        """Take the next or previous mark in hand, of all or of those that change, in the order in which they stand."""
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
            first = self.view[0]
            place = next((i for i, m in enumerate(marks) if m.span[0] >= first), 0)
        else:
            later = [i for i, m in enumerate(marks) if m.start > now.start]
            earlier = [i for i, m in enumerate(marks) if m.start < now.start]
            place = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(marks) - 1)
        self.take_in_hand([marks[place].id])

    def walk_spans(self, spans: tuple[tuple[float, float], ...], step: int, heard_at: float) -> None:
        """Select the next or previous of these phrases or words, from the selection, else from what is heard."""
        if not spans:
            return
        here = self.selection[0] if self.selection else heard_at
        later = [i for i, (start, _) in enumerate(spans) if start > here + 1e-3]
        earlier = [i for i, (start, _) in enumerate(spans) if start < here - 1e-3]
        index = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(spans) - 1)
        self.show_span(*spans[index])
        self.select(spans[index])

    def show_span(self, start: float, end: float) -> None:
        """Move the view so that a span is seen whole."""
        first, last = self.target_view
        if start < first or end > last:
            size = max(last - first, 1.1 * (end - start))
            self.glide_to((start + end - size) / 2, (start + end + size) / 2)

    @property
    def target_view(self) -> tuple[float, float]:
        """The seconds that are shown, or will be in a moment."""
        return self._glide.target or self.view

    def glide_to(self, start: float, end: float) -> None:
        """Show these seconds, held within the song, in a moment."""
        to = self._within_song(start, end)
        if to != self.target_view:
            self._glide.begin(self.view, to)

    def set_view(self, start: float, end: float) -> None:
        """Show these seconds, held within the song, at once."""
        self._glide.stop()
        self._show(*self._within_song(start, end))

    def _show(self, start: float, end: float) -> None:
        if (start, end) != self.view:
            self.view = (start, end)
            self.view_changed.emit()

    def _within_song(self, start: float, end: float) -> tuple[float, float]:
        first, last = self.song
        size = min(last - first, max(SHORTEST_VIEW_S, end - start))
        start = min(max(first, start), last - size)
        return start, start + size

    def outline(self, marks: Iterable[tuple[str, str]] = ()) -> None:
        """Show which marks, by part and mark, something would touch; none: no more."""
        self.outlined = frozenset(marks)
        self.outlined_changed.emit()

    def outlined_here(self) -> list[Mark]:
        """Those of them that are in the selected part."""
        own = (self.part.mark(name) for part_id, name in sorted(self.outlined) if part_id == self.part.id)
        return [mark for mark in own if mark is not None]

    def select(self, selection: tuple[float, float] | None) -> None:
        """Select a time, or none."""
        self.selection = selection
        self.hand_changed.emit()

    def _show_song(self, start: float, end: float) -> None:
        """Show these seconds of the song."""
        self.view = (0.0, 0.0)
        self.set_view(start - self.offset, end - self.offset)
