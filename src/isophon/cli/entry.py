"""The command line: find, clean, and opening the window."""

from __future__ import annotations

import argparse
import logging
import os
import signal
import sys
from collections.abc import Sequence
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from isophon import __version__
from isophon.core import log
from isophon.core.errors import CallError, InputError, IsophonError, OutputError, shown
from isophon.core.reading import is_there

if TYPE_CHECKING:
    from isophon.core.passes.kind import MarkFile

_log = logging.getLogger(__name__)

INTERRUPTED = 130
_MOST_JOBS = 256


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line."""

    def error(self, message: str) -> NoReturn:
        raise CallError(f"{message}; see {self.prog} --help")


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one call; returns its exit status."""
    arguments = list(sys.argv[1:] if arguments is None else arguments)
    closed = _prepare_process()
    try:
        return _status_of(arguments, closed)
    except IsophonError as error:
        print(f"isophon: {error}", file=sys.stderr)
        return error.status
    except KeyboardInterrupt:
        print("isophon: interrupted; nothing half-written was left", file=sys.stderr)
        return INTERRUPTED
    except BrokenPipeError:
        _no_more_output()
        return 0
    except OSError as error:
        _no_more_output()
        print(f"isophon: {error.filename or 'standard output'}: {error.strerror or error}", file=sys.stderr)
        return OutputError.status
    except Exception as error:  # noqa: BLE001 (shown in one line)
        _log.error(log.INSIDE, error, exc_info=error)
        words = shown(f"an error inside Isophon ({type(error).__name__}: {error})")
        print(f"isophon: {words}; please report it with {log.log_path()}", file=sys.stderr)
        return 1
    finally:
        if "--debug" in arguments:
            print(f"isophon: noted in {log.log_path()}", file=sys.stderr)


