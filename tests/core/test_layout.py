"""Laying out: what files are, where they start, and edits that lose nothing."""

import json
import struct

import numpy as np
import pytest
import soundfile as sf
import wavinfo
from msgspec.structs import replace
from test_session import mark

from conftest import write
from isophon.core.audio.files import Recording
from isophon.core.errors import CallError, InputError
from isophon.core.handover.labels import labels
from isophon.core.handover.proof import page, proof_values
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.session import adopting, edits, file, layout
from isophon.core.session.facts import with_findings
from isophon.core.session.history import History
from isophon.core.session.items import Source
from isophon.core.session.layout import Arrival
from isophon.core.session.model import Part, Session
from isophon.core.session.notes import Note, note_at, notes_of, set_note, song_time
from isophon.core.session.settings import role_default
from isophon.core.takes.remarks import remarks
from isophon.core.takes.roles import by_name, guess
from isophon.core.takes.scan import Figures, scan
from voices import alsa, spoken

RATE = 48_000


def source(name: str, rate=RATE, seconds=10.0, clock=None) -> Source:
    return Source(f"/song/{name}.wav", rate, 1, round(seconds * rate), clock)


def song() -> Session:
    names = (("Lead", "lead"), ("Double", "double"), ("High", "harmony"), ("Click", "cue"))
    return layout.new_session("Song", [Arrival(name, source(name), what) for name, what in names])


@pytest.mark.parametrize(
    ("name", "what"),
    [
        ("01 Lead Vox.wav", "lead"), ("lead_dbl_L.wav", "double"), ("BGV3 high.wav", "harmony"),
        ("Backing vocals 2.wav", "harmony"), ("Backing track.wav", "bed"), ("adlib-04.wav", "adlib"),
        ("Ad Libs.flac", "adlib"), ("HEADPHONES mix.wav", "cue"), ("click_120bpm.wav", "cue"),
        ("cue.wav", "cue"), ("lead mix 2.wav", "lead"), ("rough mix.wav", "bed"),
        ("song instrumental.wav", "bed"), ("Audio 1_03.wav", None), ("Leadership.wav", None),
    ],
)  # fmt: skip
def test_names_say_what_a_file_is(name, what):
    """Names as tracks are commonly named: common practice."""
    assert by_name(name) == what


def test_what_the_name_does_not_say_is_heard(tmp_path):
    rng = np.random.default_rng(0)
    click = np.zeros(RATE * 12)
    for at in np.arange(0.2, 11.8, 0.5):
        click[int(at * RATE) : int(at * RATE) + 960] += np.sin(np.arange(960) * 0.2) * np.hanning(960)
    music = rng.standard_normal((2, RATE * 12)) * 0.1
    voice, rate, _ = spoken("en-us")
    files = [write(tmp_path / "a.wav", voice, rate), write(tmp_path / "b.wav", click * 0.5, RATE),
             write(tmp_path / "c.wav", music, RATE), write(tmp_path / "d.wav", *alsa("Front_Center"))]  # fmt: skip
    recordings = [Recording(path) for path in files]
    assert guess(recordings) == ["lead", "cue", "bed", "harmony"]
    assert guess(recordings[:1], has_lead=True) == ["harmony"]


def test_starts_come_from_the_time_reference(tmp_path):
    """The ``bext`` chunk of EBU Tech 3285, written here by hand and read back by wavinfo as well."""
    path = write(tmp_path / "take.wav", np.zeros(RATE), RATE)
    body = struct.pack("<256s32s32s10s8sQH", b"d", b"o", b"r", b"2026-01-02", b"10:00:00", 36_000 * RATE + 17, 0)
    data = path.read_bytes() + b"bext" + struct.pack("<I", 602) + body.ljust(602, b"\0")
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
    assert wavinfo.WavInfoReader(str(path)).bext.time_reference == 36_000 * RATE + 17
    with Recording(path) as recording:
        assert layout.source_of(recording).time_reference == 36_000 * RATE + 17
    hour = 3_600
    files = [Arrival("a", source("a", clock=hour * RATE)), Arrival("b", source("b", 44_100, clock=(hour + 5) * 44_100)),
             Arrival("c", source("c"))]  # fmt: skip
    session = layout.new_session("s", files)
    assert [p.offset_s for p in session.parts] == [0.0, 5.0, 0.0]
    session = layout.set_offset(session, "part-1", 2.0)
    later = layout.add(session, [Arrival("d", source("d", clock=(hour - 3) * RATE))])
    assert later.parts[-1].offset_s == -1.0 and later.span == (-1.0, 15.0)


