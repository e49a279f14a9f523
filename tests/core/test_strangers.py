"""What comes from a file is untrusted: no path, no endless loop, no absurd allocation is made of it."""

import json
import os
import threading

import numpy as np
import pytest
from msgspec.structs import replace
from test_session import mark

from conftest import write
from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak
from isophon.core.errors import InputError, OutputError
from isophon.core.finding import find_all, survey_recording
from isophon.core.locks import is_locked, lock
from isophon.core.marks import Hand
from isophon.core.passes.bleed.settings import BleedSettings
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.reading import path_of, read_bytes, spelled
from isophon.core.session import adopting, cards, edits, file, layout
from isophon.core.session.facts import with_findings
from isophon.core.session.journal import Journal, replay
from isophon.core.session.model import Part
from isophon.core.takes import cache as take_cache


@pytest.fixture
def song(tmp_path):
    """A session of a take with hum, so that everything that can be facts of one stands in the file."""
    rate = 22_050
    t = np.arange(3 * rate) / rate
    hum = sum(0.02 / k * np.sin(2 * np.pi * 50.3 * k * t) for k in range(1, 9))
    voice = np.where(t % 1 < 0.7, 0.2 * np.sin(2 * np.pi * (220 + 30 * np.sin(t)) * t), 0) + 1e-4
    path = write(tmp_path / "take.wav", hum + voice, rate)
    with Recording(path) as recording:
        source, survey = layout.source_of(recording), survey_recording(recording)
        found = find_all(recording, survey)
    assert found.measured.hum is not None
    session = layout.new_session("Song", [layout.Arrival("Lead", source)])
    marks = (*found.marks, mark(1.0))
    findings = adopting.Findings(source, marks, survey.voice_lufs, survey.floor_dbfs, found.measured)
    session = adopting.adopt_findings(session, "part-1", findings)
    leak = Leak("0123456789abcdef", ("cue",), path=np.ones(8, np.float32).tobytes())
    session = edits.with_part(session, "part-1", lambda part: replace(part, leak=leak))
    session = layout.add_marker(session, 1.0, "Chorus")
    file.save(session, tmp_path / "song.isophon")
    return tmp_path / "song.isophon"


def changed(path, where, value):
    """The session file with one value replaced; ``where``: its keys."""
    values = json.loads(path.read_text())
    inner = values
    for key in where[:-1]:
        inner = inner[key]
    inner[where[-1]] = value
    path.write_text(json.dumps(values))


PART = ("session", "parts", 0)
WRONG = [
    ((*PART, "leak", "key"), "x/../../../../../Documents", "leak.key"),
    ((*PART, "leak", "key"), "ABCDEF0123456789", "key"),
    ((*PART, "measured", "hum", "step"), -1, "hum.step"), ((*PART, "measured", "hum", "step"), 0, "hum.step"),
    ((*PART, "measured", "hum", "phases"), "", "hum.phases"),
    ((*PART, "measured", "hum", "amplitudes"), "AAAA", "amplitudes"),
    ((*PART, "measured", "noise"), [-80.0] * 63, "noise"), ((*PART, "learned"), [-80.0], "learned"),
    ((*PART, "measured", "room"), [1.0], "room"), ((*PART, "voice_lufs"), float("nan"), "voice_lufs"),
    ((*PART, "voice_lufs"), float("inf"), "voice_lufs"), ((*PART, "marks", 0, "level_db"), float("nan"), "level_db"),
    ((*PART, "marks", 0, "start"), 1e300, "start"), ((*PART, "marks", 0, "end"), -5.0, "start, end"),
    ((*PART, "marks", 0, "kind"), "../x", "kind"), ((*PART, "marks", 0, "hand"), {"change_db": 30.0}, "change_db"),
    ((*PART, "source", "frames"), 10**17, "frames"), ((*PART, "source", "sample_rate"), 7, "sample_rate"),
    ((*PART, "source", "channels"), 10**6, "channels"), ((*PART, "source", "path"), "a\0b", "path"),
    ((*PART, "offset_s"), 1e18, "offset_s"), ((*PART, "listening", "gain_db"), 1e9, "gain_db"),
    ((*PART, "hiss", "learn_to"), 1e30, "learn_to"), ((*PART, "gap", "after_ms"), -1, "after_ms"),
    ((*PART, "measured", "noise_track"), [[2.0, [0.0] * 6], [1.0, [0.0] * 6]], "noise_track"),
    ((*PART, "measured", "noise_track"), [[2.0, [0.0] * 5]], "noise_track"),
    ((*PART, "measured", "pauses"), {"breaths": [[1.0, 1e300]]}, "pauses"),
    ((*PART, "gap", "sung"), [[1.0, float("nan")]], "sung"), ((*PART, "gap", "unsung"), [[1.0]], "unsung"),
    ((*PART, "marks", 0, "hand"), {"fades_ms": [1e9, 0.0]}, "fades_ms"), ((*PART, "follows"), [7], "follows"),
    (("session", "rate"), 7, "rate"), (("session", "markers", 0, "at"), 1e300, "at"), (("session", "name"), 3, "name"),
]  # fmt: skip


