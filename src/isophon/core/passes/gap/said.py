"""Where singing is, as settings and a person say: pauses drawn anew by that."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import msgspec
from msgspec.structs import replace

from isophon.core.passes.gap.find import find
from isophon.core.passes.gap.mark import Spans, without
from isophon.core.passes.gap.settings import GapSettings, SaidSpans
from isophon.core.passes.kind import Found, Span
from isophon.core.passes.singing import OVER_FLOOR_DB, singing
from isophon.core.ranges import MOST_MARKS, Seconds
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_FoundSpans = Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=MOST_MARKS)]


class DrawnBy(msgspec.Struct, frozen=True):
    """What the pauses of a part were drawn by: the settings of that name, and the esses and breaths found, in s."""

    sensitivity_db: float = OVER_FLOOR_DB
    sung: SaidSpans = ()
    unsung: SaidSpans = ()
    esses: _FoundSpans = ()
    breaths: _FoundSpans = ()


def is_due(part: Part) -> bool:
    """Whether the pauses of a part were drawn by other settings than its own."""
    by, settings = part.measured.pauses, part.gap
    return (by.sensitivity_db, by.sung, by.unsung) != (settings.sensitivity_db, settings.sung, settings.unsung)


def draw(part: Part, survey: Survey) -> Found:
    """The pauses of a part as its settings say."""
    by, settings = _known(part), part.gap
    sounds = _sounds(singing(survey, by.esses, settings.sensitivity_db), settings)
    by = replace(by, sensitivity_db=settings.sensitivity_db, sung=settings.sung, unsung=settings.unsung)
    return Found(find(survey, sounds, by.breaths), {"pauses": by})


def _known(part: Part) -> DrawnBy:
    """What the pauses were drawn by; of older sessions, which do not tell, by the esses and breaths of the part."""
    by = part.measured.pauses
    if by.esses or by.breaths:
        return by
    esses, breaths = (tuple((m.start, m.end) for m in part.of_kind(kind) if not m.hand.drawn)
                      for kind in ("ess", "breath"))  # fmt: skip
    return replace(by, esses=esses, breaths=breaths)


def _sounds(found: list[tuple[float, float]], settings: GapSettings) -> list[tuple[float, float]]:
    """Stretches of singing with what a person said put right."""
    sung = (span for span in settings.sung if span[1] > span[0])
    return sorted([*sung, *(piece for span in found for piece in without(span, settings.unsung))])


def say(part: Part, span: Span, sung: bool) -> Part:
    """A part of which a person says that a span is singing, or is not; what was said of it before is forgotten."""
    said = (round(span.start, 3), round(span.end, 3))
    others = {name: _cut(getattr(part.gap, name), said) for name in ("sung", "unsung")}
    name = "sung" if sung else "unsung"
    others[name] = tuple(sorted((*others[name], said)))
    return replace(part, gap=replace(part.gap, **others))


def _cut(spans: Spans, said: tuple[float, float]) -> Spans:
    return tuple(piece for span in spans for piece in without(span, (said,)))
