"""How far a sound stands over what masks it: excitation on the scale of equivalent rectangular bandwidths.

Both sounds are spread over auditory filters (rounded exponentials on the ERB-number scale: Glasberg & Moore 1990); a
sound is at its threshold where its excitation is that of the masker and a constant (Moore, Glasberg & Baer 1997), or
the hearing threshold in quiet (Terhardt 1979). A masker goes on masking while it fades from the ear (forward masking).
Formulas and the constants of the last three are from memory.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from isophon.core.audio.loudness import db

SPOKEN_SPL_DB = 75.0  # dB SPL: how loud a voice is taken to be heard (a limit of ours)
_FIRST_CAM, _LAST_CAM = 2, 38  # ERB-number units: about 55 Hz to 13.5 kHz
_POINTS = 8  # points: that a band is taken to be spread over
_K_HZ = (50.0, 100.0, 200.0, 500.0, 1_000.0)  # Hz, and dB under them: signal over excitation at the threshold,
_K_DB = (13.0, 5.0, 1.0, -2.0, -3.0)  # Moore, Glasberg & Baer 1997 (from memory)
_FADES_DB_S = 350.0  # dB in 1 s: how fast a masker fades from the ear (common knowledge: gone after 200 ms)


def channels_hz() -> np.ndarray:
    """The centres of the auditory filters, one a Cam (ERB-number unit), ``(filters,)``, Hz."""
    cams = np.arange(_FIRST_CAM, _LAST_CAM + 1)
    return (10 ** (cams / 21.4) - 1) / 0.00437


def erb_hz(hz: np.ndarray) -> np.ndarray:
    """The equivalent rectangular bandwidth of the auditory filter at frequencies, Hz; in the shape of ``hz``."""
    return 24.7 * (0.00437 * hz + 1)


def excitation(power: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """The power behind each auditory filter.

    Parameters
    ----------
    power : ``(frames, bands)``, mean square
    edges : ``(bands + 1,)``, of the bands, Hz

    Returns
    -------
    ``(frames, channels)``, mean square, for the filters of :func:`channels_hz`.
    """
    return power @ _spreading(tuple(np.round(edges, 3)))


@lru_cache(maxsize=8)
def _spreading(edges: tuple[float, ...]) -> np.ndarray:
    low, high = np.array(edges[:-1])[:, None], np.array(edges[1:])[:, None]
    at = low * (high / low) ** ((np.arange(_POINTS) + 0.5) / _POINTS)  # (bands, points)
    centres = channels_hz()
    away = np.abs(at[..., None] - centres) / centres
    slope = 4 * centres / erb_hz(centres)
    return ((1 + slope * away) * np.exp(-slope * away)).mean(axis=1)


def over_threshold_db(
    sound: np.ndarray, masker: np.ndarray, edges: np.ndarray, hop_s: float, voice_lufs: float
) -> np.ndarray:
    """How far a sound stands over its threshold in each frame, in the filter where it does most.

    Parameters
    ----------
    sound, masker : ``(frames, bands)``, power, mean square
    edges : ``(bands + 1,)``, of the bands, Hz
    hop_s : from one frame to the next, s
    voice_lufs : the loudness of the voice, from which it follows how loud everything is heard

    Returns
    -------
    ``(frames,)``, dB; a louder masker never makes it more.
    """
    centres = channels_hz()
    masking = excitation(masker, edges)
    fades = 10 ** (-_FADES_DB_S * hop_s / 10)
    for i in range(1, len(masking)):
        np.maximum(masking[i], fades * masking[i - 1], out=masking[i])
    constant = 10 ** (np.interp(np.log(centres), np.log(_K_HZ), _K_DB) / 10)
    full_scale_spl = SPOKEN_SPL_DB - voice_lufs
    quiet = 10 ** ((quiet_db(centres) - full_scale_spl) / 10)
    ratio = excitation(sound, edges) / (masking * constant + quiet)
    return db(ratio.max(axis=1) + 1e-12)


def quiet_db(hz: np.ndarray) -> np.ndarray:
    """The hearing threshold in quiet at frequencies (Hz), dB SPL; in the shape of ``hz``."""
    khz = hz / 1_000
    return 3.64 * khz**-0.8 - 6.5 * np.exp(-0.6 * (khz - 3.3) ** 2) + 1e-3 * khz**4
