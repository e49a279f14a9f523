"""What kinds learn from a selected time of a part, in the background."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject

from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.take_pool import TakePool
from isophon.core.passes.kind import Span
from isophon.core.session import edits
from isophon.core.session.model import Part
from isophon.core.work.messages import LearnSpan


class SpanLessons(QObject):
    """What was learned comes back as an edit, where the part still names the same recording."""

    def __init__(self, keeper: SessionKeeper, pool: TakePool, parent: QObject) -> None:
        super().__init__(parent)
        self._keeper, self._pool = keeper, pool
        self._words: dict[tuple[str, str], str] = {}  # by part and kind
        pool.span_learned.connect(self._adopt)

    def learn(self, part: Part, kind: str, span: Span, words: str) -> None:
        """Let a kind learn from a span of a part; ``words``: what the edit will be called."""
        self._words[part.id, kind] = words
        self._pool.learn_span(part, kind, span)

    def forget(self, part: Part, kind: str, words: str) -> None:
        """Let a kind go by what was measured of the whole take again."""
        self._keeper.edit(words, lambda session: edits.learn_span(session, part.id, kind, None, None))

    def _adopt(self, asked: LearnSpan, value: Any) -> None:
        part_id, kind, span = asked.part.id, asked.kind, Span(asked.start, asked.end)
        words = self._words.pop((part_id, kind), kind)
        if any(part.id == part_id and part.source == asked.part.source for part in self._keeper.session.parts):
            self._keeper.edit(words, lambda session: edits.learn_span(session, part_id, kind, span, value))
