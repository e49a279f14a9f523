"""Tempo, meter and markers of a standard MIDI file (Standard MIDI Files 1.0, MIDI Manufacturers Association)."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import NamedTuple

import mido

from isophon.core.errors import InputError
from isophon.core.reading import read_bytes
from isophon.core.session.bars import MOST_CHANGES, Bars, Meter, Tempo

HEAD = b"MThd"
_MOST_BYTES = 1 << 22  # of a MIDI file
_USUAL_TEMPO_US = 500_000  # microseconds a quarter note where a file tells none: the standard's own
_NAMED = ("marker", "cue_marker")
_SMPTE_FROM = 1 << 15  # a division with this bit counts frames, not quarter notes
_LATEST_S = 86_400.0  # s: what comes later is left out


class Score(NamedTuple):
    """What a MIDI file tells of a song. ``places``: markers and cue points, (s of the song, name)."""

    bars: Bars
    places: list[tuple[float, str]]


def score_in(path: Path) -> Score:
    """Tempo, meter and markers of a standard MIDI file; InputError where it cannot be used."""
    content = read_bytes(path, _MOST_BYTES)
    try:
        midi = mido.MidiFile(file=BytesIO(content), clip=True)
        events = sorted(_meta_events(midi), key=lambda event: event[0])
    except Exception as error:
        raise InputError(f"{path.name}: is damaged, or no standard MIDI file; nothing was imported") from error
    if not 0 < midi.ticks_per_beat < _SMPTE_FROM:
        raise InputError(f"{path.name}: counts frames instead of beats; export it with a musical time base")
    return _score(events, midi.ticks_per_beat)


def _meta_events(midi: mido.MidiFile) -> list[tuple[int, mido.MetaMessage]]:
    """All that is no note, each with its tick."""
    events = []
    for track in midi.tracks:
        tick = 0
        for message in track:
            tick += message.time
            if message.is_meta:
                events.append((tick, message))
    return events


def _text(read: str) -> str:
    """A text that was read as Latin-1, which may as well be UTF-8: the standard names no encoding."""
    try:
        return read.encode("latin-1").decode("utf-8").strip()
    except UnicodeError:
        return read.strip()


def _score(events: list[tuple[int, mido.MetaMessage]], ticks: int) -> Score:
    tempo_us, at_tick, at_s = _USUAL_TEMPO_US, 0, 0.0
    tempos: dict[float, float] = {0.0: 60e6 / tempo_us}
    meters: dict[float, tuple[int, int]] = {}
    places = []
    for tick, message in events:
        at_s += (tick - at_tick) / ticks * tempo_us / 1e6
        at_tick = tick
        if at_s > _LATEST_S:
            break
        at = round(at_s, 6)
        if message.type == "set_tempo" and message.tempo:
            tempo_us = message.tempo
            tempos[at] = min(max(60e6 / tempo_us, 5.0), 1_000.0)
        elif message.type == "time_signature":
            meters[at] = min(max(message.numerator, 1), 64), min(max(message.denominator, 1), 64)
        elif message.type in _NAMED:
            places.append((at, _text(message.text)))
    has_tempo = any(message.type in ("set_tempo", "time_signature") for _, message in events)
    bars = Bars(tuple(Tempo(at, round(bpm, 6)) for at, bpm in list(tempos.items())[:MOST_CHANGES]),
                tuple(Meter(at, *meter) for at, meter in list(meters.items())[:MOST_CHANGES]))  # fmt: skip
    return Score(bars if has_tempo else Bars(), places)
