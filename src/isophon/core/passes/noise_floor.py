"""The noise of the room, heard in the stillest moments of a take and without its hum."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

import numpy as np
from scipy import signal

from isophon.core.audio.hum import Hum, hum_of
from isophon.core.passes.context import FinderContext
from isophon.core.passes.stage import Read
from isophon.core.survey import STILL, Survey

ROOM_EDGES = (20.0, 16_000.0)  # Hz
SILENT_DB = -150.0  # dB: what digital silence counts as
_ROOM_WINDOW = 8_192  # samples at 48 kHz: 171 ms, so that the lowest bands have a few bins
_ROOM_PIECES = 60  # windows, the stillest, that the median is of
_MEDIAN_OF_MEAN = float(np.log(2))  # median over mean of the exponential distribution that a noise's periodogram has

Density = tuple[np.ndarray, np.ndarray]


@lru_cache(maxsize=8)
def still_power(survey: Survey) -> float | None:
    """The K-weighted power of a take's still moments, their median; None where nothing is still."""
    still = survey.k_power[survey.state == STILL]
    return float(np.median(still)) if len(still) else None


def density(context: FinderContext, pauses: Iterable[Any], hum: Hum | None) -> Density | None:
    """The noise of the room in the pauses of a take, without its hum.

    Parameters
    ----------
    context : what is known of the take.
    pauses : marks with ``dead_air``: what of each is no breath, (start, end) in s.
    hum : the take's hum, None for none.

    Returns
    -------
    As :func:`still_density`.
    """
    spans = dead_air_of(pauses)
    read = without(hum, context.read)
    return context.kept("density", lambda: still_density(read, context.survey, spans))


def dead_air_of(pauses: Iterable[Any]) -> list[tuple[float, float]]:
    """What of pauses is no breath, (start, end) in s."""
    return [span for pause in pauses for span in pause.dead_air]


def without(hum: Hum | None, read: Read) -> Read:
    """Reads a take without its hum, which is no part of the room."""
    if hum is None:
        return read
    return lambda start, frames: read(start, frames) - hum_of(hum, start, frames)


def still_density(read: Read, survey: Survey, spans: Iterable[tuple[float, float]]) -> Density | None:
    """The power density of the stillest moments of some spans, median over time.

    Parameters
    ----------
    read : reads the take.
    survey : what is measured of it.
    spans : (start, end) in s.

    Returns
    -------
    Frequencies in Hz and the mean square in each bin, both ``(bins,)``; None where no span is long enough.
    """
    rate = survey.sample_rate
    size = round(_ROOM_WINDOW * rate / 48_000)
    hop = size / rate / 2
    places = []
    for start, end in spans:
        for at in np.arange(start, end - size / rate, hop):
            frames = slice(survey.frame(at), survey.frame(at + size / rate))
            places.append((float(survey.k_power[frames].max()), at))
    quietest = sorted(places)[: max(8, min(_ROOM_PIECES, len(places) // 2))]
    if not quietest:
        return None
    window = signal.get_window("hann", size)
    window /= np.sqrt(np.square(window).sum())
    spectra = []
    for _, at in quietest:
        samples = read(round(at * rate), size)
        spectra.append(2 * np.square(np.abs(np.fft.rfft(samples * window, axis=1))).mean(axis=0) / size)
    return np.fft.rfftfreq(size, 1 / rate), np.median(spectra, axis=0) / _MEDIAN_OF_MEAN
