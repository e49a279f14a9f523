"""Markers from labels, cue points and MIDI files: what the program writes, what others write, and what is neither."""

from itertools import pairwise

import mido
import msgspec
import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from wavinfo import WavInfoReader

from conftest import write
from isophon.core.audio.chunks import append, cues
from isophon.core.errors import InputError
from isophon.core.ranges import MOST_MARKERS
from isophon.core.session import file, layout
from isophon.core.session.bars import Bars, Meter, Tempo
from isophon.core.session.checks import flaw_of
from isophon.core.session.items import Source
from isophon.core.session.marker_export import export_markers
from isophon.core.session.marker_import import import_file, import_markers, places_in


def listed(tmp_path, text, encoding="utf-8"):
    path = tmp_path / "labels.txt"
    path.write_bytes(text.encode(encoding))
    return path


def test_labels_become_markers_once(tmp_path):
    text = "# a remark\n0.5\t0.5\tVerse\n\\\t100\t200\n16.9\t20.0\tFirst chorus, “loud”\r\n\n64.4\t70\n"
    places = places_in(listed(tmp_path, text, "utf-8-sig"))
    assert places == [(0.5, "Verse"), (16.9, "First chorus, “loud”"), (64.4, "70")]
    session = import_markers(layout.new_session("Song", []), places)
    assert [(m.at, m.name) for m in session.markers] == places
    assert import_markers(session, places) == session, "those that are there are not doubled"


@pytest.mark.parametrize(("text", "where"), [
    ("0.5\t1\tA\nlater\t2\tB\n", "line 2"), ("-1\t2\tA\n", "line 1"), ("nan\t2\tA\n", "line 1"),
    ("1e300\t2\tA\n", "line 1"), ("\n\n", "holds no labels"), ("", "holds no labels"),
])  # fmt: skip
def test_what_is_no_such_list_is_said_with_its_line(tmp_path, text, where):
    with pytest.raises(InputError, match=where):
        places_in(listed(tmp_path, text))


@given(st.binary(max_size=300))
def test_no_bytes_do_more_than_say_so(fresh, content):
    path = fresh() / "x.txt"
    path.write_bytes(content)
    try:
        places = places_in(path)
    except InputError as error:
        assert "x.txt" in str(error) and "\n" not in str(error)
    else:
        session = import_markers(layout.new_session("Song", []), places)
        assert all(0 <= marker.at <= 86_400 and marker.name for marker in session.markers)


def test_a_song_holds_so_many_and_no_more():
    places = [(float(i), f"Place {i}") for i in range(MOST_MARKERS + 5)]
    assert len(import_markers(layout.new_session("Song", []), places).markers) == MOST_MARKERS


def midi(path, *tracks, ticks=480):
    """A standard MIDI file of tracks, each of (ticks since the one before, message)."""
    file = mido.MidiFile(ticks_per_beat=ticks)
    for track in tracks:
        file.tracks.append(mido.MidiTrack(mido.MetaMessage(kind, time=time, **more) for time, kind, more in track))
    file.save(path)
    return path


def test_a_midi_file_gives_tempo_meter_and_markers(tmp_path):
    """Tempo and meter in a track of their own, markers in another; times worked out by hand."""
    tempo = [
        (0, "set_tempo", {"tempo": 600_000}),
        (0, "time_signature", {"numerator": 3, "denominator": 4}),
        (480 * 6, "set_tempo", {"tempo": 500_000}),
        (0, "time_signature", {"numerator": 4, "denominator": 4}),
    ]
    markers = [(480 * 3, "marker", {"text": "Verse"}), (480 * 7, "cue_marker", {"text": "First chorus"})]  # fmt: skip
    path = midi(tmp_path / "song.mid", tempo, markers)
    session = import_file(layout.new_session("Song", []), path)
    assert [(m.at, m.name) for m in session.markers] == [(1.8, "Verse"), (5.6, "First chorus")]
    assert [(t.at, t.bpm) for t in session.bars.tempos] == [(0.0, 100.0), (3.6, 120.0)]
    assert [(m.at, m.beats, m.unit) for m in session.bars.meters] == [(0.0, 3, 4), (3.6, 4, 4)]
    assert session.bars.lines(9.0) == pytest.approx([0.0, 1.8, 3.6, 5.6, 7.6])
    assert (session.bars.bar_s(1.0), session.bars.bar_s(4.0)) == (pytest.approx(1.8), pytest.approx(2.0))
    saved = tmp_path / "song.isophon"
    file.save(session, saved)
    assert file.load(saved).bars == session.bars
    only_markers = midi(tmp_path / "markers.mid", markers)
    assert import_file(session, only_markers).bars == session.bars, "which tells no tempo"
    with pytest.raises(InputError, match="neither tempo nor markers"):
        import_file(session, midi(tmp_path / "notes.mid", []))


