"""A new export in place of a recording: where in it the old one lies, and the decisions moved along.

The lag is the peak of the normalized cross-correlation of both takes' levels in dB (5 ms steps), then, where the old
file can still be read, of the samples around their loudest moment. Both are ordinary cross-correlation as in
Oppenheim & Schafer, Discrete-Time Signal Processing.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from msgspec.structs import replace
from scipy import signal

from isophon.core.audio.leak import Feed, Leak
from isophon.core.audio.loudness import db
from isophon.core.marks import Mark, spans_later
from isophon.core.passes import KINDS
from isophon.core.session.checks import flaw_of_mark
from isophon.core.session.items import Guide, Source
from isophon.core.session.layout import with_item
from isophon.core.session.model import Session
from isophon.core.session.stored_version import PartDecisions, Version
from isophon.core.survey import Survey

_ALIKE, _SURELY_ALIKE = 0.6, 0.9  # correlation of levels: may be the same take; is, whatever the samples say
_SAMPLES_ALIKE = 0.3  # of samples: the export may be processed
_LEAST_OVERLAP_S = 1.0  # s that two recordings must have in common
_AROUND_S, _WITHIN_S = 1.5, 0.006  # samples compared on either side of the loudest moment, and how far they may be off
_LOUD_RANGE_DB = 50.0  # softer than the loudest by more than this counts as silence


class Samples(Protocol):
    """What samples are read from, as :class:`isophon.core.audio.files.Recording`."""

    sample_rate: int

    def read(self, start: int, frames: int) -> np.ndarray:
        """Float32 ``(channels, frames)``, zeros outside."""


def later_by(before: Survey, after: Survey, old: Samples | None, new: Samples) -> float | None:
    """By how many seconds the sound of a take comes later in its new export; None where they are not the same take.

    Parameters
    ----------
    before, after
        Surveys of both.
    old, new
        Their samples; None where the old file cannot be read any more, which leaves the lag to some milliseconds.
    """
    lag_s, alike = _lag_of(_levels(before), _levels(after), before.hop_s)
    refined = None
    if alike >= _ALIKE and old is not None and old.sample_rate == new.sample_rate:
        refined = _refined(before, old, new, lag_s)
    if refined is None and alike >= _SURELY_ALIKE:
        return round(lag_s, 4)
    return refined


def _levels(survey: Survey) -> np.ndarray:
    """Levels in dB over what counts as silence, ``(frames,)``."""
    levels = db(survey.k_power.astype(np.float64))
    return np.maximum(levels - levels.max() + _LOUD_RANGE_DB, 0.0)


def _lag_of(before: np.ndarray, after: np.ndarray, hop_s: float) -> tuple[float, float]:
    """The lag in s at which two rows of levels are most alike, and their correlation there."""
    one, other = before - before.mean(), after - after.mean()
    products = signal.correlate(other, one, method="fft")
    powers = (
        signal.correlate(other**2, np.ones(len(one)), method="fft"),
        signal.correlate(np.ones(len(other)), one**2, method="fft"),
    )
    overlap = signal.correlate(np.ones(len(other)), np.ones(len(one)), method="fft")
    alike = products / np.sqrt(np.maximum(powers[0] * powers[1], 1e-9))
    alike[overlap < min(_LEAST_OVERLAP_S / hop_s, 0.5 * len(one))] = -1.0
    at = int(np.argmax(alike))
    return (at + _parabola(alike, at) - (len(one) - 1)) * hop_s, float(alike[at])


def _parabola(row: np.ndarray, at: int) -> float:
    """How far from its highest value a row's peak lies, in steps: a parabola through three values."""
    if not 0 < at < len(row) - 1:
        return 0.0
    left, top, right = row[at - 1 : at + 2]
    bend = left - 2 * top + right
    return 0.0 if bend >= 0 else float(0.5 * (left - right) / bend)


