"""Loudness, true peak and noise floor of a recording that passes block by block."""

from __future__ import annotations

import numpy as np

from isophon.core.audio.loudness import Meter, db

_SILENT_DBFS = -120.0  # dBFS: no noise floor is shown that is lower
_FEWEST = 10  # pauses' frames; with fewer the quietest twentieth of all is taken


class Figures:
    """Measures what is added; ``hop``: the frames of the survey's steps."""

    def __init__(self, sample_rate: int, channels: int, hop: int) -> None:
        self._meter, self._hop = Meter(sample_rate, channels), hop
        self._power: list[np.ndarray] = []  # mean square of each step
        self._pending = np.zeros(0)

    def add(self, block: np.ndarray) -> None:
        """Adds the next samples, ``(channels, n)``."""
        self._meter.add(block)
        power = np.concatenate([self._pending, np.square(block, dtype=np.float64).sum(axis=0)])
        complete = len(power) // self._hop * self._hop
        self._power.append(power[:complete].reshape(-1, self._hop).mean(axis=1))
        self._pending = power[complete:]

    def result(self, still: np.ndarray) -> dict[str, float]:
        """Loudness in LUFS, true peak in dBTP and noise floor in dBFS.

        Parameters
        ----------
        still : bool ``(steps,)``, whether each step is a pause.
        """
        power = np.concatenate(self._power) if self._power else np.zeros(0)
        quiet = power[: len(still)][still[: len(power)]]
        if len(quiet) < _FEWEST:
            quiet = np.sort(power)[: max(1, len(power) // 20)]
        floor = db(float(np.median(quiet))) if len(quiet) else _SILENT_DBFS
        return {
            "loudness_lufs": round(self._meter.loudness(), 2),
            "true_peak_dbtp": round(self._meter.true_peak(), 2),
            "floor_dbfs": round(max(_SILENT_DBFS, floor), 2),
        }
