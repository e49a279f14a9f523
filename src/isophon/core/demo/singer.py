"""A synthesized singer: glottal source through moving formants, and shaped noise.

Harmonic synthesis: the source spectrum of Klatt & Klatt 1990 (−12 dB an octave
of flow, lips +6) times a cascade of second-order formants (Klatt 1980), evaluated
at every harmonic every 5 ms; noise is white noise filtered frame by frame. A
:class:`Mouth` makes another singer of the same score. Deterministic.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy import fft, ndimage, signal

from isophon.core.demo.cast import RATE, Mouth
from isophon.core.demo.phonemes import CONSONANTS, SIBILANTS, VOWELS, noise_shape
from isophon.core.demo.score import Line, Placed, Slip

FRAME = 240  # 5 ms
_STEP = FRAME / RATE
_CHUNK = 16  # frames at once: small enough for the processor's cache


@dataclass(frozen=True)
class Label:
    """One sound that was sung, or one blemish that was added: exact times in seconds of the take.

    ``value``: for a word how late it is against the score (s), for a hum or ring its frequency (Hz).
    """

    start: float
    end: float
    sound: str
    sharp: bool = False
    value: float = 0.0


@dataclass
class _Noise:
    shape: str
    start: float
    end: float
    level_db: float


class _Score:
    """Control values of the take every 5 ms, filled syllable by syllable."""

    def __init__(self, seconds: float, mouth: Mouth) -> None:
        self.mouth = mouth
        self.count = int(seconds / _STEP) + 1
        self.note = np.full(self.count, np.nan)
        self.voicing = np.full(self.count, -80.0)
        self.formants = np.tile(np.array(VOWELS["@"][0], float), (self.count, 1))
        self.noises: list[_Noise] = []
        self.labels: list[Label] = []
        self.rng = np.random.default_rng(mouth.seed)
        self.free_from = 0.0

    def consonant(self, name: str, at: float, note: float) -> float:
        sharp, blown = name.startswith("!"), name.startswith("*")
        name = name.lstrip("!*")
        sound = CONSONANTS[name]
        end = at + sound.seconds * float(self.rng.uniform(0.9, 1.15))
        begin = at + sound.closure
        span = self._span(at, end)
        self.note[span] = note
        self.formants[span] = sound.formants
        if sound.voicing_db is not None:
            self.voicing[span] = sound.voicing_db
        if sound.noise:
            extra = float(self.rng.normal(0, 1.3)) if name in SIBILANTS else 0.0
            extra += self.mouth.s_db if name in SIBILANTS else 0.0
            extra += self.mouth.sharp_db if sharp else 0.0
            self.noises.append(_Noise(sound.noise, begin, end, sound.noise_db + extra))
        self.labels.append(Label(round(begin if name in ("ch", "j") else at, 4), round(end, 4), name, sharp))
        if blown:
            self.labels.append(Label(round(begin, 4), round(begin + float(self.rng.uniform(0.09, 0.15)), 4), "pop"))
        return end

    def vowel(self, name: str, at: float, end: float, note: float) -> None:
        span = self._span(at, end)
        size = span.stop - span.start
        targets = np.array(VOWELS[name], float)
        glide = (
            np.clip((np.linspace(0, 1, size) - 0.45) / 0.35, 0, 1)[:, None] if len(targets) > 1 else np.zeros((size, 1))
        )
        self.formants[span] = targets[0] + glide * (targets[-1] - targets[0])
        self.note[span] = note
        self.voicing[span] = np.interp(np.linspace(0, 1, size), [0, 0.15, 0.7, 1], [-1.5, 0, -1, -5])
        self.labels.append(Label(round(at, 4), round(end, 4), name))

    def breath(self, at: float, end: float) -> None:
        self.noises.append(_Noise("breath", at, end, -26.0))
        self.labels.append(Label(round(at, 4), round(end, 4), "breath"))

    def _span(self, start: float, end: float) -> slice:
        return slice(round(start / _STEP), max(round(start / _STEP) + 1, round(end / _STEP)))


def sing(
    lines: tuple[Line, ...],
    beat_s: float,
    breath_s: float,
    mouth: Mouth,
    progress: Callable[[float], None] | None = None,
) -> tuple[np.ndarray, list[Label]]:
    """Sing lines one after the other; returns float32 ``(n,)`` at 48 kHz and the labels of every sound, in order."""
    placed, at = [], 0.5 + breath_s
    for line in lines:
        placed.append(Placed(at, line))
        at += sum(float(s.split("/")[2]) for s in line) * beat_s + breath_s + 0.25
    return sing_at(placed, at + 0.4, beat_s, breath_s, mouth, progress)


def sing_at(
    placed: list[Placed],
    seconds: float,
    beat_s: float,
    breath_s: float,
    mouth: Mouth,
    progress: Callable[[float], None] | None = None,
    loose_s: float = 0.0,
) -> tuple[np.ndarray, list[Label]]:
    """Sing lines at their places in a take of ``seconds``; words start up to about ``loose_s`` early or late."""
    score = _Score(seconds, mouth)
    for place in placed:
        score.breath(place.at - breath_s, place.at - breath_s + 0.38)
        at = place.at
        for i, syllable in enumerate(place.line):
            slip = place.slips.get(i, Slip())
            late = float(np.clip(score.rng.normal(0.3, 0.5), -1, 1.2)) * loose_s if loose_s else 0.0
            if not slip.missing:
                begin = max(at + (slip.moved_s or late), score.free_from)
                score.free_from = _syllable(score, syllable, begin, beat_s, slip.held_s)
                times = (round(begin, 4), round(score.free_from, 4))
                score.labels.append(Label(*times, "word", value=round(begin - at, 4)))
            at += float(syllable.split("/")[2]) * beat_s
    tell = progress or (lambda _fraction: None)
    pitch = _pitch(score)
    with ThreadPoolExecutor(1) as beside:
        sung = beside.submit(_voiced, score, pitch, lambda f: tell(0.6 * f))
        noise = _noises(score, score.count * FRAME)
        voice = sung.result()
    loud = np.sqrt(np.mean(np.square(voice[np.abs(voice) > 0.02 * np.abs(voice).max()])))
    voice *= 10 ** (mouth.voice_dbfs / 20) / loud
    tell(0.7)
    dry = voice + noise * np.float32(10 ** (mouth.voice_dbfs / 20))
    take = _in_room(dry, score)
    tell(1.0)
    return take.astype(np.float32), sorted(score.labels, key=lambda label: label.start)


def _syllable(score: _Score, syllable: str, at: float, beat_s: float, held_s: float = 0.0) -> float:
    """Sing one from ``at`` on, ``held_s`` longer than written; the second at which it ends."""
    sounds, note, beats = syllable.split("/")
    names = sounds.split()
    middle = next(i for i, name in enumerate(names) if name.lstrip("!*") in VOWELS)
    before, after = names[:middle], names[middle + 1 :]
    pitch = float(note) + score.mouth.transpose
    end = at + float(beats) * beat_s + held_s
    begin = at
    for name in before:
        begin = score.consonant(name, begin, pitch)
    rest = sum(CONSONANTS[n.lstrip("!*")].seconds for n in after)
    close = max(begin + 0.09, end - rest)
    score.vowel(names[middle].lstrip("!*"), begin, close, pitch)
    for name in after:
        close = score.consonant(name, close, pitch)
    return max(end, close)


def _pitch(score: _Score) -> np.ndarray:
    note = score.note.copy()
    known = np.flatnonzero(np.isfinite(note))
    note = np.interp(np.arange(score.count), known, note[known])
    note = ndimage.gaussian_filter1d(note, 5)
    time = np.arange(score.count) * _STEP
    drift = ndimage.gaussian_filter1d(score.rng.standard_normal(score.count), 30) * 1.2
    return 440.0 * 2 ** ((note + 0.22 * np.sin(2 * np.pi * 5.4 * time) + 0.15 * drift - 69) / 12)


def _transfer(freqs: np.ndarray, formants: np.ndarray, scale: float) -> np.ndarray:
    """Complex response of the tract at ``freqs`` ``(frames, k)`` for ``formants`` ``(frames, 3)``."""
    fixed = [(3_550 * scale, 190.0), (4_600 * scale, 260.0), (6_300 * scale, 500.0), (8_500 * scale, 800.0)]
    s = 2j * np.pi * freqs
    response = np.ones(freqs.shape, complex)
    for i in range(3):
        response *= _resonance(s, formants[:, i : i + 1] * scale, (70.0, 95.0, 150.0)[i])
    for centre, width in fixed:
        response *= _resonance(s, np.full((len(freqs), 1), centre), width)
    return response * (1 + (freqs / 3_200.0) ** 2) ** 0.75  # what the poles above these would keep up


def _resonance(s: np.ndarray, centre: np.ndarray, width: float) -> np.ndarray:
    pole = -np.pi * width + 2j * np.pi * centre
    return np.abs(pole) ** 2 / ((s - pole) * (s - pole.conj()))


def _voiced(score: _Score, f0: np.ndarray, progress: Callable[[float], None]) -> np.ndarray:
    """The harmonics of the voice, float32 ``(n,)``; ``f0``: its pitch in Hz at each of the score's steps."""
    amplitude = 10 ** (ndimage.gaussian_filter1d(score.voicing, 2.2) / 20)
    formants = ndimage.gaussian_filter1d(score.formants, 5.0, axis=0)
    phase = 2 * np.pi * np.cumsum(np.repeat(f0, FRAME)) / RATE
    out = np.zeros(score.count * FRAME, np.float32)
    ramp = (np.arange(FRAME, dtype=np.float32) / FRAME)[None, :]
    for begin in range(0, score.count - 1, _CHUNK):
        end = min(begin + _CHUNK, score.count - 1)
        progress(end / score.count)
        if amplitude[begin : end + 1].max() < 1e-3:
            continue
        count = int(10_500 / f0[begin : end + 1].min())
        freqs = f0[begin : end + 1, None] * np.arange(1, count + 1)
        strength = _transfer(freqs, formants[begin : end + 1], score.mouth.scale)
        strength *= amplitude[begin : end + 1, None] / (1 + (freqs / 240.0) ** 2) ** 0.5
        strength = strength.astype(np.complex64)
        turn = np.exp(1j * (phase[begin * FRAME : end * FRAME] % (2 * np.pi))).astype(np.complex64)
        turn = turn.reshape(end - begin, FRAME)
        power, moved = np.ones_like(turn), np.empty_like(turn)
        total = np.zeros((end - begin, FRAME), np.float32)
        for k in range(count):
            power *= turn
            now, then = strength[:-1, k, None], strength[1:, k, None]
            np.multiply(then - now, ramp, out=moved)
            moved += now
            moved *= power
            total += moved.imag
        out[begin * FRAME : end * FRAME] = total.ravel()
    return out


