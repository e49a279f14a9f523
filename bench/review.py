"""A song of many parts reviewed by a simulated engineer: what is worth hearing first, at 3 s a mark.

Usage: .venv/bin/python bench/review.py [PARTS SECONDS]

PARTS (12) takes of SECONDS (240) of espeak-ng's voices, with esses raised, clicks and breaths mixed in at levels from
far under to far over what masks them, beside music. First: what finding and cleaning all of them takes (R: one
ShortTimeFFT round trip of all that sound on one core). Then the marks are reviewed in the order of worth for 5 minutes;
a mark whose blemish is still one is brought down, or, where it is a tick, drawn longer, until it is none.

Which blemishes can be heard in the mix is told by another published model than the program's: noise-to-mask ratio of
Johnston 1988 on critical bands, spread as Schroeder, Atal & Hall 1979 have it, hearing threshold of Terhardt 1979
(constants from memory). An audible ess is a blemish where it stands 6 dB or more over the usual ess of its singer as
recorded, a breath where it stands less than 26 dB under the voice (limits of ours), a click wherever it is audible.
"""

from __future__ import annotations

import os
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import common
import numpy as np
import soundfile as sf
import soxr
from clean import cleaned
from left_out import intake
from msgspec.structs import replace
from scipy import signal

from isophon.core.audio.masking import quiet_db
from isophon.core.audio.threads import cores
from isophon.core.demo.band import bed
from isophon.core.marks import Mark
from isophon.core.passes import KINDS
from isophon.core.session import layout
from isophon.core.session.adopting import adopt_findings
from isophon.core.session.audible import Beside, audible_db, worth_hearing
from isophon.core.session.chain_curves import chain_gains
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey
from isophon.core.takes.take import Take, open_take
from isophon.core.work import worker
from voices import VOICES, sibilants, spoken

RATE = common.RATE
_SECONDS_A_MARK, _REVIEW_S = 3.0, 300.0
_VOICE_RMS, _BACKING_DB = 0.08, -8.0
_FRAME, _HOP = 2048, 512
_FULL_SCALE_SPL = 98.0  # a voice of −23 LUFS is heard at 75 dB
_STEP_DB, _DEEPEST_DB, _LONGER_S, _MOST_STEPS = 3.0, -36.0, 0.001, 12
_SHARP_DB, _LOUD_BREATH_DB = 6.0, -26.0
_APART_S = 0.25  # of blemishes, so that each can be judged by itself


@dataclass
class Blemish:
    """What was mixed in: its kind, where (samples of the part), and its own sound."""

    kind: str
    first: int
    sound: np.ndarray

    @property
    def span(self) -> tuple[float, float]:
        return self.first / RATE, (self.first + len(self.sound)) / RATE


_HIGH = signal.butter(4, 4_000, "high", fs=RATE, output="sos")


def sung(voice: str, seconds: float, rng: np.random.Generator) -> tuple[np.ndarray, list, list]:
    """A text again and again with rests between, in a faint room; its sibilants and rests, spans in s."""
    samples, rate, phonemes = spoken(voice)
    text = soxr.resample(samples, rate, RATE)
    text = text * _VOICE_RMS / np.sqrt(np.mean(text[np.abs(text) > 0.1 * np.abs(text).max()] ** 2))
    out, esses, rests = 1e-4 * rng.standard_normal(round(seconds * RATE)), [], []
    at = round(rng.uniform(0.3, 2) * RATE)
    while at + len(text) < len(out):
        out[at : at + len(text)] += text
        esses += [(at / RATE + a, at / RATE + b) for a, b in sibilants(phonemes)]
        rest = rng.uniform(0.8, 1.8)
        rests.append(((at + len(text)) / RATE, (at + len(text)) / RATE + rest))
        at += len(text) + round(rest * RATE)
    return out, esses, rests


