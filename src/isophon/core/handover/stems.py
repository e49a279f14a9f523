"""One part's stem: rendered, written, read back and compared, with what goes beside it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

import isophon
from isophon.core.atomic import write_text
from isophon.core.audio.chunks import bext
from isophon.core.audio.containers import broadcast_chunk
from isophon.core.audio.converting import converted, converted_frames
from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import db
from isophon.core.audio.writing import write_stem
from isophon.core.errors import InputError, OutputError
from isophon.core.handover.counts import kinds
from isophon.core.handover.figures import Figures
from isophon.core.handover.labels import cue_chunks, labels
from isophon.core.handover.observed import Observed
from isophon.core.handover.proof import proof_values
from isophon.core.handover.target import Target, stem_name, stem_path
from isophon.core.handover.voice_gain import voice_gain_db
from isophon.core.session.model import Part
from isophon.core.session.notes import Note
from isophon.core.survey import STILL, Survey
from isophon.core.takes.take import renderer_of

_SILENT_BLOCK = 1 << 18  # frames

Progress = Callable[[float], None]


def hand_over(
    part: Part,
    recording: Recording,
    survey: Survey,
    target: Target,
    progress: Progress | None = None,
    rate: int | None = None,
    notes: Sequence[Note] = (),
) -> dict[str, Any]:
    """Write one part's stem and what goes with it; returns its row of the report.

    ``rate``: the sample rate of the stem in Hz, None for the recording's own. ``notes``: go into labels and proof.
    ``progress`` is called with a fraction and may raise to cancel; nothing
    half-written stays then.
    """
    stem = _Stem(part, recording, survey, target, rate or recording.sample_rate, progress)
    clipped, trim_db = stem.write(notes)
    if target.removed:
        stem.write_removed(notes)
    name = stem_name(part, target)
    if target.labels:
        later_s = stem.before_it / stem.rate
        write_text(target.folder / f"{name}.marks.tsv", labels(part, later_s, notes), target.force)
    still = survey.state == STILL
    return {
        "file": recording.path.name,
        "output": stem.path.name,
        "role": part.role,
        "sample_rate": stem.rate,
        "channels": recording.channels,
        "frames": stem.frames,
        "clipped_samples": clipped,
        "trim_db": trim_db,
        "voice_gain_db": stem.gain_db,
        "depth": stem.depth,
        "voice_lufs": part.voice_lufs,
        "before": stem.sung.result(still),
        "after": {name: round(value + trim_db, 2) for name, value in stem.cleaned.result(still).items()},
        "kinds": kinds(part, target.without),
        **stem.proof(notes),
    }


class _Stem:
    """A stem that is being written.

    ``before_it``, ``frames``: the silence before it and its whole length at ``rate``; ``gain_db``: what makes the
    voice as loud as it was sung; ``sung``, ``cleaned``: the figures before and after.
    """

    def __init__(self, part: Part, recording: Recording, survey: Survey, target: Target, rate: int,
                 progress: Progress | None) -> None:  # fmt: skip
        self._part, self._recording, self._target, self._progress = part, recording, target, progress
        self._renderer = renderer_of(recording)
        if part.needs_leak and self._renderer.sounds(part.needs_leak) is None:
            raise InputError(f"{recording.path.name}: what was found of its leak is gone; find the leak again")
        hop = round(survey.hop_s * recording.sample_rate)
        self.sung, self.cleaned = (Figures(recording.sample_rate, recording.channels, hop) for _ in range(2))
        self._observed = Observed(part, survey) if target.proof else None
        self._plan = part.plan_without(target.without)
        self._rounds = 1 + target.removed + target.as_loud
        self._length = recording.frames if target.together is None else self._renderer.frames_of(self._plan)
        self.rate, self.depth, self.path = rate, target.depth, stem_path(stem_name(part, target), target)
        self._own_frames = converted_frames(self._length, recording.sample_rate, rate)
        self.before_it, self.frames = _placed(part, target, rate, self._own_frames)
        self._highest = 0.0
        self.gain_db = voice_gain_db(part, survey, self._rendered(0)) if target.as_loud else 0.0
        self._gain = np.float32(10 ** (self.gain_db / 20))

    def write(self, notes: Sequence[Note]) -> tuple[int, float]:
        """Write it; how many samples clip, and by how many dB it was turned down so that none does."""
        target = self._target
        chunks = self._chunks(notes)
        clipped = self._write(self.path, self._measured(), chunks, may_clip=target.clip == "keep")
        if not clipped or target.clip == "keep":
            return clipped, 0.0
        if target.clip == "refuse":
            raise OutputError(f"{stem_name(self._part, target)}: would clip {clipped} samples, by up to "
                              f"{db(self._highest**2):.1f} dB; it was not written. Turn it down as a whole, or hand it "
                              "over as 32-bit float")  # fmt: skip
        trim_db = 0.0
        if target.clip == "float":
            self.depth = "32f"
        else:  # converting to another rate may overshoot a little more
            converts = self.rate != self._recording.sample_rate
            trim_db = -math.ceil(10 * db(self._highest**2) + 1 + 2 * converts) / 10
        gain = self._gain * np.float32(10 ** (trim_db / 20))
        again = (gain * clean for _, clean in self._renderer.blocks(self._plan, self._as_sung()))
        return self._write(self.path, again, chunks), trim_db

    def write_removed(self, notes: Sequence[Note]) -> None:
        """Write what was removed beside it."""
        path = stem_path(stem_name(self._part, self._target), self._target, "removed")
        removed = (sung - clean for sung, clean in self._rendered(self._rounds - 1))
        self._write(path, removed, self._chunks(notes))

    def proof(self, notes: Sequence[Note]) -> dict[str, Any]:
        """What the proof shows of the part, where it is wanted."""
        if self._observed is None:
            return {}
        spectra, maps = self._observed.result(), self._observed.maps.pictures()
        return {"proof": proof_values(self._part, spectra, self._target.without, maps, notes)}

    def _write(self, path: Path, blocks: Iterator[np.ndarray], chunks: bytes, may_clip: bool = True) -> int:
        return write_stem(path, self._at_rate(blocks), self.rate, self._recording.channels, self.frames,
                          fmt=self._target.fmt, depth=self.depth, force=self._target.force, chunks=chunks,
                          may_clip=may_clip)  # fmt: skip

    def _as_sung(self) -> Iterator[np.ndarray]:
        past_its_end = _silence(self._recording.channels, self._length - self._recording.frames)
        return itertools.chain(self._recording.blocks(), past_its_end)

    def _rendered(self, earlier: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """As sung and cleaned, telling how far it is; ``earlier``: rounds that were done before."""
        done = 0
        for sung, clean in self._renderer.blocks(self._plan, self._as_sung()):
            done += sung.shape[1]
            if self._progress:
                self._progress((earlier + done / self._length) / self._rounds)
            yield sung, clean

    def _measured(self) -> Iterator[np.ndarray]:
        """Cleaned, and measured on the way."""
        for sung, clean in self._rendered(int(self._target.as_loud)):
            clean = clean if self._gain == 1 else self._gain * clean
            self.sung.add(sung)
            self.cleaned.add(clean)
            if self._observed is not None:
                self._observed.add(sung, clean)
            self._highest = max(self._highest, float(np.abs(clean).max(initial=0.0)))
            yield clean

    def _at_rate(self, blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        channels = self._recording.channels
        stem = converted(blocks, self._recording.sample_rate, self.rate, channels, self._own_frames)
        return stem if self.frames == self._own_frames else _padded(stem, channels, self.before_it, self.frames)

    def _chunks(self, notes: Sequence[Note]) -> bytes:
        """What a WAVE stem says beside its samples: where it began, what was done, and on request its marks."""
        part, recording, target, rate = self._part, self._recording, self._target, self.rate
        began = part.source.time_reference or recording.time_reference or 0
        made = datetime.fromtimestamp(recording.path.stat().st_mtime)
        mode = "mono" if recording.channels == 1 else "stereo"
        done = [f"A=PCM,F={rate},W={target.depth.removesuffix('f')},M={mode},T=Isophon {isophon.__version__}"]
        rows = kinds(part, target.without)
        done += [f"T=Isophon {name}: {row['changed']} of {row['count']} changed" for name, row in rows.items()
                 if row.get("changed")]  # fmt: skip
        first = max(0, round(began * rate / recording.sample_rate) - self.before_it)
        chunk = bext(f"{part.name}, cleaned", first, made, done, broadcast_chunk(recording.path) or b"")
        return chunk + (cue_chunks(part, rate, self.before_it, notes) if target.cues else b"")


def _placed(part: Part, target: Target, rate: int, frames: int) -> tuple[int, int]:
    """How many frames of silence stand before a stem, and how many it has in all."""
    if target.together is None:
        return 0, frames
    start, end = target.together
    before_it = max(0, round((part.offset_s - start) * rate))
    return before_it, max(before_it + frames, math.ceil((end - start) * rate - 1e-6))


def _padded(blocks: Iterator[np.ndarray], channels: int, before_it: int, frames: int) -> Iterator[np.ndarray]:
    """Blocks with silence before and after them, ``frames`` in all."""
    missing = frames
    for block in itertools.chain(_silence(channels, before_it), blocks):
        missing -= block.shape[1]
        yield block
    yield from _silence(channels, missing)


def _silence(channels: int, frames: int) -> Iterator[np.ndarray]:
    for at in range(0, frames, _SILENT_BLOCK):
        yield np.zeros((channels, min(_SILENT_BLOCK, frames - at)), np.float32)
