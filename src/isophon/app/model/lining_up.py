"""Hearing the parts of the stack beside the lead, in the background."""

from __future__ import annotations

from collections import Counter

from PySide6.QtCore import QObject, Signal

from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.take_pool import TakePool
from isophon.core.session.adopting import Beside
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.work.beside import key_beside

_TRIES = 3


class LiningUp(QObject):
    """What can only be found in a part beside the one it follows is found once both were searched, and again when that
    or its place changes; what comes back is a fact, not a step of the history. What fails is tried again, up to three
    times, and anew once the marks of the part were found again."""

    notice = Signal(str)

    def __init__(self, keeper: SessionKeeper, pool: TakePool, parent: QObject) -> None:
        super().__init__(parent)
        self._keeper, self._pool = keeper, pool
        self._asked: dict[str, str] = {}
        self._failed: Counter[tuple[str, str]] = Counter()  # by the part and what was asked
        keeper.changed.connect(self.look)
        pool.changed.connect(self.look)
        pool.heard_beside.connect(self._adopt)
        pool.beside_failed.connect(self._try_again)
        pool.found_again.connect(self._ask_anew)

    def look(self) -> None:
        """Ask for what is not known."""
        session = self._keeper.session
        for part in () if self._pool.stopped else session.parts:
            leads = session.followed(part)
            if not leads or not part.found or not all(map(self._known, (part, *leads))):
                continue
            key = key_beside(part, leads)
            if key not in (part.heard_beside, self._asked.get(part.id)):
                self._asked[part.id] = key
                there = [(lead.source, part.offset_s - lead.offset_s) for lead in leads]
                self._pool.hear_beside(part.source, there, key, part.id)

    def _known(self, part: Part) -> bool:
        take = self._pool.take(part.source)
        return take.surveyed is not None and not take.trouble

    def _try_again(self, part_id: str, why: str) -> None:
        tried = part_id, self._asked.get(part_id, "")
        self._failed[tried] += 1
        if self._failed[tried] >= _TRIES:
            self.notice.emit(why)
            return
        self._asked.pop(part_id, None)
        self.look()

    def _ask_anew(self, source: Source) -> None:
        for part in self._keeper.session.parts:
            if part.source == source:
                self._failed.pop((part.id, self._asked.pop(part.id, "")), None)
        self.look()

    def _adopt(self, source: Source, found: Beside) -> None:
        asked = {part_id for part_id, key in self._asked.items() if key == found.heard_beside}
        parts = [part for part in self._keeper.session.parts if part.source == source and part.id in asked]
        self._keeper.adopt_beside([(part.id, found) for part in parts])