def test_parts_are_added_moved_named_and_removed():
    session = song()
    assert [p.id for p in session.items] == ["part-1", "part-2", "part-3", "part-4"]
    assert [p.ess for p in session.parts] == [role_default("ess", p.role) for p in session.parts]
    assert session.parts[1].ess.ceiling_db < session.parts[0].ess.ceiling_db
    moved = layout.move(session, "part-3", -2)
    assert [p.name for p in moved.parts] == ["High", "Lead", "Double"]
    fewer = layout.remove(moved, ["part-1", "part-4"])
    assert [p.name for p in fewer.items] == ["High", "Double"]
    named = layout.set_singer(layout.set_name(fewer, "part-2", " Dbl "), "part-2", "Ann")
    assert (named.part("part-2").name, named.part("part-2").singer) == ("Dbl", "Ann")
    assert layout.set_name(named, "part-2", "  ") == named
    with pytest.raises(CallError, match="is no start"):
        layout.set_offset(named, "part-2", float("nan"))


def test_a_role_brings_its_settings_unless_a_person_set_them():
    session = layout.set_what(song(), "part-1", "harmony")
    assert session.part("part-1").ess == role_default("ess", "harmony")
    mine = edits.set_setting(song(), ["part-1"], "ess", "ceiling_db", -5.0)
    assert layout.set_what(mine, "part-1", "harmony").part("part-1").ess == EssSettings(ceiling_db=-5.0)
    guide = layout.set_what(layout.set_listening(song(), "part-1", gain_db=-6.0), "part-1", "bed")
    assert [g.kind for g in guide.guides] == ["cue", "bed"] and guide.guides[1].listening.gain_db == -6.0
    assert layout.set_what(guide, "part-1", "lead").part("part-1").role == "lead"


def test_another_recording_is_searched_again_and_decisions_stay():
    marks = (mark(1.0, 4.0), mark(2.0, 1.0))
    session = replace(song(), parts=(replace(song().parts[0], marks=marks, found=True),))
    session = edits.leave(session, "part-1", ["ess-1000"], True)
    moved = layout.relink(session, "part-1", replace(session.parts[0].source, path="/else/Lead.wav"))
    assert moved.part("part-1").found
    longer = layout.relink(session, "part-1", source("other", seconds=20))
    assert not longer.part("part-1").found
    stale = adopting.Findings(session.parts[0].source, (), -20.0, -70.0)
    assert adopting.adopt_findings(longer, "part-1", stale) == longer
    fresh = adopting.Findings(longer.parts[0].source, (mark(1.01, 3.0, id="x"),), -20.0, -70.0)
    assert adopting.adopt_findings(longer, "part-1", fresh).part("part-1").mark("ess-1000").hand.leave


def test_findings_reach_every_step_of_the_history():
    history = History(song())
    history.do("ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", -5.0))
    found = adopting.Findings(history.session.parts[0].source, (mark(1.0),), -20.0, -70.0)
    history.add_facts(lambda s, facts: with_findings(s, facts, [("part-1", found)]))
    assert len(history.steps) == 2 and history.session.part("part-1").found
    assert history.undo().part("part-1").marks == (mark(1.0),)


def test_remarks_say_what_is_odd():
    session = song()
    lead = session.parts[0]
    fine = Figures(-3.0, -20.0, 0, 0.1, (0.4, 9.0))
    assert remarks(session, lead, fine, "") == []
    odd = replace(fine, clipped=7, sounds=(4.0, 9.0), silent=0.95)
    said = " ".join(remarks(session, replace(lead, source=source("x", 44_100)), odd, ""))
    for words in ("44.1 kHz, the others 48 kHz", "starts late: first sound at 4.0 s", "clipped: 7", "mostly silent"):
        assert words in said
    assert "empty" in remarks(session, lead, replace(fine, sounds=None), "")[0]
    assert remarks(session, lead, None, "gone.wav: no such file") == ["gone.wav: no such file"]


def test_the_first_look_measures(tmp_path):
    tone = 0.25 * np.sin(2 * np.pi * 440 * np.arange(RATE * 4) / RATE)
    tone[: RATE * 1] = 0
    tone[2 * RATE : 2 * RATE + 5] = 1.0
    wave, figures = scan(Recording(write(tmp_path / "t.wav", tone, RATE, "FLOAT")), lambda f: None)
    assert figures.level_dbfs == pytest.approx(20 * np.log10(0.25 / np.sqrt(2)), abs=0.15)
    assert figures.peak_dbfs == 0.0 and figures.clipped == 4
    assert figures.silent == pytest.approx(0.25, abs=0.01) and figures.sounds == (1.0, 4.0)
    assert wave.columns(0, 4 * RATE, 4)[1][0] < 1e-6


