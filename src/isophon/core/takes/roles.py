"""What a file probably is: lead, double, harmony, ad-lib, cue or bed, from its name and from how it sounds.

A guess that a person corrects; the words are common practice in naming tracks.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from scipy import ndimage

from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import db

_WORDS = (
    ("cue", "cue click metronome headphone headphones phones guide scratch count foldback"),
    ("bed", "bed instrumental instr inst music playback karaoke minus band backtrack"),
    ("adlib", "adlib adlibs shout shouts yell improv"),
    ("double", "double doubles doubled doubletrack dbl dub dt"),
    ("harmony", "harmony harmonies harm harmo high low mid third thirds fifth fifths octave oct upper lower above below"
     " bv bvs bgv bgvs bg backing backings background choir chorus stack oohs ooh aahs aah alto tenor soprano"),
    ("lead", "lead ld main solo lv"),
    ("bed", "mix drums harmonium piano guitar bass"),
)  # fmt: skip
_EXCERPT_S = 12.0  # s from the middle that are looked at
_STEP_S = 0.01  # s between levels
_FEWEST = 200  # levels that tell anything
_SOUNDS_DB = 30  # dB under the loudest that sounds
_CLICKS, _UNBROKEN = 0.25, 0.85  # share of what sounds: less may be clicks, more may be music
_ONE_SOUND = 0.98  # correlation of two channels that are one
_BEATS_S, _ALIKE = (0.2, 2.1), 0.6  # s between beats; how alike they are, of being the same


def by_name(name: str) -> str | None:
    """What a file's name says it is; None where it says nothing."""
    text = re.sub(r"ad[\s_-]*lib", "adlib", Path(name).stem.lower())
    text = re.sub(r"(backing|background)[\s_-]*(track|music)", "playback", text)
    found = set(re.findall(r"[a-z]+", text))
    return next((what for what, words in _WORDS if found & set(words.split())), None)


def by_sound(recording: Recording) -> str | None:
    """``cue`` for regular clicks in silence, ``bed`` for unbroken stereo; None: probably a voice."""
    if recording.depth == 0:
        return None  # a lossy take is decoded whole before its middle can be read: too slow for a guess
    step = round(_STEP_S * recording.sample_rate)
    frames = min(recording.frames, round(_EXCERPT_S * recording.sample_rate)) // step * step
    samples = recording.read((recording.frames - frames) // 2, frames)
    power = np.square(samples).mean(axis=0).reshape(-1, step).mean(axis=1)
    if len(power) < _FEWEST or not power.any():
        return None
    active = float(np.mean(db(power) > db(float(power.max())) - _SOUNDS_DB))
    if active < _CLICKS and _beats(power):
        return "cue"
    if len(samples) == 2 and active > _UNBROKEN:
        left, right = samples
        both = np.sqrt(np.dot(left, left) * np.dot(right, right))
        if both > 0 and abs(np.dot(left, right)) / both < _ONE_SOUND:
            return "bed"
    return None


def _beats(power: np.ndarray) -> bool:
    """Whether short bursts come at one regular distance."""
    onset = np.maximum(np.diff(np.sqrt(power)), 0)
    onset = ndimage.gaussian_filter1d(onset, 1.0)
    onset -= onset.mean()
    similar = np.correlate(onset, onset, "full")[len(onset) - 1 :]
    lags = similar[slice(*(round(beat / _STEP_S) for beat in _BEATS_S))]
    return bool(similar[0] > 0 and lags.max() > _ALIKE * similar[0])


def guess(recordings: Sequence[Recording], has_lead: bool = False) -> list[str]:
    """What each of these files is; the first voice that says nothing else is the lead, unless there is one. An MP3
    is a reference: what it left out cannot be given back.
    """
    named = [by_name(recording.path.name) for recording in recordings]
    whats = [name or by_sound(recording) for name, recording in zip(named, recordings, strict=True)]
    whats = [("cue" if what == "cue" else "bed") if recording.container == "MP3" else what
             for what, recording in zip(whats, recordings, strict=True)]  # fmt: skip
    has_lead = has_lead or "lead" in whats
    roles = []
    for what in whats:
        roles.append(what or ("harmony" if has_lead else "lead"))
        has_lead = has_lead or what is None
    return roles
