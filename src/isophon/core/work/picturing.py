"""The process that makes the pictures of the map, so that the window's own never waits for it; and how it is asked.

``python -m isophon.core.work.picturing PARENT`` reads requests from standard input and answers each on standard output,
pickled, as :mod:`multiprocessing.connection` sends them. It ends with its input, or with the process PARENT.
"""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import sys
import threading
from multiprocessing.connection import Connection
from typing import Any

import msgspec
import numpy as np
from msgspec.structs import replace

from isophon.core import log, memory
from isophon.core.errors import InputError
from isophon.core.forking import PICTURES, Child, forker
from isophon.core.lifetime import end_with_parent
from isophon.core.render_cache import RenderCache
from isophon.core.session.items import Source
from isophon.core.staging import Plan
from isophon.core.takes.pictures import Axis, close_margin, close_picture
from isophon.core.takes.relief import Inks, drawn
from isophon.core.takes.take import Sound, open_sound

_log = logging.getLogger(__name__)

_SOUNDS_KEPT, _FEWEST, _FINEST = 4, 4, 16  # recordings; samples; windows a column
_NICENESS = 3  # of the process that makes pictures


class Look(msgspec.Struct, frozen=True):
    """Seconds ``view`` of a recording after a ``plan``, over the frequencies of ``axis`` in so many ``columns``.

    Without an axis, its samples. ``generation``: another than before where what is kept beside recordings has changed.
    """

    source: Source
    generation: int
    view: tuple[float, float]
    axis: Axis | None
    columns: int
    plan: Plan = ()


class Request(msgspec.Struct, frozen=True):
    """What is looked at as sung and cleaned, printed ``size`` (width, height) large, with or without ``lines``."""

    look: Look
    voice_lufs: float | None
    inks: Inks
    size: tuple[int, int]
    lines: bool


class Picture(msgspec.Struct, frozen=True, eq=False):
    """Levels as sung and cleaned, uint8 ``(rows, columns)``, and the colours of the picture, uint32."""

    sung: np.ndarray
    cleaned: np.ndarray
    colours: np.ndarray


class Maker:
    """Makes pictures, and keeps what the next one may need."""

    def __init__(self) -> None:
        self._cache, self._generation = RenderCache(), 0
        self._sounds: dict[Source, Sound] = {}
        self._sung: tuple[Look, np.ndarray] | None = None

    def answer(self, asked: Look | Request) -> np.ndarray | Picture:
        """Levels ``(rows, columns)``, samples ``(n,)`` or a picture; InputError where the recording cannot be used."""
        look = asked if isinstance(asked, Look) else asked.look
        if look.generation != self._generation:
            self._generation = look.generation
            self._close(list(self._sounds))
            self._cache.clear()
        if isinstance(asked, Look):
            return self._seen(asked)
        as_sung = replace(look, plan=())
        if self._sung is None or self._sung[0] != as_sung:
            self._sung = as_sung, self._seen(as_sung)
        sung = self._sung[1]
        cleaned = self._seen(look) if look.plan else sung
        return Picture(sung, cleaned, drawn(sung, cleaned, asked.voice_lufs, asked.inks, asked.size, asked.lines))

    def _seen(self, look: Look) -> np.ndarray:
        sound = self._sound(look.source)
        (start, end), rate, axis = look.view, sound.recording.sample_rate, look.axis
        margin = 0 if axis is None else close_margin(rate, axis)
        first, count = round(start * rate) - margin, max(_FEWEST, round((end - start) * rate) + 2 * margin)
        before = max(0, -first)
        samples = sound.renderer.cleaned(look.plan, first + before, count - before)
        samples = np.pad(samples, ((0, 0), (before, 0)))
        if axis is None:
            return samples[0]
        # windows that are short against a column would miss what lies between them: of several the highest counts
        finer = min(_FINEST, max(1, round(2 * (end - start) / look.columns / axis.window_s)))
        levels = close_picture(samples, rate, look.columns * finer, axis)
        complete = levels.shape[1] // finer * finer
        return levels[:, :complete].reshape(len(levels), -1, finer).max(axis=2)

    def _sound(self, source: Source) -> Sound:
        sound = self._sounds.pop(source, None) or open_sound(source, self._cache)
        if sound.trouble:
            raise InputError(sound.trouble)
        self._sounds[source] = sound  # the last one
        self._close(list(self._sounds)[:-_SOUNDS_KEPT])
        return sound

    def _close(self, sources: list[Source]) -> None:
        for source in sources:
            self._sounds.pop(source).recording.close()


class PictureProcess:
    """Asks the process, and starts it where it is needed.

    ``generation``: of what is kept beside recordings, for what it is asked; raised where that changes.
    """

    def __init__(self) -> None:
        self.generation = 0
        self._child: Child | None = None
        self._ask: Connection | None = None
        self._answers: Connection | None = None
        self._lock = threading.Lock()

    def ask(self, asked: Look | Request) -> Any:
        """Wait for what :meth:`Maker.answer` gives; OSError where no process can be started."""
        with self._lock:
            try:
                answer = self._answer(asked)
            except (OSError, EOFError) as error:
                _log.warning("the process that makes pictures is started anew: %s", error)
                self._child = None
                answer = self._answer(asked)
        if isinstance(answer, str):
            raise InputError(answer)
        return answer

    def _answer(self, asked: Look | Request) -> Any:
        if self._child is None:
            self._child = forker().start(PICTURES)
            self._ask = Connection(os.dup(self._child.stdin.fileno()), readable=False)
            self._answers = Connection(os.dup(self._child.stdout.fileno()), writable=False)
            self._child.stdin.close()
            self._child.stdout.close()
        assert self._ask is not None and self._answers is not None, "it was started"
        self._ask.send(asked)
        return self._answers.recv()


def main() -> None:
    """Make pictures until the input ends."""
    log.start()
    memory.give_back()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with_parent(int(sys.argv[1]))
    os.nice(_NICENESS)
    asked, answers = Connection(os.dup(0), writable=False), Connection(os.dup(1), readable=False)
    os.dup2(2, 1)  # nothing else may come between the answers
    maker = Maker()
    with contextlib.suppress(EOFError):
        while True:
            request = asked.recv()
            try:
                answers.send(maker.answer(request))
            except InputError as error:
                answers.send(str(error))
            except Exception as error:  # noqa: BLE001 (the next one may do)
                _log.error(log.INSIDE, error, exc_info=error)
                answers.send(f"an error inside Isophon ({type(error).__name__}: {error})")


if __name__ == "__main__":
    main()