@given(
    st.lists(st.tuples(st.floats(0.1, 30), st.floats(5, 1_000)), min_size=1, max_size=8),
    st.lists(st.tuples(st.integers(1, 8), st.integers(1, 64), st.sampled_from([1, 2, 4, 8, 16, 64])), max_size=5),
)
def test_bars_are_as_long_as_their_beats_whatever_the_tempo(changes, meters):
    """Against counting beats one by one through the tempo changes."""
    at = np.cumsum([0.0, *(length for length, _ in changes[1:])])
    tempos = tuple(Tempo(float(t), bpm) for t, (_, bpm) in zip(at, changes, strict=True))
    bars = Bars(tempos, (Meter(0.0, *meters[0][1:]),) if meters else ())
    lines = bars.lines(float(at[-1]) + 20.0)
    beats, unit = meters[0][1:] if meters else (4, 4)
    rates = np.array([t.bpm / 60 for t in tempos])
    for first, last in pairwise(lines[:50]):
        edges = np.clip([*at, 1e9], first, last)
        assert float(np.dot(np.diff(edges), rates)) == pytest.approx(4 * beats / unit, rel=1e-6)


def test_cue_points_of_a_recording_stand_where_it_lies_in_the_song(tmp_path):
    """The cue points that the program itself writes into stems, as wavinfo reads them too."""
    path = write(tmp_path / "take.wav", np.zeros(480_000), 48_000)
    append(path, cues([(24_000, 100, "Breath −6 dB"), (96_000, 0, "“S”")]))
    assert [cue.position for cue in WavInfoReader(str(path)).cues.cues] == [24_000, 96_000]
    source = Source(str(path), 48_000, 1, 480_000)
    session = layout.set_offset(layout.new_session("Song", [layout.Arrival("take", source, "lead")]), "part-1", 3.0)
    assert [(m.at, m.name) for m in import_file(session, path).markers] == [(3.5, "Breath −6 dB"), (5.0, "“S”")]
    assert [m.at for m in import_file(layout.new_session("Song", []), path).markers] == [0.5, 2.0]
    with pytest.raises(InputError, match="no cue points"):
        import_file(session, write(tmp_path / "plain.wav", np.zeros(4_800), 48_000))


@given(st.data())
def test_damaged_midi_and_wave_files_do_no_more_than_say_so(fresh, data):
    folder = fresh()
    whole = midi(folder / "a.mid", [(0, "set_tempo", {"tempo": 600_000}), (480, "marker", {"text": "A"})])
    if data.draw(st.booleans()):
        whole = write(folder / "a.wav", np.zeros(100), 8_000)
        append(whole, cues([(10, 5, "A"), (50, 5, "B")]))
    content = bytearray(whole.read_bytes())
    for at in data.draw(st.lists(st.integers(4, len(content) - 1), min_size=1, max_size=6)):
        content[at] = data.draw(st.integers(0, 255))
    damaged = whole.with_stem("x")
    damaged.write_bytes(content[: data.draw(st.integers(4, len(content)))])
    session = layout.new_session("Song", [])
    try:
        session = import_file(session, damaged)
    except InputError as error:
        assert "x." in str(error) and "\n" not in str(error)
    assert not flaw_of(session) and not session.bars.flaw() and len(session.bars.lines(86_400.0)) <= 20_000


@given(
    st.lists(st.tuples(st.floats(0.2, 40), st.integers(20, 300)), min_size=1, max_size=6),
    st.lists(st.tuples(st.floats(0, 200), st.text(min_size=1, max_size=20)), max_size=8, unique_by=lambda one: one[1]),
    st.sampled_from(["out.mid", "out.txt"]),
)
def test_what_is_exported_is_what_is_imported(fresh, tempos, places, name):
    """Tempo and bars by MIDI; markers by both, whatever stands in them."""
    session = layout.new_session("Song", [])
    for at, words in places:
        session = layout.add_marker(session, at, words)
    assume(len({marker.name for marker in session.markers}) == len(places))
    at = np.cumsum([0.0, *(round(length, 3) for length, _ in tempos[1:])])
    rows = tuple(Tempo(float(t), 60e6 / round(60e6 / bpm)) for t, (_, bpm) in zip(at, tempos, strict=True))
    session = msgspec.structs.replace(session, bars=Bars(rows, (Meter(0.0, 7, 8),)))
    path = fresh() / name
    assert export_markers(session, path) == len(session.markers)
    if name.endswith("txt") and not places:
        return  # an empty list holds nothing to import
    again = import_file(layout.new_session("Song", []), path)
    places_then, places_now = ({m.name: m.at for m in one.markers} for one in (session, again))
    assert places_now == {name: pytest.approx(at, abs=0.002) for name, at in places_then.items()}
    if name.endswith("mid"):
        assert again.bars.lines(60.0) == pytest.approx(session.bars.lines(60.0), abs=0.002)