def _shaped(rng: np.random.Generator, size: int, name: str, mouth: Mouth) -> np.ndarray:
    """White noise of a length, filtered to a shape."""
    length = fft.next_fast_len(size, real=True)
    shape = noise_shape(name, fft.rfftfreq(length, 1 / RATE), mouth.scale, mouth.s_peak).astype(np.float32)
    return fft.irfft(fft.rfft(rng.standard_normal(length).astype(np.float32)) * shape, length)[:size]


def _noises(score: _Score, length: int) -> np.ndarray:
    """All noise of the take, relative to a voice of level 1."""
    out = np.zeros(length, np.float32)
    for noise in score.noises:
        start, stop = round(noise.start * RATE), round(noise.end * RATE)
        size = stop - start
        shaped = _shaped(score.rng, size + 1_024, noise.shape, score.mouth)[512 : 512 + size]
        rise = {"t": 0.002, "k": 0.002, "p": 0.002, "breath": 0.14}.get(noise.shape, 0.034)
        envelope = np.minimum(1, np.minimum(np.arange(size), np.arange(size)[::-1] + 1) / (rise * RATE))
        if noise.shape in "tkp":
            envelope = envelope * np.exp(-np.arange(size) / (0.012 * RATE))
        end = min(length, stop)
        out[start:end] += (shaped * np.sin(envelope * np.pi / 2) * 10 ** (noise.level_db / 20))[: end - start]
    return out + _breathiness(score, length)


