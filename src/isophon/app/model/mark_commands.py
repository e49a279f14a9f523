"""Commands for marks: what a hand does to the selected ones, and those that it draws."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from isophon.app.model.keys import keyed
from isophon.core.errors import CallError
from isophon.core.marks import Mark, check_length
from isophon.core.passes import KINDS
from isophon.core.passes.kind import Span
from isophon.core.session import edits, redrawing, shaping
from isophon.core.session.model import Session
from isophon.core.session.settings import drawn_lengths

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

_SUNG_S, _BOX_DB = 0.05, -6.0
_TOP_HZ, _WIDER, _HEARD_RATIO = 20_000.0, 1.12, 1.15  # of bands: the highest, a step of the wheel, what is heard
_LEAST_ENDING_S = 0.02
_MS_A_DB = 10.0  # a step of half a dB is one of 5 ms where words are moved


class MarkCommands:
    """Each command is one edit of the session, named for the history; a drag is one step of it."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace

    def change_more(self, step_db: float) -> None:
        """A little more (negative) or less change of the selected marks, by hand."""
        workspace = self._workspace
        step = step_db if workspace.pass_.unit == "dB" else _MS_A_DB * step_db
        self.set_changes(
            {m.id: workspace.part.change(m) + step for m in workspace.marks_selected()},
            ("step", workspace.selected_marks),
        )

    def set_edge(self, edge: str, seconds: float, gesture: object) -> None:
        """Move the ``start`` or ``end`` of the selected mark by hand."""
        workspace = self._workspace
        mark = workspace.mark
        if mark is None:
            return
        start, end = mark.span
        if edge == "start":
            start = min(max(0.0, seconds), end - 0.01)
        else:
            end = max(min(seconds, workspace.part.source.duration), start + 0.01)
        words = f"edge by hand · {workspace.part.name}"
        workspace.edit(words, lambda s: edits.set_box(s, workspace.part.id, mark.id, start, end, *mark.band), gesture)

    def set_band(self, name: str, low_hz: float, high_hz: float, gesture: object = None) -> None:
        """Move a mark's band by hand."""
        workspace = self._workspace
        mark = workspace.part.mark(name)
        if mark is not None:
            low_hz, high_hz = max(20.0, low_hz), min(_TOP_HZ, high_hz)
            words = f"band by hand · {workspace.where()}"
            workspace.edit(
                words, lambda s: edits.set_box(s, workspace.part.id, name, *mark.span, low_hz, high_hz), gesture
            )

    def widen_band(self, mark: Mark, by: int, gesture: object = None) -> None:
        """Make a mark's band wider around its middle, or narrower where ``by`` is below 0."""
        low_hz, high_hz = mark.band[0], mark.band[1] or _TOP_HZ
        middle, half = math.sqrt(low_hz * high_hz), math.sqrt(high_hz / low_hz) ** (_WIDER if by > 0 else 1 / _WIDER)
        self.set_band(mark.id, middle / half, middle * half, gesture)

    def hear_near(self, hz: float, without: bool) -> None:
        """Let what lies around a frequency be heard alone, or all but it, until ``band_left``."""
        self._workspace.band_asked.emit(hz / _HEARD_RATIO, hz * _HEARD_RATIO, without)

    def make_band(self, hz: float) -> None:
        """Make a mark at a frequency by hand; in the selected time only, where there is one."""
        workspace = self._workspace
        if workspace.pass_.hand.made is None or not workspace.part.id:
            return
        mark = workspace.pass_.hand.made(workspace.part, hz)
        if workspace.selected_time is not None:
            mark = replace(mark, start=round(workspace.selected_time[0], 4), end=round(workspace.selected_time[1], 4))
        try:
            session, name = edits.draw_mark(workspace.session, workspace.part.id, mark)
        except CallError as error:
            workspace.notice.emit(f"That is no {workspace.pass_.words.one}: {error}.")
            return
        session = edits.set_changes(session, workspace.part.id, {name: workspace.pass_.hand.made_db})
        workspace.edit(f"make · {workspace.pass_.words.one} in {workspace.part.name}", lambda _: session)
        workspace.select_marks([name], show=False)

    def draw_outline(self, points: Sequence[tuple[float, float]]) -> None:
        """Draw a mark over a free outline, corners in s and Hz. Heard at once."""
        times, hz = [t for t, _ in points], [f for _, f in points]
        self.draw_box(min(times), max(times), min(hz), max(hz), tuple((round(t, 4), round(f, 1)) for t, f in points))

    def draw_box(self, start: float, end: float, low_hz: float, high_hz: float,
                 outline: tuple[tuple[float, float], ...] = ()) -> None:  # fmt: skip
        """Draw a mark over a box in time and frequency; 0 and 0 Hz: over the whole band. Heard at once.

        Where the pass that is open has no boxes, the one that has them is opened for it.
        """
        workspace = self._workspace
        surveyed = workspace.take.surveyed
        if surveyed is None:
            return
        if not workspace.pass_.hand.boxes:
            workspace.boxes_asked.emit()
        if workspace.pass_.hand.measure is None or not workspace.pass_.hand.boxes:
            return
        start, end = max(0.0, round(start, 4)), min(workspace.part.source.duration, round(end, 4))
        try:
            check_length(end - start, drawn_lengths(workspace.pass_.kind))
        except CallError as error:
            workspace.notice.emit(f"That is no {workspace.pass_.words.one}: {error}.")
            return
        mark = workspace.pass_.hand.measure(workspace.take.recording.read, surveyed.survey, start, end)
        mark = replace(mark, low_hz=round(low_hz, 1), high_hz=round(high_hz, 1))
        session, name = edits.draw_mark(workspace.session, workspace.part.id, mark)
        session = edits.set_changes(session, workspace.part.id, {name: _BOX_DB})
        session = shaping.set_outline(session, workspace.part.id, name, outline) if outline else session
        workspace.edit(f"draw · {workspace.pass_.words.one} in {workspace.part.name}", lambda _: session)
        workspace.select_marks([name], show=False)

    def nudge_edge(self, edge: str, by_s: float) -> None:
        """Move the ``start`` or ``end`` of the selected mark a little, by hand."""
        workspace = self._workspace
        mark = workspace.mark
        if mark is not None:
            self.set_edge(edge, mark.span[edge == "end"] + by_s, ("nudge", edge, workspace.selected_marks))

    def set_changes(self, changes: dict[str, float], gesture: object = None) -> None:
        """Set the changes of marks by hand, each its own."""
        workspace = self._workspace
        if workspace.pass_.hand.by_hand:
            workspace.notice.emit(keyed(workspace.pass_.hand.by_hand))
            return
        workspace.edit(
            f"change by hand · {workspace.where()}",
            lambda s: edits.set_changes(s, workspace.part.id, changes),
            gesture,
        )

    def toggle_leave(self) -> None:
        """Leave the selected marks as sung, or no longer."""
        workspace = self._workspace
        marks = workspace.marks_selected()
        if marks:
            on = not all(m.hand.leave for m in marks)
            words = f"{'leave' if on else 'leave no longer'} · {workspace.where()}"
            workspace.edit(words, lambda s: edits.leave(s, workspace.part.id, workspace.selected_marks, on))

    def forget_hand(self) -> None:
        """Give the selected marks back to the settings."""
        workspace = self._workspace
        words = f"back to the ceiling · {workspace.where()}"
        workspace.edit(words, lambda s: edits.forget_hand(s, workspace.part.id, workspace.selected_marks))

    def take_away(self) -> None:
        """Take away the selected marks that were drawn, and leave as sung those that were found."""
        workspace = self._workspace
        drawn = [m.id for m in workspace.marks_selected() if m.hand.drawn]
        found = [m.id for m in workspace.marks_selected() if not m.hand.drawn]

        def change(session: Session) -> Session:
            session = edits.forget_hand(session, workspace.part.id, drawn)
            return edits.leave(session, workspace.part.id, found, True)

        if drawn or found:
            workspace.edit(f"delete · {workspace.where()}", change)

    def draw_mark(self) -> None:
        """Make a mark of the selected time."""
        workspace = self._workspace
        one, surveyed = workspace.pass_.words.one, workspace.take.surveyed
        if workspace.selected_time is not None and workspace.pass_.hand.boxes:
            self.draw_box(*workspace.selected_time, 0.0, 0.0)
        elif workspace.selected_time is not None and workspace.pass_.hand.made is not None:
            band = workspace.mark
            self.make_band(1_000.0 if band is None else math.sqrt(band.low_hz * band.high_hz))
        elif workspace.pass_.hand.made is not None:
            workspace.notice.emit(f"Double-click in the skyline to make a {one}, or select a time on the ruler first.")
        elif workspace.pass_.hand.measure is None:
            workspace.notice.emit("The hits of a leak are found, not drawn; find the leak from the cue.")
        elif surveyed is None:
            workspace.notice.emit(
                "This part is still being analysed; marks can be drawn once its voice level is known."
            )
        elif workspace.part.voice_lufs is None:
            workspace.notice.emit(f"No voice was found here, so the {one} cannot be measured against it.")
        elif workspace.selected_time is None:
            workspace.notice.emit(f"Drag over the ruler to select the time of the {one} first.")
        else:
            start, end = workspace.selected_time
            try:
                check_length(end - start, drawn_lengths(workspace.pass_.kind))
            except CallError as error:
                workspace.notice.emit(f"That is no {one}: {error}.")
                return
            start, end = round(start, 4), round(end, 4)
            mark = workspace.pass_.hand.measure(workspace.take.recording.read, surveyed.survey, start, end)
            session, name = edits.draw_mark(workspace.session, workspace.part.id, mark)
            workspace.selected_time = None
            workspace.edit(f"draw · {one} in {workspace.part.name}", lambda _s: session)
            workspace.select_marks([name])
            sung = workspace.sung_within(start, end)
            if workspace.pass_.trace.still and sung > _SUNG_S:
                workspace.notice.emit(
                    f"{sung:.2f} s of singing lie within this gap and go with it; undo takes it back."
                )

    def split_mark(self, at: float) -> None:
        """Cut the selected mark in two at a second of the part, and select the later piece."""
        workspace = self._workspace
        mark, surveyed = workspace.mark, workspace.take.surveyed
        if (
            mark is None
            or surveyed is None
            or workspace.pass_.hand.measure is None
            or workspace.pass_.skyline.over_frequency
        ):
            workspace.notice.emit("Select a mark to split it at the playhead.")
            return
        start, end = mark.span
        at = round(at if start < at < end else (start + end) / 2, 4)
        later = workspace.pass_.hand.measure(workspace.take.recording.read, surveyed.survey, at, end)
        try:
            session, name = shaping.split(workspace.session, workspace.part.id, mark, at, later)
        except CallError as error:
            workspace.notice.emit(f"It is too short to be split: {error}.")
            return
        workspace.edit(f"split · {workspace.where()}", lambda _: session)
        workspace.select_marks([name], show=False)

    def join_marks(self) -> None:
        """Make one mark of the selected ones."""
        workspace = self._workspace
        marks = workspace.marks_selected()
        if len(marks) < 2 or workspace.pass_.skyline.over_frequency:
            workspace.notice.emit("Select two marks or more to join them: drag across their bars.")
            return
        try:
            session = shaping.join(workspace.session, workspace.part.id, [m.id for m in marks])
        except CallError as error:
            workspace.notice.emit(f"These cannot be one {workspace.pass_.words.one}: {error}.")
            return
        workspace.edit(f"join {len(marks)} · {workspace.where()}", lambda _: session)
        workspace.select_marks([max(marks, key=shaping.strength).id], show=False)

    def set_shape(self, shape: shaping.Shape, gesture: object = None) -> None:
        """Let the change of the selected marks follow a curve along their time."""
        workspace = self._workspace
        words = f"change along the mark · {workspace.where()}"
        workspace.edit(
            words,
            lambda s: shaping.set_shape(s, workspace.part.id, workspace.selected_marks, shape),
            gesture,
        )

    def fades_of(self, mark: Mark) -> tuple[float, float]:
        """How long the change of a mark takes to come and to go, in ms."""
        workspace = self._workspace
        usual = workspace.pass_.hand.fades
        return mark.hand.fades_ms or (usual(workspace.part) if usual else (0.0, 0.0))

    def set_fades(self, fades_ms: tuple[float, float], gesture: object = None) -> None:
        """How long the changes of the selected marks take to come and to go, by hand."""
        workspace = self._workspace
        words = f"fades by hand · {workspace.where()}"
        workspace.edit(
            words,
            lambda s: shaping.set_fades(s, workspace.part.id, workspace.selected_marks, fades_ms),
            gesture,
        )

    def give_back_ending(self) -> None:
        """Let the selected marks begin only where the sound before them has died away, with a long fade."""
        workspace = self._workspace
        tools, surveyed = workspace.pass_.hand, workspace.take.surveyed
        if tools.ending is None or surveyed is None or workspace.mark is None:
            workspace.notice.emit("Select a gap to give back the ending of the word before it.")
            return
        starts = ((mark, tools.ending(surveyed.survey, mark)) for mark in workspace.marks_selected())
        longer = {mark.id: start for mark, start in starts if start > mark.span[0] + _LEAST_ENDING_S}
        if not longer:
            workspace.notice.emit("No sound goes on into this gap: nothing of an ending is cut off.")
            return
        words = f"ending given back · {workspace.where()}"
        workspace.edit(words, lambda s: shaping.give_back_endings(s, workspace.part.id, longer))

    def say_singing(self, sung: bool) -> None:
        """Say of the selected time that it is singing, or is not."""
        workspace = self._workspace
        selected, part = workspace.selected_time, workspace.part
        if selected is None or not part.id:
            workspace.notice.emit("Drag over the ruler to select what is singing, or is not.")
            return
        kind = next(kind.name for kind in KINDS if kind.redrawing)
        try:
            session = redrawing.say(workspace.session, part.id, kind, Span(*selected), sung)
        except CallError as error:
            workspace.notice.emit(f"That cannot be said: {error}.")
            return
        workspace.edit(
            f"{'' if sung else 'not '}singing at {selected[0] + workspace.offset:.1f} s · {part.name}",
            lambda _: session,
        )

    def set_curve(self, curve: shaping.Shape, gesture: object = None) -> None:
        """Add a curve over frequency, (Hz, dB), to the change of the selected mark."""
        workspace = self._workspace
        part, mark = workspace.part, workspace.mark
        if mark is not None:
            change = lambda s: shaping.set_curve(s, part.id, mark.id, curve)  # noqa: E731
            workspace.edit(f"change over frequency · {workspace.where()}", change, gesture)
