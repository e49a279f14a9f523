"""The workspace: the edits of what is in hand, and what changes by itself while takes are surveyed and searched.

The views read from here and call its methods; every change of the session is an
edit that goes through the :class:`SessionKeeper`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QTimer

from isophon.app.model.in_hand import NOBODY, SHORTEST_VIEW_S, InHand
from isophon.app.model.leaks import Leaks
from isophon.app.model.lining_up import LiningUp
from isophon.app.model.passes import Pass
from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.take_pool import TakePool
from isophon.core.errors import CallError, InputError
from isophon.core.finding import noise_in
from isophon.core.passes import NAMES
from isophon.core.session import edits, layout, shaping
from isophon.core.session.alike import alike
from isophon.core.session.history import History
from isophon.core.session.model import Session, Source
from isophon.core.survey import VOICED
from isophon.core.work.workers import Workers

_SUNG_S, _BOX_DB = 0.05, -6.0
_NEWS_MS = 250
_MS_A_DB = 10.0  # a step of half a dB is one of 5 ms where words are moved


class Workspace(InHand):
    """The model of the window: what is in hand, and the edits of it."""

    def __init__(self, history: History, saved_as: Path | None, continued: Path | None, workers: Workers,
                 first: Pass) -> None:  # fmt: skip
        """``continued``: the journal whose unsaved work goes on here; ``first``: the pass that is open at first."""
        super().__init__(SessionKeeper(history, saved_as, continued, None), TakePool(workers), first)
        self.keeper.setParent(self)
        self.pool.setParent(self)
        self.leaks = Leaks(self.keeper, self.pool, self)
        self.lining_up = LiningUp(self.keeper, self.pool, self)
        self.lifted = False
        self._moved: tuple[object, dict[str, float]] | None = None  # a gesture, and where parts stood before it
        self._stocked: tuple[Source, ...] = ()
        self._shown: tuple = (None, None, None, None)
        self._news = QTimer(self, singleShot=True, interval=_NEWS_MS)
        self._news.timeout.connect(self._show_news)
        self.keeper.changed.connect(self._session_changed)
        self.keeper.told.connect(self.told)
        self.pool.told.connect(self.told)
        self.leaks.told.connect(self.told)
        self.leaks.learned.connect(self.take_changed)
        self.pool.changed.connect(self._take_known)
        self.pool.found_again.connect(self._found_again)

    def begin(self) -> None:
        """Start what goes on in the background; called once the views are there."""
        self._stock()

    def close(self) -> None:
        """Write down what is not yet, and stop all that goes on in the background."""
        self._news.stop()
        self.keeper.close()
        self.pool.close()
        self.blockSignals(True)

    # edits

    def stillness(self) -> tuple[tuple[float, float] | None, tuple[float, float] | None]:
        """The still moments' level in dBFS, as sung and cleaned: of the part in hand, and of all parts together."""
        levels = {p.id: self.pool.take(p.source).stillness(p.plan) for p in self.session.parts}
        known = [level for level in levels.values() if level]
        together = [10 * math.log10(sum(10 ** (level[i] / 10) for level in known)) for i in (0, 1)] if known else None
        return levels.get(self.part.id), together and (round(together[0], 1), round(together[1], 1))

    def set_lifted(self, on: bool) -> None:
        """Whether what is taken out of the lows is lifted into hearing; for listening only."""
        self.lifted = on
        self.take_changed.emit()

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> bool:
        """Make one edit; edits of one gesture are one step of the history. Whether anything changed."""
        return self.keeper.edit(name, change, gesture)

    def undo(self) -> None:
        """Take the last step back."""
        self.keeper.go(self.keeper.history.at - 1)

    def redo(self) -> None:
        """Do the step last taken back again."""
        self.keeper.go(self.keeper.history.at + 1)

    def set_setting(self, name: str, value: float, gesture: object = None, same: bool = False) -> None:
        """Set one setting of the pass for all parts in hand.

        A ceiling moves in each part by as much as in the first, unless the ``same`` is wanted in all; and it decides
        the marks in hand.
        """
        kind, value = self.pass_.kind, round(value, 2)
        if name not in [setting for setting, *_ in self.pass_.ceilings(self.part)]:
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

        self.edit(f"{self.pass_.words_of(kind, name)} {value:g} · {self._whom()}", move, gesture)

    def set_of_kind(self, kind: str, name: str, value: float | bool | str, gesture: object = None) -> None:
        """Set one setting of a kind for all parts in hand."""
        ids = self.parts_in_hand
        shown = value if isinstance(value, str) else f"{value:g}"
        words = f"{self.pass_.words_of(kind, name)} {shown} · {self._whom()}"
        self.edit(words, lambda s: edits.set_setting(s, ids, kind, name, value), gesture)

    def role_settings(self) -> None:
        """Back to the role's default for all parts in hand."""
        kinds, ids = self.pass_.kinds, self.parts_in_hand
        self.edit(f"role’s default · {self._whom()}", lambda s: edits.role_settings(s, ids, kinds))

    def learn_noise(self) -> None:
        """Learn the hiss of the part in hand from the selected time, or from its still moments again."""
        part, take = self.part, self.take
        if take.surveyed is None:
            self.told.emit("This part is still being surveyed; its noise can be learned afterwards.")
        elif self.selection is None and not part.learned:
            self.told.emit("Drag over the ruler to select a moment in which only the noise is heard.")
        elif self.selection is None:
            self.edit(f"noise from the stillness · {part.name}", lambda s: edits.learn_noise(s, part.id, 0, 0, ()))
        else:
            start, end = self.selection
            try:
                noise = noise_in(take.recording, take.surveyed.survey, part.measured.hum, start, end)
            except InputError as error:
                self.told.emit(str(error))
                return
            words = f"noise from {start + self.offset:.1f} s · {part.name}"
            self.edit(words, lambda s: edits.learn_noise(s, part.id, start, end, noise))

    def give_settings(self, part_ids: list[str]) -> None:
        """Give the settings of the part in hand to others."""
        part = self.part
        settings = {kind: part.settings(kind) for kind in NAMES}
        self.edit(f"settings from {part.name}", lambda s: edits.set_settings(s, part_ids, settings))

    def toggle_done(self) -> None:
        """Call this pass done for the parts in hand, or no longer."""
        kind = self.pass_.kind
        on = not all(kind in self.session.part(p).done for p in self.parts_in_hand)
        words = f"{self.pass_.name} {'done' if on else 'not done yet'}"
        self.edit(f"{words} · {self._whom()}", lambda s: edits.set_done(s, self.parts_in_hand, kind, on))

    def change_more(self, step_db: float) -> None:
        """A little more (negative) or less change of the marks in hand, by hand."""
        step = step_db if self.pass_.unit == "dB" else _MS_A_DB * step_db
        self.set_changes({m.id: self.part.change(m) + step for m in self.marks_in_hand()}, ("step", self.in_hand))

    def set_edge(self, edge: str, seconds: float, gesture: object) -> None:
        """Move the ``start`` or ``end`` of the mark in hand by hand."""
        mark = self.mark
        if mark is None:
            return
        start, end = mark.span
        if edge == "start":
            start = min(max(0.0, seconds), end - 0.01)
        else:
            end = max(min(seconds, self.part.source.duration), start + 0.01)
        words = f"edge by hand · {self.part.name}"
        self.edit(words, lambda s: edits.set_box(s, self.part.id, mark.id, start, end, *mark.band), gesture)

    def set_band(self, name: str, low_hz: float, high_hz: float, gesture: object = None) -> None:
        """Move a mark's band by hand."""
        mark = self.part.mark(name)
        if mark is not None:
            low_hz, high_hz = max(20.0, low_hz), min(20_000.0, high_hz)
            words = f"band by hand · {self.where()}"
            self.edit(words, lambda s: edits.set_box(s, self.part.id, name, *mark.span, low_hz, high_hz), gesture)

    def make_band(self, hz: float) -> None:
        """Make a mark at a frequency by hand; in the selected time only, where there is one."""
        if self.pass_.made is None or self.part is NOBODY:
            return
        mark = self.pass_.made(self.part, hz)
        if self.selection is not None:
            mark = replace(mark, start=round(self.selection[0], 4), end=round(self.selection[1], 4))
        try:
            session, name = edits.draw_mark(self.session, self.part.id, mark)
        except CallError as error:
            self.told.emit(f"That is no {self.pass_.one}: {error}.")
            return
        session = edits.set_changes(session, self.part.id, {name: self.pass_.made_db})
        self.edit(f"make · {self.pass_.one} in {self.part.name}", lambda _: session)
        self.take_in_hand([name], show=False)

    def draw_outline(self, points: Sequence[tuple[float, float]]) -> None:
        """Draw a mark over a free outline, corners in s and Hz. Heard at once."""
        times, hz = [t for t, _ in points], [f for _, f in points]
        self.draw_box(min(times), max(times), min(hz), max(hz), tuple((round(t, 4), round(f, 1)) for t, f in points))

    def draw_box(self, start: float, end: float, low_hz: float, high_hz: float,
                 outline: tuple[tuple[float, float], ...] = ()) -> None:  # fmt: skip
        """Draw a mark over a box in time and frequency; 0 and 0 Hz: over the whole band. Heard at once."""
        surveyed = self.take.surveyed
        if surveyed is None or self.pass_.measure is None or not self.pass_.boxes:
            return
        start, end = max(0.0, round(start, 4)), min(self.part.source.duration, round(end, 4))
        try:
            edits.check_length(self.pass_.kind, end - start)
        except CallError as error:
            self.told.emit(f"That is no {self.pass_.one}: {error}.")
            return
        mark = self.pass_.measure(self.take.recording.read, surveyed.survey, start, end)
        mark = replace(mark, low_hz=round(low_hz, 1), high_hz=round(high_hz, 1))
        session, name = edits.draw_mark(self.session, self.part.id, mark)
        session = edits.set_changes(session, self.part.id, {name: _BOX_DB})
        session = shaping.set_outline(session, self.part.id, name, outline) if outline else session
        self.edit(f"draw · {self.pass_.one} in {self.part.name}", lambda _: session)
        self.take_in_hand([name], show=False)

    def take_alike(self, share: float) -> None:
        """Take in hand, beside the mark in hand, the ``share`` of the others that are most like it."""
        mark, surveyed = self.mark, self.take.surveyed
        if mark is None or surveyed is None:
            return
        near = alike(surveyed.survey, mark, [m for m in self.marks if m.id != mark.id])
        self.take_in_hand([mark.id, *near[: round(share * len(near))]], show=False)

    def nudge_edge(self, edge: str, by_s: float) -> None:
        """Move the ``start`` or ``end`` of the mark in hand a little, by hand."""
        mark = self.mark
        if mark is not None:
            self.set_edge(edge, mark.span[edge == "end"] + by_s, ("nudge", edge, self.in_hand))

    def set_changes(self, changes: dict[str, float], gesture: object = None) -> None:
        """Set the changes of marks by hand, each its own."""
        if self.pass_.by_hand:
            self.told.emit(self.pass_.by_hand)
            return
        self.edit(f"change by hand · {self.where()}", lambda s: edits.set_changes(s, self.part.id, changes), gesture)

    def toggle_leave(self) -> None:
        """Leave the marks in hand as sung, or no longer."""
        marks = self.marks_in_hand()
        if marks:
            on = not all(m.hand.leave for m in marks)
            words = f"{'leave' if on else 'leave no longer'} · {self.where()}"
            self.edit(words, lambda s: edits.leave(s, self.part.id, self.in_hand, on))

    def forget_hand(self) -> None:
        """Give the marks in hand back to the settings."""
        words = f"back to the ceiling · {self.where()}"
        self.edit(words, lambda s: edits.forget_hand(s, self.part.id, self.in_hand))

    def take_away(self) -> None:
        """Take away the marks in hand that were drawn, and leave as sung those that were found."""
        drawn = [m.id for m in self.marks_in_hand() if m.hand.drawn]
        found = [m.id for m in self.marks_in_hand() if not m.hand.drawn]

        def change(session: Session) -> Session:
            session = edits.forget_hand(session, self.part.id, drawn)
            return edits.leave(session, self.part.id, found, True)

        if drawn or found:
            self.edit(f"take away · {self.where()}", change)

    def draw_mark(self) -> None:
        """Make a mark of the selected time."""
        one, surveyed = self.pass_.one, self.take.surveyed
        if self.selection is not None and self.pass_.boxes:
            self.draw_box(*self.selection, 0.0, 0.0)
        elif self.selection is not None and self.pass_.made is not None:
            band = self.mark
            self.make_band(1_000.0 if band is None else math.sqrt(band.low_hz * band.high_hz))
        elif self.pass_.made is not None:
            self.told.emit(f"Double-click in the skyline to make a {one}, or select a time on the ruler first.")
        elif self.pass_.measure is None:
            self.told.emit("The hits of a leak are found, not drawn; learn it from the cue.")
        elif surveyed is None:
            self.told.emit("This part is still being surveyed; marks can be drawn once its voice level is known.")
        elif self.part.voice_lufs is None:
            self.told.emit(f"No voice was found here, so the {one} cannot be measured against it.")
        elif self.selection is None:
            self.told.emit(f"Drag over the ruler to select the time of the {one} first.")
        else:
            start, end = self.selection
            try:
                edits.check_length(self.pass_.kind, end - start)
            except CallError as error:
                self.told.emit(f"That is no {one}: {error}.")
                return
            start, end = round(start, 4), round(end, 4)
            mark = self.pass_.measure(self.take.recording.read, surveyed.survey, start, end)
            session, name = edits.draw_mark(self.session, self.part.id, mark)
            self.selection = None
            self.edit(f"draw · {one} in {self.part.name}", lambda s: session)
            self.take_in_hand([name])
            sung = self.sung_within(start, end)
            if self.pass_.still and sung > _SUNG_S:
                self.told.emit(f"{sung:.2f} s of singing lie within this gap and go with it; undo takes it back.")

    def split_mark(self, at: float) -> None:
        """Cut the mark in hand in two at a second of the part, and take the later piece in hand."""
        mark, surveyed = self.mark, self.take.surveyed
        if mark is None or surveyed is None or self.pass_.measure is None or self.pass_.over_frequency:
            self.told.emit("Take a mark in hand to split it where the playhead is.")
            return
        start, end = mark.span
        at = round(at if start < at < end else (start + end) / 2, 4)
        later = self.pass_.measure(self.take.recording.read, surveyed.survey, at, end)
        try:
            session, name = shaping.split(self.session, self.part.id, mark, at, later)
        except CallError as error:
            self.told.emit(f"It is too short to be split: {error}.")
            return
        self.edit(f"split · {self.where()}", lambda _: session)
        self.take_in_hand([name], show=False)

    def join_marks(self) -> None:
        """Make one mark of those in hand."""
        marks = self.marks_in_hand()
        if len(marks) < 2 or self.pass_.over_frequency:
            self.told.emit("Take two marks or more in hand to join them: drag across their bars.")
            return
        try:
            session = shaping.join(self.session, self.part.id, [m.id for m in marks])
        except CallError as error:
            self.told.emit(f"These cannot be one {self.pass_.one}: {error}.")
            return
        self.edit(f"join {len(marks)} · {self.where()}", lambda _: session)
        self.take_in_hand([max(marks, key=lambda m: (not m.hand.drawn, m.standout_db)).id], show=False)

    def set_shape(self, shape: shaping.Shape, gesture: object = None) -> None:
        """Let the change of the marks in hand follow a curve along their time."""
        words = f"change along the mark · {self.where()}"
        self.edit(words, lambda s: shaping.set_shape(s, self.part.id, self.in_hand, shape), gesture)

    def sung_within(self, start: float, end: float) -> float:
        """How many seconds of voice lie within a span of the part in hand; 0 before its survey."""
        if self.take.surveyed is None:
            return 0.0
        survey = self.take.surveyed.survey
        voiced = survey.state[survey.frame(start) : survey.frame(end)] == VOICED
        return float(np.count_nonzero(voiced) * survey.hop_s)

    def mark_place(self, song_s: float, name: str = "") -> None:
        """Name a place in the song."""
        self.edit("marker", lambda s: layout.add_marker(s, song_s, name))

    def look_again(self) -> None:
        """Find the marks of the part in hand once more; what was decided by hand stays."""
        if self.part is not NOBODY:
            self.pool.look_again(self.part.source, self.part.leak, self.part.bleed)

    def _whom(self) -> str:
        return self.part.name if len(self.parts_in_hand) == 1 else f"{len(self.parts_in_hand)} parts"

    def where(self) -> str:
        """The part and mark in hand, in words."""
        mark = self.mark
        at = "" if mark is None else f" at {mark.start + self.offset:.1f} s"
        return f"{self.part.name}{at}"

    # what changes by itself

    def _session_changed(self) -> None:
        there = {p.id for p in self.session.parts}
        kept = tuple(p for p in self.parts_in_hand if p in there) or tuple(p.id for p in self.session.parts[:1])
        sources = tuple(i.source for i in self.session.items)
        if kept != self.parts_in_hand or sources != self._stocked:
            self.parts_in_hand = kept
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
        self._adopt()

    def _take_known(self, source: Source) -> None:
        """News of takes are shown together; those of the part in hand at once."""
        if source == self.part.source:
            self._news.stop()
            self._show_news()
        elif not self._news.isActive():
            self._news.start()

    def _show_news(self) -> None:
        self._adopt()
        self.take_changed.emit()

    def _adopt(self) -> None:
        """Put what was found in takes into the parts that have not been looked at yet."""
        new = [(p.id, self.pool.take(p.source).findings) for p in self.session.parts if not p.found]
        found = [(part_id, findings) for part_id, findings in new if findings is not None]
        if found:
            self.keeper.adopt(found)

    def _found_again(self, source: Source) -> None:
        findings = self.pool.take(source).findings
        for part in self.session.parts:
            if part.source == source and findings is not None:
                self.edit(f"look again · {part.name}", lambda s, i=part.id: edits.adopt_findings(s, i, findings))
                self.told.emit(f"Looked again: {len(findings.marks)} marks; what was decided by hand stayed.")