def blemishes(clean: np.ndarray, esses: list, rests: list, rng: np.random.Generator) -> list[Blemish]:
    """One in four esses raised by 2 to 18 dB, a breath in every other rest, a click every 8 s, none near another."""
    found: list[Blemish] = []
    for start, end in (span for span in esses if rng.random() < 0.25):
        first, last = round(start * RATE), round(end * RATE)
        if last < len(clean) - RATE:
            ess = signal.sosfiltfilt(_HIGH, clean[first:last]) * signal.windows.tukey(last - first, 0.2)
            found.append(Blemish("ess", first, (10 ** (rng.uniform(2, 18) / 20) - 1) * ess))
    for start, end in (span for span in rests if rng.random() < 0.5):
        first, length = round((start + 0.15) * RATE), min(end - start - 0.3, rng.uniform(0.3, 0.7))
        if first + length * RATE < len(clean) - RATE:
            breath = intake(RATE, length, rng) * _VOICE_RMS * 10 ** (rng.uniform(-45, -8) / 20)
            found.append(Blemish("breath", first, breath))
    for first in rng.integers(RATE, len(clean) - RATE, round(len(clean) / RATE / 8)):
        at = np.arange(round(0.004 * RATE)) / RATE
        click = np.exp(-at / rng.uniform(2e-4, 1e-3)) * np.sin(2 * np.pi * rng.uniform(1_500, 7_000) * at)
        found.append(Blemish("tick", int(first), 10 ** (rng.uniform(-55, -15) / 20) * click))
    alone: list[Blemish] = []
    for one in sorted(found, key=lambda one: one.first):
        if not alone or one.span[0] - alone[-1].span[1] >= _APART_S:
            alone.append(one)
    return alone


def level_db(sound: np.ndarray) -> float:
    return 10 * np.log10(np.mean(np.square(sound)) + 1e-12)


class Ears:
    """Johnston's model: how far a change of a mix stands over what masks it."""

    def __init__(self) -> None:
        hz = np.fft.rfftfreq(_FRAME, 1 / RATE)
        bark = 13 * np.arctan(7.6e-4 * hz) + 3.5 * np.arctan((hz / 7_500) ** 2)
        self.bands = np.minimum(bark.astype(int), 24)
        away = np.arange(25)[:, None] - np.arange(25)[None, :] + 0.474
        self.spread = 10 ** ((15.81 + 7.5 * away - 17.5 * np.sqrt(1 + away**2)) / 10)
        self.spread /= self.spread.sum(axis=0, keepdims=True)
        quietest = [quiet_db(hz[(self.bands == b) & (hz > 30)]).min() for b in range(25)]
        self.quiet = 10 ** ((np.array(quietest) - _FULL_SCALE_SPL) / 10)
        self.window = np.sqrt(8 / 3) * signal.windows.hann(_FRAME, sym=False) / _FRAME

    def spectra(self, sound: np.ndarray) -> np.ndarray:
        """Power, mean square, ``(frames, bins)``."""
        frames = np.lib.stride_tricks.sliding_window_view(sound, _FRAME)[::_HOP]
        return 2 * np.abs(np.fft.rfft(frames * self.window, axis=1)) ** 2

    def by_band(self, spectra: np.ndarray) -> np.ndarray:
        """Power in critical bands, ``(frames, 25)``."""
        return np.stack([spectra[:, self.bands == b].sum(axis=1) for b in range(25)], axis=1)

    def over_db(self, added: np.ndarray, mix: np.ndarray) -> float:
        """The noise-to-mask ratio of a power that was added, ``(frames, 25)``, at its highest; ``mix``: spectra."""
        flat = np.exp(np.log(mix + 1e-20).mean(axis=1)) / (mix + 1e-20).mean(axis=1)
        tonal = np.minimum(10 * np.log10(flat) / -60, 1)[:, None]
        offset = tonal * (14.5 + np.arange(25)) + (1 - tonal) * 5.5
        threshold = np.maximum(self.by_band(mix) @ self.spread.T * 10 ** (-offset / 10), self.quiet)
        return float(10 * np.log10((added / threshold).max() + 1e-12))


