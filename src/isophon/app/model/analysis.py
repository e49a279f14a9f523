"""What goes on in the background: recordings are analysed, and what is found comes into the session part by part."""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from isophon.app.model.leaks import Leaks
from isophon.app.model.lining_up import LiningUp
from isophon.app.model.redrawing import Redrawing
from isophon.app.model.span_lessons import SpanLessons
from isophon.core.session.items import Source

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

_NEWS_MS = 250

NoiseFloors = tuple[tuple[float, float] | None, tuple[float, float] | None]


class Analysis(QObject):
    """``sources``: the recordings that are at hand; ``leaks``, ``span_lessons``, ``lining_up``: what is learned."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace, self._keeper, self._pool = workspace, workspace.keeper, workspace.pool
        self.leaks = Leaks(self._keeper, self._pool, self)
        self.span_lessons = SpanLessons(self._keeper, self._pool, self)
        self.lining_up = LiningUp(self._keeper, self._pool, self)
        self._redrawing = Redrawing(workspace)
        self.sources: tuple[Source, ...] = ()
        self._news = QTimer(self, singleShot=True, interval=_NEWS_MS)
        self._news.timeout.connect(self._show_news)
        self._more = QTimer(self, singleShot=True, interval=0)
        self._more.timeout.connect(self._show_news)
        self.leaks.notice.connect(workspace.notice)
        self.lining_up.notice.connect(workspace.troubled)
        self.leaks.learned.connect(workspace.take_changed)
        self._pool.changed.connect(self._take_known)
        self._pool.found_again.connect(self._found_again)

    def stop(self) -> None:
        """Stop all of it."""
        self._news.stop()
        self._more.stop()
        self._redrawing.stop()

    def noise_floor(self) -> Generator[None, None, NoiseFloors]:
        """The still moments' level in dBFS, as sung and cleaned: of the selected part, and of all parts together.

        Part by part, with time for others in between.
        """
        levels = {}
        for part in self._workspace.session.parts:
            levels[part.id] = self._pool.take(part.source).noise_floor(part.plan)
            yield
        known = [level for level in levels.values() if level]
        sung, cleaned = (10 * math.log10(sum(10 ** (level[i] / 10) for level in known) or 1.0) for i in (0, 1))
        return levels.get(self._workspace.part.id), (round(sung, 1), round(cleaned, 1)) if known else None

    def look_again(self) -> None:
        """Find the marks of the selected part once more; what was decided by hand stays."""
        if self._workspace.part.id:
            self._pool.look_again(self._workspace.part.source, self._workspace.part.leak, self._workspace.part.removal)

    def restock(self) -> None:
        """Look at the session's recordings again: one may be there that was missing."""
        self.stock()
        self._workspace.take_changed.emit()

    def stock(self) -> None:
        """Have the recordings of the session at hand, and analyse those that are new."""
        self.sources = tuple(i.source for i in self._workspace.session.items)
        self._pool.stock(self._workspace.session)
        self._pool.at_hand(self._workspace.part.source)
        self.leaks.learn_what_is_gone()
        self._more.start()

    def _take_known(self, source: Source) -> None:
        """News of takes are shown together; those of the selected part at once."""
        if source == self._workspace.part.source:
            self._news.stop()
            self._more.start()
        elif not self._news.isActive():
            self._news.start()

    def _show_news(self) -> None:
        """Put what was found in takes into parts, each in a turn of its own; then show what is new of takes."""
        new = ((p.id, self._pool.take(p.source).findings) for p in self._workspace.session.parts if not p.found)
        found = next(((part_id, findings) for part_id, findings in new if findings is not None), None)
        if found is None:
            self._workspace.take_changed.emit()
        else:
            self._keeper.adopt([found])
            self._more.start()

    def _found_again(self, source: Source) -> None:
        findings = self._pool.take(source).findings
        for part in self._workspace.session.parts:
            if part.source == source and findings is not None:
                self._keeper.adopt([(part.id, findings)])
                self._workspace.notice.emit(f"Found again: {len(findings.marks)} marks; your decisions were kept.")
