"""The ranges of values that come from a file: everything is checked once, on loading.

None of these is a musical limit; each lies far outside of what a recording can hold,
so that no value from a file can become an endless loop, an absurd allocation or a path.
"""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

LONGEST_S = 86_400.0  # a day; no take is longer
LONGEST_START_S = 36_000.0  # s: ten hours
RATES_HZ = (8_000, 192_000)  # Hz: the lowest and the highest rate
MOST_MARKS = 50_000  # of a part
MOST_PARTS = 500  # of a session
MOST_MARKERS = 2_000  # and notes of a session
MOST_HEARD = 1_000_000  # marks of a session that were played

MOST_POINTS = 200  # of an outline or a curve

Letter = Literal["A", "B", "C", "D"]
LETTERS: tuple[Letter, ...] = ("A", "B", "C", "D")  # of versions

Seconds = Annotated[float, Meta(ge=-LONGEST_S, le=2 * LONGEST_S)]
Start = Annotated[float, Meta(ge=-LONGEST_START_S, le=LONGEST_START_S)]
Level = Annotated[float, Meta(ge=-1_000.0, le=1_000.0)]  # dB of any reference
Hertz = Annotated[float, Meta(ge=0.0, le=200_000.0)]
Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Change = Annotated[float, Meta(ge=-60.0, le=12.0)]  # in dB
Moved = Annotated[float, Meta(ge=-400.0, le=400.0)]  # in ms; also of changes in dB, where older files hold moves
Fading = Annotated[float, Meta(ge=0.0, le=2_000.0)]  # in ms
Late = Annotated[float, Meta(ge=-1_000.0, le=1_000.0)]  # in ms
Rate = Annotated[int, Meta(ge=RATES_HZ[0], le=RATES_HZ[1])]
Sides = Annotated[int, Meta(ge=1, le=2)]
Frames = Annotated[int, Meta(ge=1, le=int(LONGEST_S) * RATES_HZ[1])]
LATEST = 7 * 86_400 * RATES_HZ[1]  # frames since midnight; what is later is no time of day
Place = Annotated[int, Meta(ge=0, le=LATEST)]
Name = Annotated[str, Meta(max_length=300)]
PlayedMark = Annotated[str, Meta(max_length=601)]
File = Annotated[str, Meta(max_length=8_192)]
Key = Annotated[str, Meta(pattern="^([0-9a-f]{16})?$", max_length=16)]  # a name that this program makes, or none
