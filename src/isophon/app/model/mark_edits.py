"""The edits of marks: of those in hand, and those that a hand draws."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from isophon.app.model.in_hand import EMPTY_PART, InHand
from isophon.core.errors import CallError
from isophon.core.marks import Mark, check_length
from isophon.core.passes import KINDS
from isophon.core.passes.kind import Span
from isophon.core.session import edits, redrawing, shaping
from isophon.core.session.model import Session
from isophon.core.session.settings import drawn_lengths

_SUNG_S, _BOX_DB = 0.05, -6.0
_TOP_HZ, _WIDER, _HEARD_RATIO = 20_000.0, 1.12, 1.15  # of bands: the highest, a step of the wheel, what is heard
_LEAST_ENDING_S = 0.02
_MS_A_DB = 10.0  # a step of half a dB is one of 5 ms where words are moved


class MarkEdits(InHand):
    """Every change is an edit that goes through the :class:`SessionKeeper`."""

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> bool:
        """Make one edit; edits of one gesture are one step of the history. Whether anything changed."""
        return self.keeper.edit(name, change, gesture)

    def change_more(self, step_db: float) -> None:
        """A little more (negative) or less change of the selected marks, by hand."""
        step = step_db if self.pass_.unit == "dB" else _MS_A_DB * step_db
        self.set_changes({m.id: self.part.change(m) + step for m in self.marks_in_hand()}, ("step", self.in_hand))

    def sung_within(self, start: float, end: float) -> float:
        """How many seconds of voice lie within a span of the selected part; 0 before its survey."""
        surveyed = self.take.surveyed
        return 0.0 if surveyed is None else surveyed.survey.voiced_s(start, end)

    def set_edge(self, edge: str, seconds: float, gesture: object) -> None:
        """Move the ``start`` or ``end`` of the selected mark by hand."""
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
            low_hz, high_hz = max(20.0, low_hz), min(_TOP_HZ, high_hz)
            words = f"band by hand · {self.where()}"
            self.edit(words, lambda s: edits.set_box(s, self.part.id, name, *mark.span, low_hz, high_hz), gesture)

    def widen_band(self, mark: Mark, by: int, gesture: object = None) -> None:
        """Make a mark's band wider around its middle, or narrower where ``by`` is below 0."""
        low_hz, high_hz = mark.band[0], mark.band[1] or _TOP_HZ
        middle, half = math.sqrt(low_hz * high_hz), math.sqrt(high_hz / low_hz) ** (_WIDER if by > 0 else 1 / _WIDER)
        self.set_band(mark.id, middle / half, middle * half, gesture)

    def hear_near(self, hz: float, without: bool) -> None:
        """Let what lies around a frequency be heard alone, or all but it, until ``band_left``."""
        self.band_asked.emit(hz / _HEARD_RATIO, hz * _HEARD_RATIO, without)

    def make_band(self, hz: float) -> None:
        """Make a mark at a frequency by hand; in the selected time only, where there is one."""
        if self.pass_.hand.made is None or self.part is EMPTY_PART:
            return
        mark = self.pass_.hand.made(self.part, hz)
        if self.selection is not None:
            mark = replace(mark, start=round(self.selection[0], 4), end=round(self.selection[1], 4))
        try:
            session, name = edits.draw_mark(self.session, self.part.id, mark)
        except CallError as error:
            self.notice.emit(f"That is no {self.pass_.words.one}: {error}.")
            return
        session = edits.set_changes(session, self.part.id, {name: self.pass_.hand.made_db})
        self.edit(f"make · {self.pass_.words.one} in {self.part.name}", lambda _: session)
        self.take_in_hand([name], show=False)

    def draw_outline(self, points: Sequence[tuple[float, float]]) -> None:
        """Draw a mark over a free outline, corners in s and Hz. Heard at once."""
        times, hz = [t for t, _ in points], [f for _, f in points]
        self.draw_box(min(times), max(times), min(hz), max(hz), tuple((round(t, 4), round(f, 1)) for t, f in points))

    def draw_box(self, start: float, end: float, low_hz: float, high_hz: float,
                 outline: tuple[tuple[float, float], ...] = ()) -> None:  # fmt: skip
        """Draw a mark over a box in time and frequency; 0 and 0 Hz: over the whole band. Heard at once.

        Where the pass that is open has no boxes, the one that has them is opened for it.
        """
        surveyed = self.take.surveyed
        if surveyed is None:
            return
        if not self.pass_.hand.boxes:
            self.boxes_asked.emit()
        if self.pass_.hand.measure is None or not self.pass_.hand.boxes:
            return
        start, end = max(0.0, round(start, 4)), min(self.part.source.duration, round(end, 4))
        try:
            check_length(end - start, drawn_lengths(self.pass_.kind))
        except CallError as error:
            self.notice.emit(f"That is no {self.pass_.words.one}: {error}.")
            return
        mark = self.pass_.hand.measure(self.take.recording.read, surveyed.survey, start, end)
        mark = replace(mark, low_hz=round(low_hz, 1), high_hz=round(high_hz, 1))
        session, name = edits.draw_mark(self.session, self.part.id, mark)
        session = edits.set_changes(session, self.part.id, {name: _BOX_DB})
        session = shaping.set_outline(session, self.part.id, name, outline) if outline else session
        self.edit(f"draw · {self.pass_.words.one} in {self.part.name}", lambda _: session)
        self.take_in_hand([name], show=False)

    def nudge_edge(self, edge: str, by_s: float) -> None:
        """Move the ``start`` or ``end`` of the selected mark a little, by hand."""
        mark = self.mark
        if mark is not None:
            self.set_edge(edge, mark.span[edge == "end"] + by_s, ("nudge", edge, self.in_hand))

    def set_changes(self, changes: dict[str, float], gesture: object = None) -> None:
        """Set the changes of marks by hand, each its own."""
        if self.pass_.hand.by_hand:
            self.notice.emit(self.pass_.hand.by_hand)
            return
        self.edit(f"change by hand · {self.where()}", lambda s: edits.set_changes(s, self.part.id, changes), gesture)

    def toggle_leave(self) -> None:
        """Leave the selected marks as sung, or no longer."""
        marks = self.marks_in_hand()
        if marks:
            on = not all(m.hand.leave for m in marks)
            words = f"{'leave' if on else 'leave no longer'} · {self.where()}"
            self.edit(words, lambda s: edits.leave(s, self.part.id, self.in_hand, on))

    def forget_hand(self) -> None:
        """Give the selected marks back to the settings."""
        words = f"back to the ceiling · {self.where()}"
        self.edit(words, lambda s: edits.forget_hand(s, self.part.id, self.in_hand))

    def take_away(self) -> None:
        """Take away the selected marks that were drawn, and leave as sung those that were found."""
        drawn = [m.id for m in self.marks_in_hand() if m.hand.drawn]
        found = [m.id for m in self.marks_in_hand() if not m.hand.drawn]

        def change(session: Session) -> Session:
            session = edits.forget_hand(session, self.part.id, drawn)
            return edits.leave(session, self.part.id, found, True)

        if drawn or found:
            self.edit(f"delete · {self.where()}", change)

    def draw_mark(self) -> None:
        """Make a mark of the selected time."""
        one, surveyed = self.pass_.words.one, self.take.surveyed
        if self.selection is not None and self.pass_.hand.boxes:
            self.draw_box(*self.selection, 0.0, 0.0)
        elif self.selection is not None and self.pass_.hand.made is not None:
            band = self.mark
            self.make_band(1_000.0 if band is None else math.sqrt(band.low_hz * band.high_hz))
        elif self.pass_.hand.made is not None:
            self.notice.emit(f"Double-click in the skyline to make a {one}, or select a time on the ruler first.")
        elif self.pass_.hand.measure is None:
            self.notice.emit("The hits of a leak are found, not drawn; find the leak from the cue.")
        elif surveyed is None:
            self.notice.emit("This part is still being analysed; marks can be drawn once its voice level is known.")
        elif self.part.voice_lufs is None:
            self.notice.emit(f"No voice was found here, so the {one} cannot be measured against it.")
        elif self.selection is None:
            self.notice.emit(f"Drag over the ruler to select the time of the {one} first.")
        else:
            start, end = self.selection
            try:
                check_length(end - start, drawn_lengths(self.pass_.kind))
            except CallError as error:
                self.notice.emit(f"That is no {one}: {error}.")
                return
            start, end = round(start, 4), round(end, 4)
            mark = self.pass_.hand.measure(self.take.recording.read, surveyed.survey, start, end)
            session, name = edits.draw_mark(self.session, self.part.id, mark)
            self.selection = None
            self.edit(f"draw · {one} in {self.part.name}", lambda _s: session)
            self.take_in_hand([name])
            sung = self.sung_within(start, end)
            if self.pass_.trace.still and sung > _SUNG_S:
                self.notice.emit(f"{sung:.2f} s of singing lie within this gap and go with it; undo takes it back.")

    def split_mark(self, at: float) -> None:
        """Cut the selected mark in two at a second of the part, and take the later piece in hand."""
        mark, surveyed = self.mark, self.take.surveyed
        if mark is None or surveyed is None or self.pass_.hand.measure is None or self.pass_.skyline.over_frequency:
            self.notice.emit("Select a mark to split it at the playhead.")
            return
        start, end = mark.span
        at = round(at if start < at < end else (start + end) / 2, 4)
        later = self.pass_.hand.measure(self.take.recording.read, surveyed.survey, at, end)
        try:
            session, name = shaping.split(self.session, self.part.id, mark, at, later)
        except CallError as error:
            self.notice.emit(f"It is too short to be split: {error}.")
            return
        self.edit(f"split · {self.where()}", lambda _: session)
        self.take_in_hand([name], show=False)

    def join_marks(self) -> None:
        """Make one mark of those in hand."""
        marks = self.marks_in_hand()
        if len(marks) < 2 or self.pass_.skyline.over_frequency:
            self.notice.emit("Select two marks or more to join them: drag across their bars.")
            return
        try:
            session = shaping.join(self.session, self.part.id, [m.id for m in marks])
        except CallError as error:
            self.notice.emit(f"These cannot be one {self.pass_.words.one}: {error}.")
            return
        self.edit(f"join {len(marks)} · {self.where()}", lambda _: session)
        self.take_in_hand([max(marks, key=shaping.strength).id], show=False)

    def set_shape(self, shape: shaping.Shape, gesture: object = None) -> None:
        """Let the change of the selected marks follow a curve along their time."""
        words = f"change along the mark · {self.where()}"
        self.edit(words, lambda s: shaping.set_shape(s, self.part.id, self.in_hand, shape), gesture)

    def fades_of(self, mark: Mark) -> tuple[float, float]:
        """How long the change of a mark takes to come and to go, in ms."""
        usual = self.pass_.hand.fades
        return mark.hand.fades_ms or (usual(self.part) if usual else (0.0, 0.0))

    def set_fades(self, fades_ms: tuple[float, float], gesture: object = None) -> None:
        """How long the changes of the selected marks take to come and to go, by hand."""
        words = f"fades by hand · {self.where()}"
        self.edit(words, lambda s: shaping.set_fades(s, self.part.id, self.in_hand, fades_ms), gesture)

    def give_back_ending(self) -> None:
        """Let the selected marks begin only where the sound before them has died away, with a long fade."""
        tools, surveyed = self.pass_.hand, self.take.surveyed
        if tools.ending is None or surveyed is None or self.mark is None:
            self.notice.emit("Select a gap to give back the ending of the word before it.")
            return
        starts = ((mark, tools.ending(surveyed.survey, mark)) for mark in self.marks_in_hand())
        longer = {mark.id: start for mark, start in starts if start > mark.span[0] + _LEAST_ENDING_S}
        if not longer:
            self.notice.emit("No sound goes on into this gap: nothing of an ending is cut off.")
            return
        words = f"ending given back · {self.where()}"
        self.edit(words, lambda s: shaping.give_back_endings(s, self.part.id, longer))

    def say_singing(self, sung: bool) -> None:
        """Say of the selected time that it is singing, or is not."""
        selected, part = self.selection, self.part
        if selected is None or not part.id:
            self.notice.emit("Drag over the ruler to select what is singing, or is not.")
            return
        kind = next(kind.name for kind in KINDS if kind.redrawing)
        try:
            session = redrawing.say(self.session, part.id, kind, Span(*selected), sung)
        except CallError as error:
            self.notice.emit(f"That cannot be said: {error}.")
            return
        self.edit(
            f"{'' if sung else 'not '}singing at {selected[0] + self.offset:.1f} s · {part.name}", lambda _: session
        )

    def set_curve(self, curve: shaping.Shape, gesture: object = None) -> None:
        """Add a curve over frequency, (Hz, dB), to the change of the selected mark."""
        part, mark = self.part, self.mark
        if mark is not None:
            change = lambda s: shaping.set_curve(s, part.id, mark.id, curve)  # noqa: E731
            self.edit(f"change over frequency · {self.where()}", change, gesture)

    def _whom(self) -> str:
        return self.part.name if len(self.parts_in_hand) == 1 else f"{len(self.parts_in_hand)} parts"

    def where(self) -> str:
        """The part and mark in hand, in words."""
        mark = self.mark
        at = "" if mark is None else f" at {mark.start + self.offset:.1f} s"
        return f"{self.part.name}{at}"