@pytest.mark.parametrize(("where", "value", "words"), WRONG)
def test_a_wrong_value_is_named_and_the_rest_is_rescued(song, where, value, words):
    changed(song, where, value)
    with pytest.raises(InputError, match=rf"^song.isophon: is damaged \(.*{words}"):
        file.load(song)
    session, lost = file.rescue(song)
    assert len(session.parts) == (0 if where[3:4] == ("source",) else 1)
    if session.parts:
        assert len(session.parts[0].marks) >= len(json.loads(song.read_text())["session"]["parts"][0]["marks"]) - 1
    assert (len(lost) == 1) == (where[1] not in ("rate", "name"))
    file.save(session, song)
    assert file.load(song) == session


def test_names_are_there_once(song):
    text = song.read_text()
    for twice in (lambda parts: parts, lambda parts: parts[0]["marks"]):
        values = json.loads(text)
        rows = twice(values["session"]["parts"])
        rows.append(rows[0])
        song.write_text(json.dumps(values))
        with pytest.raises(InputError, match="twice"):
            file.load(song)


def test_a_marker_without_a_number_does_no_harm(song):
    changed(song, ("session", "markers", 0, "id"), "chorus")
    session = layout.add_marker(file.load(song), 2.0, "")
    assert [m.id for m in session.markers] == ["chorus", "marker-1"]


def test_no_folder_is_touched_that_is_not_ours(tmp_path):
    victim = tmp_path / "Documents"
    victim.mkdir()
    (victim / "letter").write_text("dear")
    place = tmp_path / "cache" / "takes" / "abc"
    arrays = (np.zeros((1, 9), np.float32),) * 2
    with pytest.raises(ValueError, match="no leak's name"):
        take_cache.keep_leak(place, "x/../../../../Documents", arrays, b"{}")
    (place / "leak-0123456789abcdef").mkdir(parents=True)
    (place / "leak-0123456789abcdef" / "letter").write_text("dear")
    with pytest.raises(OutputError, match="not ours"):
        take_cache.keep_leak(place, "0123456789abcdef", arrays, b"{}")
    assert take_cache.kept_leak(place, "../" * 5 + "etc") is None and take_cache.kept_leak_facts(place, "../x") is None
    assert [p.read_text() for p in sorted(tmp_path.rglob("letter"))] == ["dear", "dear"]


@pytest.mark.parametrize("read", [file.load, cards.load_card, replay, Recording, read_bytes])
def test_pipes_devices_and_giants_are_refused_at_once(tmp_path, read):
    os.mkfifo(tmp_path / "pipe")
    with (tmp_path / "giant").open("wb") as giant:
        giant.truncate(3 << 30)
    names = [tmp_path / "pipe", take_cache.Path("/dev/zero")] + ([tmp_path / "giant"] if read is not Recording else [])
    for path in names:
        ended: list[Exception] = []

        def work(path=path, ended=ended):
            try:
                read(path)
            except InputError as error:
                ended.append(error)

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        thread.join(5)
        assert len(ended) == 1 and str(ended[0]).startswith(path.name)