class Song:
    """The takes, what was mixed into them, and the session as it is being reviewed."""

    def __init__(self, folder: Path, count: int, seconds: float) -> None:
        self.ears, self.clean, self.blemishes, arrivals = Ears(), [], [], []
        self.usual_ess_db: list[float] = []
        self.gains_db = [0.0] + [_BACKING_DB] * (count - 1)
        for i in range(count):
            rng = np.random.default_rng(i)
            clean, esses, rests = sung(list(VOICES)[i % len(VOICES)], seconds, rng)
            mixed_in = blemishes(clean, esses, rests, rng)
            damaged = clean.copy()
            for one in mixed_in:
                damaged[one.first : one.first + len(one.sound)] += one.sound
            path = folder / f"{'lead' if i == 0 else f'harmony {i}'}.wav"
            sf.write(path, damaged, RATE, subtype="PCM_24")
            arrivals.append(
                layout.Arrival(path.stem, Source(str(path), RATE, 1, len(clean)), "harmony" if i else "lead")
            )
            spans = [clean[round(a * RATE) : round(b * RATE)] for a, b in esses]
            self.usual_ess_db.append(float(np.median([level_db(signal.sosfilt(_HIGH, ess)) for ess in spans])))
            self.clean.append(clean)
            self.blemishes.append(mixed_in)
        music = np.resize(bed().mean(axis=0), round(seconds * RATE)) * 10 ** (-6 / 20)
        self.music = music
        sf.write(folder / "music.wav", music, RATE, subtype="PCM_24")
        self.mix = music + sum(10 ** (g / 20) * c for g, c in zip(self.gains_db, self.clean, strict=True))
        self.session = layout.new_session("Song", arrivals)
        for part, gain in zip(self.session.parts, self.gains_db, strict=True):
            self.session = layout.set_listening(self.session, part.id, gain_db=gain)
        self.takes: list[Take] = []
        self.folder = folder

    def find(self) -> None:
        """Survey the takes and the music, and adopt what was found."""
        for i, part in enumerate(self.session.parts):
            worker.measure(Path(part.source.path), False, lambda _fraction: None)
            self.takes.append(open_take(part.source))
            self.session = adopt_findings(self.session, part.id, self.takes[i].findings)
        self.chained = [chain_gains(self._survey(i), self.session.chain) for i in range(len(self.takes))]
        music = self.folder / "music.wav"
        worker.measure(music, False, lambda _fraction: None)
        self.music_survey = open_take(Source(str(music), RATE, 1, len(self.music))).surveyed.survey

    def audible_db(self, i: int, one: Blemish) -> float:
        """How far a blemish stands over what masks it in the mix."""
        first, last = self._around(one)
        sound = np.zeros(last - first)
        sound[one.first - first :][: len(one.sound)] = 10 ** (self.gains_db[i] / 20) * one.sound
        return self.ears.over_db(self.ears.by_band(self.ears.spectra(sound)), self.ears.spectra(self.mix[first:last]))

    def spoiled(self, i: int, one: Blemish, cleaned: bool = True) -> bool:
        """Whether it is a blemish, as recorded or as cleaned."""
        first, last = self._around(one)
        plan = self.session.parts[i].plan if cleaned else ()
        heard = self.takes[i].renderer.cleaned(plan, first, last - first)[0]
        its = slice(one.first - first, one.first - first + len(one.sound))
        if one.kind == "ess":
            return level_db(signal.sosfilt(_HIGH, heard)[its]) > self.usual_ess_db[i] + _SHARP_DB
        if one.kind == "breath":
            return level_db(heard[its]) > 20 * np.log10(_VOICE_RMS) + _LOUD_BREATH_DB
        return self._more_db(i, heard, first, last) > 0

    def _more_db(self, i: int, heard: np.ndarray, first: int, last: int) -> float:
        """How far what the recording did not have before it was spoiled stands over what masks it."""
        ears, gain = self.ears, 10 ** (self.gains_db[i] / 10)
        more = ears.by_band(ears.spectra(heard)) - ears.by_band(ears.spectra(self.clean[i][first:last]))
        return ears.over_db(gain * np.maximum(more, 0), ears.spectra(self.mix[first:last]))

    def _around(self, one: Blemish) -> tuple[int, int]:
        first = max(0, one.first - _FRAME)
        return first, min(len(self.mix), one.first + len(one.sound) + _FRAME)

    def beside(self, part: Part) -> list[Beside]:
        others = [Beside(self._survey(i), other.offset_s, other.listening.gain_db, self.chained[i])
                  for i, other in enumerate(self.session.parts) if other.id != part.id]  # fmt: skip
        return [*others, Beside(self.music_survey, 0.0)]

    def _survey(self, i: int) -> Survey:
        return self.takes[i].surveyed.survey

    def worst_first(self) -> list[tuple[float, int, Mark]]:
        """All changed marks with how much they are worth hearing, part and mark, the most first."""
        places = []
        for i, part in enumerate(self.session.parts):
            beside = self.beside(part)
            for kind in KINDS:
                risks = part.risks(kind.name, self._survey(i))
                for mark, _change in part.changed(kind.name):
                    over = self._over_db(i, mark, beside)
                    places.append((worth_hearing(over, part, mark, risks.get(mark.id, 0.0)), i, mark))
        return sorted(places, key=lambda place: -place[0])

    def _over_db(self, i: int, mark: Mark, beside: list[Beside]) -> float | None:
        """How audible a change is, as sung or after the rough chain, whichever is more."""
        part, survey = self.session.parts[i], self._survey(i)
        both = [audible_db(part, mark, survey, beside, chained) for chained in (None, self.chained[i])]
        return None if both[0] is None else max(both)

    def one_step_further(self, i: int, mark: Mark) -> None:
        """Change a mark by hand: bring it down further; a tick, which is repaired already, is drawn longer."""
        part = self.session.parts[i]
        (start, end), change = mark.span, max(_DEEPEST_DB, part.change(mark) - _STEP_DB)
        hand = replace(mark.hand, change_db=change)
        if mark.kind == "tick":
            hand = replace(mark.hand, start=start - _LONGER_S / 4, end=end + _LONGER_S)
        marks = tuple(replace(m, hand=hand) if m.id == mark.id else m for m in part.marks)
        parts = list(self.session.parts)
        parts[i] = replace(part, marks=marks)
        self.session: Session = replace(self.session, parts=tuple(parts))


