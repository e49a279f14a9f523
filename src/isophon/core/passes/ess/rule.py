"""Esses by rule: a band compressor whose threshold follows the voice.

The static curve and the smoothing are those of Giannoulis, Massberg & Reiss 2012 ("Digital dynamic range compressor
design"): a soft knee around the threshold, and a gain that is smoothed by an attack while more is taken off and by a
release while less is, after a hold. The level is the envelope of the band's analytic signal, so that nothing has to be
averaged before the attack; the gain may come earlier than the sound by a look-ahead, since all of it is known.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import signal

from isophon.core.audio.dynamics import NOTHING_DB, smoothed, static_db
from isophon.core.audio.filters import k_power_response, linear_phase_band
from isophon.core.passes.stage import At, Stage
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

STEP_S = 0.25  # of the voice level that the threshold follows
_TICK_S = 0.00025  # of the gain
_SETTLED = 8.0  # release times after which nothing is left of a gain
LONGEST_RELEASE_S = 0.5  # s: the longest that the settings allow
LONGEST_HOLD_S = 0.2  # s
LONGEST_AHEAD_S = 0.02  # s
_WIDTH = 0.25  # of the band's lower edge


class RuleCut(msgspec.Struct, frozen=True):
    """The rule over a whole take; ``voice``: the voice level in LUFS every quarter of a second; times in s."""

    first: int
    last: int
    low_hz: float
    high_hz: float
    over_db: float
    ratio: float
    knee_db: float
    range_db: float
    attack_s: float
    release_s: float
    hold_s: float
    ahead_s: float
    turns: str
    voice: tuple[float, ...]


def treatments(part: Part) -> Iterator[RuleCut]:
    """What is done to a part, where the rule is asked for."""
    how, voice = part.ess, part.measured.voice
    if how.by == "ceiling" or not voice or how.rule_range_db <= 0:
        return
    rate = part.source.sample_rate
    top = 0.45 * rate
    if how.rule_low_hz < top:
        high = how.rule_high_hz if how.rule_low_hz < how.rule_high_hz < top else 0.0
        yield RuleCut(
            0, part.source.frames, how.rule_low_hz, high, how.rule_over_db, how.rule_ratio, how.rule_knee_db,
            how.rule_range_db, how.rule_attack_ms / 1000, how.rule_release_ms / 1000, how.rule_hold_ms / 1000,
            how.rule_ahead_ms / 1000, how.rule_turns, voice,
        )  # fmt: skip


def voice_steps(survey: Survey) -> tuple[float, ...]:
    """The voice level in LUFS every quarter of a second; none where there is no voice."""
    if survey.voice_lufs is None:
        return ()
    at = np.arange(0, survey.samples / survey.sample_rate + STEP_S, STEP_S)
    frames = np.clip(np.round(at / survey.hop_s).astype(int), 0, len(survey.voice_level) - 1)
    return tuple(round(float(v), 1) for v in np.maximum(survey.voice_level[frames], -120.0))


def gain_db(samples: np.ndarray, start: int, rate: int, cut: RuleCut) -> np.ndarray:
    """What is taken off at each tick.

    Parameters
    ----------
    samples : ``(channels, n)``.
    start : the frame at which they begin.
    rate : Hz.
    cut : the rule.

    Returns
    -------
    ``(ticks,)``, dB, at least 0.
    """
    return sidechain(samples, start, rate, cut)[1]


def sidechain(samples: np.ndarray, start: int, rate: int, cut: RuleCut) -> tuple[np.ndarray, np.ndarray]:
    """The level in the band over the voice level, and what is taken off.

    Parameters
    ----------
    samples : ``(channels, n)``.
    start : the frame at which they begin.
    rate : Hz.
    cut : the rule.

    Returns
    -------
    ``(ticks,)`` each, dB.
    """
    tick = tick_of(rate)
    analytic = _analytic(cut.low_hz, cut.high_hz, rate)
    half = len(analytic) // 2
    padded = np.pad(samples, ((0, 0), (half, half)))
    envelope = np.square(np.abs(signal.oaconvolve(padded, analytic[None, :], "valid", axes=1))).sum(axis=0) / 2
    complete = len(envelope) // tick * tick
    level = -0.691 + 10 * np.log10(envelope[:complete].reshape(-1, tick).max(axis=1) + 1e-14)
    at = (start + (np.arange(len(level)) + 0.5) * tick) / rate
    voice = np.interp(at, np.arange(len(cut.voice)) * STEP_S, cut.voice)
    wanted = np.minimum(cut.range_db, static_db(level - voice - cut.over_db, cut.ratio, cut.knee_db))
    wanted[wanted < NOTHING_DB] = 0.0
    return level - voice, smoothed(wanted, tick / rate, cut.attack_s, cut.release_s, cut.hold_s)


def tick_of(rate: int) -> int:
    """How many frames a tick of the gain has."""
    return max(1, round(_TICK_S * rate))


@lru_cache(maxsize=16)
def _analytic(low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    """The band's analytic filter, K-weighted at its place, complex ``(n,)``, odd."""
    band = _band(low_hz, high_hz, rate)
    size = 1 << (len(band) * 4 - 1).bit_length()
    spectrum = np.fft.fft(band, size)
    spectrum *= np.sqrt(k_power_response(np.abs(np.fft.fftfreq(size, 1 / rate)), rate))
    spectrum[size // 2 :] = 0
    spectrum[1 : size // 2] *= 2
    response = np.roll(np.fft.ifft(spectrum), (size - len(band)) // 2)
    middle = size // 2
    half = len(band) // 2 + 16
    return response[middle - half - 1 : middle + half]


def _band(low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    return linear_phase_band(rate, low_hz, high_hz or None, _WIDTH * low_hz)


def _apply(at: At, mine: Sequence[RuleCut]) -> np.ndarray:
    cut, rate = mine[0], at.sample_rate
    tick, ahead = tick_of(rate), round(cut.ahead_s * rate)
    before = round((_SETTLED * cut.release_s + cut.hold_s) * rate)
    edge = len(_analytic(cut.low_hz, cut.high_hz, rate)) // 2
    first = (at.start - before) // tick * tick - edge
    last = at.stop + ahead + 2 * tick
    samples = at.read(first, last + edge - first)
    taken = gain_db(samples, first, rate, cut)
    places = first + (np.arange(len(taken)) + 0.5) * tick - ahead
    gain = np.power(10, -np.interp(np.arange(at.start, at.stop), places, taken) / 20).astype(np.float32)
    block = samples[:, at.start - first : at.stop - first]
    if cut.turns == "voice":
        return block * gain
    taps = _band(cut.low_hz, cut.high_hz if cut.turns == "band" else 0.0, rate)
    half = len(taps) // 2
    around = at.read(at.start - half, at.frames + 2 * half)
    band = signal.oaconvolve(around.astype(np.float64), taps[None, :], "valid", axes=1)
    return (block + (gain - 1) * band).astype(np.float32)


def _reach(rate: int) -> int:
    return round((_SETTLED * LONGEST_RELEASE_S + LONGEST_HOLD_S + LONGEST_AHEAD_S + 0.05) * rate)


STAGE = Stage("ess by rule", (RuleCut,), _apply, ("ess",), reach=_reach, fixed_blocks=True)
