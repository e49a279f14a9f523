"""A process that measures and writes, so that the window's own process stays free.

``python -m isophon.core.work.worker PARENT [first]`` reads one request a line (JSON) from standard
input and answers with lines on standard output: ``{"progress": 0.5}``, then
``{"done": …}`` or ``{"failed": "why"}``. It ends when its input or the process PARENT does. It
works while nothing else does, but for the ``first``, which does what is waited for.
"""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from isophon.core import log, memory
from isophon.core.audio import threads
from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, IsophonError
from isophon.core.finding import find_all, survey_recording
from isophon.core.handover.stems import Target, check_free, hand_over
from isophon.core.heads import HEAD_BLOCK
from isophon.core.lifetime import end_with_parent
from isophon.core.passes.bleed.settings import BleedSettings, Leak, in_force
from isophon.core.passes.ears import Listened, held
from isophon.core.reading import path_of
from isophon.core.session.edits import check_source
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey, geometry_at, phrases, words
from isophon.core.takes import cache as take_cache
from isophon.core.takes.cache import Told
from isophon.core.takes.heads import give_up_heads, keep_head, kept_head
from isophon.core.takes.pictures import Spectrogram, lows_of
from isophon.core.takes.scan import scan
from isophon.core.takes.take import renderer_of
from isophon.core.work.beside import hear_beside
from isophon.core.work.bleed_learning import Lesson, dry, learn
from isophon.core.work.completing import SHARES, completed

Progress = Callable[[float], None]
_NICENESS_OF_FIRST = 5  # it works even where other programs take all cores; what is heard still comes before it
_NICENESS = 15  # where the system knows no work that waits for everything else
_TELL_S = 0.1
_FINDING = 0.2  # of handing over a part of which nothing is known yet; writing, comparing and the proof take longer


def measure(
    path: Path, again: bool, progress: Progress, leak: Leak | None = None, settings: BleedSettings | None = None
) -> str:
    """Survey a recording, find its marks and keep all that; nothing is done twice unless ``again``.

    Where a ``leak`` is known, the take is heard without it. Gives the name of what was measured, see :class:`Told`.
    """
    place = take_cache.place_of(path)
    if not again and take_cache.kept_survey(place):
        return ""
    with Recording(path) as file:
        without_leak = dry(file, leak, settings or BleedSettings())
        without = "" if without_leak is file else in_force(leak, settings or BleedSettings())
        recording = held(without_leak)
        found = _surveyed(recording, place, without, lambda f: progress(0.7 * f))
        lows = lows_of(recording.blocks(), recording.sample_rate, recording.channels)
        take_cache.keep_picture(place, "lows", lows, without)
        all_found = find_all(recording, found, lambda f: progress(0.7 + 0.25 * f))
        progress(0.98)
        take_cache.keep_survey(place, found, Told(all_found, tuple(phrases(found)), tuple(words(found)), without))
    return without


def _surveyed(recording: Listened, place: Path, without: str, progress: Progress) -> Survey:
    """The survey of a recording; its picture is kept at once, since it takes more room than all the rest."""
    spectrogram = Spectrogram(geometry_at(recording.sample_rate))
    found = survey_recording(recording, progress, spectrogram.add)
    spectrogram.finish()
    take_cache.keep_picture(place, "spectrogram", spectrogram, without)
    return found


def learn_bleed(path: Path, lesson: Lesson, progress: Progress) -> Any:
    """Learn what leaked into a recording, and keep that."""
    with Recording(path) as recording:
        kept = take_cache.kept_survey(take_cache.place_of(path))
        survey = kept.survey if kept else lambda: survey_recording(recording)
        return msgspec.to_builtins(learn(recording, lesson, survey, progress))


def look(path: Path, progress: Progress) -> None:
    """Take a first look at a recording and keep it."""
    place = take_cache.place_of(path)
    if not take_cache.kept_scan(place):
        with Recording(path) as recording:
            take_cache.keep_scan(place, *scan(recording, progress))


def write(session: Session, part_id: str, target: Target, progress: Progress) -> dict[str, Any]:
    """Hand over one part of a session, once what is not known of it yet is found; its row of the report."""
    part = session.part(part_id)
    path = path_of(part.source.path)

    def tell(step: str, fraction: float) -> None:
        begins = 0.0 if part.found else _FINDING
        if step == "cleaning":
            progress(begins + (1 - begins) * fraction)
        else:  # little where it is known already
            progress(begins * (SHARES[step][0] + SHARES[step][1] * fraction))

    with Recording(path) as recording:
        check_source(part.source, recording)
        check_free(part, target)
        if not part.found:  # kept, so that nobody measures it once more
            measure(path, False, lambda f: progress(_FINDING * f))
        found, survey = completed(session, part, recording, tell)
        return hand_over(found, recording, survey, target, lambda f: tell("cleaning", f), session.rate)


