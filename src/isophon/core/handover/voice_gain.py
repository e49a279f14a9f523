"""The gain that leaves a cleaned voice as loud as it was sung, so that a balance that was found before stays."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy import signal

from isophon.core.audio.filters import k_weighting
from isophon.core.passes import KINDS
from isophon.core.session.model import Part
from isophon.core.survey import VOICED, Survey

_MOST_DB = 12.0  # dB: no stem is matched by more


def voice_gain_db(part: Part, survey: Survey, blocks: Iterator[tuple[np.ndarray, np.ndarray]]) -> float:
    """By how much the voiced frames became softer, K-weighted (ITU-R BS.1770-5).

    The frames are those that the survey calls voiced; where words were moved, they are looked for where they sound.

    Parameters
    ----------
    part : a part.
    survey : what is measured of it.
    blocks : the take in order, as sung and cleaned, float32 ``(channels, n)`` each.

    Returns
    -------
    dB; 0 where none are.
    """
    one, other = k_weighting(survey.sample_rate)
    b, a = np.convolve(one[:3], other[:3]), np.convolve(one[3:], other[3:])
    hop, states = round(survey.hop_s * survey.sample_rate), [None, None]
    powers: list[list[np.ndarray]] = [[], []]
    rest = [np.zeros(0), np.zeros(0)]
    for pair in blocks:
        for i, block in enumerate(pair):
            state = np.zeros((len(block), len(a) - 1)) if states[i] is None else states[i]
            weighted, states[i] = signal.lfilter(b, a, block.astype(np.float64), axis=1, zi=state)
            power = np.concatenate([rest[i], np.square(weighted).sum(axis=0)])
            complete = len(power) // hop * hop
            powers[i].append(power[:complete].reshape(-1, hop).mean(axis=1))
            rest[i] = power[complete:]
    sung, cleaned = (np.concatenate(rows) if rows else np.zeros(0) for rows in powers)
    voiced = np.flatnonzero(survey.state == VOICED)
    there = _heard(part, voiced, survey.hop_s)
    inside = (voiced < len(sung)) & (there >= 0) & (there < len(cleaned))
    before, after = sung[voiced[inside]].sum(), cleaned[there[inside]].sum()
    if not before or not after:
        return 0.0
    return round(float(np.clip(10 * np.log10(before / after), -_MOST_DB, _MOST_DB)), 2)


def _heard(part: Part, frames: np.ndarray, hop_s: float) -> np.ndarray:
    """The frames at which others of a take are heard."""
    if not any(kind.cure.maps and part.of_kind(kind.name) for kind in KINDS):
        return frames
    return np.array([round(part.heard_at(float(frame) * hop_s) / hop_s) for frame in frames], dtype=int)
