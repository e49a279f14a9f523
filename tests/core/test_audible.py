"""How audible blemishes are, against published thresholds, and that nothing louder beside makes them more so."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from isophon.cli import main
from isophon.core.audio.masking import over_threshold_db
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.finding import find_all, survey_recording
from isophon.core.marks import Hand
from isophon.core.passes import BY_NAME
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.tick.mark import TickMark
from isophon.core.session.audible import Beside, audible_db, judged, still_over_db, worth_hearing
from isophon.core.session.chain import Chain
from isophon.core.session.chain_curves import chain_gains
from isophon.core.session.items import Source
from isophon.core.session.model import Part

EDGES = third_octave_edges(50, 16_000)
WIDTHS = np.diff(EDGES)
CENTRES = np.sqrt(EDGES[1:] * EDGES[:-1])


def in_band(hz: float, power: float, frames: int = 1) -> np.ndarray:
    out = np.zeros((frames, len(CENTRES)))
    out[:, np.argmin(np.abs(np.log(CENTRES / hz)))] = power
    return out


@pytest.mark.parametrize(("hz", "ratio_db"), [(500, 17.0), (1_000, 18.0), (2_000, 20.0), (4_000, 23.0)])
def test_a_tone_in_noise_is_at_its_threshold_at_the_critical_ratio(hz, ratio_db):
    """Level of a tone over the noise in 1 Hz (Hawkins & Stevens 1950; from memory), as near as third octaves tell."""
    noise = WIDTHS[None, :] * 1e-6
    tone = in_band(hz, 1e-6 * 10 ** (ratio_db / 10))
    assert over_threshold_db(tone, noise, EDGES, 0.005, -20.0)[0] == pytest.approx(0, abs=4.5)


def test_what_is_under_the_hearing_threshold_is_heard_by_nobody():
    """1 kHz: about 4 dB SPL (ISO 226; from memory); a voice of −20 LUFS is heard at 75."""
    silence = np.zeros((1, len(CENTRES)))
    for spl, heard in ((-4.0, False), (14.0, True)):
        level = 10 ** ((spl - 95.0) / 10)
        assert (over_threshold_db(in_band(1_000, level), silence, EDGES, 0.005, -20.0)[0] > 0) == heard


def test_a_masker_fades_from_the_ear_and_masks_nothing_far_above_or_before():
    """Forward masking is gone after some 200 ms (common knowledge); low sounds mask what lies close above them."""
    masker, sound = in_band(2_000, 1e-2, 80), in_band(2_000, 1e-5, 80)
    masker[20:] = 0
    over = over_threshold_db(sound, masker, EDGES, 0.005, -20.0)
    assert over[10] < 0 and over[22] < over[30] < over[79] and over[79] > 30
    near, far = (
        over_threshold_db(in_band(hz, 1e-5), in_band(1_000, 1e-2), EDGES, 0.005, -20.0)[0] for hz in (1_250, 8_000)
    )
    assert near < far


@given(st.lists(st.floats(0, 1), min_size=len(CENTRES), max_size=len(CENTRES)), st.floats(1, 1e6))
def test_a_louder_masker_never_makes_a_sound_more_audible(spectrum, louder):
    sound, masker = in_band(3_000, 1e-4), np.array([spectrum]) * 1e-4
    before, after = (over_threshold_db(sound, masker * gain, EDGES, 0.005, -20.0)[0] for gain in (1.0, louder))
    assert after <= before + 1e-9


@pytest.fixture(scope="module")
def lead_found(demo):
    from isophon.core.audio.files import Recording

    with Recording(demo.parent / "Lead.wav") as recording:
        survey = survey_recording(recording)
        found = find_all(recording, survey)
        source = Source(str(recording.path), recording.sample_rate, recording.channels, recording.frames)
    return replace(Part("part-1", "Lead", source), marks=found.marks, measured=found.measured, found=True), survey


def test_esses_and_breaths_are_audible_alone_and_less_so_under_music(lead_found):
    part, survey = lead_found
    changed = [mark for mark in part.marks if judged(mark.kind) and part.change(mark)]
    assert {mark.kind for mark in changed} >= {"ess", "breath", "tick"}
    assert not judged("pop") and not judged("gap"), "small loudspeakers hide those"
    alone = np.array([audible_db(part, mark, survey) for mark in changed])
    assert np.mean(alone > 0) > 0.9
    hiss = replace_bands(
        survey, np.broadcast_to(10 ** (-35 / 10) * np.diff(survey.band_edges) / 1_000, survey.bands.shape)
    )
    for gain, least in ((-30.0, 0.0), (30.0, 20.0)):
        under = np.array([audible_db(part, mark, survey, [Beside(hiss, part.offset_s, gain)]) for mark in changed])
        assert (under <= alone + 0.1).all() and np.median(alone - under) >= least
    after = Beside(hiss, part.offset_s + 10_000, 30.0)
    assert audible_db(part, changed[0], survey, [after]) == alone[0], "what does not sound then masks nothing"


def test_a_compressor_makes_breaths_more_audible_under_music_and_louder_music_never_does(lead_found):
    """Compression raises what is soft beside what is loud; a chain that does nothing changes nothing."""
    part, survey = lead_found
    breaths = [mark for mark in part.of_kind("breath") if part.change(mark)]
    hiss = replace_bands(survey, np.broadcast_to(1e-8 * np.diff(survey.band_edges), survey.bands.shape))
    hard = chain_gains(survey, Chain(threshold_db=-40.0, ratio=8.0, shelf_db=0.0))
    none = chain_gains(survey, Chain(ratio=1.0, shelf_db=0.0))
    as_sung, same, after, louder = (
        np.array([audible_db(part, mark, survey, [Beside(hiss, part.offset_s, gain)], chained) for mark in breaths])
        for chained, gain in ((None, 0.0), (none, 0.0), (hard, 0.0), (hard, 12.0))
    )
    assert same == pytest.approx(as_sung, abs=0.11)
    assert np.median(after - as_sung) > 3 and (louder <= after).all()


def test_what_stays_over_its_ceiling_is_worth_hearing(lead_found):
    part, _survey = lead_found
    mark = max(part.of_kind("breath"), key=lambda m: m.standout_db)
    over = mark.standout_db - part.breath.ceiling_db
    assert over > 6 and still_over_db(part, mark) == pytest.approx(over + part.breath.limit_db)
    deeper = replace(part, breath=replace(part.breath, limit_db=-36.0))
    assert still_over_db(deeper, mark) == 0
    assert worth_hearing(20.0, part, mark, 0.0) > worth_hearing(20.0, deeper, mark, 0.0) > 0
    assert worth_hearing(-1.0, part, mark, 0.0) == 0, "what cannot be heard is not worth hearing"


def test_a_boost_is_audible_as_well_and_of_damage_nothing_is_told(lead_found):
    part, survey = lead_found
    start = next(mark.start for mark in part.of_kind("ess") if part.change(mark))
    for change in (12.0, -12.0):
        spot = SpotMark(
            "spot-1", start, start + 0.1, -30.0, 0.0, 4_000.0, 9_000.0, 1.0, Hand(change_db=change, drawn=True)
        )
        assert audible_db(replace(part, marks=(spot,)), spot, survey) > 6
    clipped = TickMark("tick-1", start, start + 0.01, -30.0, 0.0, 20.0, 20_000.0, 1.0, sound="clipped")
    mended = replace(part, marks=(clipped,), tick=replace(part.tick, mend=True))
    assert mended.change(clipped) < 0 and audible_db(mended, clipped, survey) is None


def replace_bands(survey, bands):
    import dataclasses

    return dataclasses.replace(survey, bands=bands.astype(np.float32))


def test_find_tells_how_audible_marks_are(demo, capsys):
    assert main(["find", str(demo.parent / "Lead.wav"), "--json", "--quiet", "--only", "tick,ess,pop"]) == 0
    rows = json.loads(capsys.readouterr().out)["marks"]
    told = {row["kind"] for row in rows if "audible_db" in row}
    assert told == {"tick", "ess"}
    assert all(("audible_db" in row) == bool(row["change_db"]) for row in rows if BY_NAME[row["kind"]].removed)