def render_ahead(part: Part, at_s: float, progress: Progress) -> None:
    """Render what the slow stages leave of a part and keep that, from a second on and then what lies before it."""
    path = path_of(part.source.path)
    place = take_cache.place_of(path)
    with Recording(path) as recording:
        check_source(part.source, recording)
        renderer = renderer_of(recording)
        if part.leak and part.leak.key and part.bleed.on and renderer.sounds(part.leak.key) is None:
            raise InputError(f"{path.name}: what was learned of its bleed is not kept any more; learn it again")
        names = renderer.head_names(part.plan)
        first = int(at_s * recording.sample_rate) // HEAD_BLOCK
        missing = [i for i, name in names.items() if kept_head(place, name, recording.channels) is None]
        for done, index in enumerate(sorted(missing, key=lambda i: (i < first, i))):
            keep_head(place, names[index], renderer.head_block(part.plan, index))
            progress((done + 1) / len(missing))
        give_up_heads(place, set(names.values()), len(names))


def answer(request: dict[str, Any], progress: Progress) -> Any:
    """Do what a request asks for."""
    threads.use(int(request.get("cores", 0)))
    if request["do"] == "hand over":
        session, how = msgspec.convert(request["session"], Session), request["target"]
        how |= {"folder": path_of(how["folder"]), "without": tuple(how["without"])}
        how |= {"together": how["together"] and tuple(how["together"])}
        return write(session, str(request["part"]), Target(**how), progress)
    if request["do"] == "render ahead":
        return render_ahead(msgspec.convert(request["part"], Part), float(request["at"]), progress)
    if request["do"] == "wake":
        return None
    path = path_of(request["path"])
    if request["do"] == "look":
        return look(path, progress)
    if request["do"] == "learn":
        return learn_bleed(path, msgspec.convert(request["lesson"], Lesson), progress)
    if request["do"] == "beside":
        later_s = float(request["later_s"])
        return msgspec.to_builtins(hear_beside(path, path_of(request["lead"]), later_s, str(request["key"])))
    again = request["do"] == "measure again"
    leak: Any = msgspec.convert(request.get("leak"), Leak | None)
    settings: Any = msgspec.convert(request.get("how"), BleedSettings | None)
    return measure(path, again, progress, leak, settings)


class _Ending:
    """Ends the process when it is told to: at once while it waits, else where its work next tells how far it is."""

    def __init__(self) -> None:
        self.wanted, self.working = False, False
        signal.signal(signal.SIGTERM, self._told)

    def _told(self, *_: object) -> None:
        self.wanted = True
        if not self.working:
            raise SystemExit(0)

    def check(self) -> None:
        """Raise SystemExit if the process was told to end; what is half-written is then cleared away."""
        if self.wanted:
            raise SystemExit(0)


def _come_last() -> None:
    """Let the window, and what is heard, come first."""
    try:
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    except (AttributeError, OSError):
        os.nice(_NICENESS)


def main() -> None:
    """Answer requests until the input ends."""
    log.start()
    memory.give_back()
    ending = _Ending()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with_parent(int(sys.argv[1]) if len(sys.argv) > 1 else os.getppid())
    if "first" in sys.argv[2:]:
        os.nice(_NICENESS_OF_FIRST)
    else:
        _come_last()
    replies = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # nothing else may come between the answers
    told_at = 0.0

    def tell(**reply: Any) -> None:
        replies.write(msgspec.json.encode(reply) + b"\n")
        replies.flush()

    def progress(fraction: float) -> None:
        nonlocal told_at
        ending.check()
        if time.monotonic() - told_at > _TELL_S:
            told_at = time.monotonic()
            tell(progress=fraction)

    for line in sys.stdin.buffer:
        ending.working = True
        try:
            tell(done=answer(msgspec.json.decode(line), progress))
        except IsophonError as error:
            tell(failed=str(error), of_input=isinstance(error, InputError))
        except MemoryError:
            tell(failed="there is not enough memory for this; close other programs and try again")
        except BrokenPipeError:
            raise
        except Exception as error:
            log.trouble(error)
            tell(failed=f"an error inside Isophon stopped this ({type(error).__name__}: {error}); nothing was lost")
        ending.working = False
        memory.trim()
        ending.check()


if __name__ == "__main__":
    main()