def test_markers():
    session = layout.add_marker(layout.add_marker(song(), 8.0, "Chorus"), 2.0, "")
    assert [(m.at, m.name) for m in session.markers] == [(2.0, "Place 2"), (8.0, "Chorus")]
    session = layout.change_marker(session, "marker-2", at=9.0, name="Bridge")
    assert [m.name for m in session.markers] == ["Chorus", "Bridge"]
    assert [m.name for m in layout.remove_marker(session, "marker-1").markers] == ["Bridge"]


def test_a_note_stays_with_its_mark_and_with_its_time_once_that_is_gone(tmp_path):
    """Through saving, moving the part, finding anew and the hand-over's labels; removing the part takes it away."""
    marks = (mark(1.0, 3.0), mark(2.0, 3.0))
    part = Part("part-1", "Lead", source("lead"), offset_s=5.0, marks=marks, found=True)
    session = layout.add_marker(Session("song", (part,)), 9.0, "Chorus")
    session = set_note(session, "part-1", "ess-2000", " too <b>sharp</b>\n ")
    assert not session.part("part-1").mark("ess-2000").hand.decided
    with pytest.raises(CallError, match="gone"):
        set_note(session, "part-1", "ess-9", "nobody")
    file.save(session, tmp_path / "s.isophon")
    session = file.load(tmp_path / "s.isophon")
    assert notes_of(session, session.parts[0]) == (
        Note(2.0, 2.15, "too <b>sharp</b>", "ess"),
        Note(4.0, 4.0, "Chorus", "place"),
    )
    assert song_time(session, note_at(session, "part-1", "ess-2000")) == 7.0
    later = replace(session, parts=(replace(session.parts[0], offset_s=6.0, marks=marks[:1]),))
    gone = notes_of(later, later.parts[0])
    assert gone == (Note(2.0, 2.0, "too <b>sharp</b>", "note"), Note(3.0, 3.0, "Chorus", "place"))
    assert labels(later.parts[0], 0.0, gone).splitlines()[1].endswith("note: too <b>sharp</b>")
    lines = labels(session.parts[0], 0.0, notes_of(session, session.parts[0])).splitlines()
    assert [line.split("\t")[2][:12] for line in lines] == [
        "ess s +3.0 d",
        "ess s +3.0 d",
        "note: too <b",
        "place: Choru",
    ]
    levels = {"loudness_lufs": -20.0, "true_peak_dbtp": -1.0, "floor_dbfs": -60.0}
    shown = page([{"before": levels, "after": levels, "kinds": {}, "file": "a", "proof": proof_values(
        session.parts[0], {}, notes=notes_of(session, session.parts[0]))}], "song")  # fmt: skip
    assert "too &lt;b&gt;sharp" in shown and "Chorus" in shown
    assert [m.name for m in set_note(session, "part-1", "ess-2000", "").markers] == ["Chorus"]
    assert [m.name for m in layout.remove(session, ["part-1"]).markers] == ["Chorus"]


def test_sessions_of_the_first_version_open_and_damaged_ones_are_rescued(tmp_path):
    sf.write(tmp_path / "lead.wav", np.zeros(100), RATE)
    old = {"isophon_session": 1, "session": {"name": "Old", "parts": [{
        "id": "part-1", "name": "Lead", "role": "lead", "ess": {"ceiling_db": -6.5}, "found": True,
        "source": {"path": "lead.wav", "sample_rate": RATE, "channels": 1, "frames": 100}}]}}  # fmt: skip
    path = tmp_path / "old.isophon"
    path.write_text(json.dumps(old))
    part = file.load(path).parts[0]
    assert not part.found, "what this version finds beside esses is looked for once more"
    assert part.ess.ceiling_db == -6.5 and part.offset_s == 0.0 and part.source.path == str(tmp_path / "lead.wav")
    file.save(song(), path)
    text = path.read_text().replace('"name": "Double"', '"name": 7')
    path.write_text(text)
    with pytest.raises(InputError, match=r"old.isophon: is damaged .*parts\[1\].name"):
        file.load(path)
    session, lost = file.rescue(path)
    assert [p.name for p in session.items] == ["Lead", "High", "Click"] and len(lost) == 1 and "name" in lost[0]
    path.write_text(text[: len(text) // 2])
    with pytest.raises(InputError, match=r"is damaged .*line \d+ column \d+"):
        file.load(path)
