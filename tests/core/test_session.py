"""The session as a value: edits, history, file, and how findings meet decisions."""

import json
from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import LONG
from isophon.cli.options import settings_of
from isophon.core.errors import CallError, InputError
from isophon.core.marks import Hand, carry_decisions
from isophon.core.passes import NAMES, Measured, Settings
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.gap.said import DrawnBy
from isophon.core.passes.timing.mark import WordMark
from isophon.core.session import cards, edits, file
from isophon.core.session.history import History
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import role_default


def mark(start: float, standout: float = 0.0, end: float | None = None, **more) -> EssMark:
    more = {"id": f"ess-{round(start * 1000)}", **more}
    return EssMark(
        start=start, end=end or start + 0.15, level_db=-20.0, standout_db=standout,
        low_hz=4000, high_hz=9000, confidence=0.9, sound="s", **more,
    )  # fmt: skip


def session(folder) -> Session:
    marks = tuple(mark(i * 0.5, i - 6.0) for i in range(12))
    part = Part("part-1", "Lead", Source(str(folder / "lead.wav"), 48_000, 1, 480_000), marks=marks, found=True)
    return Session("Song", (part,))


names = st.sampled_from([f"ess-{i * 500}" for i in range(12)])
steps = st.one_of(
    st.tuples(st.just("ceiling_db"), st.floats(-24, 12)), st.tuples(st.just("limit_db"), st.floats(-24, 0)),
    st.tuples(st.just("change"), names, st.floats(-40, 3)), st.tuples(st.just("leave"), names, st.booleans()),
    st.tuples(st.just("box"), names, st.floats(0, 4), st.floats(0.01, 1), st.floats(500, 9000)),
    st.tuples(st.just("blend"), names, st.floats(0, 1)), st.tuples(st.just("forget"), names),
    st.tuples(st.just("draw"), st.floats(0, 5)),
)  # fmt: skip


def apply(value: Session, step: tuple) -> Session:
    what, *rest = step
    if what == "change":
        return edits.set_changes(value, "part-1", {rest[0]: rest[1]})
    if what == "leave":
        return edits.leave(value, "part-1", [rest[0]], rest[1])
    if what == "box":
        return edits.set_box(value, "part-1", rest[0], rest[1], rest[1] + rest[2], rest[3], None)
    if what == "blend":
        return edits.set_blend(value, "part-1", [rest[0]], rest[1])
    if what == "forget":
        return edits.forget_hand(value, "part-1", [rest[0]])
    if what == "draw":
        return edits.draw_mark(value, "part-1", mark(rest[0], 1.0, rest[0] + 0.1))[0]
    return edits.set_setting(value, ["part-1"], "ess", what, rest[0])


@settings(max_examples=60 * LONG)
@given(st.lists(steps, max_size=12))
def test_undo_to_the_start_redo_to_the_end_save_and_load(fresh, taken):
    folder = fresh()
    first = session(folder)
    history, values = History(first), [first]
    for step in taken:
        history.do(step[0], apply(history.session, step))
        if history.session != values[-1]:
            values.append(history.session)
    hash(history.session)
    file.save(history.session, folder / "song.isophon")
    assert file.load(folder / "song.isophon") == values[-1]
    while history.undo_name:
        history.undo()
    assert history.session == first
    while history.redo_name:
        history.redo()
    assert history.session == values[-1]


def test_a_drag_is_one_step(tmp_path):
    history = History(session(tmp_path))
    for i in range(20):
        history.do(
            "ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", -float(i)), gesture="drag 1"
        )
    history.do("ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", 3), gesture="drag 2")
    assert history.undo().parts[0].ess.ceiling_db == -19
    assert history.undo() == session(tmp_path) and history.undo_name is None


def test_the_file_is_readable_names_recordings_relatively_and_moves_with_them(tmp_path):
    (tmp_path / "a").mkdir()
    value = session(tmp_path / "a")
    file.save(value, tmp_path / "a" / "song.isophon")
    content = json.loads((tmp_path / "a" / "song.isophon").read_text())
    assert content["isophon_session"] == 5 and content["session"]["parts"][0]["source"]["path"] == "lead.wav"
    (tmp_path / "a").rename(tmp_path / "b")
    assert file.load(tmp_path / "b" / "song.isophon") == session(tmp_path / "b")


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda t: t[: len(t) // 2], "is damaged"), (lambda t: t.replace("isophon_session", "other"), "is not an Iso"),
        (lambda t: t.replace('"isophon_session": 5', '"isophon_session": 99'), "newer Isophon"),
        (lambda t: t.replace('"sample_rate": 48000', '"sample_rate": "fast"'), r"is damaged.*sample_rate"),
        (lambda t: "", "is damaged"), (lambda t: "[1]", "is not an Iso"),
    ],
)  # fmt: skip
def test_a_bad_session_file_says_what_and_where(tmp_path, change, words):
    path = tmp_path / "song.isophon"
    file.save(session(tmp_path), path)
    path.write_text(change(path.read_text()))
    with pytest.raises(InputError, match=f"song.isophon: .*{words}"):
        file.load(path)


def test_saving_onto_a_link_keeps_the_link_and_finds_the_recordings_again(tmp_path):
    (tmp_path / "songs").mkdir()
    (tmp_path / "desk").mkdir()
    real, link = tmp_path / "songs" / "song.isophon", tmp_path / "desk" / "song.isophon"
    file.save(session(tmp_path / "songs"), real)
    link.symlink_to(real)
    file.save(session(tmp_path / "songs"), link)
    assert link.is_symlink() and file.load(link) == file.load(real) == session(tmp_path / "songs")


