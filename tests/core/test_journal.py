"""The journal: every step again after closing, and nothing lost to a kill."""

import multiprocessing
import os
import random
import time

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_session import apply as edit
from test_session import mark, session, steps

from conftest import LONG
from isophon.core.errors import InputError
from isophon.core.marks import Hand
from isophon.core.session import adopting, edits, file
from isophon.core.session.history import History
from isophon.core.session.journal import Journal, apply, difference, replay

KILLS = int(os.environ.get("ISOPHON_KILLS", "25"))

json_values = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text("ab0", max_size=3),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text("ab0", max_size=2), inner, max_size=4),
    max_leaves=12,
)  # no field of a session is named "=", which marks a value replaced whole


@given(json_values, json_values)
def test_a_difference_turns_one_value_into_the_other(one, other):
    assert apply(one, difference(one, other)) == other


moves = st.one_of(steps, st.just(("undo",)), st.just(("redo",)), st.just(("write",)))


@settings(max_examples=60 * LONG)
@given(st.lists(moves, max_size=25))
def test_the_whole_history_comes_back(fresh, taken):
    folder = fresh()
    history = History(session(folder))
    journal = Journal(folder / "a.journal", history, None)
    for step in taken:
        if step[0] == "undo":
            history.undo()
        elif step[0] == "redo":
            history.redo()
        elif step[0] == "write":
            journal.write(history)
        else:
            history.do(step[0], edit(history.session, step), gesture=step[0] if step[0] == "ceiling_db" else None)
    journal.write(history)
    again = replay(folder / "a.journal").history
    assert again.session == history.session
    assert [name for name, _ in again.steps] == [name for name, _ in history.steps]
    assert [value for _, value in again.steps] == [value for _, value in history.steps] and again.at == history.at


def test_a_half_written_last_line_does_not_count(tmp_path):
    history = History(session(tmp_path))
    journal = Journal(tmp_path / "a.journal", history, None)
    kept = []
    for ceiling in (-4.0, -5.0, -6.0):
        history.do("ceiling", edit(history.session, ("ceiling_db", ceiling)))
        journal.write(history)
        kept.append((journal.path.stat().st_size, ceiling))
    data = journal.path.read_bytes()
    for size in range(kept[0][0], len(data)):
        journal.path.write_bytes(data[:size])
        expected = max(c for s, c in ((s - 1, -c) for s, c in kept) if s <= size)
        assert replay(journal.path).history.session.parts[0].ess.ceiling_db == -expected
    journal.path.write_bytes(data[:40])
    with pytest.raises(InputError, match="damaged at its beginning"):
        replay(journal.path)


def test_a_journal_of_the_first_version_is_read_and_goes_on_as_one_of_this(tmp_path):
    first = session(tmp_path)
    found = adopting.Findings(first.parts[0].source, (mark(0.52, 3.0, id="x"), mark(2.0)), -19.0, -70.0)
    lines = [
        {"isophon_journal": 1, "saved_as": "", "first": msgspec.to_builtins(first)},
        {"step": "ceiling", "change": {"parts": {"0": {"ess": {"ceiling_db": {"=": -5.0}}}}}},
        {"step": "leave", "change": {"parts": {"0": {"marks": {"1": {"=": msgspec.to_builtins(
            mark(0.5, -5.0, hand=Hand(leave=True)))}}}}}},
        {"found": "part-1", "findings": msgspec.to_builtins(found)},
        {"muted": "part-1", "to": True},
        {"heard": ["part-1/ess-500"]},
        {"step": "again", "change": {"parts": {"0": {"ess": {"ceiling_db": {"=": -6.0}}}}}},
        {"go": 2},
    ]  # fmt: skip
    path = tmp_path / "a.journal"
    path.write_bytes(b"".join(msgspec.json.encode(line) + b"\n" for line in lines))
    told = replay(path)
    history = told.history
    assert told.lost == 0 and told.unsaved and history.at == 2
    assert [name for name, _ in history.steps] == ["open", "ceiling", "leave", "again"]
    part = history.session.part("part-1")
    assert [m.id for m in part.marks] == ["ess-500", "ess-2000"] and part.voice_lufs == -19.0
    assert part.mark("ess-500").hand.leave and part.listening.muted and history.session.heard == ("part-1/ess-500",)
    assert history.redo().part("part-1").ess.ceiling_db == -6.0 and not history.go(1).part("part-1").marks[0].hand.any
    Journal(path, history, None)
    assert replay(path).history.session == history.session


def _works_on(folder, tell):
    history = History(session(folder))
    journal = Journal(folder / "a.journal", history, None)
    tell.send("ready")
    for i in range(100_000):
        lower = -(1 + i % 2000) / 100
        history.do("ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", lower))
        journal.write(history)
        tell.send(i)
        if i % 7 == 0:
            file.save(history.session, folder / "song.isophon")


def _until_the_end(told):
    while True:
        try:
            yield told.recv()
        except EOFError:
            return


def test_kills(tmp_path):
    """Killed at random moments of editing and saving: the last step told is there, and both files can be read."""
    rng = random.Random(4)
    processes = multiprocessing.get_context("fork")
    for run in range(KILLS):
        folder = tmp_path / str(run)
        folder.mkdir()
        here, there = processes.Pipe(duplex=False)
        process = processes.Process(target=_works_on, args=(folder, there))
        process.start()
        there.close()
        assert here.recv() == "ready"
        time.sleep(rng.uniform(0.0, 0.12))
        process.kill()
        told = list(_until_the_end(here))
        process.join()
        history = replay(folder / "a.journal").history
        assert len(history.steps) - 1 >= len(told)
        if told:
            value = history.steps[len(told)][1]
            assert value.parts[0].ess.ceiling_db == -(1 + told[-1] % 2000) / 100
        if (folder / "song.isophon").exists():
            file.load(folder / "song.isophon")
