"""The errors that are shown to a person: one line each, saying what, where, and what to do."""

import re

_UNBROKEN = re.compile(r"\S{300,}")  # longer than any name of a file
_LONGEST = 1_000  # letters; what a file holds may be quoted, but not without end


def shown(text: str) -> str:
    """Text from outside with whatever could act on a terminal or break a line written out: ``\\n``, ``\\x1b``."""
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)


class IsophonError(Exception):
    """Base of all errors whose text is meant for the person at work: one line, harmless on a terminal.

    ``status`` is the exit status of the command line for this kind of error.
    """

    status = 1

    def __init__(self, text: str) -> None:
        text = _UNBROKEN.sub(lambda run: f"{run[0][:100]}…{run[0][-40:]}", shown(text))
        super().__init__(text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…")


class CallError(IsophonError):
    """The call is wrong: unknown option, kind or setting, or a value out of range."""

    status = 2


class InputError(IsophonError):
    """An input cannot be used: missing, empty, not audio, truncated, no voice."""

    status = 3


class DamagedError(InputError):
    """A file of this program's own that is damaged; part of it may be read all the same."""


class OutputError(IsophonError):
    """An output cannot be written: it exists, there is no room, or no permission."""

    status = 4


class ExistsError(OutputError):
    """An output is there already and was not to be written over."""


class Cancelled(Exception):
    """Long work was asked to stop; nothing of it is kept."""