def _prepare_process() -> bool:
    """See to signals and standard streams; whether standard output was closed."""
    for number in (signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is not signal.SIG_IGN:  # as nohup has it
            signal.signal(number, _terminated)
    closed = _open_what_is_closed()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # a name need not be UTF-8
    return closed


def _status_of(arguments: list[str], closed: bool) -> int:
    """Carry out a call; ``closed``: standard output was."""
    call = make_parser(arguments).parse_args(arguments)
    log.start(call.debug)
    _log.debug("called with %s", arguments)
    if call.install_desktop or call.remove_desktop:
        status = _menus(call.remove_desktop)
    else:
        status = _window(call) if call.command in (None, "open", "demo") else _work(call)
    _flush()
    if closed and status == 0 and (call.command == "find" or getattr(call, "json", False)):
        raise OutputError("standard output: is closed, so the result could not be written; open it, or name a file")
    return status


def _open_what_is_closed() -> bool:
    """Let standard streams that were closed lead nowhere, so that no other file takes their place.

    Whether standard output was closed.
    """
    closed = sys.stdout is None
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # the lowest that is free
    sys.stdout = sys.stdout or open(os.devnull, "w")  # noqa: SIM115 (open to the end)
    sys.stderr = sys.stderr or open(os.devnull, "w")  # noqa: SIM115
    return closed


def _flush() -> None:
    """What was printed is there, or an error says that it is not."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        raise
    except OSError as error:
        raise OSError(error.errno, error.strerror, "standard output") from error


def _no_more_output() -> None:
    """Nothing of what is left in the buffer is tried again at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def _folder(text: str) -> Path:
    if not text.strip():
        raise argparse.ArgumentTypeError("names no folder")
    return Path(text)


def _count(text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= _MOST_JOBS:
        raise argparse.ArgumentTypeError(f"is no number from 1 to {_MOST_JOBS}")
    return int(text)


def _terminated(*_: object) -> None:
    raise KeyboardInterrupt


def _mark_files(arguments: Sequence[str]) -> list[MarkFile]:
    """The files that kinds take marks from; looked up where a call can name one, since that takes half a second."""
    if not {"find", "clean"}.intersection(arguments):
        return []
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # several recordings share the cores already
    from isophon.core.passes import KINDS

    return [kind.mark_file for kind in KINDS if kind.mark_file]


def make_parser(arguments: Sequence[str]) -> argparse.ArgumentParser:
    """What reads a call; ``arguments``: the call, of which it knows all options of the command that it names."""
    parser = _Parser(prog="isophon", description="Clean recorded vocals. Without a command, opens the window.")
    parser.add_argument("--debug", action="store_true", help="note everything in the log file, and say where it lies")
    parser.add_argument("--version", action="version", version=f"isophon {__version__}")
    parser.add_argument("--install-desktop", action="store_true", help="put Isophon into the menus of this desktop")
    parser.add_argument("--remove-desktop", action="store_true", help="take it out of the menus again")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    demo = commands.add_parser("demo", help="make the demo session if it is not there, and open it")
    demo.add_argument("--make-only", action="store_true", help="make it and print where it is, open nothing")
    opening = commands.add_parser("open", help="open a saved session")
    opening.add_argument("session", type=Path, nargs="?", metavar="SESSION")
    find = commands.add_parser("find", help="list the marks found in one recording")
    find.add_argument("audio", type=Path, metavar="AUDIO", help="a recording, or a saved session")
    clean = commands.add_parser("clean", help="clean recordings, write stems and a report")
    clean.add_argument("audio", type=Path, nargs="*", metavar="AUDIO")
    clean.add_argument("--session", type=Path, metavar="SESSION", help="clean the parts of a saved session")
    clean.add_argument("--out", type=_folder, metavar="DIR", required=True, help="the folder to write to")
    clean.add_argument("--jobs", type=_count, default=0, metavar="N",
                       help="how many recordings are worked on at once (as many as there are cores)")  # fmt: skip
    clean.add_argument("--format", default="wav", help="wav, flac or aiff (wav)")
    clean.add_argument("--depth", default="24", help="16, 24 or 32f (24)")
    clean.add_argument("--force", action="store_true", help="overwrite existing files")
    clean.add_argument("--removed", action="store_true", help="also write what was removed")
    clean.add_argument("--cues", action="store_true", help="also write the marks into WAV stems, as cue points")
    clean.add_argument("--labels", action="store_true", help="also write the marks as tab-separated text")
    clean.add_argument("--report", action="store_true", help="also write report.html, which shows what was done")
    clean.add_argument("--together", action="store_true",
                       help="with --session: every stem begins and ends with the song")  # fmt: skip
    clean.add_argument("--as-loud", action="store_true",
                       help="a gain leaves each voice as loud as it was sung; the report tells it")  # fmt: skip
    clean.add_argument("--name", default="", metavar="PATTERN",
                       help="names of the stems, of {part}, {role}, {song} and {number}")  # fmt: skip
    clean.add_argument("--whole", action="store_true", help="all or nothing: DIR is new and there when all is written")
    collect = commands.add_parser("collect", help="copy a session with all of its recordings into one folder")
    collect.add_argument("session", type=Path, metavar="SESSION")
    collect.add_argument("--out", type=_folder, metavar="DIR", required=True, help="a folder that is new, or empty")
    collect.add_argument("--quiet", action="store_true", help="no progress on standard error")
    mark_files = _mark_files(arguments)
    for command in (find, clean):
        command.add_argument("--role", help="lead, double, harmony or adlib (lead)")
        command.add_argument("--cue", type=Path, action="append", default=[], metavar="FILE",
                             help="the headphone feed that leaked into it; may be repeated")  # fmt: skip
        command.add_argument("--own-click", action="store_true",
                             help="without a cue file: the take's own regular click")  # fmt: skip
        command.add_argument("--lead", type=Path, metavar="FILE", action="append", default=[],
                             help="the lead that these belong to, for esses and words; again for another")  # fmt: skip
        for one in mark_files:
            command.add_argument(f"--{one.option}", type=Path, metavar="FILE", help=one.words)
        command.add_argument(
            "--bed", "--music", type=Path, metavar="FILE", help="music to listen against; never written"
        )
        command.add_argument("--only", metavar="KINDS", help="work on these kinds alone (comma list)")
        command.add_argument("--skip", metavar="KINDS", help="leave these kinds out (comma list)")
        command.add_argument("--card", type=Path, metavar="FILE", help="a saved voice card")
        command.add_argument("--set", action="append", default=[], metavar="KIND.SETTING=VALUE", help="one setting")
        command.add_argument("--json", action="store_true", help="the result as JSON on standard output")
        command.add_argument("--quiet", action="store_true", help="no progress on standard error")
    return parser


def _menus(removing: bool) -> int:
    """Put Isophon into the menus, or take it out; says which files that are."""
    from isophon.cli import desktop

    data = desktop.data_folder()
    if removing:
        gone = desktop.remove(data)
        print(f"Isophon is out of the menus: {len(gone)} files were removed from {data}")
        return 0
    written = desktop.install(data, desktop.started_as())
    print(f"Isophon is in the menus, and opens .isophon files: {len(written)} files were written to {data}")
    return 0


def _work(call: argparse.Namespace) -> int:
    from isophon.cli.commands import clean, collected, find

    return {"find": find, "clean": clean, "collect": collected}[call.command](call)


def _window(call: argparse.Namespace) -> int:
    session = None
    if call.command == "open":
        session = call.session
        if session is not None and not is_there(session):
            raise InputError(f"{session}: no such session; check the name and the folder")
    if call.command == "demo" and call.make_only:
        from isophon.core.demo.build import make_demo
        from isophon.core.demo.cast import demo_folder

        print(make_demo(demo_folder(), _demo_progress))
        return 0
    signals: list[int] = []  # what the process is asked while the window is not there yet
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, lambda number, _frame: signals.append(number))
    try:
        from isophon.app.main import run
    except ImportError as error:
        raise OutputError(f"the window cannot be opened here ({error}); ./isophon installs what is missing") from error
    return run(session, demo=call.command == "demo", ended=lambda: bool(signals))


def _demo_progress(fraction: float) -> None:
    if sys.stderr.isatty():
        end = "\n" if fraction >= 1 else ""
        print(f"\rmaking the demo session: {round(100 * fraction)} %", end=end, file=sys.stderr, flush=True)
