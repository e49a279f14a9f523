"""The numbers of the rough chain: what is likely to happen to the stems later, to listen through."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta

Threshold = Annotated[float, Meta(ge=-60.0, le=0.0)]
Ratio = Annotated[float, Meta(ge=1.0, le=20.0)]
Attack = Annotated[float, Meta(ge=0.1, le=200.0)]
Release = Annotated[float, Meta(ge=5.0, le=2_000.0)]
Share = Annotated[float, Meta(ge=0.0, le=1.0)]


class Chain(msgspec.Struct, frozen=True):
    """A compressor, a second one after it, a shelf, drive and a room; each stage can be set to do nothing.

    ``threshold_db``: dBFS; ``ratio``: 1 does nothing; ``attack_ms``, ``release_ms``: time constants; those of the
    second compressor begin with ``second``. ``parallel``: the share of what is compressed in what comes out of both.
    ``shelf_db`` from ``shelf_hz`` up; ``drive_db``: gain before a soft curve; ``room``: 0 to 1.
    """

    threshold_db: Threshold = -18.0
    ratio: Ratio = 4.0
    attack_ms: Attack = 4.0
    release_ms: Release = 120.0
    second_threshold_db: Threshold = -24.0
    second_ratio: Ratio = 1.0
    second_attack_ms: Attack = 20.0
    second_release_ms: Release = 300.0
    parallel: Share = 1.0
    shelf_hz: Annotated[float, Meta(ge=1_000.0, le=16_000.0)] = 6_500.0
    shelf_db: Annotated[float, Meta(ge=-12.0, le=12.0)] = 4.0
    drive_db: Annotated[float, Meta(ge=0.0, le=24.0)] = 2.0
    room: Share = 0.1


NAMES = Chain.__struct_fields__
STARTS = {
    "close and dry": Chain(),
    "up front and bright": Chain(
        -24.0, 6.0, 2.0, 80.0, second_threshold_db=-20.0, second_ratio=2.5, shelf_db=8.0, drive_db=4.5, room=0.2
    ),
    "dense, half in parallel": Chain(-30.0, 8.0, 1.0, 60.0, parallel=0.5, shelf_db=5.0, drive_db=3.0, room=0.15),
    "far back in a room": Chain(-14.0, 3.0, 15.0, 200.0, shelf_db=2.0, drive_db=0.0, room=0.7),
}
