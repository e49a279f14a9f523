"""Hearing: what of the session is played, and how it is compared."""

from __future__ import annotations

import math
from collections import Counter

from msgspec.structs import replace
from PySide6.QtCore import QObject, Signal

from isophon.app.model import listening
from isophon.app.model.heard_alone import HeardAlone
from isophon.app.model.workspace import Workspace
from isophon.core.passes import KINDS
from isophon.core.playing.heard_as import COMPARES
from isophon.core.playing.mix import Strip, gains
from isophon.core.playing.remote import RemotePlayer
from isophon.core.session.items import Guide
from isophon.core.session.model import Part

ALONE, BESIDE_LEAD, WITH_STACK, WITH_MUSIC = HEARS = ("this part", "with the lead", "with the stack", "with the music")
SPEEDS = (1.0, 0.75, 0.5)
_BEFORE_MARK_S, _AFTER_MARK_S = 0.35, 0.35


class Hearing(QObject):
    """Tells the player what the workspace means. Frame 0 is the first moment of the song."""

    changed = Signal()

    def __init__(self, workspace: Workspace, player: RemotePlayer, parent: QObject) -> None:
        super().__init__(parent)
        self.workspace, self.player = workspace, player
        self.compare, self.hear = "cleaned", HEARS[0]
        self.listening = listening.recalled()
        self.matched = self.listening.matched
        self.compare_all, self.looping, self.in_turn, self.chained = False, True, False, False
        self.first_gain_db = 0.0  # that of the whole takes, until something was heard
        self.alone = HeardAlone(workspace, self)
        self.alone.changed.connect(self.refresh)
        self._looped: tuple[str, ...] = ()
        self._before_items: tuple[str, frozenset[str]] | None = None
        self._played_once = self._placed = False  # whether a place was chosen since the selection was
        self._mapping: tuple[int, float] | None = None
        self._open()
        workspace.session_changed.connect(self.refresh)
        workspace.take_changed.connect(self.refresh)
        workspace.selection_changed.connect(self._hand_changed)
        workspace.pool.forgotten.connect(player.forget)
        workspace.pool.leak_learned.connect(lambda *_: player.clear())
        self.refresh()

    def _open(self) -> None:
        start, end = self.workspace.session.span
        rate = self._rate()
        self.player.set_device(self.listening.wanted)
        self.player.open(rate, max(1, round((end - start) * rate)))
        self.player.set_listening(self.listening.at_the_ears)
        self.player.set_compare(self.compare)

    def _rate(self) -> int:
        """The rate that most parts have."""
        rates = Counter(p.source.sample_rate for p in self.workspace.session.parts)
        return rates.most_common(1)[0][0] if rates else 48_000

    def refresh(self) -> None:
        """Play what the session says now."""
        if self.player.sample_rate != self._rate():
            self._open()
        session, rate = self.workspace.session, self.player.sample_rate
        start, end = session.span
        strips = []
        for item in session.items:
            if self.sounds(item.id) and (not self.alone.pauses_db or item.id in self.workspace.selected_parts):
                compared = isinstance(item, Part) and (self.compare_all or item.id in self.workspace.selected_parts)
                offset = round((item.offset_s - start) * rate)
                lifted = (
                    self.workspace.audition.lifted and self.compare == "removed" and self.workspace.pass_.trace.lifts
                )
                band = self.alone.band if compared and item.id == self.workspace.part.id else None
                unheard = self._unheard if band is None else (*self._unheard, *self.alone.before)
                plan = item.plan_without(unheard) if isinstance(item, Part) else ()
                strips.append(Strip(item.source, plan, offset, *self._gains(item), compared, lifted, band,
                                    self.alone.pauses(item, offset, rate)))  # fmt: skip
        self.player.set_scene(tuple(strips), max(1, round((end - start) * rate)))
        self._match()
        self.player.set_chain(session.chain if self.chained else None)
        if self._mapping != (rate, self.workspace.song[0]):
            self._mapping = (rate, self.workspace.song[0])
            self._set_loop()
        self.changed.emit()

    @property
    def _unheard(self) -> tuple[str, ...]:
        """The kinds that are not heard: those set aside, and while what was taken out is heard what moves words."""
        unheard = self.workspace.audition.unheard
        if self.compare != "removed":
            return unheard
        return (*unheard, *(kind.name for kind in KINDS if kind.cure.maps and kind.name not in unheard))

    def _gains(self, item: Part | Guide) -> tuple[float, float]:
        """Left and right gain; beside the lead alone that is heard on the left and the selected part on the right."""
        left, right = gains(item.listening)
        if self.hear != BESIDE_LEAD or not isinstance(item, Part):
            return left, right
        followed = {one.id for one in self.workspace.session.followed(self.workspace.part)}
        return (left, 0.0) if not followed or item.id in followed else (0.0, right)

    def sounds(self, item_id: str) -> bool:
        """Whether a part or reference is in the mix that is heard."""
        session, workspace = self.workspace.session, self.workspace
        item = session.item(item_id)
        if self.hear == HEARS[0]:
            return item_id in workspace.selected_parts
        if self.hear == BESIDE_LEAD:
            return item_id == workspace.part.id or item_id in {one.id for one in session.followed(workspace.part)}
        if workspace.audition.heard_only:
            return item_id in workspace.audition.heard_only
        if item.listening.muted:
            return False
        return isinstance(item, Part) or (self.hear == "with the music" and item.kind == "bed")

    def _match(self) -> None:
        """Match what is compared, cleaned, to its loudness as sung: by the loop, or by the last seconds heard."""
        workspace, sung, cleaned = self.workspace, 0.0, 0.0
        for part in workspace.session.parts if self.matched else ():
            take = workspace.pool.take(part.source)
            if take.surveyed and self.sounds(part.id) and (self.compare_all or part.id in workspace.selected_parts):
                power = 10 ** ((take.surveyed.survey.loudness + part.listening.gain_db) / 10)
                sung += power
                cleaned += power * 10 ** (-take.matched_gain_db(part.plan_without(workspace.audition.unheard)) / 10)
        self.first_gain_db = round(10 * math.log10(sung / cleaned), 2) if sung > 0 else 0.0
        self.player.set_match(self.first_gain_db if self.matched else None)

    @property
    def gain_db(self) -> float:
        """The gain by which cleaned is heard as loud as as sung; 0 where it is not matched."""
        matched_db = self.player.level("matched_db")
        return (matched_db or self.first_gain_db) if self.matched else 0.0

    # what a person asks for

    def set_compare(self, name: str) -> None:
        """Choose what is heard of what is compared."""
        self.compare = name
        self.player.set_compare(name)
        moved = any(
            bool(kind.cure.maps) and part.of_kind(kind.name) for part in self.workspace.session.parts for kind in KINDS
        )
        self.refresh() if self.workspace.audition.lifted or moved else self.changed.emit()

    def next_compare(self) -> None:
        """The next of as sung, cleaned, taken out."""
        self.set_compare(COMPARES[(COMPARES.index(self.compare) + 1) % len(COMPARES)])

    def set_in_turn(self, on: bool) -> None:
        """Let as sung and cleaned be heard in turn, each time the loop comes round."""
        self.in_turn = on
        self.changed.emit()

    def came_round(self) -> None:
        """The loop begins again."""
        if self.in_turn and self.looping:
            self.set_compare("cleaned" if self.compare == "as sung" else "as sung")

    def hold_as_sung(self, on: bool) -> None:
        """As sung for as long as a key is held."""
        self.player.set_compare("as sung" if on else self.compare)

    def set_hear(self, name: str) -> None:
        """Alone, with the stack or with the music."""
        if name != self.hear:
            self.hear = name
            self.refresh()

    def next_hear(self) -> None:
        """The next of those."""
        self.set_hear(HEARS[(HEARS.index(self.hear) + 1) % len(HEARS)])

    def set_compare_all(self, on: bool) -> None:
        """Compare all parts, or the selected ones."""
        self.compare_all = on
        self.refresh()

    def set_chained(self, on: bool) -> None:
        """Hear everything through the session's rough chain, or as it is; for listening only."""
        self.chained = on
        self.refresh()

    def set_matched(self, on: bool) -> None:
        """Match the loudness of cleaned to as sung, or not."""
        self.matched = on
        self.set_listening(replace(self.listening, matched=on))
        self._match()
        self.changed.emit()

    def set_listening(self, settings: listening.ListeningSettings) -> None:
        """Choose the output and how it is heard at the ears; it is kept for the next start."""
        if settings != self.listening:
            self.listening = settings
            listening.keep(settings)
            self.player.set_device(settings.wanted)
            self.player.set_listening(settings.at_the_ears)

    def set_looping(self, on: bool) -> None:
        """Loop what is selected, or not."""
        self.looping = on
        self._set_loop()
        self.changed.emit()

    def toggle_play(self) -> None:
        """Play or stop."""
        if self.player.playing:
            self.player.stop()
            return
        start, end = self.workspace.session.span
        if self._played_once:
            self._played_once = False
            self._set_loop()
        if self.workspace.selected_time and not self._placed:
            self.player.seek(self._before(self.workspace.selected_time[0]))
        elif self.player.position >= round((end - start) * self.player.sample_rate) - 1:
            self.player.seek(0)
        self.player.play()

    def play_once(self) -> None:
        """Play the selection, else the selected marks, once, from a little earlier where that is wanted."""
        span = self._selected_span()
        if span is not None:
            start, end = self._within_song(*span)
            self._played_once = True
            self.player.play_once(self._before(start), self.frame(end))

    def _before(self, seconds: float) -> int:
        """The frame of a second of the selected part, earlier by the pre-roll."""
        listening, bars = self.listening, self.workspace.session.bars
        bar_s = bars.bar_s(seconds + self.workspace.offset)
        earlier_s = bar_s * listening.pre_roll_bars or listening.pre_roll_s
        return max(0, self.frame(seconds - earlier_s))

    def next_speed(self) -> None:
        """Full speed, three quarters, half: the next, at the same pitch."""
        self.player.set_speed(SPEEDS[(SPEEDS.index(self.player.speed) + 1) % len(SPEEDS)])
        self.changed.emit()

    def scrub(self, seconds: float | None) -> None:
        """Hear what is under a pointer that is dragged, at a second of the selected part; None: its end."""
        if seconds is None:
            self.player.stop()
            self._set_loop()
            return
        first = max(0, self.frame(seconds) - self.player.sample_rate // 25)
        self.player.set_loop((first, first + 2 * self.player.sample_rate // 25))
        if not self.player.playing:
            self.player.play()

    def loop_mark(self) -> None:
        """Loop the selected mark, at once."""
        self.set_looping(True)
        self.player.play()

    def seek(self, seconds: float) -> None:
        """Go to a second of the selected part, out of the loop."""
        self._placed = True
        self.player.set_loop(None)
        self.player.seek(self.frame(seconds))

    def play_from(self, seconds: float) -> None:
        """Play from a second of the selected part on."""
        self.seek(seconds)
        self.player.play()

    def play_item(self, item_id: str, song_s: float) -> None:
        """Play one recording alone, from a second of the song, until :meth:`end_items`."""
        session = self.workspace.session
        if self._before_items is None:
            self._before_items = self.hear, self.workspace.audition.heard_only
        is_part = any(part.id == item_id for part in session.parts)
        if is_part:
            self.workspace.select_parts([item_id])
        self.workspace.audition.heard_only = frozenset() if is_part else frozenset({item_id})
        self.set_hear(HEARS[0] if is_part else HEARS[-1])
        self.play_from(song_s - self.workspace.offset)

    def end_items(self) -> None:
        """What was listened to before single recordings were played is listened to again."""
        if self._before_items is not None:
            self.hear, self.workspace.audition.heard_only = self._before_items
            self._before_items = None
            self.refresh()

    def heard_at(self) -> float:
        """What is heard now, in seconds of the selected part."""
        return self.seconds(self.player.position)

    def frame(self, seconds: float) -> int:
        """The player's frame of a second of the selected part."""
        return round((seconds - self.workspace.song[0]) * self.player.sample_rate)

    def seconds(self, frame: int) -> float:
        """The second of the selected part of a frame of the player."""
        return frame / self.player.sample_rate + self.workspace.song[0]

    def loop_span(self) -> tuple[int, int] | None:
        """The frames that loop: the selection, else what surrounds the selected marks."""
        span = self._selected_span() if self.looping else None
        if span is None:
            return None
        start, end = self._within_song(*span)
        return self.frame(start), self.frame(end)

    def _selected_span(self) -> tuple[float, float] | None:
        """The selection, else what surrounds the selected marks, in s of the selected part."""
        marks = self.workspace.marks_selected()
        if self.workspace.selected_time:
            return self.workspace.selected_time
        if not marks:
            return None
        return min(m.span[0] for m in marks) - _BEFORE_MARK_S, max(m.span[1] for m in marks) + _AFTER_MARK_S

    def _within_song(self, start: float, end: float) -> tuple[float, float]:
        first, last = self.workspace.song
        return max(first, start), min(last, end)

    def _hand_changed(self) -> None:
        self._placed = False
        self._set_loop()
        span = self.loop_span()
        if span and self.workspace.selected_marks != self._looped:
            self.player.seek(span[0])
        self._looped = self.workspace.selected_marks

    def _set_loop(self) -> None:
        self.player.set_loop(self.loop_span())

    def close(self) -> None:
        """Stop and give the device back."""
        self.player.close()
