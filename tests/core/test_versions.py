"""Versions: what is decided under a letter is what comes back, in the session file, the history and the journal."""

import pytest
from msgspec.structs import replace

from isophon.core.errors import CallError, InputError
from isophon.core.marks import Hand
from isophon.core.passes.ess.mark import EssMark
from isophon.core.session import edits, file, versions
from isophon.core.session.history import History
from isophon.core.session.journal import Journal, replay


def searched(demo):
    """The demo session with an ess in every part, over its ceiling; none meets another."""
    session = file.load(demo)
    ess = EssMark("ess-1", 5.0, 5.1, -20.0, 8.0, 4_000.0, 9_000.0, 1.0, sound="s")
    esses = [replace(ess, start=5.0 + i, end=5.1 + i) for i in range(len(session.parts))]
    parts = (replace(part, marks=(one,), found=True) for part, one in zip(session.parts, esses, strict=True))
    return replace(session, parts=tuple(parts))


def ceiling(session, value):
    return edits.set_setting(session, ["part-1", "part-2"], "ess", "ceiling_db", value)


def changed(session, change):
    part = session.part("part-1")
    ess = next(m for m in part.of_kind("ess") if part.acts(m))
    return edits.set_changes(session, "part-1", {ess.id: change})


def test_letters_hold_what_was_decided_and_differences_are_told(demo, tmp_path):
    session = searched(demo)
    history = History(session)
    journal = Journal(tmp_path / "song.journal", history, None)

    def do(name, change):
        history.do(name, change(history.session))
        journal.write(history)

    do("A", lambda s: versions.gone_to(s, "A"))
    do("lower", lambda s: changed(ceiling(s, -6.0), -9.0))
    a = history.session
    do("B", lambda s: versions.gone_to(s, "B"))
    assert replace(history.session, versions=a.versions, version="A") == a, "a new letter begins as what stands"
    do("higher", lambda s: changed(ceiling(s, 1.0), -3.0))
    b = history.session
    kept = {part.name: (part, its) for part, its in versions.parts_of(b, "A")}
    assert [versions.marks_that_differ(*kept[name]) for name in ("Lead", "Lead double")] == [1, 0]
    assert (kept["Lead"][1].ess.ceiling_db, kept["Lead"][0].ess.ceiling_db) == (-6.0, 1.0)
    do("A", lambda s: versions.gone_to(s, "A"))
    assert history.session.parts == a.parts and history.session.version == "A"
    assert history.session.part("part-1").plan == a.part("part-1").plan
    do("B", lambda s: versions.gone_to(s, "B"))
    assert history.session.parts == b.parts, "what was changed under a letter belongs to it"
    do("part", lambda s: versions.taken_from(s, "A", ["part-2"]))
    mixed = history.session
    assert (mixed.part("part-1"), mixed.part("part-2")) == (b.part("part-1"), a.part("part-2")) and mixed.version == "B"
    path = tmp_path / "song.isophon"
    file.save(mixed, path)
    assert file.load(path) == mixed and replay(tmp_path / "song.journal").history.session == mixed
    for _ in range(5):
        history.undo()
    assert history.session == a
    only = versions.settled(b)
    assert only.parts == b.parts and not only.versions and not only.version


def test_what_a_file_tells_wrongly_of_versions_is_refused(demo, tmp_path):
    session = versions.gone_to(versions.gone_to(searched(demo), "A"), "B")
    path = tmp_path / "song.isophon"
    file.save(session, path)
    text = path.read_text()
    wrong = (('"letter": "B"', '"letter": "A"'), ('"letter": "B"', '"letter": "Z"'), ('"version": "B"', '"version": 4'))
    for old, new in wrong:
        assert old in text
        path.write_text(text.replace(old, new))
        with pytest.raises(InputError):
            file.load(path)
    drawn = replace(session.part("part-1").of_kind("ess")[0], start=1e5, end=1e5 + 1, hand=Hand(drawn=True))
    version = session.versions[0]
    parts = tuple(replace(part, marks=(drawn,)) for part in version.parts)
    with pytest.raises(CallError, match="does not fit"):
        versions.taken_from(replace(session, versions=(replace(version, parts=parts),)), "A", ["part-1"])
