"""The workspace: the edits of parts and settings, and what changes by itself while takes are surveyed and searched.

The views read from here and call its methods; every change of the session is an
edit that goes through the :class:`SessionKeeper`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator
from pathlib import Path

import numpy as np
from PySide6.QtCore import QTimer

from isophon.app.model.in_hand import EMPTY_PART, SHORTEST_VIEW_S
from isophon.app.model.leaks import Leaks
from isophon.app.model.lining_up import LiningUp
from isophon.app.model.mark_edits import MarkEdits
from isophon.app.model.passes import Pass
from isophon.app.model.redrawing import Redrawing
from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.span_lessons import SpanLessons
from isophon.app.model.take_pool import TakePool
from isophon.core.passes import NAMES
from isophon.core.session import edits, layout
from isophon.core.session.alike import alike
from isophon.core.session.history import History
from isophon.core.session.model import Marker, Part, Session, Source
from isophon.core.session.notes import song_time
from isophon.core.work.workers import Workers

_NEWS_MS = 250

Stillness = tuple[tuple[float, float] | None, tuple[float, float] | None]


class Workspace(MarkEdits):
    """The model of the window: what is in hand, and the edits of it."""

    def __init__(self, history: History, saved_as: Path | None, continued: Path | None, workers: Workers,
                 first: Pass) -> None:  # fmt: skip
        """``continued``: the journal whose unsaved work goes on here; ``first``: the pass that is open at first."""
        super().__init__(SessionKeeper(history, saved_as, continued), TakePool(workers), first)
        self.keeper.setParent(self)
        self.pool.setParent(self)
        self.leaks = Leaks(self.keeper, self.pool, self)
        self.span_lessons = SpanLessons(self.keeper, self.pool, self)
        self.lining_up = LiningUp(self.keeper, self.pool, self)
        self._redrawing = Redrawing(self)
        self.lifted = False
        self.playhead_s: Callable[[], float] = lambda: 0.0  # what is heard now, s of the selected part
        self.drawing = False  # whether dragging over map and lens draws a box
        self._moved: tuple[object, dict[str, float]] | None = None  # a gesture, and where parts stood before it
        self._stocked: tuple[Source, ...] = ()
        self._shown: tuple = (None, None, None, None)
        self._markers: tuple[Session, Part, list[Marker], np.ndarray] | None = None
        self._news = QTimer(self, singleShot=True, interval=_NEWS_MS)
        self._news.timeout.connect(self._show_news)
        self._more = QTimer(self, singleShot=True, interval=0)
        self._more.timeout.connect(self._show_news)
        self.keeper.changed.connect(self._session_changed)
        self.keeper.notice.connect(self.notice)
        self.keeper.troubled.connect(self.troubled)
        self.pool.troubled.connect(self.troubled)
        self.leaks.notice.connect(self.notice)
        self.lining_up.notice.connect(self.troubled)
        self.leaks.learned.connect(self.take_changed)
        self.pool.changed.connect(self._take_known)
        self.pool.found_again.connect(self._found_again)

    def begin(self) -> None:
        """Start what goes on in the background; called once the views are there."""
        self._stock()

    def close(self) -> None:
        """Write down what is not yet, and stop all that goes on in the background."""
        self._news.stop()
        self._more.stop()
        self._redrawing.stop()
        self.keeper.close()
        self.pool.close()
        self.blockSignals(True)

    # edits

    def stillness(self) -> Generator[None, None, Stillness]:
        """The still moments' level in dBFS, as sung and cleaned: of the selected part, and of all parts together.

        Part by part, with time for others in between.
        """
        levels = {}
        for part in self.session.parts:
            levels[part.id] = self.pool.take(part.source).stillness(part.plan)
            yield
        known = [level for level in levels.values() if level]
        sung, cleaned = (10 * math.log10(sum(10 ** (level[i] / 10) for level in known) or 1.0) for i in (0, 1))
        return levels.get(self.part.id), (round(sung, 1), round(cleaned, 1)) if known else None

    def set_lifted(self, on: bool) -> None:
        """Whether what is taken out of the lows is lifted into hearing; for listening only."""
        self.lifted = on
        self.take_changed.emit()

    def undo(self) -> None:
        """Take the last step back."""
        self.keeper.go(self.keeper.history.at - 1)

    def redo(self) -> None:
        """Do the step last taken back again."""
        self.keeper.go(self.keeper.history.at + 1)

    def set_setting(self, name: str, value: float, gesture: object = None, same: bool = False) -> None:
        """Set one setting of the pass for all selected parts.

        A ceiling moves in each part by as much as in the first, unless the ``same`` is wanted in all; and it decides
        the selected marks.
        """
        kind, value = self.pass_.kind, round(value, 2)
        if name not in [setting for setting, *_ in self.pass_.skyline.ceilings(self.part)]:
            self.set_of_kind(kind, name, value, gesture)
            return
        key = kind, name, gesture, self.parts_in_hand
        if self._moved is None or self._moved[0] != key or gesture is None:
            parts = [p for p in self.session.parts if p.id in self.parts_in_hand]
            self._moved = key, {p.id: float(getattr(p.settings(kind), name)) for p in parts}
        first, marks = self.part.id, [m.id for m in self.marks_in_hand()]
        before = self._moved[1]
        by = value - before[first]
        before = dict.fromkeys(before, before[first]) if same else before

        def move(session: Session) -> Session:
            session = edits.move_setting(session, before, kind, name, by)
            return edits.agree(session, first, marks) if marks else session

        self.edit(self._setting_words(kind, name, value), move, gesture)

    def set_of_kind(self, kind: str, name: str, value: float | bool | str, gesture: object = None) -> None:
        """Set one setting of a kind for all selected parts."""
        ids = self.parts_in_hand
        words = self._setting_words(kind, name, value)
        self.edit(words, lambda s: edits.set_setting(s, ids, kind, name, value), gesture)

    def _setting_words(self, kind: str, name: str, value: float | bool | str) -> str:
        return f"{self.pass_.words_of(kind, name)} {self.pass_.said(kind, name, value)} · {self._whom()}"

    def role_settings(self) -> None:
        """Back to the role's default for all selected parts."""
        kinds, ids = self.pass_.kinds, self.parts_in_hand
        self.edit(f"role’s default · {self._whom()}", lambda s: edits.role_settings(s, ids, kinds))

    def give_settings(self, part_ids: list[str]) -> None:
        """Give the settings of the selected part to others."""
        part = self.part
        settings = {kind: part.settings(kind) for kind in NAMES}
        self.edit(f"settings from {part.name}", lambda s: edits.set_settings(s, part_ids, settings))

    def toggle_done(self) -> None:
        """Call this pass done for the selected parts, or no longer."""
        kind = self.pass_.kind
        on = not all(kind in self.session.part(p).done for p in self.parts_in_hand)
        words = f"{self.pass_.name} {'done' if on else 'not done yet'}"
        self.edit(f"{words} · {self._whom()}", lambda s: edits.set_done(s, self.parts_in_hand, kind, on))

    def take_alike(self, share: float) -> None:
        """Take in hand, beside the selected mark, the ``share`` of the others that are most like it."""
        mark, surveyed = self.mark, self.take.surveyed
        if mark is None or surveyed is None:
            return
        near = alike(surveyed.survey, mark, [m for m in self.marks if m.id != mark.id])
        self.take_in_hand([mark.id, *near[: round(share * len(near))]], show=False)

    def mark_place(self, song_s: float, name: str = "") -> None:
        """Name a place in the song."""
        self.edit("marker", lambda s: layout.add_marker(s, song_s, name))

    def markers_shown(self) -> tuple[list[Marker], np.ndarray]:
        """The markers of the song and the notes of the selected part, and where they stand, in s of the part."""
        if self._markers is None or self._markers[0] is not self.session or self._markers[1] is not self.part:
            shown = [marker for marker in self.session.markers if marker.part in ("", self.part.id)]
            at = np.array([song_time(self.session, marker) for marker in shown])
            self._markers = self.session, self.part, shown, at - self.offset
        return self._markers[2:]

    def look_again(self) -> None:
        """Find the marks of the selected part once more; what was decided by hand stays."""
        if self.part is not EMPTY_PART:
            self.pool.look_again(self.part.source, self.part.leak, self.part.removal)

    def _session_changed(self) -> None:
        there = {p.id for p in self.session.parts}
        selected = tuple(p for p in self.parts_in_hand if p in there) or tuple(p.id for p in self.session.parts[:1])
        sources = tuple(i.source for i in self.session.items)
        if selected != self.parts_in_hand or sources != self._stocked:
            self.parts_in_hand = selected
            self._stock()
            self._show_song(*(self.session.span if self.view[1] - self.view[0] <= SHORTEST_VIEW_S
                              else (t + self.offset for t in self.view)))  # fmt: skip
            self.take_changed.emit()
            self.hand_changed.emit()
        self.session_changed.emit()
        shown = (self.part, self.session.markers, self.song, self.parts_in_hand)
        if any(one is not other and one != other for one, other in zip(shown, self._shown, strict=True)):
            self._shown = shown
            self.part_changed.emit()

    def restock(self) -> None:
        """Look at the session's recordings again: one may be there that was missing."""
        self._stock()
        self.take_changed.emit()

    def _stock(self) -> None:
        self._stocked = tuple(i.source for i in self.session.items)
        self.pool.stock(self.session)
        self.pool.at_hand(self.part.source)
        self.leaks.learn_what_is_gone()
        self._more.start()

    def _take_known(self, source: Source) -> None:
        """News of takes are shown together; those of the selected part at once."""
        if source == self.part.source:
            self._news.stop()
            self._more.start()
        elif not self._news.isActive():
            self._news.start()

    def _show_news(self) -> None:
        """Put what was found in takes into parts, each in a turn of its own; then show what is new of takes."""
        new = ((p.id, self.pool.take(p.source).findings) for p in self.session.parts if not p.found)
        found = next(((part_id, findings) for part_id, findings in new if findings is not None), None)
        if found is None:
            self.take_changed.emit()
        else:
            self.keeper.adopt([found])
            self._more.start()

    def _found_again(self, source: Source) -> None:
        findings = self.pool.take(source).findings
        for part in self.session.parts:
            if part.source == source and findings is not None:
                self.keeper.adopt([(part.id, findings)])
                self.notice.emit(f"Found again: {len(findings.marks)} marks; your decisions were kept.")
