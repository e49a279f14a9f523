"""Spectra of what is sung and of what is left of it, gathered while a stem is written."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from isophon.core.audio.spectra import power_spectra
from isophon.core.handover.song_maps import SongMaps
from isophon.core.passes import BY_NAME
from isophon.core.session.model import Part
from isophon.core.survey import STILL, VOICED, Survey

_WINDOW_S = 0.043  # s: length of a spectrum, the nearest power of two
_STEP_S = 0.03  # s between those of a mark
_MOST = 240  # of a kind
_BANDS = 60  # that are drawn


class Observed:
    """Power spectra of vowels, noise floor and what marks name, as sung and cleaned, at up to 240 moments each."""

    def __init__(self, part: Part, survey: Survey) -> None:
        self.part, self.rate = part, survey.sample_rate
        self.size = 1 << round(np.log2(_WINDOW_S * self.rate))
        self.window = np.hanning(self.size).astype(np.float32)
        named: dict[str, list[float]] = {}
        vowels = survey.state == VOICED
        for mark in part.marks:
            if name := BY_NAME[mark.kind].reporter.sounds_of(mark):
                named.setdefault(name, []).extend(np.arange(*mark.span, _STEP_S))
                start, end = mark.span  # no window of a vowel reaches into what has a name of its own
                vowels[survey.frame(start - _WINDOW_S) : survey.frame(end + _WINDOW_S) + 1] = False
        moments = {"vowels": np.flatnonzero(vowels) * survey.hop_s}
        moments |= {name: np.array(times) for name, times in named.items()}
        moments["noise floor"] = np.flatnonzero(survey.state == STILL) * survey.hop_s
        self._places = {name: self._spread(times) for name, times in moments.items()}
        self._sums = {name: np.zeros((2, self.size // 2 + 1)) for name in moments}
        self._at = 0
        self.maps = SongMaps(self.rate, part.source.duration)

    def _spread(self, times: np.ndarray) -> list[tuple[int, int]]:
        """Where windows begin, in the take as sung and as cleaned."""
        chosen = np.sort(times)[:: max(1, len(times) // _MOST)][:_MOST]
        half = self.size // 2
        return [(int(t * self.rate) - half, int(self.part.heard_at(float(t)) * self.rate) - half) for t in chosen]

    def add(self, sung: np.ndarray, cleaned: np.ndarray) -> None:
        """Adds the next block of both, float32 ``(channels, n)`` each."""
        self.maps.add(sung, cleaned)
        stop = self._at + sung.shape[1]
        for name, places in self._places.items():
            for one in places:
                if all(self._at <= place and place + self.size <= stop for place in one):
                    for i, (block, place) in enumerate(zip((sung, cleaned), one, strict=True)):
                        piece = block[:, place - self._at : place - self._at + self.size].mean(axis=0)
                        self._sums[name][i] += power_spectra(piece, self.window)
        self._at = stop

    def result(self) -> dict[str, dict[str, list[float]]]:
        """For each that was heard: ``hz`` and levels in dB, ``sung`` and ``cleaned``."""
        edges = np.geomspace(50, min(20_000, self.rate / 2), _BANDS + 1)
        freqs = np.fft.rfftfreq(self.size, 1 / self.rate)
        spectra: dict[str, dict[str, list[float]]] = {}
        for name, sums in self._sums.items():
            if not sums.any():
                continue
            rows: dict[str, Any] = {"hz": [], "sung": [], "cleaned": []}
            for low, high in itertools.pairwise(edges):
                inside = (freqs >= low) & (freqs < high)
                if inside.any():
                    power = 10 * np.log10(sums[:, inside].mean(axis=1) / max(1, len(self._places[name])) + 1e-9)
                    rows["hz"].append(round(float(np.sqrt(low * high)), 1))
                    rows["sung"].append(round(float(power[0]), 1))
                    rows["cleaned"].append(round(float(power[1]), 1))
            spectra[name] = rows
        return spectra