def test_cards_hold_nothing_of_one_take(tmp_path):
    part = Part("p", "p", layout.Source("x", 48_000, 1, 9))
    other = replace(part, hiss=HissSettings(amount_db=-9.0, learn_from=1.0, learn_to=2.0),
                    bleed=BleedSettings(much=0.5, nudge_ms=40.0, learn_from=3.0, learn_to=9.0))  # fmt: skip
    cards.save_card("Ada", other, tmp_path / "a.voicecard")
    card = cards.load_card(tmp_path / "a.voicecard")
    assert card.settings["hiss"] == HissSettings(amount_db=-9.0) and card.settings["bleed"] == BleedSettings(much=0.5)
    text = json.loads((tmp_path / "a.voicecard").read_text())
    text["bleed"] |= {"nudge_ms": 40.0, "learn_to": 9.0}  # an older card
    (tmp_path / "a.voicecard").write_text(json.dumps(text))
    session = layout.new_session("s", [layout.Arrival("Lead", layout.Source("x", 48_000, 1, 9))])
    own = BleedSettings(nudge_ms=7.0)
    session = edits.with_part(session, "part-1", lambda part: replace(part, bleed=own))
    session = edits.apply_card(session, ["part-1"], cards.load_card(tmp_path / "a.voicecard"))
    assert session.parts[0].bleed == BleedSettings(much=0.5, nudge_ms=7.0)


def test_a_journal_goes_on_after_a_full_disk(tmp_path, monkeypatch):
    """Nothing counts as written that is not, nothing half-written stays, and later all of it is there."""
    from test_session import session

    from isophon.core.session.history import History

    history = History(session(tmp_path))
    journal = Journal(tmp_path / "a.journal", history, None)

    def set_ceiling(value):
        history.do("ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", value))

    set_ceiling(-4.0)
    journal.write(history)
    whole = (tmp_path / "a.journal").read_bytes()
    real, full = os.fsync, [True]

    def fsync(handle):
        if full[0]:
            raise OSError(28, "No space left on device")
        real(handle)

    monkeypatch.setattr(os, "fsync", fsync)
    for value in (-5.0, -6.0):
        set_ceiling(value)
        with pytest.raises(OutputError, match="No space left"):
            journal.write(history)
        assert (tmp_path / "a.journal").read_bytes() == whole
    findings = adopting.Findings(history.session.parts[0].source, (mark(0.2),), -20.0, -60.0)
    history.add_facts(lambda s, facts: with_findings(s, facts, [("part-1", findings)]))
    with pytest.raises(OutputError):
        journal.write(history)
    full[0] = False
    journal.write(history)
    again = replay(tmp_path / "a.journal")
    assert [v for _, v in again.history.steps] == [v for _, v in history.steps] and again.lost == 0
    assert again.history.session == history.session and again.history.session.part("part-1").marks
    (tmp_path / "a.journal").unlink()
    set_ceiling(-7.0)
    journal.write(history)
    assert replay(tmp_path / "a.journal").history.session == history.session


def test_a_journal_names_session_files_only(tmp_path):
    from test_session import session

    from isophon.core.session.history import History

    Journal(tmp_path / "a.journal", History(session(tmp_path)), tmp_path / "song.isophon")
    text = (tmp_path / "a.journal").read_text()
    assert replay(tmp_path / "a.journal").saved_as == str(tmp_path / "song.isophon")
    for other in ("/etc/passwd", "song.isophon", "../x.isophon"):
        (tmp_path / "a.journal").write_text(text.replace(str(tmp_path / "song.isophon"), other))
        assert replay(tmp_path / "a.journal").saved_as == ""


def test_a_lock_is_held_once_and_ends_with_its_holder(tmp_path):
    mine = lock(tmp_path / "a.lock")
    assert lock(tmp_path / "a.lock") is None and is_locked(tmp_path / "a.lock")
    mine.release()
    assert not is_locked(tmp_path / "a.lock")
    assert lock(tmp_path / "a.lock") is not None
    assert lock(take_cache.Path("/proc/nowhere/a.lock")) is not None  # where none can be made, work goes on


def test_paths_are_spelled_as_text_and_back():
    for raw in (b"/a/b c.wav", b"/a/\xff\xfe.wav", "/ä/ß.wav".encode(), b"bytes:x"):
        path = take_cache.Path(os.fsdecode(raw))
        spelled(path).encode()
        assert path_of(spelled(path)) == path


def test_nothing_is_saved_that_could_not_be_read_again(song):
    session = edits.with_part(file.load(song), "part-1", lambda part: replace(part, voice_lufs=float("nan")))
    before = song.read_bytes()
    with pytest.raises(OutputError, match="voice_lufs"):
        file.save(session, song)
    long = edits.with_part(file.load(song), "part-1", lambda p: replace(p, marks=(mark(1.0, hand=Hand(end=9e9)),)))
    with pytest.raises(OutputError, match="span"):
        file.save(long, song)
    assert song.read_bytes() == before
