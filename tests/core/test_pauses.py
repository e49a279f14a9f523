"""A pause is one: one hole or one room, its breaths with it or beside it, shaped by settings and by hand."""

import json
from itertools import pairwise

import numpy as np
import pytest
import soundfile as sf
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import Written, reader, write
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.errors import CallError
from isophon.core.finding import find_all, survey_recording
from isophon.core.marks import Hand
from isophon.core.passes import NAMES
from isophon.core.passes.fades import Fade, gains, joined
from isophon.core.passes.kind import Span
from isophon.core.render import Renderer
from isophon.core.session import edits
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.session.redrawing import is_due, say, with_redrawn
from isophon.core.session.settings import role_default
from voices import spoken

ROOM_DB = -62.0  # under the voice
BREATHS_S = ((0.45, 0.85), (0.55, 0.95), (0.05, 0.40))  # of each pause: in the head, before a word, after a word
STEP_S = 0.01


def voice_with_breaths(voice: str = "it+f1"):
    """Words, pauses of 0.9 to 1.4 s with a breath in each, a tail; over a steady room. Also the spans of the words."""
    phrase, rate, _ = spoken(voice)
    loud = np.flatnonzero(np.abs(phrase) > 0.02 * np.abs(phrase).max())
    phrase = phrase[loud[0] : loud[-1] + 1][: round(1.5 * rate)].astype(np.float64)
    phrase[-200:] *= np.linspace(1, 0, 200)
    level = np.sqrt(np.mean(phrase**2))
    rng, pieces, words, at = np.random.default_rng(11), [], [], 0
    for pause_s, (begins, ends) in zip((0.9, 1.1, 1.4), BREATHS_S, strict=True):
        pause = np.zeros(round(pause_s * rate))
        air = rng.standard_normal(round((ends - begins) * rate))
        air = np.convolve(air, [1, -0.6], "same") * np.sin(np.pi * np.arange(len(air)) / len(air))
        first = round(begins * rate)
        pause[first : first + len(air)] = air * level * 10 ** (-26 / 20) / np.sqrt(np.mean(air**2))
        words.append((at + len(pause), at + len(pause) + len(phrase)))
        at += len(pause) + len(phrase)
        pieces += [pause, phrase]
    take = np.concatenate([*pieces, np.zeros(rate)])
    take += rng.standard_normal(len(take)) * level * 10 ** (ROOM_DB / 20)
    return take.astype(np.float32), rate, words


@pytest.fixture(scope="module")
def take(tmp_path_factory):
    samples, rate, words = voice_with_breaths()
    return write(tmp_path_factory.mktemp("pauses") / "take.wav", samples, rate, "FLOAT"), samples, rate, words


def part_of(path, role: str = "harmony", **changed) -> Part:
    """A part with gaps and breaths alone, all other passes off."""
    with Recording(path) as recording:
        found = survey_recording(recording)
        told = find_all(recording, found)
        source = Source(str(path), recording.sample_rate, recording.channels, recording.frames)
    own = {kind: role_default(kind, role) for kind in NAMES}
    own |= {kind: replace(own[kind], on=False) for kind in ("rumble", "hum", "hiss")}
    own |= {kind: replace(own[kind], **values) for kind, values in changed.items()}
    marks = tuple(m for m in told.marks if m.kind == "breath" or (m.kind == "gap" and m.end - m.start > 0.5))
    return Part("p", "p", source, role, marks=marks, found=True, voice_lufs=found.voice_lufs, measured=told.measured,
                **own)  # fmt: skip


def with_found(part: Part, found) -> Part:
    return replace(part, marks=found.marks, measured=found.measured)


def rendered(part: Part, samples: np.ndarray) -> np.ndarray:
    return Renderer(reader(samples), part.source.sample_rate, len(samples)).cleaned(part.plan, 0, len(samples))[0]


