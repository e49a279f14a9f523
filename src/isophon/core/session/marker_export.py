"""Markers to files: a list of labels, or a standard MIDI file with tempo and meter (Standard MIDI Files 1.0)."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path

import mido
from msgspec.structs import replace

from isophon.core.atomic import atomic, write_text
from isophon.core.errors import shown
from isophon.core.session.bars import Bars, Tempo
from isophon.core.session.model import Session
from isophon.core.session.notes import song_time

MIDI_ENDING, LABELS_ENDING = ".mid", ".txt"
_TICKS = 4_800  # a quarter note: a tenth of a millisecond at 120 a minute
_USUAL = Tempo(0.0, 120.0)  # what a MIDI file without a tempo has


def export_markers(session: Session, path: Path) -> int:
    """Write the markers of a song, and the notes at marks, to a file; how many there are.

    As MIDI where the name ends so, with tempo and meter; else as a list of labels: start, end (the same) and name,
    separated by tabs. OutputError where it cannot be written.
    """
    places = sorted((max(0.0, song_time(session, marker)), marker.name) for marker in session.markers)
    if path.suffix.lower() in (MIDI_ENDING, ".midi"):
        content = _midi(session.bars, places)
        with atomic(path, force=True) as temporary:
            temporary.write_bytes(content)
    else:
        write_text(path, "".join(f"{at:.6f}\t{at:.6f}\t{shown(name)}\n" for at, name in places))
    return len(places)


def _midi(bars: Bars, places: list[tuple[float, str]]) -> bytes:
    """A standard MIDI file of one track."""
    bars = _as_stored(bars)
    events: list[tuple[int, mido.MetaMessage]] = []
    begins = bars.quarters_at(0.0)

    def tick(seconds: float) -> int:
        return max(0, round((bars.quarters_at(seconds) - begins) * _TICKS))

    for i, tempo in enumerate(bars.tempos):
        event = mido.MetaMessage("set_tempo", tempo=round(60e6 / tempo.bpm))
        events.append((tick(tempo.at) if i else 0, event))
    for meter in bars.meters:
        event = mido.MetaMessage("time_signature", numerator=meter.beats, denominator=_power_of_two(meter.unit))
        events.append((tick(meter.at), event))
    for at, name in places:
        events.append((tick(at), mido.MetaMessage("marker", text=name)))
    track, last = mido.MidiTrack(), 0
    for at_tick, event in sorted(events, key=lambda pair: pair[0]):
        track.append(event.copy(time=at_tick - last))
        last = at_tick
    whole, content = mido.MidiFile(ticks_per_beat=_TICKS, type=0, charset="utf-8"), BytesIO()
    whole.tracks.append(track)
    whole.save(file=content)
    return content.getvalue()


def _as_stored(bars: Bars) -> Bars:
    """Tempos as a MIDI file holds them: whole microseconds a quarter note."""
    tempos = bars.tempos or (_USUAL,)
    return replace(bars, tempos=tuple(replace(one, bpm=60e6 / round(60e6 / one.bpm)) for one in tempos))


def _power_of_two(unit: int) -> int:
    """The nearest note value that a MIDI file can name."""
    return min((1, 2, 4, 8, 16, 32, 64), key=lambda one: abs(one - unit))
