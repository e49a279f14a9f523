"""What a take is, before anything is decided about it.

One pass over the recording gives, every 5 ms: one-third-octave levels, the
K-weighted level (ITU-R BS.1770-5), pitch and its strength, and from these
whether the frame is still, unvoiced or voiced, and how loud the voice is around
it. A stereo take is surveyed on the power of both sides together.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from scipy import ndimage, signal

from isophon.core.audio import pitch
from isophon.core.audio.loudness import db, gated_loudness, lufs
from isophon.core.ranges import RATES_HZ
from isophon.core.survey_streams import BandStream, LowRate, geometry_at

STILL = 0  # states of a frame: nothing is sung
UNVOICED = 1  # a sound without voice
VOICED = 2  # voice

_VOICE_REACH_S = 1.5  # s to either side over which the voice level is taken
_VOICE_RANGE_DB = 25.0  # dB under the loud frames that voice may lie
_LEAST_VOICE_S = 0.08  # s of clear voice without which there is none
_CLEAR_PERIOD = 0.65  # strength of a pitch that is clear
_DIGITAL_SILENCE_DB = -120.0  # dBFS: softer is digital silence
_WORD_DIP_DB = 12.0  # dB under the voice level, where words are parted
_WORD_GAP_S = 0.04  # s: shorter dips do not part them
_LEAST_WORD_S = 0.12  # s: no word is shorter
_REST_S = 0.35  # s of a pause between phrases, if a third of it is quiet
_LONG_REST_S = 0.7  # s of any pause
_LEAST_PHRASE_S = 0.2  # s: no phrase is shorter
_PHRASE_REACH_S = 0.2  # s by which it reaches into the pauses
_VOWELS_HZ, _VOWELS_SHARE = 4_000, 0.2  # Hz under which voice has its energy, and how much of it at least
_LOUD_PERCENTILE, _FLOOR_PERCENTILE = 90, 5  # of the levels of periodic frames, and of all: the voice and the floor
_STILL_OVER_FLOOR_DB = 9.0  # dB over the floor that a pause may be
_STILL_UNDER_VOICE_DB = 60.0  # dB under the voice that is a pause in any case
_OWN_S = 0.1  # s of voice that the mean of the complete take counts as


@dataclass(frozen=True, eq=False)
class Survey:
    """The measurements of one take; arrays are one value a frame of ``hop_s`` seconds.

    ``bands``: float32 ``(frames, bands)``, band powers (mean square);
    ``band_edges``: Hz, ``(bands + 1,)``. ``k_bands``: the same, K-weighted.
    ``k_power``: K-weighted mean square. ``f0``: Hz, 0 where unvoiced.
    ``strength``: 0 to 1. ``state``: STILL, UNVOICED or VOICED.
    ``voice_level``: LUFS, the voice level around each frame.
    ``voice_lufs``: loudness of the voiced frames of the whole take, None if
    there is no voice. ``floor_dbfs``: level of its still moments.
    ``loudness``: integrated, LUFS.
    """

    sample_rate: int
    samples: int
    hop_s: float
    band_edges: np.ndarray
    bands: np.ndarray
    k_bands: np.ndarray
    k_power: np.ndarray
    f0: np.ndarray
    strength: np.ndarray
    state: np.ndarray
    voice_level: np.ndarray
    voice_lufs: float | None
    floor_dbfs: float
    loudness: float

    def frame(self, seconds: float) -> int:
        """The frame nearest to a time, within the take."""
        return min(max(round(seconds / self.hop_s), 0), len(self.k_power) - 1)

    def voiced_s(self, start: float, end: float) -> float:
        """How many seconds of voice lie within a span of the take, s."""
        voiced = self.state[self.frame(start) : self.frame(end)] == VOICED
        return float(np.count_nonzero(voiced) * self.hop_s)

    def band_slice(self, low: float, high: float) -> slice:
        """The bands whose centres lie between two frequencies in Hz."""
        centres = np.sqrt(self.band_edges[:-1] * self.band_edges[1:])
        inside = np.flatnonzero((centres >= low) & (centres < high))
        return slice(int(inside[0]), int(inside[-1]) + 1) if len(inside) else slice(0, 0)


def check_survey(survey: Survey) -> None:
    """Raise ValueError for measurements that do not belong together, as those of a damaged cache may not."""
    frames = len(survey.k_power)
    consistent = (
        isinstance(survey.sample_rate, int) and RATES_HZ[0] <= survey.sample_rate <= RATES_HZ[1]
        and isinstance(survey.samples, int) and survey.samples > 0
        and survey.hop_s == geometry_at(survey.sample_rate).hop / survey.sample_rate
        and frames == geometry_at(survey.sample_rate).count(survey.samples)
        and all(isinstance(value, int | float) for value in (survey.floor_dbfs, survey.loudness))
        and isinstance(survey.voice_lufs, int | float | None)
        and survey.bands.shape == survey.k_bands.shape == (frames, len(survey.band_edges) - 1)
        and all(getattr(survey, name).shape == (frames,) for name in ("f0", "strength", "state", "voice_level"))
        and all(value.dtype.kind in "fu" for value in (survey.bands, survey.k_bands, survey.k_power, survey.state))
    )  # fmt: skip
    if not consistent:
        raise ValueError("not a survey")


def phrases(survey: Survey) -> list[tuple[float, float]]:
    """The phrases of a take: stretches of voice with what is sung around it, split at rests, (start, end) in s.

    A rest is 700 ms without voice, or 350 ms of which a third is still (a breath, not
    a consonant). A phrase has at least 200 ms of voice. Its edges reach out over
    unvoiced sounds that touch the voice (a first S, a last T) by up to 200 ms.
    """
    runs, _ = ndimage.label(survey.state == VOICED)
    spans: list[list[int]] = []
    for (where,) in ndimage.find_objects(runs):
        if spans and not _is_rest(survey, spans[-1][1], where.start):
            spans[-1][1] = where.stop
        else:
            spans.append([where.start, where.stop])
    least = _LEAST_PHRASE_S / survey.hop_s
    sung = [span for span in spans if np.count_nonzero(survey.state[span[0] : span[1]] == VOICED) >= least]
    return [_reaching_out(survey, start, end) for start, end in sung]


def words(survey: Survey) -> list[tuple[float, float]]:
    """The words of a take, (start, end) in s: phrases split where the voice dips, as between most sung words.

    A dip is a stretch of 40 ms or more that is not voiced, or 12 dB under the
    voice around it; what is shorter than 120 ms joins its neighbour. Without the
    text this is a guess: a long word may be split at a stop, two may stay one.
    """
    result: list[tuple[float, float]] = []
    level = lufs(survey.k_power)
    sung = (survey.state == VOICED) & (level > survey.voice_level - _WORD_DIP_DB)
    sung = ndimage.binary_closing(sung, np.ones(round(_WORD_GAP_S / survey.hop_s)))
    for start, end in phrases(survey):
        first, last = survey.frame(start), survey.frame(end)
        dips = ndimage.find_objects(ndimage.label(~sung[first:last])[0])
        cuts = [start] + [round((first + (d.start + d.stop) / 2) * survey.hop_s, 3) for (d,) in dips] + [end]
        begin = start
        for cut in cuts[1:-1]:
            if cut - begin >= _LEAST_WORD_S and end - cut >= _LEAST_WORD_S:
                result.append((begin, cut))
                begin = cut
        result.append((begin, end))
    return result


def _is_rest(survey: Survey, start: int, end: int) -> bool:
    seconds = (end - start) * survey.hop_s
    still = float(np.mean(survey.state[start:end] == STILL)) if end > start else 0.0
    return seconds >= _LONG_REST_S or (seconds >= _REST_S and still >= 1 / 3)


def _reaching_out(survey: Survey, start: int, end: int) -> tuple[float, float]:
    reach = round(_PHRASE_REACH_S / survey.hop_s)
    first, last = max(0, start - reach), min(len(survey.state), end + reach)
    while start > first and survey.state[start - 1] != STILL:
        start -= 1
    while end < last and survey.state[end] != STILL:
        end += 1
    return round(start * survey.hop_s, 3), round(end * survey.hop_s, 3)


def survey(
    blocks: Iterable[np.ndarray],
    sample_rate: int,
    samples: int,
    progress: Callable[[float], None] | None = None,
    on_spectra: Callable[[np.ndarray], None] | None = None,
) -> Survey:
    """Survey a take read in blocks.

    Parameters
    ----------
    blocks : float32 ``(channels, n)`` each, in order, ``samples`` frames in all
    sample_rate : Hz
    samples : frames of the take
    progress : called with a fraction from 0 to 1; may raise to cancel
    on_spectra : given the power spectra ``(n, bins)`` of :func:`geometry_at`, in order, as they come
    """
    bands = BandStream(sample_rate, samples, on_spectra)
    low = LowRate(sample_rate, samples)
    done = 0
    for block in blocks:
        bands.add(block)
        low.add(block)
        done += block.shape[1]
        if progress:
            progress(0.8 * done / samples)
    power, weighted, k_power = bands.finish()
    f0, strength = pitch.track_pitch(low.finish())
    if progress:
        progress(0.95)
    return _assemble(sample_rate, samples, bands, power, weighted, k_power, f0, strength)


def _assemble(
    sample_rate: int,
    samples: int,
    bands: BandStream,
    power: np.ndarray,
    weighted: np.ndarray,
    k_power: np.ndarray,
    f0: np.ndarray,
    strength: np.ndarray,
) -> Survey:
    hop_s = bands.geometry.hop / sample_rate
    nearest = np.minimum(np.round(np.arange(bands.count) * hop_s / pitch.HOP_S).astype(int), len(f0) - 1)
    f0, strength = f0[nearest], strength[nearest]
    state = _states(power, k_power, f0, bands.edges)
    voiced = state == VOICED
    enough = np.count_nonzero(voiced & (strength > _CLEAR_PERIOD)) * hop_s >= _LEAST_VOICE_S
    steps = max(1, round(0.1 / hop_s))
    complete = len(k_power) // steps * steps
    step_power = k_power[:complete].reshape(-1, steps).mean(axis=1) if complete else k_power[:0]
    return Survey(
        sample_rate=sample_rate,
        samples=samples,
        hop_s=hop_s,
        band_edges=bands.edges,
        bands=power,
        k_bands=weighted,
        k_power=k_power,
        f0=f0,
        strength=strength,
        state=state,
        voice_level=_voice_level(k_power, voiced, hop_s) if enough else np.full(len(k_power), -150.0),
        voice_lufs=round(lufs(float(k_power[voiced].mean())), 2) if enough else None,
        floor_dbfs=round(_floor(power, state), 2),
        loudness=gated_loudness(step_power),
    )


def _states(power: np.ndarray, k_power: np.ndarray, f0: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """STILL, UNVOICED or VOICED for each frame.

    Voiced: a period, within 25 dB of the loud periodic frames (so that neither
    hum nor a leaked tone in a pause counts as voice), and most of its energy
    below 4 kHz. Still: not voiced and nearer to the floor than to the voice.
    """
    level = db(k_power)
    periodic = f0 > 0
    low = power[:, edges[1:] <= _VOWELS_HZ].sum(axis=1)
    body = periodic & (level > _DIGITAL_SILENCE_DB) & (low > _VOWELS_SHARE * power.sum(axis=1))
    state = np.full(len(level), STILL, np.uint8)
    if not body.any():
        return state
    loud = np.percentile(level[body], _LOUD_PERCENTILE)
    body &= level > loud - _VOICE_RANGE_DB
    floor = np.percentile(level, _FLOOR_PERCENTILE)
    still_below = max(min(floor + _STILL_OVER_FLOOR_DB, (floor + loud) / 2), loud - _STILL_UNDER_VOICE_DB)
    state[level > still_below] = UNVOICED
    state[body] = VOICED
    return state


def _voice_level(k_power: np.ndarray, voiced: np.ndarray, hop_s: float) -> np.ndarray:
    """Energy mean of voiced frames within ±1.5 s, Hann-weighted; where few are near, of the whole take.

    The whole take's mean joins with the weight of 100 ms of voice, so that the
    level moves smoothly between phrases.
    """
    reach = round(_VOICE_REACH_S / hop_s)
    window = np.hanning(2 * reach + 1)
    mask = voiced.astype(np.float64)
    energy = _smooth(k_power * mask, window)
    weight = _smooth(mask, window)
    own = _OWN_S / hop_s
    mean = float(k_power[voiced].mean())
    return lufs((energy + own * mean) / (weight + own)).astype(np.float32)


def _smooth(values: np.ndarray, window: np.ndarray) -> np.ndarray:
    reach = len(window) // 2
    smooth = signal.oaconvolve(values, window, mode="full")
    return np.maximum(smooth[reach : reach + len(values)], 0.0)


def _floor(power: np.ndarray, state: np.ndarray) -> float:
    """Level in dBFS of the still frames; of the quietest twentieth where none is still."""
    total = power.sum(axis=1)
    still = total[state == STILL]
    if len(still) < 10:
        still = np.sort(total)[: max(1, len(total) // 20)]
    return max(_DIGITAL_SILENCE_DB, db(float(np.median(still))))
