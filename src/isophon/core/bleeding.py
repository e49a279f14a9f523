"""From recordings to a leak that is known and kept, and the take as it is without it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec
import numpy as np

from isophon.core import takes
from isophon.core.audio.files import BLOCK, Recording
from isophon.core.marks import Mark
from isophon.core.passes.bleed.leak import Cue, hits, learn_leak
from isophon.core.passes.bleed.settings import BleedSettings, Leak
from isophon.core.passes.bleed.treat import without
from isophon.core.survey import Survey

Arrays = tuple[np.ndarray, np.ndarray]


class CueFile(msgspec.Struct, frozen=True):
    """A cue's recording, and where it begins against the take, in s."""

    path: str
    offset_s: float = 0.0


class Learned(msgspec.Struct, frozen=True):
    """What was learned of a leak, and its hits."""

    facts: Leak
    marks: tuple[Mark, ...] = ()


def learn(recording: Recording, cues: Sequence[CueFile], survey: Survey | Callable[[], Survey],
          tell: Callable[[float], None] | None = None) -> Learned:  # fmt: skip
    """Learn how cues leaked into a recording and keep the sound of it; nothing is learned twice.

    Raises InputError where a cue cannot be read, OutputError where the sound cannot be kept.
    """
    place = takes.place_of(recording.path)
    key = _key(cues)
    told = takes.kept_leak_facts(place, key)
    if told is not None:
        return msgspec.json.decode(told, type=Learned)
    sounds = []
    for cue in cues:
        with Recording(cue.path) as guide:
            whole = np.concatenate(list(guide.blocks()), axis=1)
            sounds.append(Cue(guide.path.name, whole, guide.sample_rate, cue.offset_s))
    samples = np.concatenate(list(recording.blocks()), axis=1)
    taken = learn_leak(samples, recording.sample_rate, sounds, key, tell)
    learned = Learned(taken.facts, hits(taken, recording.read, survey() if callable(survey) else survey))
    takes.keep_leak(place, key, (taken.leak, taken.rest) if taken.facts.key else None, msgspec.json.encode(learned))
    return learned


def _key(cues: Sequence[CueFile]) -> str:
    told = "\n".join(f"{takes.place_of(Path(cue.path)).name} {cue.offset_s:.6f}" for cue in cues)
    return hashlib.sha256(told.encode()).hexdigest()[:16]


class Dry:
    """A recording without its leak; read like a :class:`isophon.core.audio.files.Recording`."""

    def __init__(self, recording: Recording, arrays: Arrays, settings: BleedSettings) -> None:
        self._recording, self._arrays, self._settings = recording, arrays, settings
        self.path, self.sample_rate = recording.path, recording.sample_rate
        self.channels, self.frames, self.duration = recording.channels, recording.frames, recording.duration

    def read(self, start: int, frames: int) -> np.ndarray:
        """Samples ``start`` to ``start + frames``, zeros outside, float32 ``(channels, frames)``."""
        block = self._recording.read(start, frames)
        return without(block, start, self._arrays, self._settings.much, self._settings.careful)

    def blocks(self, size: int = BLOCK) -> Iterator[np.ndarray]:
        """The whole take in order."""
        at = 0
        for block in self._recording.blocks(size):
            yield without(block, at, self._arrays, self._settings.much, self._settings.careful)
            at += block.shape[1]


def dry(recording: Recording, leak: Leak | None, settings: BleedSettings) -> Recording | Dry:
    """The recording as the later passes find it."""
    arrays = takes.kept_leak(takes.place_of(recording.path), leak.key) if leak and leak.key and settings.on else None
    return recording if arrays is None else Dry(recording, arrays, settings)