def _refined(before: Survey, old: Samples, new: Samples, lag_s: float) -> float | None:
    """The lag to one sample, in s; None where the samples are not alike."""
    rate = old.sample_rate
    loudest = int(np.argmax(before.k_power)) * before.hop_s
    start, frames = round((loudest - _AROUND_S) * rate), round(2 * _AROUND_S * rate)
    reach, shift = round(_WITHIN_S * rate), round(lag_s * rate)
    one = old.read(start, frames).mean(axis=0).astype(np.float64)
    other = new.read(start + shift - reach, frames + 2 * reach).mean(axis=0).astype(np.float64)
    products = signal.correlate(other, one, mode="valid", method="fft")
    power = np.sqrt(np.sum(one**2) * np.sum(other**2))
    at = int(np.argmax(products))
    if power <= 0 or products[at] / power < _SAMPLES_ALIKE:
        return None
    return (shift + at - reach) / rate


@dataclass(frozen=True)
class Replaced:
    """A session with a new export. ``lost``: how many decided marks lie outside of it and were left out."""

    session: Session
    lost: int = 0


def replaced(session: Session, item_id: str, source: Source, later_s: float) -> Replaced:
    """Let an item name a new export in which its sound comes ``later_s`` later.

    Everything stays where it is in the song. Marks are looked for again; decisions stay.
    """
    item = session.item(item_id)
    offset_s = round(item.offset_s - later_s, 6)
    if isinstance(item, Guide):
        return Replaced(with_item(session, item_id, source=source, offset_s=offset_s))
    marks, lost = _moved(item.marks, later_s, source.duration)
    settings = {kind.name: _settings_later(item.settings(kind.name), kind.times, later_s) for kind in KINDS}
    leak = item.leak and _leak_later(item.leak, later_s)
    values = {"source": source, "offset_s": offset_s, "marks": marks, "found": False, "leak": leak, **settings}
    session = with_item(session, item_id, **values)
    notes = tuple(replace(m, at=max(0.0, m.at + later_s)) if m.part == item_id else m for m in session.markers)
    versions = tuple(_version_later(version, item_id, later_s, source.duration) for version in session.versions)
    return Replaced(replace(session, markers=notes, versions=versions), lost)


def _moved(marks: tuple[Mark, ...], by_s: float, duration_s: float) -> tuple[tuple[Mark, ...], int]:
    """Marks later by ``by_s``, and how many decided ones came to lie outside of the take."""
    later = (mark.later(by_s) for mark in marks)
    inside = tuple(mark for mark in later if mark.start >= 0 and not flaw_of_mark(mark, duration_s))
    decided = sum(mark.hand.decided for mark in marks) - sum(mark.hand.decided for mark in inside)
    return inside, decided


def _settings_later(settings: Any, times: tuple[str, ...], by_s: float) -> Any:
    """Settings whose times are later by ``by_s``; a moment of 0 stands for none and stays."""
    changed = {}
    for name in times:
        value = getattr(settings, name)
        changed[name] = _spans_inside(value, by_s) if isinstance(value, tuple) else value and max(0.0, value + by_s)
    return replace(settings, **changed)


def _spans_inside(spans: tuple[tuple[float, float], ...], by_s: float) -> tuple[tuple[float, float], ...]:
    return tuple((max(0.0, start), end) for start, end in spans_later(spans, by_s) if end > 0)


def _leak_later(leak: Leak, by_s: float) -> Leak:
    feeds = tuple(Feed(feed.item, feed.offset_s + by_s) for feed in leak.feeds)
    return replace(leak, feeds=feeds, moments=_spans_inside(leak.moments, by_s))


def _version_later(version: Version, part_id: str, by_s: float, duration_s: float) -> Version:
    def changed(part: PartDecisions) -> PartDecisions:
        if part.id != part_id:
            return part
        settings = {kind.name: _settings_later(getattr(part, kind.name), kind.times, by_s) for kind in KINDS}
        return replace(part, marks=_moved(part.marks, by_s, duration_s)[0], **settings)

    return replace(version, parts=tuple(changed(part) for part in version.parts))