def meets(mark: Mark, one: Blemish) -> bool:
    """Whether a mark is of the kind of a blemish, and where it is."""
    (a, b), (c, d) = mark.span, one.span
    return mark.kind == one.kind and min(b, d + 0.01) > max(a, c - 0.01)


def review(song: Song, audible: list[tuple[int, Blemish]]) -> tuple[int, int, set[int]]:
    """Walk what is worth hearing for five minutes; marks walked, marks changed, and the blemishes that were met."""
    walked = changed = 0
    met: set[int] = set()
    for worth, i, mark in song.worst_first()[: int(_REVIEW_S / _SECONDS_A_MARK)]:
        if worth <= 0:
            break
        walked += 1
        mine = [(n, one) for n, (part, one) in enumerate(audible) if part == i and meets(mark, one)]
        met |= {n for n, _ in mine}
        now = song.session.parts[i].mark(mark.id)
        for _ in range(_MOST_STEPS):
            if not any(song.spoiled(i, one) for _, one in mine):
                break
            song.one_step_further(i, now)
            now, changed = song.session.parts[i].mark(mark.id), changed + 1
    return walked, changed, met


def left(song: Song, audible: list[tuple[int, Blemish]]) -> Iterator[tuple[str, bool]]:
    """Of each audible blemish that still is one, its kind and whether any mark meets it."""
    for i, one in audible:
        if song.spoiled(i, one):
            yield one.kind, any(meets(mark, one) for mark in song.session.parts[i].marks)


def said(rows: list[tuple[str, bool]], of: Counter) -> str:
    kinds = Counter(kind for kind, _ in rows)
    missed = sum(not met for _, met in rows)
    told = ", ".join(f"{kind} {kinds[kind]} of {of[kind]}" for kind in of)
    return (
        f"{len(rows)} of {of.total()} ({100 * len(rows) / max(1, of.total()):.1f} %): {told}; {missed} without a mark"
    )


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 240.0
    with tempfile.TemporaryDirectory() as name:
        os.environ["XDG_CACHE_HOME"] = name + "/cache"
        song = Song(Path(name), count, seconds)
        paths = [part.source.path for part in song.session.parts]
        size = len(song.clean[0])
        before = common.round_trip_s(song.clean[0])
        took = cleaned(paths, name)
        whole = count * (before + common.round_trip_s(song.clean[0])) / 2
        print(f"find and clean, {count} parts of {size / RATE:.0f} s on {cores()} cores: {took / whole:.2f} R "
              f"(aim: 2; {took:.0f} s)", flush=True)  # fmt: skip
        song.find()
        every = [(i, one) for i, some in enumerate(song.blemishes) for one in some]
        audible = [(i, one) for i, one in every if song.audible_db(i, one) > 0 and song.spoiled(i, one, cleaned=False)]
        of = Counter(one.kind for _, one in audible)
        marks = sum(len(part.changed(kind.name)) for part in song.session.parts for kind in KINDS)
        places = song.worst_first()
        print(f"{len(every)} blemishes mixed in, {len(audible)} audible; {marks} marks changed, "
              f"{sum(worth > 0 for worth, *_ in places)} worth hearing")  # fmt: skip
        told = [any(meets(m, one) and worth > 0 for worth, part, m in places if part == i) for i, one in audible]
        print(f"audible ones that a mark worth hearing meets: {sum(told)} of {len(audible)}")
        print(f"still there by default: {said(list(left(song, audible)), of)}", flush=True)
        walked, changed, met = review(song, audible)
        print(f"reviewed: {walked} marks in {walked * _SECONDS_A_MARK:.0f} s, {changed} steps by hand, "
              f"{len(met)} of {len(audible)} audible blemishes met")  # fmt: skip
        print(f"still there after the review (aim: 2 %): {said(list(left(song, audible)), of)}")


if __name__ == "__main__":
    main()
