"""The rough chain: what is likely to happen to the stems afterwards, simulated to listen through; it reaches no file.

A compressor (static curve and smoothing of Giannoulis, Massberg & Reiss 2012: soft knee, branching peak detector in the
log domain), a high shelf (W3C Audio EQ Cookbook), a drive (a soft curve) and a room (a feedback delay network, Jot &
Chaigne 1991). What comes out is kept as loud as what goes in.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import signal

from isophon.core.marks import Mark

_TICK = 16  # frames that share a gain
_RATIO, _KNEE_DB, _ATTACK_S, _RELEASE_S = 4.0, 6.0, 0.004, 0.12
_THRESHOLD_DB = (0.0, -36.0)  # at no and at full squeeze
_SHELF_HZ, _SHELF_MOST_DB = 6_500.0, 12.0
_DRIVE_MOST_DB = 18.0
# both sides hear the lines with other signs, so that the room is wide
_SIDES = np.array([[1.0, 1.0], [1.0, -1.0], [1.0, 1.0], [1.0, -1.0]])
_DELAYS_S, _DECAY_S, _ROOM_MOST_DB = (0.0297, 0.0371, 0.0411, 0.0437), 0.35, -8.0
_MATCH_S, _MATCH_MOST_DB = 0.4, 30.0


@dataclass(frozen=True)
class Amounts:
    """How much of each, 0 to 1; 0 leaves a stage out."""

    squeeze: float = 0.0
    bright: float = 0.0
    drive: float = 0.0
    room: float = 0.0


STARTS = {
    "close and dry": Amounts(0.5, 0.35, 0.1, 0.1),
    "up front and bright": Amounts(0.75, 0.7, 0.25, 0.2),
    "far back in a room": Amounts(0.4, 0.2, 0.0, 0.7),
}


def static_gain_db(level_db: np.ndarray, squeeze: float) -> np.ndarray:
    """The compressor's gain in dB (≤ 0) for steady levels in dBFS."""
    over = level_db - (_THRESHOLD_DB[0] + squeeze * (_THRESHOLD_DB[1] - _THRESHOLD_DB[0]))
    slope = 1 / _RATIO - 1
    knee = slope * np.square(over + _KNEE_DB / 2) / (2 * _KNEE_DB)
    return np.where(2 * over < -_KNEE_DB, 0.0, np.where(2 * over > _KNEE_DB, slope * over, knee))


def shelf_gain_db(hz: np.ndarray, bright: float, sample_rate: int) -> np.ndarray:
    """What the bright shelf does at some frequencies, dB."""
    b, a = _shelf(bright, sample_rate)
    back = np.exp(-2j * np.pi * np.outer(np.asarray(hz, float) / sample_rate, np.arange(3)))
    return 20 * np.log10(np.abs((back @ b) / (back @ a)) + 1e-12)


def more_after(amounts: Amounts, voice_lufs: float, mark: Mark, sample_rate: int) -> float:
    """By how much more a mark stands out of the voice after compressor and shelf, dB, as their static curves say."""
    levels = np.array([voice_lufs, voice_lufs + mark.standout_db])
    squeezed = static_gain_db(levels, amounts.squeeze) if amounts.squeeze > 0 else np.zeros(2)
    middle = math.sqrt(max(100.0, mark.low_hz) * max(mark.low_hz + 1, mark.high_hz))
    bright = (
        shelf_gain_db(np.array([700.0, middle]), amounts.bright, sample_rate) if amounts.bright > 0 else np.zeros(2)
    )
    return float(squeezed[1] - squeezed[0] + bright[1] - bright[0])


class RoughChain:
    """Processes a stream block by block; its state goes on from one to the next."""

    def __init__(self, sample_rate: int, amounts: Amounts = Amounts()) -> None:
        self.sample_rate, self.amounts = sample_rate, amounts
        self._reduction = 0.0
        self._shelf_state = np.zeros((2, 2))
        self._lines = [np.zeros((round(s * sample_rate), 2), np.float64) for s in _DELAYS_S]
        self._at = [0] * len(_DELAYS_S)
        self._powers = np.array([1e-9, 1e-9])

    def process(self, block: np.ndarray) -> np.ndarray:
        """The next frames through the chain, float32 ``(frames, 2)``; the block itself stays as it is."""
        how, out = self.amounts, block.astype(np.float64)
        before = float(np.mean(out**2))
        if how.squeeze > 0:
            out *= self._squeezed(out)[:, None]
        if how.bright > 0:
            b, a = _shelf(how.bright, self.sample_rate)
            out, self._shelf_state = signal.lfilter(b, a, out, axis=0, zi=self._shelf_state)
        if how.drive > 0:
            gain = 10 ** (how.drive * _DRIVE_MOST_DB / 20)
            out = np.tanh(gain * out) / gain
        if how.room > 0:
            out = out + 10 ** ((_ROOM_MOST_DB + 20 * math.log10(how.room)) / 20) * self._roomed(out)
        return (out * self._matching(before, float(np.mean(out**2)), len(block))).astype(np.float32)

    def _squeezed(self, block: np.ndarray) -> np.ndarray:
        """The compressor's gain for each frame; shared by both sides."""
        count = -(-len(block) // _TICK)
        peaks = np.abs(block).max(axis=1)
        peaks = np.pad(peaks, (0, count * _TICK - len(block))).reshape(count, _TICK).max(axis=1)
        wanted = (-static_gain_db(20 * np.log10(peaks + 1e-9), self.amounts.squeeze)).tolist()
        tick_s = _TICK / self.sample_rate
        attack, release = (math.exp(-tick_s / t) for t in (_ATTACK_S, _RELEASE_S))
        taken, state = [self._reduction], self._reduction
        for target in wanted:
            kept = attack if target > state else release
            state = kept * state + (1 - kept) * target
            taken.append(state)
        self._reduction = state
        places = np.arange(len(block)) / _TICK
        return np.power(10.0, -np.interp(places, np.arange(count + 1), taken) / 20)

    def _roomed(self, block: np.ndarray) -> np.ndarray:
        """The room's answer: four delays that feed each other through a lossless matrix."""
        out = np.zeros_like(block)
        step = min(len(line) for line in self._lines)
        for first in range(0, len(block), step):
            piece = block[first : first + step]
            heard = [self._read(i, len(piece)) for i in range(len(self._lines))]
            total = np.sum(heard, axis=0) / 2
            for i, (line, one) in enumerate(zip(self._lines, heard, strict=True)):
                decay = 10 ** (-3 * len(line) / self.sample_rate / _DECAY_S)
                self._write(i, piece + decay * (one[:, ::-1] - total[:, ::-1]))
            out[first : first + step] = sum(one * side for one, side in zip(heard, _SIDES, strict=True)) / 2
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


def _shelf(bright: float, sample_rate: int) -> tuple[np.ndarray, np.ndarray]:
    """A high shelf of up to 12 dB."""
    a = 10 ** (bright * _SHELF_MOST_DB / 40)
    w = 2 * math.pi * min(_SHELF_HZ, 0.4 * sample_rate) / sample_rate
    cos, alpha = math.cos(w), math.sin(w) / 2 * math.sqrt(2.0)
    root = 2 * math.sqrt(a) * alpha
    b = np.array([a * ((a + 1) + (a - 1) * cos + root), -2 * a * ((a - 1) + (a + 1) * cos),
                  a * ((a + 1) + (a - 1) * cos - root)])  # fmt: skip
    d = np.array([(a + 1) - (a - 1) * cos + root, 2 * ((a - 1) - (a + 1) * cos), (a + 1) - (a - 1) * cos - root])
    return b / d[0], d / d[0]
