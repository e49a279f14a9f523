"""A new export of a take: where its sound lies, and that every decision stays at its sound."""

from itertools import pairwise

import msgspec
import numpy as np
import pytest
from msgspec.structs import replace
from scipy import signal

from conftest import Written, write
from isophon.core.finding import survey_recording
from isophon.core.marks import Hand
from isophon.core.passes import KINDS
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.timing.mark import WordMark
from isophon.core.session import file, layout, notes
from isophon.core.session.checks import flaw_of
from isophon.core.session.items import Source
from isophon.core.session.replacing import later_by, replaced
from voices import VOICES, spoken


def exported(samples, rate, shift_s, gain_db=0.0, darker=False):
    """The same take with silence added (or, below 0, cut off) at its head, louder or softer, and darker."""
    shift = round(shift_s * rate)
    out = np.concatenate([np.zeros(shift), samples]) if shift >= 0 else samples[-shift:]
    if darker:
        out = signal.sosfilt(signal.butter(1, 3_000, "low", fs=rate, output="sos"), out)
    return out * 10 ** (gain_db / 20)


def lag(before, after, rate, with_old=True):
    old, new = Written(before, rate), Written(after, rate)
    return later_by(survey_recording(old), survey_recording(new), old if with_old else None, new)


@pytest.mark.parametrize("voice", sorted(VOICES)[:4])
@pytest.mark.parametrize("shift_s", [0.0, 0.25, 1.7, -0.3])
def test_the_lag_of_an_export_is_found_to_the_sample(voice, shift_s):
    samples, rate, _ = spoken(voice)
    after = exported(samples, rate, shift_s, -7.0)
    assert lag(samples, after, rate) == pytest.approx(round(shift_s * rate) / rate, abs=0.5 / rate)
    assert lag(samples, after, rate, with_old=False) == pytest.approx(shift_s, abs=0.003), "the old file is gone"
    assert lag(samples, exported(samples, rate, shift_s, 4.0, darker=True), rate) == pytest.approx(shift_s, abs=0.001)


def test_another_take_is_told_from_a_new_export():
    takes = [spoken(voice)[:2] for voice in sorted(VOICES)[:6]]
    for (one, rate), (other, its_rate) in pairwise(takes):
        if rate == its_rate:
            assert lag(one, other, rate) is None


def of_every_kind():
    """Marks that hold a time wherever one can be held."""
    common = {"level_db": -30.0, "standout_db": 3.0, "low_hz": 100.0, "high_hz": 9_000.0, "confidence": 0.9}
    plain = [kind.mark for kind in KINDS if kind.mark and kind.mark not in (EssMark, GapMark, WordMark, PassageMark)]
    marks = [mark(id=f"{i}", start=2.0, end=2.5, hand=Hand(change_db=-3.0), **common) for i, mark in enumerate(plain)]
    return (
        *marks,
        EssMark(id="ess-1", start=1.0, end=1.1, partner_s=1.05, hand=Hand(start=0.9, end=1.2), **common),
        GapMark(id="gap-1", start=3.0, end=4.0, breaths=((3.1, 3.3),), hand=Hand(outline=((3.0, 1.0),)), **common),
        WordMark(id="timing-1", start=5.0, end=5.5, anchors=((5.0, 5.1), (5.4, 5.45)), lead_s=5.1,
                 hand=Hand(anchors=((5.0, 5.2), (5.4, 5.5))), **{**common, "standout_db": 0.0}),
        PassageMark(id="carry-1", start=6.0, end=7.0, from_s=1.0, hand=Hand(drawn=True), **common),
    )  # fmt: skip


def numbers_of(value):
    """All that is held as a number, by its place."""

    def walk(at, one):
        if isinstance(one, dict):
            return [pair for key, inner in one.items() for pair in walk((*at, key), inner)]
        if isinstance(one, list | tuple):
            return [pair for i, inner in enumerate(one) for pair in walk((*at, i), inner)]
        return [(at, one)]

    return dict(walk((), msgspec.to_builtins(value)))


def test_every_time_of_a_part_moves_and_nothing_else(tmp_path):
    source = Source(str(tmp_path / "old.wav"), 48_000, 1, 10 * 48_000)
    session = layout.new_session("song", [layout.Arrival("Lead", source, "lead")])
    part = replace(session.parts[0], marks=of_every_kind(), found=True, offset_s=3.0,
                   gap=replace(session.parts[0].gap, sung=((1.0, 2.0),)),
                   hiss=replace(session.parts[0].hiss, learn_from=2.0, learn_to=3.0))  # fmt: skip
    session = notes.set_note(replace(session, parts=(part,)), "part-1", "ess-1", "check")
    new = replace(source, path=str(tmp_path / "new.wav"), frames=11 * 48_000)
    moved = replaced(session, "part-1", new, 0.5)
    assert not flaw_of(moved.session) and moved.lost == 0
    now = moved.session.parts[0]
    assert (now.source, now.offset_s, now.found) == (new, 2.5, False), "it stays where it was in the song"
    assert now.gap.sung == ((1.5, 2.5),) and (now.hiss.learn_from, now.hiss.learn_to) == (2.5, 3.5)
    assert now.bleed == part.bleed, "no span was chosen"
    assert notes.song_time(moved.session, moved.session.markers[0]) == notes.song_time(session, session.markers[0])
    before, after = (numbers_of(one.marks) for one in (part, now))
    assert before.keys() == after.keys()
    for place, value in before.items():
        is_time = {"start", "end", "breaths", "anchors", "partner_s", "outline"} & {*place} and not (
            "outline" in place and place[-1] == 1
        )
        assert after[place] == (pytest.approx(value + 0.5) if is_time else value), place
    path = tmp_path / "song.isophon"
    write(tmp_path / "new.wav", np.zeros(11 * 48_000), 48_000)
    file.save(moved.session, path)
    assert file.load(path).parts[0].marks == now.marks


def test_what_lies_outside_of_the_export_is_counted(tmp_path):
    source = Source(str(tmp_path / "old.wav"), 48_000, 1, 10 * 48_000)
    session = layout.new_session("song", [layout.Arrival("Lead", source, "lead")])
    session = replace(session, parts=(replace(session.parts[0], marks=of_every_kind(), found=True),))
    moved = replaced(session, "part-1", replace(source, frames=8 * 48_000), -2.0)
    gone = {mark.id for mark in session.parts[0].marks} - {mark.id for mark in moved.session.parts[0].marks}
    assert "ess-1" in gone and moved.lost == len(gone) and not flaw_of(moved.session)
