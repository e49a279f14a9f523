"""The errors a person is told about: one line each, saying what, where, and what to do."""


class IsophonError(Exception):
    """Base of all errors whose text is meant for the person at the desk.

    ``status`` is the exit status of the command line for this kind of error.
    """

    status = 1


class CallError(IsophonError):
    """The call is wrong: unknown option, kind or setting, or a value out of range."""

    status = 2


class InputError(IsophonError):
    """An input cannot be used: missing, empty, not audio, truncated, no voice."""

    status = 3


class OutputError(IsophonError):
    """An output cannot be written: it exists, there is no room, or no permission."""

    status = 4


class Cancelled(Exception):
    """Long work was asked to stop; nothing of it is kept."""
