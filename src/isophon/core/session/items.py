"""What a session is made of beside its parts: recordings, references, markers, and how loud each is listened to."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from isophon.core.ranges import (
    File,
    Frames,
    Name,
    Place,
    Rate,
    Seconds,
    Sides,
    Start,
)

GUIDES = ("cue", "bed")


GuideKind = Literal["cue", "bed"]


class Source(msgspec.Struct, frozen=True):
    """The recording a part or reference names: where it is and what it was when it was first opened.

    ``time_reference``: its first frame on the recorder's clock, in frames since
    midnight (EBU Tech 3285), None where the file tells none.
    """

    path: File
    sample_rate: Rate
    channels: Sides
    frames: Frames
    time_reference: Place | None = None

    @property
    def duration(self) -> float:
        """Length in seconds."""
        return self.frames / self.sample_rate


class Listening(msgspec.Struct, frozen=True):
    """How something is heard in the mix; never handed over. ``pan``: −1 left to 1 right."""

    gain_db: Annotated[float, msgspec.Meta(ge=-40.0, le=12.0)] = 0.0
    pan: Annotated[float, msgspec.Meta(ge=-1.0, le=1.0)] = 0.0
    muted: bool = False


class Guide(msgspec.Struct, frozen=True):
    """A recording that helps but is never cleaned or handed over."""

    id: Name
    name: Name
    source: Source
    kind: GuideKind
    offset_s: Start = 0.0
    listening: Listening = Listening()

    @property
    def ends_s(self) -> float:
        """Its last second, from its own start."""
        return self.source.duration


class Marker(msgspec.Struct, frozen=True, omit_defaults=True):
    """A named place in the song, in seconds of the song; or a note at a ``mark`` of a ``part``, in seconds of the part.

    See :mod:`isophon.core.session.notes`.
    """

    id: Name
    at: Seconds
    name: Name
    part: Name = ""
    mark: Name = ""
