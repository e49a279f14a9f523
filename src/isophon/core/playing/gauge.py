"""The loudness of what is heard, and of as sung and cleaned beside each other (ITU-R BS.1770-5, EBU Tech 3341).

Momentary: over 400 ms; short-term: over 3 s.
"""

from __future__ import annotations

from collections import deque

import numpy as np
from scipy import signal

from isophon.core.audio.filters import k_weighting
from isophon.core.audio.loudness import SILENCE_DB, interpolation, lufs

STEP_S = 0.1  # s of a measured step (BS.1770-5: blocks of 400 ms that overlap by three quarters)
MOMENTARY, SHORT_TERM, LONGEST = 4, 30, 100  # steps
_GATE_LUFS, _UNDER_LOUDEST = -60.0, 0.01  # what is softer does not count when loudness is matched
_MOST_DB = 18.0  # dB: nothing is matched by more
_FOLLOWS = 0.5  # of the way to a new match that is gone each step


class Gauge:
    """Takes in blocks ``(2, frames)`` at ``sample_rate`` Hz.

    ``momentary``, ``short_term``: of what is heard, LUFS; ``sung``, ``cleaned``: short-term, of what is compared;
    ``taken_db``: how much softer cleaned is than as sung now, over a step; ``true_peak``: the highest sample, or value
    between samples, of the last block.
    """

    def __init__(self, sample_rate: int) -> None:
        one, other = k_weighting(sample_rate)
        self._b, self._a = np.convolve(one[:3], other[:3]), np.convolve(one[3:], other[3:])
        self._states = np.zeros((6, len(self._a) - 1))
        self._step = round(STEP_S * sample_rate)
        self._powers = np.zeros(3)
        self._frames = 0
        self._steps: deque[np.ndarray] = deque(maxlen=LONGEST)
        self._factor = 4 if sample_rate < 96_000 else 2 if sample_rate < 192_000 else 1
        self._taps = interpolation(self._factor)
        self._tail = np.zeros((2, len(self._taps) // self._factor + 1), np.float32)
        self._matched: float | None = None
        self.momentary = self.short_term = self.sung = self.cleaned = SILENCE_DB
        self.taken_db = self.true_peak = 0.0

    def matched_db(self, first_db: float) -> float:
        """The gain that brings cleaned to the loudness of as sung; ``first_db`` as long as nothing was measured."""
        return first_db if self._matched is None else self._matched

    def forget(self) -> None:
        """What was heard is of no more use: something else is heard now."""
        self._steps.clear()
        self._matched = None

    def add(self, played: np.ndarray, sung: np.ndarray, cleaned: np.ndarray, match_steps: int) -> None:
        """Adds the next frames of all three, ``(2, n)`` each; the last ``match_steps`` steps of 0.1 s are matched."""
        rows = np.concatenate([played, sung, cleaned]).astype(np.float64)
        weighted, self._states = signal.lfilter(self._b, self._a, rows, axis=1, zi=self._states)
        power = np.square(weighted).reshape(3, 2, -1).sum(axis=1)
        joined = np.concatenate([self._tail, played], axis=1)
        self._tail = joined[:, -self._tail.shape[1] :]
        up = joined if self._factor == 1 else signal.upfirdn(self._taps, joined, self._factor, 1, axis=1)
        edge = 0 if self._factor == 1 else len(self._taps)
        self.true_peak = float(np.abs(up[:, edge : up.shape[1] - edge]).max(initial=np.abs(played).max(initial=0.0)))
        at, frames = 0, power.shape[1]
        while at < frames:
            count = min(self._step - self._frames, frames - at)
            self._powers += power[:, at : at + count].sum(axis=1)
            self._frames += count
            at += count
            if self._frames == self._step:
                self._complete(self._powers / self._step, match_steps)
                self._powers, self._frames = np.zeros(3), 0

    def _complete(self, step: np.ndarray, match_steps: int) -> None:
        self._steps.append(step)
        steps = np.array(self._steps)
        self.momentary = lufs(float(steps[-MOMENTARY:, 0].mean()))
        self.short_term, self.sung, self.cleaned = (lufs(float(steps[-SHORT_TERM:, i].mean())) for i in range(3))
        loud = lufs(float(step[1])) > _GATE_LUFS
        self.taken_db = float(10 * np.log10(step[1] / max(step[2], 1e-12))) if loud else 0.0
        recent = steps[-match_steps:]
        counts = recent[:, 1] > max(10 ** (_GATE_LUFS / 10), _UNDER_LOUDEST * recent[:, 1].max())
        if counts.any():
            sung, cleaned = recent[counts, 1].sum(), max(recent[counts, 2].sum(), 1e-12)
            target = float(np.clip(10 * np.log10(sung / cleaned), -_MOST_DB, _MOST_DB))
            self._matched = target if self._matched is None else self._matched + _FOLLOWS * (target - self._matched)
