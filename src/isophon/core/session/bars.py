"""Tempo and meter of a song: where its bars begin."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated

import msgspec
import numpy as np

from isophon.core.ranges import Seconds

MOST_CHANGES = 2_000  # of tempo, and of time signature
_MOST_BARS = 20_000  # that are drawn


class Tempo(msgspec.Struct, frozen=True):
    """From a second of the song on: so many quarter notes a minute."""

    at: Seconds
    bpm: Annotated[float, msgspec.Meta(ge=5.0, le=1_000.0)]


class Meter(msgspec.Struct, frozen=True):
    """From a second of the song on, where a bar begins: so many beats a bar, each a ``unit``-th note."""

    at: Seconds
    beats: Annotated[int, msgspec.Meta(ge=1, le=64)]
    unit: Annotated[int, msgspec.Meta(ge=1, le=64)]


class Bars(msgspec.Struct, frozen=True):
    """Tempo and meter of a song, each in order of time; none: it has no bars."""

    tempos: Annotated[tuple[Tempo, ...], msgspec.Meta(max_length=MOST_CHANGES)] = ()
    meters: Annotated[tuple[Meter, ...], msgspec.Meta(max_length=MOST_CHANGES)] = ()

    def flaw(self) -> str:
        """What is wrong with them, as ``field: what``; empty where nothing is."""
        for name, starts in (("tempos", [t.at for t in self.tempos]), ("meters", [m.at for m in self.meters])):
            if any(later <= earlier for earlier, later in pairwise(starts)):
                return f"{name}: are not in order"
        return "meters: there is no tempo" if self.meters and not self.tempos else ""

    def lines(self, end_s: float) -> np.ndarray:
        """The seconds of the song at which bars begin; bar 1 begins at the first change.

        Parameters
        ----------
        end_s : of the song, s.

        Returns
        -------
        ``(bars,)``, s; at most 20,000.
        """
        if not self.tempos:
            return np.zeros(0)
        begin = min(self.tempos[0].at, self.meters[0].at if self.meters else self.tempos[0].at)
        meters = self.meters if self.meters and self.meters[0].at <= begin else (Meter(begin, 4, 4), *self.meters)
        starts = np.array([meter.at for meter in meters])
        lines: list[np.ndarray] = []
        left = _MOST_BARS
        for meter, first, last in zip(meters, starts, [*starts[1:], end_s], strict=True):
            quarters = 4.0 * meter.beats / meter.unit
            span = self._quarters(np.array([first, min(last, end_s)]))
            count = min(left, max(0, int(np.ceil((span[1] - span[0]) / quarters - 1e-6))))
            lines.append(self._seconds(span[0] + quarters * np.arange(count)))
            left -= count
        return np.concatenate(lines)

    def quarters_at(self, at_s: float) -> float:
        """How many quarter notes after the first tempo a second of the song lies; before it less than none."""
        return float(self._quarters(np.array([at_s]))[0])

    def bar_s(self, at_s: float) -> float:
        """How long the bar at a second of the song is, in s; 0 where the song has no bars."""
        if not self.tempos:
            return 0.0
        bpm = next((t.bpm for t in reversed(self.tempos) if t.at <= at_s), self.tempos[0].bpm)
        beats, unit = next(((m.beats, m.unit) for m in reversed(self.meters) if m.at <= at_s), (4, 4))
        return 60.0 / bpm * 4.0 * beats / unit

    def _knots(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Where the tempo changes: seconds, quarter notes since the first, and quarter notes a second from there."""
        seconds = np.array([tempo.at for tempo in self.tempos])
        rates = np.array([tempo.bpm / 60.0 for tempo in self.tempos])
        return seconds, np.concatenate([[0.0], np.cumsum(np.diff(seconds) * rates[:-1])]), rates

    def _quarters(self, seconds: np.ndarray) -> np.ndarray:
        knots, quarters, rates = self._knots()
        row = np.clip(np.searchsorted(knots, seconds, "right") - 1, 0, None)
        return quarters[row] + (seconds - knots[row]) * rates[row]

    def _seconds(self, wanted: np.ndarray) -> np.ndarray:
        knots, quarters, rates = self._knots()
        row = np.clip(np.searchsorted(quarters, wanted, "right") - 1, 0, None)
        return knots[row] + (wanted - quarters[row]) / rates[row]
