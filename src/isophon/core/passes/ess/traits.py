"""What tells a sibilant from other sounds, frame by frame, and the discriminant made of it (see :mod:`.find`)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import db, lufs
from isophon.core.passes.ess.floored import Floored
from isophon.core.survey import VOICED, Survey

# Numbers without a source are this program's own; bench/left_out.md says how well they do.
_SMOOTH_S, _SCORE_SMOOTH_S = 0.015, 0.025  # over which measures and scores are averaged
_LOWEST_OVER_VOICE_DB = -30.0  # softer hiss is never one
_NOISE_HARMONICITY = 0.38  # under it the upper band is noise, over it a vowel
_NO_SCORE = -9.0  # of what can be no ess
# Fisher's discriminant, fitted once: score for each dB over low, over mid, over voice, of the high share; constant
_UNVOICED_WEIGHTS = np.array([0.035, 0.085, 0.11, 0.06, 0.0])
_VOICED_WEIGHTS = np.array([0.16, 0.04, 0.11, 0.17, 0.2])
_CLIP_DB = np.array([[-15, 30], [-5, 35], [-45, 5], [-25, 25]], float)  # the least and the most that counts of each
_BRIGHT_VOICE_DB = -6.0  # vowels whose hiss over low is more than this are bright
_SOUNDING_DB = 20.0  # what is within this of the loud frames sounds
# Hz: the bands of the measures; a dark Sh starts lower than a vowel's formants, so voiced frames are measured higher
_LOW_HZ, _MID_HZ, _LOWER_HZ, _UPPER_HZ = (0, 1_000), (900, 2_000), (1_900, 3_600), (4_400, np.inf)
_VOICED_HISS_HZ, _VOICELESS_HISS_HZ, _CREST_HZ = (2_800, np.inf), (2_200, np.inf), (1_500, np.inf)
_TOP_UNKNOWN_DB = 5.0  # high share where the rate has no top
_EVIDENCE, _EVIDENCE_RANGE = 6.0, (-4.0, 1.0)  # score for a harmonicity of 1 less, and the least and the most of it
_HARDLY_VOICED, _WHISPER_REACH = 0.5, 0.2  # voiced share of what sounds: espeak 0.71 to 0.92, whispered 0.09 to 0.31
# whispers made of five voices: esses stand 17 dB and more over low, the rest 6 and less (quartiles)
_WHISPER_OVER_LOW_DB, _WHISPER_A_DB = 14.0, 0.3


@dataclass(frozen=True)
class Traits:
    """What tells a sibilant, per frame: dB ratios, shape ``(frames,)`` each.

    ``hiss``: K-weighted LUFS above 2.8 kHz, above 2.2 kHz where voiceless (a dark Sh
    starts there; a vowel has a formant there). ``over_low``: hiss over the bands
    below 1 kHz. ``over_mid``: over 0.9 to 2 kHz. ``over_voice``: over the voice
    around. ``high_share``: above 4.4 kHz over 1.9 to 3.6 kHz. ``crest``:
    strongest band over the median band, above 1.5 kHz. ``voiced``, ``sounding`` (within 20 dB of loud frames): bool.
    """

    hiss: np.ndarray
    over_low: np.ndarray
    over_mid: np.ndarray
    over_voice: np.ndarray
    high_share: np.ndarray
    crest: np.ndarray
    voiced: np.ndarray
    sounding: np.ndarray


def traits_of(survey: Survey, bands: Floored, k_bands: Floored) -> Traits:
    """The traits of every frame of a take."""
    frames = max(1, round(_SMOOTH_S / survey.hop_s))

    def band(low: float, high: float, source: Floored = bands) -> np.ndarray:
        return running_mean(source.sum(survey.band_slice(low, high)), frames)

    low, mid = band(*_LOW_HZ), band(*_MID_HZ)
    voiced = survey.state == VOICED
    hiss = np.where(voiced, band(*_VOICED_HISS_HZ, k_bands), band(*_VOICELESS_HISS_HZ, k_bands))
    lower, upper = band(*_LOWER_HZ), band(*_UPPER_HZ)
    top_known = survey.band_slice(*_UPPER_HZ).stop > 0
    return Traits(
        hiss=lufs(hiss),
        over_low=db(hiss) - db(low),
        over_mid=db(hiss) - db(mid),
        over_voice=lufs(hiss) - survey.voice_level,
        high_share=db(upper) - db(lower) if top_known else np.full(len(hiss), _TOP_UNKNOWN_DB),
        crest=bands.crest(survey.band_slice(*_CREST_HZ), frames),
        voiced=voiced,
        sounding=survey.k_power > np.percentile(survey.k_power, 95) * 10 ** (-_SOUNDING_DB / 10),
    )


def sibilance(traits: Traits, hop_s: float) -> np.ndarray:
    """The discriminant of every frame: over 0 is more like a sibilant than not.

    A voice whose vowels are bright (over −6 dB above 2.8 kHz) must show that much more. In a whisper, where vowels are
    noise as well, an ess has far less below 1 kHz.

    Parameters
    ----------
    traits : what is measured of each frame.
    hop_s : s between frames.

    Returns
    -------
    ``(frames,)``.
    """
    over_low = traits.over_low
    if traits.voiced.any():
        over_low = over_low - max(0.0, float(np.median(over_low[traits.voiced])) - _BRIGHT_VOICE_DB)
    measures = np.stack([over_low, traits.over_mid, traits.over_voice, traits.high_share], axis=1)
    measures = np.clip(measures, _CLIP_DB[:, 0], _CLIP_DB[:, 1])
    score = np.where(
        traits.voiced,
        measures @ _VOICED_WEIGHTS[:-1] + _VOICED_WEIGHTS[-1],
        measures @ _UNVOICED_WEIGHTS[:-1] + _UNVOICED_WEIGHTS[-1],
    )
    whispered = np.clip((_HARDLY_VOICED - _mean_of(traits.voiced[traits.sounding])) / _WHISPER_REACH, 0, 1)
    score -= whispered * _WHISPER_A_DB * np.maximum(0, _WHISPER_OVER_LOW_DB - traits.over_low) * ~traits.voiced
    score[traits.over_voice < _LOWEST_OVER_VOICE_DB] = _NO_SCORE
    return running_mean(score, max(1, round(_SCORE_SMOOTH_S / hop_s)))


def _mean_of(voiced: np.ndarray) -> float:
    """The share that is voiced; all of it where nothing sounds."""
    return float(voiced.mean()) if len(voiced) else 1.0


def noise_evidence(harmonicity: np.ndarray, hop_s: float) -> np.ndarray:
    """What the harmonicity of the upper band adds to the score: much less for a vowel, a little more for a Z.

    Parameters
    ----------
    harmonicity : ``(frames,)``, from 0 to 1; NaN where it is not known.
    hop_s : s between frames.

    Returns
    -------
    ``(frames,)``.
    """
    evidence = np.clip((_NOISE_HARMONICITY - harmonicity) * _EVIDENCE, *_EVIDENCE_RANGE)
    evidence = np.nan_to_num(evidence, nan=0.0)
    return running_mean(evidence, max(1, round(_SMOOTH_S / hop_s)))


def running_mean(values: np.ndarray, frames: int) -> np.ndarray:
    """The mean of so many frames around each, ``(n,)``."""
    return ndimage.uniform_filter1d(values, frames, mode="nearest")
