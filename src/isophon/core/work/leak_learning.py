"""From recordings to a leak that is known and kept, and the take as it is without it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator

import msgspec
import numpy as np
from msgspec.structs import replace

from isophon.core.audio.files import BLOCK, Recording, all_samples
from isophon.core.audio.leak import Cue, Feed, Leak, Removal
from isophon.core.errors import InputError
from isophon.core.passes import KINDS, AnyMark
from isophon.core.ranges import File, Key, Name, Seconds
from isophon.core.reading import path_of
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey
from isophon.core.takes import cache as take_cache

Arrays = tuple[np.ndarray, np.ndarray]

_SHORTEST_S = 1.0  # s: a leak is learned from no less


class CueFile(msgspec.Struct, frozen=True):
    """A cue's recording, where it begins against the take, in s, and which reference or part it is."""

    path: File
    offset_s: Seconds = 0.0
    item: Name = ""


class Lesson(msgspec.Struct, frozen=True):
    """What a leak is learned from: ``cues``, none for the take's own regular click; ``moments``: see :class:`Leak`.

    ``key``: the name that its sound is kept under where it was learned before.
    """

    cues: tuple[CueFile, ...] = ()
    moments: tuple[tuple[Seconds, Seconds], ...] = ()
    key: Key = ""


class Learned(msgspec.Struct, frozen=True):
    """What was learned of a leak, and its hits."""

    facts: Leak
    marks: tuple[AnyMark, ...] = ()


def lesson_again(session: Session, part: Part) -> Lesson | None:
    """What the leak of a part was learned from, None where that is not in the session any more."""
    leak = part.leak
    if leak is None or not leak.key:
        return None
    sources = {item.id: item.source.path for item in session.items}
    if not leak.own_click and not (leak.feeds and all(feed.item in sources for feed in leak.feeds)):
        return None
    cues = tuple(CueFile(sources[feed.item], feed.offset_s, feed.item) for feed in leak.feeds)
    return Lesson(cues, leak.moments, leak.key)


def learn(recording: Recording, lesson: Lesson, survey: Survey | Callable[[], Survey],
          tell: Callable[[float], None] | None = None) -> Learned:  # fmt: skip
    """Learn what leaked into a recording and keep the sound of it; nothing is learned twice.

    Raises InputError where a cue cannot be read or the moments are too short, OutputError where the sound cannot
    be kept.
    """
    inside = sum(min(end, recording.duration) - start for start, end in lesson.moments)
    if lesson.moments and inside < _SHORTEST_S:
        raise InputError(f"{recording.path.name}: {_SHORTEST_S:g} s or more are needed to learn a leak from; "
                         "choose a longer time inside the take")  # fmt: skip
    place = take_cache.place_of(recording.path)
    key = lesson.key or _key(lesson)
    facts = take_cache.kept_leak_facts(place, key)
    if facts is not None:
        learned = msgspec.json.decode(facts, type=Learned)
    else:
        learned = _learned(recording, lesson, key, survey, tell)
    feeds = tuple(Feed(cue.item, cue.offset_s) for cue in lesson.cues if cue.item)
    return replace(learned, facts=replace(learned.facts, feeds=feeds, moments=lesson.moments))


def _learned(recording: Recording, lesson: Lesson, key: str, survey: Survey | Callable[[], Survey],
             tell: Callable[[float], None] | None) -> Learned:  # fmt: skip
    cues = _read(lesson.cues) if lesson.cues else ()
    removing = next(kind.leak_removal for kind in KINDS if kind.leak_removal)
    taken = removing.learn(all_samples(recording), recording.sample_rate, cues, key, tell, lesson.moments)
    learned = Learned(taken.facts, removing.hits(taken, recording.read, survey() if callable(survey) else survey))
    place, sound = take_cache.place_of(recording.path), (taken.leak, taken.rest) if taken.facts.key else None
    take_cache.keep_leak(place, key, sound, msgspec.json.encode(learned))
    return learned


def _read(cues: tuple[CueFile, ...]) -> Iterator[Cue]:
    for cue in cues:
        with Recording(path_of(cue.path)) as guide:
            yield Cue(guide.path.name, all_samples(guide), guide.sample_rate, cue.offset_s)


def _key(lesson: Lesson) -> str:
    facts = [f"{take_cache.place_of(path_of(cue.path)).name} {cue.offset_s:.6f}" for cue in lesson.cues]
    facts += [f"{start:.3f} {end:.3f}" for start, end in lesson.moments]
    return hashlib.sha256("\n".join(facts).encode()).hexdigest()[:16]


class Dry:
    """A recording without its leak; read like a :class:`isophon.core.audio.files.Recording`."""

    def __init__(self, recording: Recording, arrays: Arrays, removal: Removal) -> None:
        self._recording, self._arrays, self._removal = recording, arrays, removal
        self.path, self.sample_rate = recording.path, recording.sample_rate
        self.channels, self.frames, self.duration = recording.channels, recording.frames, recording.duration

    def read(self, start: int, frames: int) -> np.ndarray:
        """Samples ``start`` to ``start + frames``, zeros outside, float32 ``(channels, frames)``."""
        block = self._recording.read(start, frames)
        return self._removal.apply(block, start, self._arrays)

    def blocks(self, size: int = BLOCK) -> Iterator[np.ndarray]:
        """The complete take in order, float32 ``(channels, n)`` each."""
        at = 0
        for block in self._recording.blocks(size):
            yield self._removal.apply(block, at, self._arrays)
            at += block.shape[1]


def dry(recording: Recording, leak: Leak | None, removal: Removal) -> Recording | Dry:
    """The recording as the later passes find it."""
    arrays = (
        take_cache.kept_leak(take_cache.place_of(recording.path), leak.key)
        if leak and leak.key and removal.on
        else None
    )
    return recording if arrays is None else Dry(recording, arrays, removal)
