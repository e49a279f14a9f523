"""A process that measures and writes, so that the window's own process stays free.

``python -m isophon.core.work.worker PARENT [first]`` reads one request a line from standard
input and answers with lines on standard output, see :mod:`.messages`: how far it is, then what was done or why
it failed. It ends when its input or the process PARENT does. It
works while nothing else does, but for the ``first``, which does what is waited for.
"""

from __future__ import annotations

import logging
import os
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

import msgspec

from isophon.core import log, memory
from isophon.core.audio import threads
from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, IsophonError
from isophon.core.heads import HEAD_BLOCK
from isophon.core.lifetime import end_with_parent
from isophon.core.passes.kind import Span
from isophon.core.reading import path_of
from isophon.core.session.edits import check_source
from isophon.core.session.model import Part
from isophon.core.session.settings import span_learning
from isophon.core.takes import cache as take_cache
from isophon.core.takes.heads import give_up_heads, keep_head, kept_head
from isophon.core.takes.scan import scan
from isophon.core.takes.take import renderer_of
from isophon.core.work import messages
from isophon.core.work.analysis import FINDING, SURVEYING, AnalysisRequest, analyse
from isophon.core.work.beside import hear_beside, survey_of
from isophon.core.work.cleaning import clean_file, clean_part
from isophon.core.work.completing import SHARES
from isophon.core.work.leak_learning import Lesson, learn
from isophon.core.work.messages import (
    CleanFile,
    Done,
    Failed,
    HandOver,
    HearBeside,
    Learn,
    LearnSpan,
    Look,
    Measure,
    RenderAhead,
    Reply,
    Request,
    decode_request,
    encode,
)

_log = logging.getLogger(__name__)

Progress = Callable[[float], None]
_NICENESS_OF_FIRST = 5  # it works even where other programs take all cores; what is heard still comes before it
_NICENESS = 15  # where the system knows no work that waits for everything else
_REPORT_EVERY_S = 0.1  # s between reports of how far the work is
_FINDING = 0.2  # of handing over a part of which nothing is known yet; writing, comparing and the proof take longer


def measure(path: Path, again: bool, progress: Progress, request: AnalysisRequest | None = None) -> str:
    """Survey a recording, find its marks and keep all that; nothing is done twice unless ``again``.

    Gives the name of what was measured, see :attr:`isophon.core.work.analysis.Analysis.without`.
    """
    with Recording(path) as recording:
        return analyse(recording, request or AnalysisRequest(), _shared(progress), keep=True, again=again).without


def _shared(progress: Progress) -> Callable[[str, float], None]:
    """What the steps of an analysis report to, where surveying takes most of the time."""

    def tell(step: str, fraction: float) -> None:
        progress({SURVEYING: 0.7 * fraction, FINDING: 0.7 + 0.28 * fraction}.get(step, 0.0))

    return tell


def learn_leak(path: Path, lesson: Lesson, progress: Progress) -> Any:
    """Learn what leaked into a recording, and keep that."""
    with Recording(path) as recording:
        return msgspec.to_builtins(learn(recording, lesson, lambda: survey_of(recording), progress))


def learn_span(part: Part, kind: str, span: Span, progress: Progress) -> Any:
    """What a kind learns from a span of a part, without its leak."""
    with Recording(path_of(part.source.path)) as recording:
        check_source(part.source, recording)
        request = AnalysisRequest(removal=part.removal, leak=part.leak)
        analysis = analyse(recording, request, _shared(progress), keep=True)
        return msgspec.to_builtins(span_learning(kind).learn(analysis.recording, analysis.survey, part, span))


def look(path: Path, progress: Progress) -> None:
    """Take a first look at a recording and keep it."""
    place = take_cache.place_of(path)
    if not take_cache.kept_scan(place):
        with Recording(path) as recording:
            take_cache.keep_scan(place, *scan(recording, progress))


def write(request: HandOver | CleanFile, progress: Progress) -> dict[str, Any]:
    """Write a stem; its row of the report, and lines on what is doubtful about it."""
    known = isinstance(request, HandOver) and request.session.part(request.part).found
    begins = 0.0 if known else _FINDING

    def tell(step: str, fraction: float) -> None:
        if step == "cleaning":
            progress(begins + (1 - begins) * fraction)
        else:  # little where it is known already
            progress(begins * (SHARES[step][0] + SHARES[step][1] * fraction))

    match request:
        case HandOver():
            done = clean_part(request.session, request.part, request.target, tell, request.kinds, request.keep)
        case CleanFile():
            done = clean_file(request.asked, request.target, tell)
    return done._asdict()