def test_decisions_outlive_new_findings():
    by_hand, left = Hand(change_db=-4.0), Hand(leave=True)
    old = (
        mark(1.0, hand=by_hand), mark(2.0), mark(3.0, hand=left), mark(4.0, hand=Hand(drawn=True)), mark(5.0),
    )  # fmt: skip
    found = (mark(1.02, 3.0, id="x"), mark(3.05, 1.0, id="y"), mark(5.01, id="z"), mark(6.0, id="ess-5000"))
    met = carry_decisions(old, found)
    assert [m.id for m in met] == ["ess-1000", "ess-3000", "ess-4000", "ess-5000", "ess-6000"]
    assert met[0].hand == by_hand and met[0].standout_db == 3.0 and met[0].start == 1.02
    assert met[1].hand == left and met[2].hand.drawn
    assert len({m.id for m in met}) == 5


def test_wrong_settings_are_refused(tmp_path):
    value = session(tmp_path)
    for name, bad in (("ceiling_db", 99.0), ("limit_db", 1.0), ("no_such", 1.0), ("edge_ms", "soft")):
        with pytest.raises(CallError, match=rf"ess\.{name}"):
            edits.set_setting(value, ["part-1"], "ess", name, bad)


def test_a_part_with_very_many_esses_and_breaths_is_saved_and_read(tmp_path):
    """Four minutes of a fast voice have more than 500 of either: what the program finds must pass its own checks."""
    spans = tuple((0.001 * i, 0.001 * i + 0.0005) for i in range(5_000))
    one = session(tmp_path)
    part = replace(one.parts[0], measured=Measured(pauses=DrawnBy(esses=spans, breaths=spans)))
    one = replace(one, parts=(part,))
    file.save(one, tmp_path / "many.isophon")
    assert file.load(tmp_path / "many.isophon").parts[0].measured.pauses == part.measured.pauses


def test_what_was_accepted_goes_into_a_card_of_its_own_or_into_a_singers(tmp_path):
    """Only that: a card about some settings leaves all others, in a session and in a terminal."""
    value = edits.accept_settings(session(tmp_path), "part-1", "ess", {"ceiling_db": -5.5})
    part = edits.set_setting(value, ["part-1"], "breath", "limit_db", -9.0).parts[0]
    own, singers = tmp_path / "own.voicecard", tmp_path / "ada.voicecard"
    cards.save_some("My taste", part, part.accepted, own)
    other = edits.set_setting(session(tmp_path), ["part-1"], "ess", "limit_db", -7.0)
    applied = edits.apply_card(other, ["part-1"], cards.load_card(own)).parts[0]
    assert (applied.ess.ceiling_db, applied.ess.limit_db) == (-5.5, -7.0) and applied.breath == other.parts[0].breath
    cards.save_card("Ada", other.parts[0], singers)
    cards.save_some("Ada", part, part.accepted, singers)
    both = cards.load_card(singers)
    assert (both.settings["ess"].ceiling_db, both.settings["ess"].limit_db, both.only) == (-5.5, -7.0, ())
    assert settings_of(SimpleNamespace(card=own, set=[]), "harmony") == Settings(
        **{kind: role_default(kind, "harmony") for kind in NAMES}
        | {"ess": replace(role_default("ess", "harmony"), ceiling_db=-5.5)}
    )
    for wrong in ("ess.nothing", "nobody.at_all", "bleed.nudge_ms", "ess"):
        own.write_text(own.read_text().replace('"ess.ceiling_db"', f'"{wrong}"', 1))
        with pytest.raises(InputError, match="is no setting"):
            cards.load_card(own)
        own.write_text(own.read_text().replace(f'"{wrong}"', '"ess.ceiling_db"', 1))


def test_a_voice_card_keeps_the_settings(tmp_path):
    value = edits.set_setting(session(tmp_path), ["part-1"], "ess", "ceiling_db", -5.5)
    value = edits.set_setting(value, ["part-1"], "breath", "limit_db", -9.0)
    part = edits.set_setting(value, ["part-1"], "gap", "how", "silence").parts[0]
    cards.save_card("Low bright", part, tmp_path / "low.voicecard")
    settings_ = cards.load_card(tmp_path / "low.voicecard")
    assert edits.apply_card(session(tmp_path), ["part-1"], settings_).parts[0] == part
    with pytest.raises(InputError, match="not a voice card"):
        file.save(session(tmp_path), tmp_path / "song.isophon")
        cards.load_card(tmp_path / "song.isophon")


def test_words_of_older_files_are_read(tmp_path):
    """They held lateness and move, in ms, in the fields for dB."""
    anchors = ((1.0, 0.955), (1.4, 1.35))
    word = WordMark("timing-1000", 1.0, 1.4, -20.0, 0.0, 0.0, 0.0, 0.8, Hand(moved_ms=-30.0), 45.0, anchors, 0.955)
    value = session(tmp_path)
    part = replace(value.parts[0], marks=(word,))
    value = replace(value, parts=(part,))
    file.save(value, tmp_path / "song.isophon")
    values = json.loads((tmp_path / "song.isophon").read_text())
    (mark_,) = values["session"]["parts"][0]["marks"]
    mark_["standout_db"] = mark_.pop("late_ms")
    mark_["hand"]["change_db"] = mark_["hand"].pop("moved_ms")
    (tmp_path / "song.isophon").write_text(json.dumps(values))
    assert file.load(tmp_path / "song.isophon") == value
    assert value.parts[0].change(word) == -30.0
