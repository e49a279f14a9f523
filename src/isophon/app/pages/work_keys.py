"""What the keys do on the work page; their names stand on the keys page."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QKeySequence, QShortcut

from isophon.app.model.keys import key_book, keyed
from isophon.app.pages.keys_page import keys_of_the_marks
from isophon.app.pages.route import HAND_OVER, LAY_OUT
from isophon.app.pages.treatment_menu import treat_others
from isophon.app.pages.versions_page import go_to, take_from
from isophon.app.sheets import PASSES
from isophon.core.ranges import LETTERS

Actions = dict[str, Callable[[], object]]

_STEP_DB, _NUDGE_S = 0.5, 0.005


class WorkKeys(QObject):
    """Lets the keys of the keys page act on the work page; those of marks and parts only where these are seen.

    ``page``: the work page, which imports this.
    """

    def __init__(self, page: Any) -> None:
        super().__init__(page)
        self._page, self._seen = page, True
        self._actions = _on_marks(page) | _on_listening(page) | _on_the_view(page) | _on_the_session(page)
        self._shortcuts: list[QShortcut] = []
        self._of_the_marks: list[QShortcut] = []
        key_book().changed.connect(self._renew)
        self._renew()

    def _renew(self) -> None:
        """The keys in force now."""
        for shortcut in self._shortcuts:
            shortcut.setEnabled(False)
            shortcut.deleteLater()
        self._shortcuts, self._of_the_marks = [], []
        of_the_marks = keys_of_the_marks()
        for name, action in self._actions.items():
            for key in key_book().keys_of(name):
                shortcut = _shortcut(self._page, key, action)
                self._shortcuts.append(shortcut)
                if name in of_the_marks:
                    self._of_the_marks.append(shortcut)
        self.set_seen(self._seen)

    def set_seen(self, seen: bool) -> None:
        """Whether marks and parts are seen."""
        self._seen = seen
        for shortcut in self._of_the_marks:
            shortcut.setEnabled(seen)


def _on_marks(page: Any) -> Actions:
    workspace, hearing = page.workspace, page.hearing
    return {
        "next": lambda: workspace.walk(1),
        "previous": lambda: workspace.walk(-1),
        "next_over": lambda: workspace.walk(1, True),
        "previous_over": lambda: workspace.walk(-1, True),
        "next_phrase": lambda: workspace.walk_spans(workspace.take.phrases, 1, hearing.heard_at()),
        "previous_phrase": lambda: workspace.walk_spans(workspace.take.phrases, -1, hearing.heard_at()),
        "next_word": lambda: workspace.walk_spans(workspace.take.words, 1, hearing.heard_at()),
        "previous_word": lambda: workspace.walk_spans(workspace.take.words, -1, hearing.heard_at()),
        "next_part": lambda: workspace.walk_parts(1),
        "previous_part": lambda: workspace.walk_parts(-1),
        "all_parts": lambda: workspace.select_parts([p.id for p in workspace.session.parts]),
        "done": workspace.settings.toggle_done,
        "more": lambda: workspace.commands.change_more(-_STEP_DB),
        "less": lambda: workspace.commands.change_more(_STEP_DB),
        "agree": page.review.agree,
        "worst_first": page.review.toggle_worst_first,
        "accept_inaudible": page.review.accept_inaudible,
        "accept_proposal": page.taste.accept,
        "back": page.review.back,
        "same_there": page.review.same_there,
        "leave": page.review.leave,
        "treat": lambda: treat_others(page),
        "start_earlier": lambda: workspace.commands.nudge_edge("start", -_NUDGE_S),
        "start_later": lambda: workspace.commands.nudge_edge("start", _NUDGE_S),
        "end_earlier": lambda: workspace.commands.nudge_edge("end", -_NUDGE_S),
        "end_later": lambda: workspace.commands.nudge_edge("end", _NUDGE_S),
        "singing": lambda: workspace.commands.say_singing(True),
        "not_singing": lambda: workspace.commands.say_singing(False),
        "ending": workspace.commands.give_back_ending,
        "aside": lambda: workspace.audition.next_aside(workspace.pass_),
        "forget": workspace.commands.forget_hand,
        "give_up": page.give_up,
        "take_away": partial(_delete, page),
        "draw": workspace.commands.draw_mark,
        "draw_box": page.views.draw.toggle,
        "split": lambda: workspace.commands.split_mark(hearing.heard_at()),
        "join": workspace.commands.join_marks,
    }


def _on_listening(page: Any) -> Actions:
    hearing = page.hearing
    return {
        "pauses": partial(_toggle_pauses, page),
        "play": hearing.toggle_play,
        "play_once": hearing.play_once,
        "play_here": lambda: hearing.play_from(page.views.trace.gestures.time_under_pointer()),
        "speed": hearing.next_speed,
        "loop": page.views.transport.loop.toggle,
        "compare": hearing.next_compare,
        "in_turn": page.views.transport.turns.toggle,
        "compare_all": page.views.transport.all.toggle,
        "hear": hearing.next_hear,
        "hear_only": partial(_solo, page),
        "mute": partial(_mute, page),
        "match": page.views.transport.match.toggle,
        "rough": page.views.transport.toggle_rough,
        "mono": page.views.transport.output_panel.toggle_mono,
        "louder": lambda: page.views.transport.output_panel.step_volume(1.0),
        "softer": lambda: page.views.transport.output_panel.step_volume(-1.0),
    }


def _on_the_view(page: Any) -> Actions:
    workspace = page.workspace
    return {
        "zoom_in": lambda: page.views.trace.gestures.zoom(1 / 1.6),
        "zoom_out": lambda: page.views.trace.gestures.zoom(1.6),
        "zoom_mark": page.views.zoom_mark,
        "whole": lambda: workspace.viewport.glide_to(*workspace.song),
        "stack": page.views.stack.toggle,
        "rank": page.views.orders.next,
        "map_alone": page.views.toggle_map_alone,
        "marker": page.markers.name_place,
        "note": page.markers.write_note,
        "next_marker": lambda: page.markers.walk(1),
        "previous_marker": lambda: page.markers.walk(-1),
    }


def _on_the_session(page: Any) -> Actions:
    return {
        "undo": page.review.undo,
        "redo": page.review.redo,
        "save": page.views.menu.save,
        "save_as": page.views.menu.save_as,
        "open": page.open_asked.emit,
        "new": page.views.menu.new_asked.emit,
        "close": page.views.menu.close_asked.emit,
        "quit": page.views.menu.quit_asked.emit,
        **{f"version_{letter}": partial(go_to, page.workspace, letter) for letter in LETTERS},
        **{f"from_{letter}": partial(take_from, page.workspace, letter) for letter in LETTERS},
        "history": page.show_history,
        "marks": page.show_marks,
        "lay_out": lambda: page.open_station(LAY_OUT),
        **{w.kind: partial(page.open_station, i) for i, w in enumerate(PASSES, 1)},
        "hand_over": lambda: page.open_station(HAND_OVER),
        "preferences": page.show_preferences,
        "help": page.show_help,
        "keys": page.show_keys,
    }


def _delete(page: Any) -> None:
    """Delete the anchor that is selected, else the selected marks."""
    if not page.views.trace.anchors.remove():
        page.workspace.commands.take_away()


def _solo(page: Any) -> None:
    if page.workspace.part.id:
        page.workspace.audition.toggle_heard_only(page.workspace.part.id)


def _mute(page: Any) -> None:
    if page.workspace.part.id:
        page.views.panel.rows[page.workspace.part.id].toggle_mute()


def _toggle_pauses(page: Any) -> None:
    hearing = page.hearing
    hearing.alone.set_pauses(not hearing.alone.pauses_db)
    if hearing.alone.pauses_db:
        again = keyed("{pauses} again: everything plays.")
        page.tell(f"The pauses alone, lifted by {hearing.alone.pauses_db:.0f} dB. {again}")
    else:
        page.views.message.hide()


def _shortcut(page: Any, key: str, action: Callable[[], object]) -> QShortcut:
    shortcut = QShortcut(QKeySequence(key), page, context=Qt.ShortcutContext.WidgetWithChildrenShortcut)
    shortcut.activated.connect(action)
    return shortcut
