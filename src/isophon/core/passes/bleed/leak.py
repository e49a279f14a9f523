"""The leak of cues in a take: from files to the sound that is taken out, and the hits of it that are shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np
import soxr
from msgspec.structs import replace
from scipy import fft, ndimage, signal

from isophon.core import memory
from isophon.core.audio.leak import OWN_CLICK, Cue, Leak
from isophon.core.audio.loudness import lufs
from isophon.core.audio.threads import at_once, cores
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.bleed.click import find_click
from isophon.core.passes.bleed.click_sound import feeds_of
from isophon.core.passes.bleed.learn import BEFORE_S, learn, moved
from isophon.core.passes.bleed.mark import HitMark
from isophon.core.passes.bleed.residue import alone, missed
from isophon.core.passes.bleed.sync import Sync, synchronize
from isophon.core.survey import STILL, Survey

Read = Callable[[int, int], np.ndarray]

_ALIKE = 0.9999  # correlation of two channels of a cue over which they are one
_FULL_RATE = 44_000  # Hz from which a take is learned at a lower rate
_HALVED_FROM = 16_000  # Hz from which the cue is looked for at half of that
_HIT_S = 0.01  # s over which the level of the leak is measured
_APART_S = 0.1  # s between hits
_FALLS_DB = 9.0  # dB under its peak, where a hit begins and ends
_DEEPEST_DB = 32.0  # dB under the loudest that one may lie
_RISES_DB = 8.0  # dB that it must rise over what is around it
_LEAST_OVER_ROOM_DB = -12.0  # dB against the noise floor that it must lie: softer ones are inaudible
_PICTURE = 600  # points of the picture of the correlation
_NO_LOWS = 300.0  # Hz under which a leaked click has nothing
_MOSTLY = 0.9  # of what sounds that is the click's where the rest is left out
_LOUDEST_CLICK = 0.01  # of the take's power: a louder click is no leak
_WINDOW_S = 0.02  # s: windows in which leak and take are compared
_FEWEST_MOSTLY = 5  # windows that tell how much softer it is
_MOSTLY_PERCENTILE = 98  # else those windows in which the leak is most
_STEP_S = 0.005  # s between levels of the leak
_SILENT_LUFS = -120.0  # noise floor where nothing is quiet
_HIT_HZ, _MOST_LESS_DB = (100.0, 12_000.0), 36.0  # Hz: the band of a hit; dB: no hit is shown as less by more


@dataclass(frozen=True, eq=False)
class Taken:
    """``leak`` and ``rest``: what is predicted and what that missed, float32 ``(channels, n)`` at the take's rate."""

    facts: Leak
    leak: np.ndarray
    rest: np.ndarray


def learn_leak(
    samples: np.ndarray,
    rate: int,
    cues: Iterable[Cue],
    key: str,
    tell: Callable[[float], None] | None = None,
    moments: Sequence[tuple[float, float]] = (),
) -> Taken:
    """Learns how cues leaked into a take; without any cue, the take's own regular click.

    Parameters
    ----------
    samples : float32 ``(channels, n)``.
    rate : Hz.
    cues : read one by one, so that only one is in memory.
    key : of what is learned, for the cache.
    tell : is called with the share that is done.
    moments : spans in s to learn from; all where none is given.

    Returns
    -------
    Nothing is removed, and the facts have no key, where nothing of the cues is in the take.
    """
    tell = tell or (lambda _fraction: None)
    low, shape = _learning_rate(rate), samples.shape
    takes = np.stack([soxr.resample(channel, rate, low, "HQ") for channel in samples]) if low != rate else samples
    del samples  # each is large, and nobody else may hold them
    tell(0.05)
    synchronized = _cues_in(takes, cues, low, tell) if cues else _click_in(takes, low, tell)
    facts, feeds = synchronized.facts, synchronized.feeds
    if not len(feeds):
        return _nothing(shape, facts)
    learned = []
    for i, take in enumerate(takes):
        with fft.set_workers(cores()):
            learned.append(learn(take, feeds, low, partial(_tell_part, tell, i, len(takes)), moments))
    if not any(one.explained_db > 0 for one in learned):
        return _nothing(shape, facts)
    path, leak = learned[0].path, np.stack([one.leak for one in learned])
    del synchronized, feeds, learned
    memory.trim()
    rest = np.stack([missed(take, one, low) for take, one in zip(takes, leak, strict=True)])
    tell(0.92)
    less = _less(takes, leak, rest, low)
    sure = rest * np.stack([alone(take, one, low) for take, one in zip(takes, leak, strict=True)])
    leak, rest = leak + sure, rest - sure  # care is for where there is a voice
    up = np.zeros((2 * len(takes), shape[1]), np.float32)
    at_once(lambda x, out: _back(x, low, rate, out), [*leak, *rest], up)
    facts = replace(facts, key=key, less_db=less, rate=low, before_s=BEFORE_S, path=path.tobytes(), ways=len(path))
    tell(1.0)
    return Taken(facts, up[: len(takes)], up[len(takes) :])


