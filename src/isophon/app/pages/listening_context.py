"""What a review by worth listens with, and what was listened with before it."""

from __future__ import annotations

from isophon.app.model.hearing import Hearing


class ListeningContext:
    """Changes what is listened to while a review asks for it; afterwards it is as it was."""

    def __init__(self, hearing: Hearing) -> None:
        self._hearing = hearing
        self._before = ""

    def ask(self, what: str) -> None:
        """Listen with ``what``; '' as before the review."""
        if what:
            self._before = self._before or self._hearing.hear
            self._hearing.set_hear(what)
        elif self._before:
            self._hearing.set_hear(self._before)
            self._before = ""
