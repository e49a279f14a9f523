"""What is decided and what is facts, kept apart; and what one value of a part takes over from the one before it."""

import msgspec
import numpy as np
import pytest
from msgspec.structs import replace
from test_session import mark, session

from isophon.app.model import state
from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak
from isophon.core.finding import find_all, survey_recording
from isophon.core.marks import Hand
from isophon.core.passes import KINDS
from isophon.core.session import adopting, edits, file, layout
from isophon.core.session.facts import with_findings, with_heard, with_leak
from isophon.core.session.history import History
from isophon.core.session.journal import Journal, replay
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import value_range


def found(value, *marks, lufs=-20.0):
    return adopting.Findings(value.parts[0].source, marks, lufs, -70.0)


def learn(history, findings):
    history.add_facts(lambda value, facts: with_findings(value, facts, [("part-1", findings)]))


def test_decisions_meet_what_is_found_anew_in_every_step(tmp_path):
    history = History(session(tmp_path))
    history.do("leave", edits.leave(history.session, "part-1", ["ess-500"], True))
    history.do("change", edits.set_changes(history.session, "part-1", {"ess-1000": -9.0}))
    history.do("draw", edits.draw_mark(history.session, "part-1", mark(8.0, id="x"))[0])
    learn(history, found(history.session, mark(0.53, 2.0, id="new"), mark(3.0, id="ess-3000"), lufs=-18.0))
    ids = [[m.id for m in part.marks] for part in history.session.parts]
    assert ids == [["ess-500", "ess-1000", "ess-3000", "ess-8000"]], "a name stays; what a hand touched stays"
    lead = history.session.part("part-1")
    assert lead.mark("ess-500").hand.leave and lead.mark("ess-500").start == 0.53 and lead.voice_lufs == -18.0
    assert len(history.steps) == 4 and history.undo_name == "draw"
    assert [m.id for m in history.undo().parts[0].marks] == ["ess-500", "ess-1000", "ess-3000"]
    assert [m.id for m in history.undo().parts[0].marks] == ["ess-500", "ess-3000"]
    first = history.undo().parts[0]
    assert first.mark("ess-500").hand == Hand() and first.voice_lufs == -18.0 and first.found
    assert history.go(3).part("part-1") == lead


def test_what_is_drawn_where_something_was_found_stays_beside_it(tmp_path):
    history = History(session(tmp_path))
    drawn, name = edits.draw_mark(history.session, "part-1", mark(0.5, 3.0, 0.9))
    history.do("draw", drawn)
    history.undo()
    assert history.redo() == drawn and history.session.part("part-1").mark(name).end == 0.9
    assert len(history.session.part("part-1").of_kind("ess")) == 13


def test_no_step_holds_what_was_found_heard_or_muted(tmp_path):
    history = History(session(tmp_path))
    history.do("leave", edits.leave(history.session, "part-1", ["ess-500"], True))
    history.add_facts(lambda _, facts: replace(facts, muted=frozenset({"part-1"})))
    history.add_facts(lambda value, facts: with_heard(value, facts, ["part-1/ess-0"]))
    history.add_facts(lambda value, facts: with_leak(value, facts, "part-1", Leak("0123456789abcdef", ("c.wav",)), ()))
    history.do("offset", layout.set_offset(history.session, "part-1", 1.0))
    for _, decisions in history.steps:
        part = decisions.parts[0]
        assert not part.found and part.leak is None and not part.listening.muted and not decisions.heard
        assert all(m.hand.decided for m in part.marks)
    for _ in range(2):
        now = history.undo()
        assert now.parts[0].leak and now.parts[0].listening.muted and now.heard == ("part-1/ess-0",)
    path = tmp_path / "a.journal"
    Journal(path, history, None)
    assert b"ess-3000" not in path.read_bytes() and replay(path).history.session == history.session


def test_without_what_was_found_a_journal_still_has_every_decision(tmp_path):
    history = History(session(tmp_path))
    journal = Journal(tmp_path / "a.journal", history, None)
    history.do("leave", edits.leave(history.session, "part-1", ["ess-500"], True))
    journal.write(history)
    whole = (tmp_path / "a.found").read_bytes()
    for damaged in (b"", whole[:300], b"[]\n" + whole.replace(b'"end":', b'"end":-'), b'{"part":1}'):
        (tmp_path / "a.found").write_bytes(damaged)
        again = replay(tmp_path / "a.journal").history
        assert not again.session.parts[0].found and again.session.parts[0].mark("ess-500").hand.leave
        learn(again, found(again.session, mark(0.5, id="ess-500"), mark(1.0, id="ess-1000")))
        assert again.session.parts[0].mark("ess-500").hand.leave and again.session.parts[0].mark("ess-1000")


def test_what_was_found_after_saving_is_there_when_the_file_is_opened_again(tmp_path):
    path = tmp_path / "song.isophon"
    history = History(session(tmp_path))
    history.do("leave", edits.leave(history.session, "part-1", ["ess-500"], True))
    place = state.journal_path(path, "")
    place.parent.mkdir(parents=True)
    journal = Journal(place, history, path)
    file.save(history.session, path)
    journal.saved(history, path, place)
    learn(history, found(history.session, mark(0.5, id="ess-500"), mark(7.3, id="ess-7300"), lufs=-17.0))
    journal.write(history)
    again, newer = state.kept_history(file.load(path), path)
    assert again.session == history.session and not newer and len(again.steps) == 2
    beside = place.with_suffix(".found")
    beside.write_text(beside.read_text().replace('"version":5', '"version":4'))
    again, _ = state.kept_history(file.load(path), path)
    assert again.session.part("part-1").voice_lufs != -17.0, "what another version found does not count"