def _learning_rate(rate: int) -> int:
    """Two thirds of the usual rates: what leaks out of headphones lies under 14 kHz. It can be halved."""
    return 2 * round((rate / (rate // _FULL_RATE) / 3) if rate >= _FULL_RATE else rate / 2)


def _tell_part(tell: Callable[[float], None], part: int, parts: int, fraction: float) -> None:
    tell(0.25 + 0.6 * (part + fraction) / parts)


@dataclass(frozen=True, eq=False)
class _Synchronized:
    """``feeds``: what leaked, ``(feeds, n)``, ``BEFORE_S`` before it sounds in the take; empty where it does not."""

    facts: Leak
    feeds: np.ndarray


def _cues_in(takes: np.ndarray, cues: Iterable[Cue], rate: int, tell: Callable[[float], None]) -> _Synchronized:
    """The cues that sound in a take, moved to where they do."""
    best: Sync | None = None
    feeds: list[np.ndarray] = []
    names: list[str] = []
    tried: list[str] = []
    low = rate // 2 if rate >= _HALVED_FROM else rate  # where a leak is clear; also the faster
    low_take = soxr.resample(takes.mean(axis=0), rate, low, "HQ")
    for cue in cues:
        tried.append(cue.name)
        sources = _distinct(np.stack([soxr.resample(c, cue.rate, rate, "HQ") for c in cue.samples]))
        sync = synchronize(low_take, soxr.resample(sources.T, rate, low, "HQ").T, low, cue.offset_s)
        best = sync if best is None or sync.clear > best.clear else best
        if sync.found:
            names.append(cue.name)
            feeds += [_aligned(source, sync, rate, takes.shape[1]) for source in sources]
        tell(0.25 - 0.2 * 0.5 ** len(tried))
    assert best is not None, "there is at least one cue"
    delay, ppm, clear = round(float(best.delay_s), 6), float(best.ppm), float(best.clear)
    facts = Leak("", tuple(names or tried), delay, ppm, clear, rate=rate)
    return _Synchronized(_pictured(facts, best.lags, best.heights), np.stack(feeds) if feeds else np.zeros((0, 0)))


def _click_in(takes: np.ndarray, rate: int, tell: Callable[[float], None]) -> _Synchronized:
    """The take's own regular click, each of its sounds a feed."""
    click = find_click(takes.mean(axis=0), rate, lambda f: tell(0.05 + 0.2 * f))
    first = min((float(times[0]) for times in click.times), default=0.0)
    facts = Leak("", (OWN_CLICK,), round(first, 6), rate=rate, beat_s=round(click.beat_s, 7))
    feeds = feeds_of(click, takes.mean(axis=0), rate) if click.found else np.zeros((0, 0))
    if len(feeds) and float(np.square(feeds.sum(axis=0)).mean()) > _LOUDEST_CLICK * float(np.square(takes).mean()):
        feeds = feeds[:0]  # a leak lies far under the voice; this is something that was sung or played
    early = [moved(feed, -round(BEFORE_S * rate), len(feed)) for feed in feeds]
    return _Synchronized(_pictured(facts, click.beats, click.heights), np.stack(early) if early else feeds)


def _nothing(shape: tuple[int, ...], facts: Leak) -> Taken:
    return Taken(facts, np.zeros(shape, np.float32), np.zeros(shape, np.float32))


def _pictured(facts: Leak, lags: np.ndarray, heights: np.ndarray) -> Leak:
    thin = max(1, len(heights) // _PICTURE)
    tall = heights[: len(heights) // thin * thin].reshape(-1, thin).max(axis=1)
    drawn = np.clip(255 * tall, 0, 255).astype(np.uint8).tobytes()
    return replace(facts, lags=(float(lags[0]), float(lags[-1])), heights=drawn)


def _distinct(channels: np.ndarray) -> np.ndarray:
    """The channels of a cue that say something of their own."""
    distinct: list[np.ndarray] = []
    for channel in channels:
        norm = float(np.linalg.norm(channel))
        if norm > 0 and not any(abs(float(channel @ k)) > _ALIKE * norm * float(np.linalg.norm(k)) for k in distinct):
            distinct.append(channel)
    return np.stack(distinct or [channels[0]])


def _aligned(source: np.ndarray, sync: Sync, rate: int, count: int) -> np.ndarray:
    """A cue on the take's clock, moved to ``BEFORE_S`` before where it sounds, as near as a frame."""
    if sync.ppm:
        source = soxr.resample(source, rate, rate * (1 + 1e-6 * sync.ppm), "VHQ")
    return moved(source, round(sync.delay_s * rate) - round(BEFORE_S * rate), count)


def _back(samples: np.ndarray, low: int, rate: int, out: np.ndarray) -> None:
    full = samples if low == rate else soxr.resample(samples, low, rate, "HQ")
    out[: len(full)] = full[: len(out)]


def _without_lows(samples: np.ndarray, rate: int) -> np.ndarray:
    """Where a leak lies: rumble and hum are no part of it."""
    return signal.sosfilt(_high_pass(rate), samples, axis=1)


@lru_cache(maxsize=8)
def _high_pass(rate: int) -> np.ndarray:
    return signal.butter(2, _NO_LOWS, "high", fs=rate, output="sos").astype(np.float32)  # so are the sounds


def _less(takes: np.ndarray, leak: np.ndarray, rest: np.ndarray, rate: int) -> float:
    """How much less is heard where the leak is most of what sounds, dB ≥ 0."""
    size = round(_WINDOW_S * rate)

    def power(sounds: np.ndarray) -> np.ndarray:
        rows = _without_lows(sounds, rate)[:, : sounds.shape[1] // size * size].reshape(len(sounds), -1, size)
        return np.einsum("cts,cts->t", rows, rows)

    before, after, own = at_once(power, [takes, takes - leak - rest, leak])
    mostly = own > _MOSTLY * before
    if mostly.sum() < _FEWEST_MOSTLY:
        mostly = own / (before + 1e-20) >= np.percentile(own / (before + 1e-20), _MOSTLY_PERCENTILE)
    return round(float(max(0.0, 10 * np.log10((before[mostly].sum() + 1e-20) / (after[mostly].sum() + 1e-20)))), 1)


def hits(taken: Taken, read: Read, survey: Survey) -> tuple[Mark, ...]:
    """The hits of a leak: where it stands over the noise floor, with how much less of it is heard afterwards."""
    if not taken.facts.key or survey.voice_lufs is None:
        return ()
    rate = survey.sample_rate
    step = round(_STEP_S * rate)
    power = _power(taken.leak, step)
    level = lufs(ndimage.uniform_filter1d(power, max(1, round(_HIT_S * rate / step))))
    still = survey.state == STILL
    room = lufs(float(np.median(survey.k_power[still]))) if still.any() else _SILENT_LUFS
    least = max(float(level.max()) - _DEEPEST_DB, room + _LEAST_OVER_ROOM_DB)
    peaks, _ = signal.find_peaks(level, height=least, prominence=_RISES_DB, distance=round(_APART_S * rate / step))
    marks = []
    for peak in peaks:
        first, last = peak, peak
        while first > 0 and level[first] > level[peak] - _FALLS_DB:
            first -= 1
        while last < len(level) - 1 and level[last] > level[peak] - _FALLS_DB:
            last += 1
        marks.append(_mark(taken, read, survey, first * step, (last + 1) * step, float(level[peak])))
    return tuple(marks)


def _mark(taken: Taken, read: Read, survey: Survey, first: int, last: int, level: float) -> Mark:
    rate = survey.sample_rate
    span = slice(first, min(last, taken.leak.shape[1]))
    take = read(first, span.stop - first).astype(np.float64)
    gone = taken.leak[:, span] + taken.rest[:, span]
    before, after = (float(np.square(_without_lows(x, rate)).mean()) for x in (take, take - gone))
    less = max(0.0, 10 * float(np.log10((before + 1e-15) / (after + 1e-15))))
    start, end = first / rate, span.stop / rate
    voice = float(survey.voice_level[survey.frame(start)])
    return HitMark(
        mark_id("bleed", start), round(float(start), 4), round(float(end), 4), round(level, 2),
        round(level - voice, 2),
        *_HIT_HZ, 1.0, less_db=round(min(less, _MOST_LESS_DB), 1),
    )  # fmt: skip


def _power(samples: np.ndarray, step: int) -> np.ndarray:
    count = samples.shape[1] // step * step
    return np.square(samples[:, :count]).sum(axis=0).reshape(-1, step).mean(axis=1)