def levels(samples: np.ndarray, rate: int) -> np.ndarray:
    step = round(STEP_S * rate)
    rows = samples[: len(samples) // step * step].astype(np.float64).reshape(-1, step)
    return 10 * np.log10(np.mean(rows**2, axis=1) + 1e-15)


def pauses(words, count: int, rate: int, after_s: float = 0.15, before_s: float = 0.08):
    """The frames of each pause as slices of 10 ms steps, what is kept beside words aside; head and tail too."""
    edges = [-after_s * rate, *(t for word in words for t in word), count + before_s * rate]
    steps = round(STEP_S * rate)
    return [slice(max(0, int((a + after_s * rate) / steps) + 1), int((b - before_s * rate) / steps))
            for a, b in zip(edges[::2], edges[1::2], strict=True)]  # fmt: skip


def test_a_stacks_pause_is_one_hole_from_head_to_tail(take):
    path, samples, rate, words = take
    part = part_of(path)
    assert len(part.of_kind("breath")) == 3 and len(part.of_kind("gap")) == 4
    clean = rendered(part, samples)
    heard = levels(clean, rate)
    for where in pauses(words, len(samples), rate):
        assert heard[where].max() < -140, where
    for first, last in words:
        inside = slice(first + rate // 20, last - rate // 20)
        assert np.array_equal(clean[inside], samples[inside])


@pytest.mark.parametrize("how", ["room tone", "turn down"])
def test_a_breath_that_goes_leaves_an_unbroken_room(take, how):
    """Hardly a step of 10 ms within a pause is more than 4 dB from its mean: breath and dead air are one room."""
    path, samples, rate, words = take
    part = part_of(path, gap={"how": how, "down_db": -12.0, "floor_db": 0.0}, breath={"fill": False})
    heard = levels(rendered(part, samples), rate)
    room = np.median(levels(samples, rate)[pauses(words, len(samples), rate)[-1]])
    for where in pauses(words, len(samples), rate):
        off = np.abs(heard[where] - heard[where].mean())
        assert off.max() < 9 and np.mean(off > 4) < 0.03
        assert heard[where].mean() == pytest.approx(room + (-12 if how == "turn down" else 0), abs=1.5)


def test_a_breath_that_stays_keeps_its_place_in_a_silent_pause(take):
    path, samples, rate, _ = take
    part = part_of(path, breath={"limit_db": 0.0})
    clean = rendered(part, samples)
    for breath in part.of_kind("breath"):
        a, b = (round(t * rate) for t in breath.span)
        assert np.array_equal(clean[a + 1 : b - 1], samples[a + 1 : b - 1])
    assert levels(clean, rate)[: round((part.of_kind("breath")[0].start - 0.05) / STEP_S)].max() < -140
    drawn = part.of_kind("gap")[1]
    part = replace(part, marks=(replace(drawn, hand=Hand(drawn=True)), *part.of_kind("breath")))
    first, last = (round(t * rate) for t in (drawn.start + 0.15, drawn.end - 0.1))
    assert not rendered(part, samples)[first:last].any(), "what a hand draws covers all that is in it"


def test_a_hole_that_a_breath_leaves_takes_the_quiet_room_beside_it_along(take):
    """A lead whose room is too quiet to act on: a breath that is cut out without a fill leaves no islands."""
    path, samples, rate, words = take
    part = part_of(path, "lead", breath={"limit_db": -36.0, "ceiling_db": -60.0, "fill": False},
                   gap={"how": "turn down", "floor_db": 60.0})  # fmt: skip
    heard = levels(rendered(part, samples), rate)
    *with_breath, tail = pauses(words, len(samples), rate)
    assert all(heard[where].max() < -140 for where in with_breath) and heard[tail].min() > -120


def test_rows_stay_apart_and_gaps_name_the_breaths_that_go_in_them(take, capsys):
    path = str(take[0])
    told = {}
    for role in ("harmony", "lead"):
        assert main(["find", path, "--json", "--only", "gap,breath", "--role", role]) == 0
        told[role] = json.loads(capsys.readouterr().out)["marks"]
    breaths = [m["start_s"] for m in told["harmony"] if m["kind"] == "breath"]
    gaps = [m for m in told["harmony"] if m["kind"] == "gap" and m["change_db"]]
    assert len(gaps) == 4 and [b for gap in gaps for b in gap["breaths"]] == breaths and len(breaths) == 3
    assert all(gap["start_s"] - 0.01 <= at < gap["end_s"] for gap in gaps for at in gap["breaths"])
    beside = [m for m in told["lead"] if m["kind"] == "gap"]
    assert not any(gap["breaths"] for gap in beside)
    assert all(gap["end_s"] <= at or gap["start_s"] > at for gap in beside for at in breaths)


def test_without_breaths_in_the_plan_a_gap_still_keeps_them(take, tmp_path):
    """``clean --only gap``: the breaths are not worked on, and so they stay."""
    path, samples, rate, _ = take
    call = ["clean", str(path), "--out", str(tmp_path), "--role", "harmony", "--depth", "32f", "--only", "gap"]
    assert main(call) == 0
    clean, _ = sf.read(tmp_path / "take.clean.wav", dtype="float32")
    for breath in part_of(path).of_kind("breath"):
        a, b = (round(t * rate) for t in breath.span)
        assert np.array_equal(clean[a + 1 : b - 1], samples[a + 1 : b - 1])


def test_breaths_are_settled_by_their_place(take):
    """In the head and before a word: heads of phrases; right after a word: the end of one."""
    part = part_of(take[0], "lead", breath={"heads_db": -3.0, "ends_db": -36.0})
    assert [m.place for m in part.of_kind("breath")] == ["head", "head", "end"]
    assert [part.change(m) for m in part.of_kind("breath")] == [-9.0, -9.0, -36.0]


def test_a_hand_sets_the_fades_and_the_curve_of_one_gap(take):
    path, samples, rate, _ = take
    part = part_of(path, breath={"limit_db": 0.0})
    gap = part.of_kind("gap")[-1]  # the tail, without a breath
    begins = round((gap.start + part.gap.after_ms / 1000) * rate)
    shaped = replace(gap, hand=Hand(fades_ms=(300.0, 5.0)))
    heard = levels(rendered(replace(part, marks=(shaped,)), samples), rate)
    step = round(STEP_S * rate)
    half, whole = begins + round(0.15 * rate), begins + round(0.31 * rate)
    sung = levels(samples, rate)
    assert heard[half // step] - sung[half // step] == pytest.approx(-6, abs=1.5) and heard[whole // step + 1] < -140
    curved = replace(gap, hand=Hand(change_db=-12.0, shape=((0.0, 0.0), (0.5, 0.0), (1.0, -12.0))))
    heard = levels(rendered(replace(part, marks=(curved,)), samples), rate)
    down = (heard - sung)[begins // step + 10 : -2]
    assert down[: len(down) // 4] == pytest.approx(-12, abs=0.5) and down[-3:] == pytest.approx(-23, abs=1)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 900), st.integers(20, 400), st.sampled_from([0.0, 0.25, 0.5]), st.booleans()),
                min_size=1, max_size=5))  # fmt: skip
def test_joined_fades_never_overlap_and_go_as_deep_as_the_deepest(cuts):
    fades = [Fade(a, a + n, (10, 6), gain, (-60.0,) * 30, 48_000, leads=leads) for a, n, gain, leads in cuts]
    whole = joined(fades)
    assert all(one.last <= other.first for one, other in pairwise(whole))
    together = np.ones(1_400)
    for fade in whole:
        together[fade.first : fade.last] = gains(fade, fade.first, fade.last)
    wanted = np.ones(1_400)
    for fade in fades:
        wanted[fade.first : fade.last] = np.minimum(wanted[fade.first : fade.last], gains(fade, fade.first, fade.last))
    assert (together <= wanted + 1e-6).all(), "no edge stays inside a hole"
    untouched = np.ones(1_400, bool)
    for fade in fades:
        untouched[max(0, fade.first - 8) : fade.last + 8] = False
    assert (together[untouched] == 1).all()


def test_sensitivity_and_a_persons_word_say_where_singing_is(take):
    """A soft tail counts as singing or as a gap; what a person says is so whatever the setting, and undone by it."""
    path, samples, rate, words = take
    (_, ends), (begins, _) = words[0], words[1]
    tail = np.zeros(len(samples), np.float32)
    count = round(0.25 * rate)
    tone = np.sin(2 * np.pi * 220 * np.arange(count) / rate) * np.linspace(1, 0.7, count)
    tail[ends : ends + count] = tone * np.sqrt(np.mean(samples[words[0][0] : ends] ** 2)) * 10 ** (-49 / 20)
    soft = samples + tail
    survey = survey_recording(written := Written(soft, rate))
    part = with_found(part_of(path), find_all(written, survey))
    session = Session("", (part,))

    def gap_after_first(session) -> tuple[float, float]:
        one = with_redrawn(session, session.part("p"), survey)
        return next((m.start, m.end) for m in one.of_kind("gap") if m.end > begins / rate - 0.3)

    start = gap_after_first(session)[0]
    assert ends / rate + 0.15 < start < ends / rate + 0.35, "at 5 dB the tail is singing"
    hard = edits.set_setting(session, ["p"], "gap", "sensitivity_db", 25.0)
    assert is_due(hard.part("p")) and not is_due(session.part("p"))
    assert gap_after_first(hard)[0] < start - 0.08, "at 25 dB it is not"
    sung = say(hard, "p", "gap", Span(ends / rate - 0.1, ends / rate + 0.4), True)
    assert gap_after_first(sung)[0] == pytest.approx(ends / rate + 0.4, abs=0.005)
    talk = say(sung, "p", "gap", Span(words[1][0] / rate, words[1][1] / rate), False)
    one = with_redrawn(talk, talk.part("p"), survey)
    assert any(m.start < words[1][0] / rate + 0.01 and m.end > words[1][1] / rate - 0.01 for m in one.of_kind("gap"))
    moved = edits.set_box(hard, "p", part.of_kind("gap")[1].id, start + 0.05, begins / rate - 0.2, 20.0, None)
    again = with_redrawn(moved, moved.part("p"), survey)
    assert again.mark(part.of_kind("gap")[1].id).span == pytest.approx((start + 0.05, begins / rate - 0.2), abs=1e-3)
    with pytest.raises(CallError):
        say(session, "p", "gap", Span(2.0, 2.001), True)


def test_the_terminal_knows_the_sensitivity(take, capsys):
    told = []
    for db in (5.0, 28.0):
        call = ["find", str(take[0]), "--json", "--only", "gap", "--set", f"gap.sensitivity_db={db}"]
        assert main(call) == 0
        told.append(sum(m["end_s"] - m["start_s"] for m in json.loads(capsys.readouterr().out)["marks"]))
    assert told[1] > told[0]
    assert main(["find", str(take[0]), "--set", "gap.sensitivity_db=99"]) == 2


def test_riskiest_is_what_goes_beside_words(take):
    """A tail that a gap cuts off is the riskiest gap; a breath in the middle of a pause is not risky."""
    path, samples, rate, _ = take
    part = part_of(path)
    survey = survey_recording(Written(samples, rate))
    usual = part.risks("gap", survey)
    first = part.of_kind("gap")[1]
    into = replace(first, hand=Hand(start=first.start - 0.15))
    marks = tuple(into if m.id == first.id else m for m in part.marks)
    risks = replace(part, marks=marks).risks("gap", survey)
    assert max(risks, key=risks.get) == first.id and risks[first.id] > 20 > 8 > usual[first.id]
    left = replace(part, marks=tuple(replace(m, hand=Hand(leave=True)) for m in part.marks))
    assert not left.risks("gap", survey) and not left.risks("breath", survey)