def test_what_was_muted_after_saving_asks_to_be_saved_and_what_was_before_does_not(tmp_path):
    path, place = tmp_path / "song.isophon", tmp_path / "a.journal"
    history = History(edits.hear(layout.mute(session(tmp_path), "part-1", True), ["part-1/ess-0"]))
    journal = Journal(place, history, path)
    assert not replay(place).unsaved and replay(place).history.session == history.session
    history.add_facts(lambda value, facts: with_heard(value, facts, ["part-1/ess-500"]))
    journal.write(history)
    assert not replay(place).unsaved and replay(place).history.session == history.session
    history.add_facts(lambda _, facts: replace(facts, muted=frozenset()))
    journal.write(history)
    for _ in range(2):
        told = replay(place)
        assert told.unsaved and told.history.session == history.session
        place.unlink()  # it is written anew
        journal.write(history)
    journal.saved(history, path, place)
    assert not replay(place).unsaved and not replay(place).history.session.parts[0].listening.muted


@pytest.fixture(scope="module")
def whole_part(demo_take):
    """The demo's lead with all that is found in it, and a mark of every kind."""
    with Recording(demo_take) as recording:
        survey = survey_recording(recording)
        all_found = find_all(recording, survey)
        source = layout.source_of(recording)
    drawn = [kind.mark(f"{kind.name}-x", 60.0 + i, 60.15 + i, -20.0, 4.0, 4_000, 9_000, 0.9, Hand(drawn=True))
             for i, kind in enumerate(KINDS) if kind.mark]  # fmt: skip
    drawn = [replace(m, hand=m.changed(-6.0)) for m in drawn]
    marks = tuple(sorted((*all_found.marks, *drawn), key=lambda m: (m.start, m.id)))
    told = replace(all_found.measured, lowest_hz=all_found.measured.lowest_hz or 180.0)
    return Part("p", "p", source, marks=marks, found=True, voice_lufs=survey.voice_lufs, floor_dbfs=survey.floor_dbfs,
                measured=told)  # fmt: skip


def settings_of(kind):
    """Values of each setting of a kind that are unlike its default."""
    for field in msgspec.inspect.type_info(kind.settings).fields:
        if isinstance(field.default, bool):
            yield field.name, not field.default
        elif isinstance(field.type, msgspec.inspect.LiteralType):
            yield from ((field.name, value) for value in field.type.values if value != field.default)
        elif isinstance(field.default, float) and field.name not in kind.one_take:
            low, high = value_range(kind.name, field.name)
            yield field.name, 0.7 * low + 0.3 * high


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.name)
def test_what_is_taken_over_is_what_would_be_worked_out(whole_part, kind):
    """After any setting of a kind and any decision on its marks; what a kind's treatments read of others is told."""
    value = Session("s", (edits.with_parts(Session("s", (whole_part,)), ["p"], lambda p: replace(p)).parts[0],))
    changes = [lambda s, n=name, v=v: edits.set_setting(s, ["p"], kind.name, n, v) for name, v in settings_of(kind)]
    mine = [m.id for m in whole_part.marks if m.kind == kind.name][:3]
    changes += [lambda s, i=i: edits.set_changes(s, "p", {i: -3.0}) for i in mine]
    changes += [lambda s, i=i: edits.set_box(s, "p", i, 5.0, 5.2, 1_000.0, 9_000.0) for i in mine[1:2]]
    changes += [lambda s: edits.leave(s, "p", mine[:1], True), lambda s: edits.agree(s, "p", mine),
                lambda s: edits.forget_hand(s, "p", [*mine, f"{kind.name}-x"]),
                lambda s: edits.set_done(s, ["p"], kind.name, True)]  # fmt: skip
    reading = (("rumble", "on", True), ("hiss", "on", True), ("hiss", "top_db", 3.0), ("hum", "on", True),
               ("gap", "how", "room tone"), ("breath", "fill", True))  # fmt: skip
    for name, setting, wanted in reading:  # so that what is read of others counts
        value = edits.set_setting(value, ["p"], name, setting, wanted)
    for change in changes:
        value.parts[0].prepare()
        value = change(value)
        after, anew = value.parts[0], replace(value.parts[0])
        assert after.changes == anew.changes and after.plan == anew.plan
        for other in KINDS:
            name = other.name
            assert after.of_kind(name) == anew.of_kind(name) and after.changed(name) == anew.changed(name)
            assert after.undecided(name) == anew.undecided(name) and after.over(name) == anew.over(name)
            assert np.array_equal(after.undecided_at(name), anew.undecided_at(name))
            assert after.plan_without((name,)) == anew.plan_without((name,))


def test_an_edit_works_out_only_what_it_touches(whole_part):
    value = Session("s", (replace(whole_part),))
    value.parts[0].prepare()
    kept = value.parts[0]._kinds
    after = edits.set_setting(value, ["p"], "ess", "ceiling_db", -12.0).parts[0]
    assert [name for name, one in after._kinds.items() if one is not kept[name]] == ["hiss", "ess"]
    assert after.changes is not value.parts[0].changes