def render_ahead(part: Part, at_s: float, progress: Progress) -> None:
    """Render what the slow stages leave of a part and keep that, from a second on and then what lies before it."""
    path = path_of(part.source.path)
    place = take_cache.place_of(path)
    with Recording(path) as recording:
        check_source(part.source, recording)
        renderer = renderer_of(recording)
        if part.needs_leak and renderer.sounds(part.needs_leak) is None:
            raise InputError(f"{path.name}: what was found of its leak is gone; find the leak again")
        names = renderer.head_names(part.plan)
        first = int(at_s * recording.sample_rate) // HEAD_BLOCK
        missing = [i for i, name in names.items() if kept_head(place, name, recording.channels) is None]
        for done, index in enumerate(sorted(missing, key=lambda i: (i < first, i))):
            keep_head(place, names[index], renderer.head_block(part.plan, index))
            progress((done + 1) / len(missing))
        give_up_heads(place, set(names.values()), len(names))


def answer(request: Request, progress: Progress) -> Any:
    """Do what a request asks for."""
    threads.use(request.cores)
    match request:
        case HandOver() | CleanFile():
            return write(request, progress)
        case RenderAhead():
            return render_ahead(request.part, request.at, progress)
        case Look():
            return look(path_of(request.path), progress)
        case Learn():
            return learn_leak(path_of(request.path), request.lesson, progress)
        case LearnSpan():
            span = Span(request.start, request.end)
            return learn_span(request.part, request.kind, span, lambda f: progress(0.9 * f))
        case HearBeside():
            found = hear_beside(
                path_of(request.path), [(path_of(lead), later_s) for lead, later_s in request.leads], request.key
            )
            return msgspec.to_builtins(found)
        case Measure():
            analysis = AnalysisRequest(removal=request.removal, leak=request.leak)
            return measure(path_of(request.path), request.again, progress, analysis)
    return None  # a request to be there


class _Ending:
    """Ends the process when it is asked to: at once while it waits, else where its work next reports how far it is.

    ``at_once``: it ends in the middle of its work too, as it may where that writes nothing.
    """

    def __init__(self, at_once: bool) -> None:
        self.wanted, self.working, self._always = False, False, at_once
        self.writes_nothing = False
        signal.signal(signal.SIGTERM, self._end_soon)

    def _end_soon(self, *_: object) -> None:
        self.wanted = True
        if self._always or self.writes_nothing or not self.working:
            raise SystemExit(0)

    def check(self) -> None:
        """Raise SystemExit if the process was asked to end; what is half-written is then cleared away."""
        if self.wanted:
            raise SystemExit(0)


def _come_last() -> None:
    """Let the window, and what is heard, come first."""
    try:
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    except (AttributeError, OSError):
        os.nice(_NICENESS)


def main() -> None:
    """Answer requests that come from standard input until it ends."""
    log.start()
    memory.give_back()
    parent = int(sys.argv[1]) if len(sys.argv) > 1 else os.getppid()
    if "first" in sys.argv[2:]:
        os.nice(_NICENESS_OF_FIRST)
    else:
        _come_last()
    replies = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # nothing else may come between the answers
    serve(sys.stdin.buffer, replies, parent, at_once=False)


def serve(requests: BinaryIO, replies: BinaryIO, parent: int, at_once: bool = True) -> None:
    """Answer requests until there are no more, or the process ``parent`` ends.

    ``at_once``: where this process is asked to end, it does so in the middle of its work; what is half-written is
    cleared away all the same.
    """
    ending = _Ending(at_once)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with_parent(parent)
    reported_at = 0.0

    def tell(reply: Reply) -> None:
        replies.write(encode(reply))
        replies.flush()

    def progress(fraction: float) -> None:
        nonlocal reported_at
        ending.check()
        if time.monotonic() - reported_at > _REPORT_EVERY_S:
            reported_at = time.monotonic()
            tell(messages.Progress(fraction))

    for line in requests:
        ending.working = True
        tell(_answered(line, progress, ending))
        ending.working = ending.writes_nothing = False
        memory.trim()
        ending.check()


def _answered(line: bytes, progress: Progress, ending: _Ending) -> Reply:
    """The last answer to a request: what was done, or why it failed."""
    try:
        request = decode_request(line)
        ending.writes_nothing = isinstance(request, HearBeside)
        return Done(answer(request, progress))
    except IsophonError as error:
        return Failed.of(error)
    except MemoryError:
        return Failed("there is not enough memory for this; close other programs and try again")
    except BrokenPipeError:
        raise
    except Exception as error:  # noqa: BLE001 (shown to the person)
        _log.error(log.INSIDE, error, exc_info=error)
        name = type(error).__name__
        return Failed(f"an error inside Isophon stopped this ({name}: {error}); nothing was lost")


if __name__ == "__main__":
    main()
