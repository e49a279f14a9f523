"""The log: what went wrong inside, for those who work on the program. Each module writes to a logger of its own name.

A person sees one line, never a traceback. It lies in the person's state folder
and never grows beyond some megabytes.
"""

from __future__ import annotations

import contextlib
import logging
import logging.handlers
import os
from pathlib import Path

import platformdirs

_BYTES = 1 << 20  # of a log file
_KEPT = 3  # older ones
_DEBUG = "ISOPHON_DEBUG"
INSIDE = "an error inside: %s"  # with its traceback: an error that is ours
_log = logging.getLogger("isophon")
_warnings = logging.getLogger("py.warnings")


def log_path() -> Path:
    """Where it lies."""
    return Path(platformdirs.user_state_dir("isophon")) / "isophon.log"


def start(debug: bool | None = None) -> None:
    """Begin to write it, in this process and those that it starts; ``debug``: everything. Nothing fails without it."""
    if debug is not None:
        os.environ[_DEBUG] = "1" if debug else ""
    _log.setLevel(logging.DEBUG if os.environ.get(_DEBUG) else logging.WARNING)
    _log.propagate = _warnings.propagate = False
    if _log.handlers:
        return
    logging.captureWarnings(True)  # they are for developers
    with contextlib.suppress(OSError):
        log_path().parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(log_path(), maxBytes=_BYTES, backupCount=_KEPT, delay=True)
        handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(name)s: %(message)s"))
        handler.handleError = lambda record: None  # type: ignore[method-assign]  # noqa: ARG005 (a full disk stops no work)
        _log.addHandler(handler)
        _warnings.addHandler(handler)
