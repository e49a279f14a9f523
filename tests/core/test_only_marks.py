"""What a kind changes lies inside its marks and their fades, wherever they are and whatever was decided."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import LONG, reader
from isophon.core.marks import Hand, Mark
from isophon.core.passes import BY_NAME
from isophon.core.render import Renderer
from isophon.core.session.model import Part, Source

RATE, FRAMES = 44_100, 5 * 44_100
RNG = np.random.default_rng(11)
TAKE = (0.1 * RNG.standard_normal((2, FRAMES)) + 0.2 * np.sin(np.arange(FRAMES) * 0.02)).astype(np.float32)
KINDS = [name for name, kind in BY_NAME.items() if kind.marked and kind.placed and not kind.learned and not kind.against
         and name != "carry"]  # fmt: skip
LONGEST_S = 0.5  # that can be drawn of every kind


@st.composite
def marks(draw, kind):
    low, high = draw(st.sampled_from([(40.0, 300.0), (300.0, 2_000.0), (3_000.0, 9_000.0)]))
    shortest = BY_NAME[kind].drawn_s[0]
    found = []
    for i, start in enumerate(sorted(draw(st.lists(st.floats(0, 4.9), min_size=1, max_size=6, unique=True)))):
        end = min(FRAMES / RATE, start + draw(st.floats(shortest, min(BY_NAME[kind].drawn_s[1], LONGEST_S))))
        change = draw(st.sampled_from([-36.0, -12.0, -3.0]))
        found.append(Mark(f"m{i}", kind, start, end, -20.0, 5.0, low, high, 1.0, hand=Hand(change_db=change)))
    return tuple(found)


def fade_s(part, kind):
    """The longest fade that the settings of a kind allow, and half a sample."""
    set_ms = [value for name in part.settings(kind).__struct_fields__ if name.endswith(("edge_ms", "fade_ms"))
              for value in [getattr(part.settings(kind), name)]]  # fmt: skip
    return max(set_ms, default=0.0) / 1000 + 1 / RATE


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=10 * LONG, deadline=None)
@given(data=st.data())
def test_what_changes_lies_inside_marks_and_their_fades(kind, data):
    part = Part("p", "p", Source("p.wav", RATE, 2, FRAMES), voice_lufs=-20.0, floor_dbfs=-60.0, found=True)
    part = replace(part, rumble=replace(part.rumble, on=False), marks=data.draw(marks(kind)))
    out = Renderer(reader(TAKE), RATE, FRAMES).cleaned(part.plan, 0, FRAMES)
    changed = np.flatnonzero((out != TAKE).any(axis=0)) / RATE
    around = fade_s(part, kind)
    inside = np.any([(changed >= m.start - around) & (changed <= m.end + around) for m in part.marks], axis=0)
    assert inside.all(), (changed[~inside], [m.span for m in part.marks])
