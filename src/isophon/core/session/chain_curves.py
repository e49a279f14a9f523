"""What the rough chain does to steady levels: the curves of its compressors and of its shelf.

Static curves of Giannoulis, Massberg & Reiss 2012 (soft knee), a high shelf (W3C Audio EQ Cookbook).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from isophon.core.audio.dynamics import decoupled, static_db
from isophon.core.audio.loudness import db
from isophon.core.marks import Mark
from isophon.core.session.chain import Chain
from isophon.core.survey import STILL, Survey

KNEE_DB = 6.0  # dB: width of the compressors' knees
_CREST_DB = 12.0  # a voice's peaks over its mean square: common practice
_SOME = 8  # one frame in so many tells how loud the whole is, so that a drag of a slider stays smooth


class Compressor(NamedTuple):
    """What one of the compressors of a chain is set to."""

    threshold_db: float
    ratio: float
    attack_ms: float
    release_ms: float


@dataclass(frozen=True, eq=False)
class ChainGains:
    """By how much a chain turns a take's power up or down: ``by_frame`` of its survey ``(frames,)``, ``by_band``."""

    by_frame: np.ndarray
    by_band: np.ndarray


def compressors(chain: Chain) -> tuple[Compressor, Compressor]:
    """The first and the second compressor."""
    return (
        Compressor(chain.threshold_db, chain.ratio, chain.attack_ms, chain.release_ms),
        Compressor(chain.second_threshold_db, chain.second_ratio, chain.second_attack_ms, chain.second_release_ms),
    )


def compressed_db(level_db: np.ndarray, chain: Chain) -> np.ndarray:
    """The gain of both compressors and what stands parallel to them, for steady levels.

    Parameters
    ----------
    level_db : dBFS, of any shape.
    chain : the rough chain.

    Returns
    -------
    dB, in the shape of ``level_db``.
    """
    gain_db = np.zeros_like(level_db)
    for one in compressors(chain):
        gain_db = gain_db - static_db(level_db + gain_db - one.threshold_db, one.ratio, KNEE_DB)
    return _in_parallel_db(gain_db, chain)


def shelf_gain_db(hz: np.ndarray, chain: Chain, sample_rate: int) -> np.ndarray:
    """What the shelf does.

    Parameters
    ----------
    hz : ``(n,)``, Hz.
    chain : the rough chain.
    sample_rate : Hz.

    Returns
    -------
    ``(n,)``, dB.
    """
    b, a = shelf(chain, sample_rate)
    back = np.exp(-2j * np.pi * np.outer(np.asarray(hz, float) / sample_rate, np.arange(3)))
    return 20 * np.log10(np.abs((back @ b) / (back @ a)) + 1e-12)


def more_after(chain: Chain, voice_lufs: float, mark: Mark, sample_rate: int) -> float:
    """By how much more a mark stands out of the voice after compressors and shelf, dB, as their static curves say."""
    squeezed = compressed_db(np.array([voice_lufs, voice_lufs + mark.standout_db]), chain)
    middle = math.sqrt(max(100.0, mark.low_hz) * max(mark.low_hz + 1, mark.high_hz))
    bright = shelf_gain_db(np.array([700.0, middle]), chain, sample_rate)
    return float(squeezed[1] - squeezed[0] + bright[1] - bright[0])


def chain_gains(survey: Survey, chain: Chain) -> ChainGains:
    """What the compressors and the shelf of a chain do to a take as it was sung, frame by frame of its survey.

    The take is as loud after the chain as before it. Drive and room are not in it.
    """
    level = db(survey.k_power + 1e-12) + _CREST_DB
    gain_db = np.zeros(len(level))
    for one in compressors(chain):
        wanted = static_db(level + gain_db - one.threshold_db, one.ratio, KNEE_DB)
        gain_db = gain_db - decoupled(wanted, survey.hop_s, one.attack_ms / 1000, one.release_ms / 1000)
    by_frame = 10 ** (_in_parallel_db(gain_db, chain) / 10)
    centres = np.sqrt(survey.band_edges[1:] * np.maximum(survey.band_edges[:-1], 1.0))
    by_band = 10 ** (shelf_gain_db(centres, chain, survey.sample_rate) / 10)
    voice = np.flatnonzero(survey.state != STILL)[::_SOME]
    before, after = survey.bands[voice].sum(), by_frame[voice] @ (survey.bands[voice] @ by_band)
    return ChainGains(by_frame * (before + 1e-12) / (after + 1e-12), by_band)


def shelf(chain: Chain, sample_rate: int) -> tuple[np.ndarray, np.ndarray]:
    """The coefficients of the high shelf (W3C Audio EQ Cookbook): numerator and denominator, ``(3,)`` each."""
    a = 10 ** (chain.shelf_db / 40)
    w = 2 * math.pi * min(chain.shelf_hz, 0.4 * sample_rate) / sample_rate
    cos, alpha = math.cos(w), math.sin(w) / 2 * math.sqrt(2.0)
    root = 2 * math.sqrt(a) * alpha
    b = np.array([a * ((a + 1) + (a - 1) * cos + root), -2 * a * ((a - 1) + (a + 1) * cos),
                  a * ((a + 1) + (a - 1) * cos - root)])  # fmt: skip
    d = np.array([(a + 1) - (a - 1) * cos + root, 2 * ((a - 1) - (a + 1) * cos), (a + 1) - (a - 1) * cos - root])
    return b / d[0], d / d[0]


def _in_parallel_db(gain_db: np.ndarray, chain: Chain) -> np.ndarray:
    return 20 * np.log10(chain.parallel * 10 ** (gain_db / 20) + 1 - chain.parallel)
