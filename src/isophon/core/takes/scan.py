"""A first look at a recording, in one quick reading: its wave at every zoom, and the figures of the lay-out."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import db
from isophon.core.takes.pictures import Wave

_STEP_S = 0.05  # s between levels
_FULL_SCALE = 0.9999  # from this sample value on a peak is full
_LOUD_RANGE_DB = 20.0  # dB under the loudest that counts as loud
_SILENT_UNDER_DB = 50.0  # dB under the loudest from which it is silent
_SILENCE_DB = -90.0  # dBFS that is silence in any case


class Figures(msgspec.Struct, frozen=True):
    """What the lay-out tells of a recording.

    ``peak_dbfs``; ``level_dbfs``: mean square of its loud moments (within 20 dB
    of the loudest 50 ms); ``clipped``: samples at full scale that stand beside
    another one; ``silent``: share of its time 50 dB under the loudest moment or
    under −90 dBFS, 0 to 1; ``sounds``: first and last second that is not silent,
    None where nothing sounds.
    """

    peak_dbfs: float
    level_dbfs: float
    clipped: int
    silent: float
    sounds: tuple[float, float] | None


def scan(recording: Recording, progress: Callable[[float], None]) -> tuple[Wave, Figures]:
    """Read a recording once; InputError if it cannot be decoded. ``progress`` may raise to cancel."""
    wave, step = Wave(), max(1, round(_STEP_S * recording.sample_rate))
    powers: list[np.ndarray] = []
    rest = np.zeros(0, np.float32)
    peak, clipped, done = 0.0, 0, 0
    for block in recording.blocks():
        wave.add(block)
        loudest = np.abs(block)
        peak = max(peak, float(loudest.max()))
        full = loudest >= _FULL_SCALE
        clipped += int(np.count_nonzero(full[:, 1:] & full[:, :-1]))
        power = np.concatenate([rest, np.square(block).mean(axis=0)])
        complete = len(power) // step * step
        powers.append(power[:complete].reshape(-1, step).mean(axis=1))
        rest = power[complete:]
        done += block.shape[1]
        progress(done / recording.frames)
    wave.finish()
    if len(rest):
        powers.append(rest.mean(keepdims=True))
    return wave, _figures(np.concatenate(powers), peak, clipped, _STEP_S)


def _figures(power: np.ndarray, peak: float, clipped: int, step_s: float) -> Figures:
    level = db(power)
    loudest = float(level.max())
    loud = power[level > loudest - _LOUD_RANGE_DB]
    sounding = np.flatnonzero(level > max(loudest - _SILENT_UNDER_DB, _SILENCE_DB))
    return Figures(
        peak_dbfs=round(db(peak**2), 1),
        level_dbfs=round(db(float(loud.mean())), 1),
        clipped=clipped,
        silent=round(1 - len(sounding) / len(level), 3),
        sounds=(round(float(sounding[0]) * step_s, 2), round(float(sounding[-1] + 1) * step_s, 2))
        if len(sounding)
        else None,
    )
