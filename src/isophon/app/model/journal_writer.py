"""The journal's own thread: steps are on the disk soon after they are made, and the window never waits for that."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable

from isophon.core.errors import IsophonError
from isophon.core.session.journal import Journal

_AGAIN_S = 2.0

Work = Callable[[Journal], object]


class JournalWriter:
    """Does what it is given in order. What cannot be written waits and is tried again until it can.

    ``begin()`` makes the journal when there is first something to write. ``trouble(words)`` is called from
    the writer's thread: why nothing can be written, and once with '' when it could be again.
    """

    def __init__(self, begin: Callable[[], Journal], trouble: Callable[[str], None]) -> None:
        self._begin, self._trouble = begin, trouble
        self._journal: Journal | None = None
        self._waiting: deque[Work] = deque()
        self._change = threading.Condition()
        self._closed, self._failing = False, False
        self._thread: threading.Thread | None = None

    @property
    def failing(self) -> bool:
        """Whether something could not be written and still waits."""
        return self._failing

    def give(self, work: Work) -> None:
        """Have something done with the journal."""
        with self._change:
            self._waiting.append(work)
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="journal", daemon=True)
                self._thread.start()
            self._change.notify_all()

    def settle(self, seconds: float = 5.0) -> bool:
        """Wait until all is written; False where that fails."""
        with self._change:
            self._change.wait_for(lambda: not self._waiting or self._failing, seconds)
            return not self._waiting

    def close(self) -> None:
        """Write what can be written, and end."""
        self.settle()
        with self._change:
            self._closed = True
            self._change.notify_all()
        if self._thread is not None:
            self._thread.join(timeout=5.0)

    def _run(self) -> None:
        while True:
            with self._change:
                self._change.wait_for(lambda: self._closed or self._waiting)
                if self._closed:
                    return
                work = self._waiting[0]
            why = self._done(work)
            with self._change:
                if not why:
                    self._waiting.popleft()
                news, self._failing = bool(why) != self._failing, bool(why)
                self._change.notify_all()
            if news:
                self._trouble(why)
            if why:
                with self._change:
                    self._change.wait_for(lambda: self._closed, _AGAIN_S)

    def _done(self, work: Work) -> str:
        """Do it; why it could not be done, else ''."""
        try:
            if self._journal is None:
                self._journal = self._begin()
            work(self._journal)
        except IsophonError as error:
            return str(error)
        except OSError as error:
            return f"the journal cannot be written ({error.strerror or error})"
        return ""
