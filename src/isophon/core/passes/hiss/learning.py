"""The noise of a span that a person selects."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from isophon.core.errors import InputError
from isophon.core.passes.context import Recorded
from isophon.core.passes.hiss.settings import noise_of
from isophon.core.passes.kind import Span
from isophon.core.passes.noise_floor import still_density, without
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def learn(recording: Recorded, survey: Survey, part: Part, span: Span) -> tuple[float, ...]:
    """The noise of a span, see :func:`.settings.noise_of`; InputError where it is too short to learn from."""
    density = still_density(without(part.measured.hum, recording.read), survey, [span])
    if density is None:
        raise InputError(
            f"{recording.path.name}: {span.start:.2f} to {span.end:.2f} s is too short to learn the noise from; "
            "choose 0.2 s or more of a pause inside the take"
        )
    return noise_of(density, recording.sample_rate)


def adopt(part: Part, span: Span | None, noise: tuple[float, ...] | None) -> Any:
    """A part with the noise of a span; None for both: with that of its still moments."""
    start, end = span or Span(0.0, 0.0)
    settings = replace(part.hiss, learn_from=round(start, 3), learn_to=round(end, 3))
    return replace(part, hiss=settings, learned=noise or ())


def asked(part: Part) -> Span | None:
    """The span that the settings name; None where they name none."""
    span = Span(part.hiss.learn_from, part.hiss.learn_to)
    return span if span.end > span.start else None
