"""The rough chain: what is likely to happen to the stems afterwards, simulated to listen through; it reaches no file.

Compressors (static curve and smoothing of Giannoulis, Massberg & Reiss 2012: soft knee, branching peak detector in the
log domain), a high shelf, both as in :mod:`isophon.core.session.chain_curves`, a drive (a soft curve) and a room (a
feedback delay network, Jot & Chaigne 1991). What comes out is kept as loud as what goes in.
"""

from __future__ import annotations

import math

import numpy as np
from scipy import signal

from isophon.core.audio.dynamics import static_db
from isophon.core.session.chain import Chain
from isophon.core.session.chain_curves import KNEE_DB, Compressor, compressors, shelf

_TICK = 16  # frames that share a gain
# both sides hear the lines with other signs, so that the room is wide
_SIDES = np.array([[1.0, 1.0], [1.0, -1.0], [1.0, 1.0], [1.0, -1.0]])
_DELAYS_S, _DECAY_S, _ROOM_MOST_DB = (0.0297, 0.0371, 0.0411, 0.0437), 0.35, -8.0
_MATCH_S, _MATCH_MOST_DB = 0.4, 30.0


class RoughChain:
    """Processes a stream block by block; its state goes on from one to the next."""

    def __init__(self, sample_rate: int, chain: Chain | None = None) -> None:
        self.sample_rate, self.chain = sample_rate, chain or Chain()
        self._reductions = [0.0, 0.0]
        self._shelf_state = np.zeros((2, 2))
        self._lines = [np.zeros((round(s * sample_rate), 2), np.float64) for s in _DELAYS_S]
        self._at = [0] * len(_DELAYS_S)
        self._powers = np.array([1e-9, 1e-9])

    def process(self, block: np.ndarray) -> np.ndarray:
        """The next frames through the chain, float32 ``(frames, 2)``; the block itself stays as it is."""
        how, out = self.chain, block.astype(np.float64)
        before = float(np.mean(out**2))
        squeezed = out
        for which, one in enumerate(compressors(how)):
            if one.ratio > 1:
                squeezed = squeezed * self._compressed(squeezed, which, one)[:, None]
        out = how.parallel * squeezed + (1 - how.parallel) * out
        if how.shelf_db:
            b, a = shelf(how, self.sample_rate)
            out, self._shelf_state = signal.lfilter(b, a, out, axis=0, zi=self._shelf_state)
        if how.drive_db > 0:
            gain = 10 ** (how.drive_db / 20)
            out = np.tanh(gain * out) / gain
        if how.room > 0:
            out = out + 10 ** ((_ROOM_MOST_DB + 20 * math.log10(how.room)) / 20) * self._roomed(out)
        return (out * self._matching(before, float(np.mean(out**2)), len(block))).astype(np.float32)

    def _compressed(self, block: np.ndarray, which: int, how: Compressor) -> np.ndarray:
        """A compressor's gain for each frame; shared by both sides."""
        count = -(-len(block) // _TICK)
        peaks = np.abs(block).max(axis=1)
        peaks = np.pad(peaks, (0, count * _TICK - len(block))).reshape(count, _TICK).max(axis=1)
        wanted = static_db(20 * np.log10(peaks + 1e-9) - how.threshold_db, how.ratio, KNEE_DB).tolist()
        tick_ms = 1000 * _TICK / self.sample_rate
        attack, release = (math.exp(-tick_ms / t) for t in (how.attack_ms, how.release_ms))
        state = self._reductions[which]
        taken = [state]
        for target in wanted:
            smoothing = attack if target > state else release
            state = smoothing * state + (1 - smoothing) * target
            taken.append(state)
        self._reductions[which] = state
        places = np.arange(len(block)) / _TICK
        return np.power(10.0, -np.interp(places, np.arange(count + 1), taken) / 20)

    def _roomed(self, block: np.ndarray) -> np.ndarray:
        """The room's answer: four delays that feed each other through a lossless matrix."""
        out = np.zeros_like(block)
        step = min(len(line) for line in self._lines)
        for first in range(0, len(block), step):
            piece = block[first : first + step]
            delayed = [self._read(i, len(piece)) for i in range(len(self._lines))]
            total = np.sum(delayed, axis=0) / 2
            for i, (line, one) in enumerate(zip(self._lines, delayed, strict=True)):
                decay = 10 ** (-3 * len(line) / self.sample_rate / _DECAY_S)
                self._write(i, piece + decay * (one[:, ::-1] - total[:, ::-1]))
            out[first : first + step] = sum(one * side for one, side in zip(delayed, _SIDES, strict=True)) / 2
        return out

    def _read(self, line: int, frames: int) -> np.ndarray:
        buffer = self._lines[line]
        return buffer[(self._at[line] + np.arange(frames)) % len(buffer)]

    def _write(self, line: int, samples: np.ndarray) -> None:
        buffer = self._lines[line]
        buffer[(self._at[line] + np.arange(len(samples))) % len(buffer)] = samples
        self._at[line] = (self._at[line] + len(samples)) % len(buffer)

    def _matching(self, before: float, after: float, frames: int) -> float:
        """The gain that keeps what comes out as loud as what goes in, over the last half second."""
        if before < 1e-9:
            return float(np.sqrt(self._powers[0] / self._powers[1]))
        keep = math.exp(-frames / self.sample_rate / _MATCH_S) if self._powers[0] > 1e-8 else 0.0
        self._powers = keep * self._powers + (1 - keep) * np.array([before, max(after, 1e-12)])
        most = 10 ** (_MATCH_MOST_DB / 20)
        return float(np.clip(np.sqrt(self._powers[0] / self._powers[1]), 1 / most, most))
