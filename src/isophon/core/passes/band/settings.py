"""The settings of the Bands pass, and what they make of a mark.

A band's mark has its width as low and high frequency (where a bell of its Q has half its dB), the span in which it is
cut (the whole take for a band that is always there, a word for one that speaks only when the voice is loud), and its
``shape``.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated, Any

import msgspec

from isophon.core.audio.bell import BELL, SHAPES, Bell
from isophon.core.marks import Mark
from isophon.core.passes.band.mark import LOUD, BandMark

if TYPE_CHECKING:
    from isophon.core.session.model import Part

MOST_DB = 12.0  # dB: the loudest change by hand
DEEPEST_DB = -36.0  # and the deepest
USUAL_Q = 5.0  # of a band drawn without a width
NARROWEST_Q = 40.0  # the narrowest that is made
WIDEST_Q = 0.3  # the widest
# Hz up to which a band is called so (common practice)
_NAMES = ((200.0, "boom"), (350.0, "mud"), (500.0, "boxy"), (1_000.0, "hollow"), (1_800.0, "honk"),
          (3_300.0, "hard ring"), (5_000.0, "nasal edge"), (math.inf, "whistle"))  # fmt: skip


class BandSettings(msgspec.Struct, frozen=True):
    """What the Bands pass does where no hand decided.

    ``ceiling_db``: how far a band may stand out of the singer's own spectrum; ``limit_db``: the deepest cut; ``sure``:
    bands of a lower confidence are left. ``by_level``: whether bands found to speak only when the voice is loud act,
    while they stand over; their ``ratio``, and how fast they come and go.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=0.0, le=18.0)] = 2.0
    limit_db: Annotated[float, msgspec.Meta(ge=-24.0, le=0.0)] = -9.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    by_level: bool = True
    ratio: Annotated[float, msgspec.Meta(ge=1.0, le=100.0)] = 8.0
    attack_ms: Annotated[float, msgspec.Meta(ge=0.5, le=200.0)] = 5.0
    release_ms: Annotated[float, msgspec.Meta(ge=5.0, le=1_000.0)] = 160.0


def role_default(_role: str) -> BandSettings:
    """The settings that a part of any role starts with."""
    return BandSettings()


def change_of(mark: BandMark, settings: BandSettings, _context: object = None) -> float:
    """What is done to a band, in dB, from −36 to +12; never deeper than it stands out unless a hand says so."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        change = min(MOST_DB, max(DEEPEST_DB, hand.change_db))
    elif mark.confidence < settings.sure or (mark.is_by_level and not settings.by_level):
        change = 0.0
    else:
        change = max(settings.limit_db, -max(0.0, mark.standout_db - settings.ceiling_db))
    return change * (1.0 if hand.blend is None else hand.blend)


def edges_of(freq_hz: float, q: float) -> tuple[float, float]:
    """Low and high frequency of a band of this width."""
    half = math.sqrt(1 + 1 / (4 * q * q))
    return freq_hz * (half - 1 / (2 * q)), freq_hz * (half + 1 / (2 * q))


def centre_of(mark: Mark) -> tuple[float, float]:
    """Frequency and Q of a mark, by hand where set."""
    low, high = mark.low_hz, mark.high_hz
    if mark.hand.low_hz is not None and mark.hand.high_hz is not None:
        low, high = mark.hand.low_hz, mark.hand.high_hz
    low = max(low, 1.0)
    high = max(high, 1.001 * low)
    return math.sqrt(low * high), min(NARROWEST_Q, max(WIDEST_Q, math.sqrt(low * high) / (high - low)))


def bell_of(mark: BandMark, change_db: float) -> Bell:
    """What does a change to a mark."""
    freq_hz, q = centre_of(mark)
    return Bell(round(freq_hz, 2), round(q, 3), round(change_db, 2), mark.shape if mark.shape in SHAPES else BELL)


def name_of(freq_hz: float) -> str:
    """What the trade calls an excess at a frequency (common practice)."""
    return next(name for top, name in _NAMES if freq_hz < top)


def summary(part: Part) -> str:
    """The bands in a line for the terminal."""
    shown = [
        f"{r['freq_hz']:.0f} Hz {r['name']} {r['standout_db']:+.1f} dB, change {r['change_db']:.1f} dB"
        for r in steady_json(part)
    ]
    return f"bands: {' and '.join(shown)}" if shown else ""


def steady_json(part: Part) -> list[dict[str, Any]]:
    """The bands of a part, one row a frequency: those of single words are reported together."""
    groups: dict[tuple[float, float, str, str], list[BandMark]] = {}
    for mark in part.of(BandMark):
        freq_hz, q = centre_of(mark)
        groups.setdefault((round(freq_hz, 1), round(q, 1), mark.shape, mark.by), []).append(mark)
    rows = [_row(part, freq_hz, q, marks) for (freq_hz, q, _, _), marks in groups.items()]
    return sorted(rows, key=lambda row: row["freq_hz"])


def _row(part: Part, freq_hz: float, q: float, marks: list[BandMark]) -> dict[str, Any]:
    """One band; of one by level the words in which it acts, or all where it acts in none."""
    first, how = marks[0], part.band
    changed = [m for m in marks if part.change(m)] or marks
    row = {
        "kind": "band", "freq_hz": freq_hz, "q": q, "name": name_of(freq_hz), "by": first.by,
        "when": "loud" if first.shape == LOUD else "always",
        "standout_db": round(max(m.standout_db for m in changed), 1),
        "change_db": round(float(max((part.change(m) for m in changed), key=abs)), 1),
        "confidence": max(m.confidence for m in changed),
        "shape": first.shape if first.shape in SHAPES else BELL,
        "words": [[m.span[0], m.span[1]] for m in changed] if first.shape == LOUD else [],
    }  # fmt: skip
    if first.is_by_level:
        row |= {"over_db": first.usual_db, "ratio": how.ratio, "attack_ms": how.attack_ms,
                "release_ms": how.release_ms}  # fmt: skip
    return row
