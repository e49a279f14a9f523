"""What a kind changes lies inside its marks and their fades; and what is heard is what is written, to the last bit."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import LONG, reader
from isophon.core.heads import HEAD_BLOCK
from isophon.core.marks import Hand
from isophon.core.passes import BY_NAME
from isophon.core.passes.tick.treat import RINGS_S
from isophon.core.passes.timing.stretch import Moved
from isophon.core.render import Renderer
from isophon.core.session.items import Source
from isophon.core.session.model import Part

RATE, FRAMES = 44_100, 5 * 44_100
RNG = np.random.default_rng(11)
TAKE = (0.1 * RNG.standard_normal((2, FRAMES)) + 0.2 * np.sin(np.arange(FRAMES) * 0.02)).astype(np.float32)
KINDS = [name for name, kind in BY_NAME.items() if kind.mark and kind.reporter.in_time and kind.found_in_take
         and name != "carry"]  # fmt: skip
LONGEST_S = 0.5  # that can be drawn of every kind


@st.composite
def marks(draw, kind):
    low, high = draw(st.sampled_from([(40.0, 300.0), (300.0, 2_000.0), (3_000.0, 9_000.0)]))
    shortest = BY_NAME[kind].decision.drawn_s[0]
    found = []
    for i, start in enumerate(sorted(draw(st.lists(st.floats(0, 4.9), min_size=1, max_size=6, unique=True)))):
        end = min(FRAMES / RATE, start + draw(st.floats(shortest, min(BY_NAME[kind].decision.drawn_s[1], LONGEST_S))))
        change = draw(st.sampled_from([-36.0, -12.0, -3.0]))
        found.append(BY_NAME[kind].mark(f"m{i}", start, end, -20.0, 5.0, low, high, 1.0, hand=Hand(change_db=change)))
    return tuple(found)


def fade_s(part, kind):
    """The longest fade that the settings of a kind allow, or as long as a tick rings on, and half a sample."""
    set_ms = [value for name in part.settings(kind).__struct_fields__ if name.endswith(("edge_ms", "fade_ms"))
              for value in [getattr(part.settings(kind), name)]]  # fmt: skip
    return max([ms / 1000 for ms in set_ms], default=RINGS_S if kind == "tick" else 0.0) + 1 / RATE


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=6 * LONG, deadline=None)
@given(data=st.data())
def test_what_changes_lies_inside_marks_and_their_fades(kind, data):
    part = Part("p", "p", Source("p.wav", RATE, 2, FRAMES), voice_lufs=-20.0, floor_dbfs=-60.0, found=True)
    part = replace(part, rumble=replace(part.rumble, on=False), marks=data.draw(marks(kind)))
    out = Renderer(reader(TAKE), RATE, FRAMES).cleaned(part.plan, 0, FRAMES)
    changed = np.flatnonzero((out != TAKE).any(axis=0)) / RATE
    around = fade_s(part, kind)
    inside = np.any([(changed >= m.start - around) & (changed <= m.end + around) for m in part.marks], axis=0)
    assert inside.all(), (changed[~inside], [m.span for m in part.marks])


def everything():
    """A part of 14 s in which nearly every stage has something to do, and its take."""
    frames = 14 * RATE
    take = np.tile(TAKE[:1], 3)[:, :frames]
    hands = {"spot": Hand(change_db=-9.0, outline=((2.0, 900.0), (2.6, 900.0), (2.3, 4_000.0)))}
    rows = (("pop", 1.0, 1.2, 40.0), ("pop", 11.8, 11.95, 40.0), ("tick", 3.0, 3.002, 2_000.0), ("gap", 4.0, 4.6, 40.0),
            ("breath", 5.0, 5.4, 300.0), ("ess", 6.0, 6.1, 4_000.0), ("ess", 11.85, 12.0, 4_000.0),
            ("band", 7.0, 9.0, 2_000.0), ("band", 0.0, 14.0, 300.0), ("spot", 2.0, 2.6, 900.0),
            ("spot", 8.0, 8.4, 1_000.0))  # fmt: skip
    marks = [BY_NAME[kind].mark(f"m{i}", start, end, -20.0, 5.0, low, 2 * low, 1.0, hand=Hand(change_db=-9.0))
             for i, (kind, start, end, low) in enumerate(rows)]  # fmt: skip
    marks[-2] = replace(marks[-2], hand=hands["spot"])
    part = Part("p", "p", Source("p.wav", RATE, 1, frames), voice_lufs=-20.0, floor_dbfs=-60.0, found=True)
    part = replace(part, marks=tuple(marks), ess=replace(part.ess, air_db=4.0),
                   rumble=replace(part.rumble, on=True, cut_hz=90.0))  # fmt: skip
    moved = (Moved(300_000, 331_000, 300_000, 30_000), Moved(331_000, 360_000, 330_000, 30_000))
    return take, (*part.plan, *moved)


def test_what_is_heard_is_what_is_written_to_the_last_bit():
    take, plan = everything()
    assert {"LowCut", "Repair", "PopCut", "BandFilter", "Fade", "EssCut", "AirLift", "SpotCut", "SpotShape",
            "Moved"} <= {type(t).__name__ for t in plan}  # fmt: skip
    renderer = Renderer(reader(take), RATE, take.shape[1])
    written = np.concatenate([clean for _, clean in renderer.blocks(plan, iter(np.array_split(take, 5, 1)))], axis=1)
    kept = {name: renderer.head_block(plan, i) for i, name in renderer.head_names(plan).items()}
    assert len(kept) == 2 and take.shape[1] > HEAD_BLOCK
    for span in (1_024, 777, 40_000):
        heard = Renderer(reader(take), RATE, take.shape[1], head=kept.get)
        pieces = [heard.cleaned(plan, at, min(span, take.shape[1] - at)) for at in range(0, take.shape[1], span)]
        assert np.array_equal(np.concatenate(pieces, axis=1), written), span
        assert heard.heads_made == 0
    assert np.abs(written - take).max() > 0.01