def _breathiness(score: _Score, length: int) -> np.ndarray:
    """Air that escapes while the voice sounds, over the upper bands."""
    air = _shaped(score.rng, length, "f", score.mouth)
    voicing = 10 ** (ndimage.gaussian_filter1d(score.voicing, 4.0) / 20)
    envelope = np.interp(np.arange(length) / FRAME, np.arange(score.count), voicing)
    return (air * envelope * 10 ** (-41 / 20)).astype(np.float32)


def _in_room(dry: np.ndarray, score: _Score) -> np.ndarray:
    """The singer in a small treated room: faint early reflections, mouth clicks and room tone."""
    rng = score.rng
    response = np.zeros(round(0.03 * RATE))
    response[0] = 1.0
    for _ in range(14):
        at = int(rng.uniform(0.003, 0.029) * RATE)
        response[at] += rng.choice([-1, 1]) * 10 ** (rng.uniform(-36, -26) / 20)
    take = signal.oaconvolve(dry, response)[: len(dry)]
    for at in rng.uniform(0.5, len(dry) / RATE - 0.5, score.mouth.clicks):
        take = _click(take, at, score)
    room = _shaped(rng, len(take), "room", score.mouth)
    return take + room * 10 ** (score.mouth.room_dbfs / 20)


def _click(take: np.ndarray, at: float, score: _Score) -> np.ndarray:
    time = np.arange(96) / RATE
    click = np.exp(-time / 0.0004) * np.sin(2 * np.pi * score.rng.uniform(2_500, 5_500) * time)
    start = int(at * RATE)
    take[start : start + 96] += click * 10 ** ((score.mouth.voice_dbfs - score.rng.uniform(10, 20)) / 20)
    score.labels.append(Label(round(at, 4), round(at + 0.002, 4), "tick"))
    return take
