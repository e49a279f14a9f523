"""Carrying on: the demo's choruses come again after 60 and 108 beats, by its score."""

import numpy as np
import pytest
import soundfile as sf
import soxr

from isophon.core.audio.files import Recording
from isophon.core.demo.score import BEAT_S, CHORUS_AT, LINE_BEATS, line_at
from isophon.core.errors import CallError
from isophon.core.finding import survey_recording
from isophon.core.handover.stems import hand_over
from isophon.core.handover.target import Target, check_free
from isophon.core.passes.carry import passages
from isophon.core.passes.carry.places import places
from isophon.core.reading import path_of
from isophon.core.render import Renderer
from isophon.core.session import edits, file
from isophon.core.takes.take import renderer_of


def test_the_choruses_are_found_again_to_some_ms(demo):
    with Recording(demo.parent / "Lead.wav") as lead:
        survey = survey_recording(lead)
    start, end = line_at(CHORUS_AT[0]), line_at(CHORUS_AT[0]) + 2 * LINE_BEATS * BEAT_S - 1.0
    found = places(survey, start, end)
    wanted = [start + (at - CHORUS_AT[0]) * LINE_BEATS * BEAT_S for at in CHORUS_AT[1:]]
    assert all(abs(p.drift_s) < 0.02 for p in found[:2])
    assert sorted(p.at for p in found[:2]) == pytest.approx(wanted, abs=0.025) and found[1].alike > 0.5
    assert all(p.alike < found[1].alike for p in found[2:])
    assert places(survey, 0.0, 60.0) == [], "nothing comes twice that is longer than half the song"


def test_another_tempo_is_told(demo, tmp_path):
    """The second chorus, sung a hundredth slower (resampled), ends as much later as that makes."""
    samples, rate = sf.read(demo.parent / "Lead.wav", dtype="float32")
    start, end = line_at(CHORUS_AT[0]), line_at(CHORUS_AT[0]) + 2 * LINE_BEATS * BEAT_S - 1.0
    passage = samples[round(start * rate) : round(end * rate)]
    slower = soxr.resample(passage, rate, 1.01 * rate, "HQ")
    quiet = np.zeros(3 * rate, np.float32)
    sf.write(tmp_path / "two.wav", np.concatenate([quiet, passage, quiet, slower, quiet, samples[: 20 * rate]]), rate)
    with Recording(tmp_path / "two.wav") as take:
        found = places(survey_recording(take), 3.0, 3.0 + end - start)
    assert found[0].at == pytest.approx(6.0 + end - start, abs=0.08)
    assert found[0].drift_s == pytest.approx(0.01 * (end - start), rel=0.25)


def test_a_copy_is_the_passage_and_follows_it_and_can_be_taken_back(demo):
    session = file.load(demo)
    part = next(p for p in session.parts if p.name == "Lead double")
    start, end, at = 17.0, 21.0, 43.4
    session = edits.with_marks(session, [part.id], lambda p: passages.carried_on(p, start, end, at))
    assert passages.passages([session.part(part.id)]) == [(at, start)]
    rate = part.source.sample_rate
    with Recording(path_of(part.source.path)) as recording:
        renderer = Renderer(recording.read, rate, recording.frames)

        def heard(value, first, count):
            return renderer.cleaned(value.part(part.id).plan, round(first * rate), round(count * rate))

        inside = heard(session, at + 0.1, 3.7)
        assert np.array_equal(inside, heard(session, start + 0.1, 3.7))
        assert np.array_equal(heard(session, 30.0, 5.0), recording.read(30 * rate, 5 * rate))
        jump = np.abs(np.diff(heard(session, at - 0.05, 0.15)[0], 2)).max()
        assert jump <= 1.5 * np.abs(np.diff(recording.read(round(start * rate), 4 * rate)[0], 2)).max()
        whole = np.concatenate([b for _, b in renderer.blocks(session.part(part.id).plan, recording.blocks())], axis=1)
        assert np.array_equal(whole[:, round((at + 0.1) * rate) :][:, : inside.shape[1]], inside)
        follows = edits.set_setting(session, [part.id], "rumble", "cut_hz", 150.0)
        assert np.allclose(heard(follows, at + 0.1, 3.7), heard(follows, start + 0.1, 3.7), atol=1e-6)
        assert not np.array_equal(heard(follows, at + 0.1, 3.7), inside)
    back = edits.with_marks(session, [part.id], lambda p: passages.taken_back(p, at + 1.0))
    assert back == file.load(demo)
    with pytest.raises(CallError):
        passages.carried_on(session.part(part.id), 17.0, 21.0, 19.0)


def test_a_copy_at_another_tempo_and_past_the_end(demo, tmp_path):
    """It ends as it begins, sample by sample, lasts as long as asked for, and the stem grows where it needs to."""
    session = file.load(demo)
    part = next(p for p in session.parts if p.name == "Lead double")
    rate, frames = part.source.sample_rate, part.source.frames
    start, end, tempo = 17.0, 25.0, 1.03
    at = part.source.duration - 2.0
    moved = edits.with_marks(session, [part.id], lambda p: passages.carried_on(p, start, end, at, tempo))
    grown = moved.part(part.id)
    assert grown.ends_s == pytest.approx(at + 8.0 * tempo, abs=1e-3) and moved.span[1] >= grown.ends_s
    file.save(moved, tmp_path / "longer.isophon")
    assert file.load(tmp_path / "longer.isophon") == moved
    target = Target(tmp_path, depth="32f", together=moved.span)
    with Recording(path_of(part.source.path)) as recording:
        renderer = renderer_of(recording)
        sung = renderer.cleaned(part.plan, round(start * rate), round(8.0 * rate))
        copy = renderer.cleaned(grown.plan, round(at * rate), round(8.0 * tempo * rate))
        edge = round(0.04 * rate)
        assert np.array_equal(copy[:, edge : 2 * edge], sung[:, edge : 2 * edge])
        assert np.array_equal(copy[:, -2 * edge : -edge], sung[:, -2 * edge : -edge])
        assert not renderer.cleaned(grown.plan, round(grown.ends_s * rate) + 1, rate).any(), "nothing comes after it"
        with pytest.raises(CallError, match="past the end of the recording"):
            check_free(grown, Target(tmp_path))
        survey = survey_recording(recording)
        row = hand_over(grown, recording, survey, target)
    stem, _ = sf.read(tmp_path / row["output"], dtype="float32", always_2d=True)
    assert len(stem) == row["frames"] >= round(grown.ends_s * rate) > frames
    there = round((part.offset_s - moved.span[0] + at) * rate)
    assert np.abs(stem.T[:, there : there + copy.shape[1]] - copy).max() < 1e-6
    with pytest.raises(CallError, match="stretched"):
        passages.carried_on(part, start, end, at, 1.4)
    with pytest.raises(CallError, match="ten minutes"):
        passages.carried_on(part, start, end, part.source.duration + 600.0)
