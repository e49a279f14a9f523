"""Line-up: words of two speakers of one text by espeak-ng's phoneme events, and what stretching leaves alone."""

import difflib
import json

import numpy as np
import parselmouth
import pytest
import soundfile as sf
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import LONG, Written, reader, write
from isophon.cli import main
from isophon.core.demo.take import load_labels
from isophon.core.finding import find_against, survey_recording
from isophon.core.passes.splicing import spliced, splices
from isophon.core.passes.timing.settings import role_default
from isophon.core.passes.timing.stretch import Moved
from isophon.core.render import Renderer
from isophon.core.session import file
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from voices import ALSA, VOICES, alsa, speak

TEXTS = {
    "en": ["The window is open and the night is cold.", "Take the paper boat and follow me home."],
    "de": ["Das Fenster ist offen und die Nacht ist kalt.", "Nimm das Boot und folge mir nach Hause."],
    "it": ["La finestra è aperta e la notte è fredda.", "Prendi la barca e seguimi a casa."],
}
PAIRS = [("en-us", "en-us+f3"), ("de", "de+f2"), ("it+f1", "it+m4")]


def pair(lead, part, seed=1):
    """Both say the same phrases, the part's up to 0.25 s early or late: takes, rate, onsets (lead's, part's) in s."""
    rng, at, takes, events = np.random.default_rng(seed), 0.5, ([], []), ([], [])
    for text in TEXTS[VOICES[lead]]:
        longest = 0.0
        for i, (voice, moved) in enumerate(((lead, 0.0), (part, rng.uniform(-0.25, 0.25)))):
            samples, rate, phonemes = speak(voice, text)
            takes[i].append((at + moved, samples))
            events[i].extend((at + moved + start, name) for start, _, name in phonemes)
            longest = max(longest, len(samples) / rate)
        at += longest + 0.5
    result = []
    for placed in takes:
        take = rng.standard_normal(int(at * rate) + rate).astype(np.float32) * 3e-4
        for start, samples in placed:
            take[int(start * rate) : int(start * rate) + len(samples)] += samples
        result.append(take)
    blocks = difflib.SequenceMatcher(None, *([n for _, n in e] for e in events), autojunk=False).get_matching_blocks()
    onsets = [(events[0][a + i][0], events[1][b + i][0]) for a, b, n in blocks for i in range(n)]
    return result, rate, np.array(onsets)


def found(tmp_path, capsys, take, lead, rate, *more):
    files = [write(tmp_path / f"{name}.wav", x, rate, "FLOAT") for name, x in (("part", take), ("lead", lead))]
    call = ["find", str(files[0]), "--role", "double", "--lead", str(files[1]), "--only", "timing", "--json", "--quiet"]
    assert main([*call, *more]) == 0
    return json.loads(capsys.readouterr().out), files


@pytest.mark.parametrize(("lead", "part"), PAIRS)
def test_words_come_to_lie_a_hair_after_the_leads(tmp_path, capsys, lead, part):
    takes, rate, onsets = pair(lead, part)
    told, files = found(tmp_path, capsys, takes[1], takes[0], rate)
    anchors = np.array(told["line_up"]["anchors"])
    assert told["line_up"]["lead"] == "lead.wav" and (np.diff(anchors, axis=0) > 0).all()
    before = onsets[:, 1] - onsets[:, 0]
    after = np.interp(onsets[:, 1], *anchors.T) - onsets[:, 0]
    out = np.abs(before) > 0.036  # up to 35 ms late allowed
    assert np.mean(np.abs(after[out]) < np.abs(before[out])) >= 0.95
    assert np.median(np.abs(after - 0.008)) < 0.01 and np.percentile(np.abs(after - 0.008), 90) < 0.03
    for mark in told["marks"]:
        assert mark["kind"] == "timing" and abs(mark["change_ms"]) <= 250.5
    call = ["clean", str(files[0]), "--role", "double", "--lead", str(files[1]), "--only", "timing", "--quiet"]
    assert main([*call, "--depth", "32f", "--out", str(tmp_path / "out")]) == 0
    moved = sf.read(tmp_path / "out" / "part.clean.wav", dtype="float32")[0]
    assert len(moved) == len(takes[1])
    jumps = [np.abs(np.diff(x, 2)).max() for x in (takes[1], moved)]
    assert jumps[1] <= 1.1 * jumps[0], "no click at a joint"


def test_an_early_word_one_after_a_missing_word_and_a_late_ending(demo, tmp_path, capsys):
    """The demo's high harmony by its exact labels: they come to lie by the lead's, and nothing takes the missing one's
    place."""
    sung, lead = ([x for x in load_labels(demo.parent, name) if x.sound == "word"] for name in ("High harmony", "Lead"))
    call = ["find", str(demo.parent / "High harmony.wav"), "--role", "harmony", "--lead", str(demo.parent / "Lead.wav"),
            "--only", "timing", "--json", "--quiet"]  # fmt: skip
    assert main(call) == 0
    anchors = np.array(json.loads(capsys.readouterr().out)["line_up"]["anchors"])

    def off(word, which):
        """Seconds later than the lead's like, before and after."""
        theirs = min((getattr(x, which) for x in lead), key=lambda t: abs(t - getattr(word, which) + word.value))
        return getattr(word, which) - theirs, np.interp(getattr(word, which), *anchors.T) - theirs

    early = min(sung, key=lambda x: x.value)
    assert early.value == -0.12
    before, after = off(early, "start")
    assert before < -0.07 and abs(after - 0.008) < 0.02
    held = max(sung, key=lambda x: x.end - x.start)
    before, after = off(held, "end")
    assert before > 0.15 and after < 0.5 * before, "as far as a word may be shortened"
    before, after = off(sung[-1], "start")
    assert sung[-1].start - sung[-2].end > 0.1, "a word is missing before it"
    assert abs(after) < max(0.035, abs(before))
    call = ["clean", *call[1:-2], "--quiet", "--depth", "32f", "--out", str(tmp_path)]
    assert main(call) == 0, "and all that can be rendered"
    assert sf.info(tmp_path / "High harmony.clean.wav").frames == sf.info(call[1]).frames


WORDS = [path.stem for path in sorted(ALSA.glob("[FRS]*.wav"))]
SOUNDS = {
    "sung": lambda n, rng: 0.1 * np.sin(np.arange(n) * rng.uniform(0.003, 0.3)),
    "noise": lambda n, rng: 0.05 * rng.standard_normal(n),
    "faint": lambda n, rng: 1e-4 * rng.standard_normal(n),
    "silence": lambda n, rng: np.zeros(n),
    "word": lambda n, rng: 0.1 * rng.standard_normal(n) * (np.arange(n) > n // 2),
}


@settings(max_examples=300 * LONG, deadline=None)
@given(st.sampled_from(sorted(SOUNDS)), st.sampled_from([8_000, 9_600, 44_100, 48_000, 96_000, 192_000]),
       st.floats(0, 1), st.floats(-0.5, 0.8), st.sampled_from([0.0, 0.05]), st.integers(0, 1 << 30))  # fmt: skip
def test_a_stretch_gets_exactly_as_long_as_was_asked(sound, rate, size, gain_s, around_s, seed):
    """Whatever it holds, whatever its length (from 5 ms, as plans have them) and however much is asked for."""
    length = round(rate * 0.005 * 200**size)
    gain, around = max(1 - length, round(gain_s * rate)), round(around_s * rate)
    samples = SOUNDS[sound](length + 2 * around, np.random.default_rng(seed))
    cuts = splices(samples, slice(around, around + length), gain, rate)
    out = spliced(np.stack([samples, -samples]).astype(np.float32), around, length, cuts, rate)
    assert out.shape == (2, length + gain) and np.isfinite(out).all()
    assert np.abs(out).max() <= np.sqrt(2) * np.abs(samples).max() + 1e-6, "crossed at even power"
    place = 0
    for cut in cuts:
        assert place <= cut.at <= length and 0 <= cut.at + cut.by <= length, "only what lies in the stretch is played"
        place = cut.at + cut.by


def test_a_double_sung_early_or_late_as_a_whole_is_rendered(demo, tmp_path):
    """Also one whose first word begins with the file: what is missing before it is silence."""
    lead, rate = sf.read(demo.parent / "Lead.wav", dtype="float32")
    lead = np.atleast_2d(lead.T)[0][round(6.9 * rate) : round(20 * rate)]
    reference = write(tmp_path / "lead.wav", lead, rate, "FLOAT")
    for shift in (-0.24, -0.168, -0.096, 0.144, 0.168):
        moved = round(abs(shift) * rate)
        shifted = np.pad(lead, (moved, 0))[: len(lead)] if shift > 0 else np.pad(lead, (0, moved))[moved:]
        part = write(tmp_path / f"double{shift}.wav", shifted, rate, "FLOAT")
        call = ["clean", str(part), "--role", "double", "--lead", str(reference), "--only", "timing", "--quiet"]
        assert main([*call, "--depth", "32f", "--out", str(tmp_path / "out")]) == 0, shift
        out = sf.read(tmp_path / "out" / f"double{shift}.clean.wav", dtype="float32")[0]
        assert len(out) == len(lead) and np.isfinite(out).all() and not np.array_equal(out, shifted)


@pytest.mark.parametrize("seed", range(3 if LONG == 1 else 200))
def test_pairs_of_recorded_voices_shifted_and_warped_are_all_rendered(seed):
    """Words of Debian's alsa-utils: moved whole by up to 0.25 s, read along a smooth random warp, at any level."""
    rng, rate = np.random.default_rng(seed), 48_000
    lead, at = np.zeros(8 * rate, np.float32), 0.0 if seed % 4 == 0 else 0.3
    while at < 7:
        word, own = alsa(WORDS[rng.integers(len(WORDS))])
        word = soxr.resample(word, own, rate).astype(np.float32)[: len(lead) - round(at * rate)]
        lead[round(at * rate) : round(at * rate) + len(word)] += word
        at += len(word) / rate + rng.uniform(0.02, 0.7)
    time = np.arange(len(lead)) / rate
    knots = rng.uniform(-0.12, 0.12, 6) + rng.uniform(-0.25, 0.25)
    read = np.interp(time, time + np.interp(time, np.linspace(0, 8, 6), knots), time, left=-1, right=9)
    double = np.interp(read, time, lead, left=0, right=0) * rng.uniform(0.1, 1.0)
    takes = [Written(x + rng.standard_normal(len(x)) * 10 ** rng.uniform(-4.5, -3), rate) for x in (lead, double)]
    surveys = [survey_recording(take) for take in takes]
    beside = find_against(takes[1], surveys[1], surveys[0], 0.0)
    part = Part("p", "p", Source("p.wav", rate, 1, len(lead)), "double", found=True, marks=beside.marks,
                timing=role_default("double"))  # fmt: skip
    out = Renderer(takes[1].read, rate, len(lead)).cleaned(part.plan, 0, len(lead))
    assert out.shape == (1, len(lead)) and np.isfinite(out).all()
    assert np.abs(out).max() <= 1.42 * np.abs(takes[1].read(0, len(lead))).max()


def test_another_text_and_a_part_in_time_stay_bit_for_bit(tmp_path, capsys):
    takes, rate, _ = pair(*PAIRS[0])
    for other in (pair(*PAIRS[2])[0][0], takes[1]):
        told, files = found(tmp_path, capsys, takes[1], other, rate)
        assert told["line_up"]["anchors"] == [] and all(m["change_ms"] == 0 for m in told["marks"])
        out = ["--depth", "32f", "--out", str(tmp_path / "out"), "--quiet", "--force"]
        assert (
            main(["clean", str(files[0]), "--role", "double", "--lead", str(files[1]), "--only", "timing", *out]) == 0
        )
        assert np.array_equal(sf.read(tmp_path / "out" / "part.clean.wav", dtype="float32")[0], takes[1])


@pytest.mark.parametrize("share", [0.75, 1.35])
def test_stretching_keeps_the_pitch_and_its_spans_equal_the_whole(share):
    """A vowel with vibrato: pitch by Praat (parselmouth) within 10 cents of its own, and no jump."""
    rate = 48_000
    time = np.arange(2 * rate) / rate
    f0 = 190 * 2 ** (0.4 / 12 * np.sin(2 * np.pi * 5.2 * time))
    phase = 2 * np.pi * np.cumsum(f0) / rate
    vowel = sum(np.sin(k * phase) / k for k in range(1, 20)).astype(np.float32) * 0.1
    length, first = rate, rate // 2
    move = Moved(first, first + round(share * length), first, length)
    renderer = Renderer(reader(vowel[None]), rate, len(vowel))
    whole = renderer.cleaned((move,), 0, len(vowel))
    pieces = [Renderer(reader(vowel[None]), rate, len(vowel)).cleaned((move,), at, 7_001) for at in (20_000, 60_000)]
    assert all(np.array_equal(p, whole[:, at : at + 7_001]) for p, at in zip(pieces, (20_000, 60_000), strict=True))
    moved = whole[0, move.first : move.last]
    assert np.abs(np.diff(moved, 2)).max() < 1.15 * np.abs(np.diff(vowel, 2)).max()
    tracks = [
        parselmouth.Sound(x, rate).to_pitch_ac(0.005, 100, very_accurate=True) for x in (vowel[first:][:length], moved)
    ]
    heard = [t.selected_array["frequency"] for t in tracks]
    low, high = (np.array([np.percentile(h[h > 0], q) for h in heard]) for q in (5, 95))
    for ends in (low, high):
        assert abs(1200 * np.log2(ends[1] / ends[0])) < 10
    assert np.mean(heard[1] > 0) > 0.97


def test_a_session_that_was_never_heard_beside_its_lead_is_lined_up_in_a_terminal(demo, tmp_path, capsys):
    """The demo's stack is late on purpose; the report tells how far, before and after."""
    song = file.load(demo)
    file.save(replace(song, parts=(song.parts[0], song.parts[1], song.parts[4])), session := tmp_path / "song.isophon")
    call = ["clean", "--session", str(session), "--only", "timing", "--out", str(tmp_path / "o"), "--json", "--quiet"]
    assert main(call) == 0
    rows = {row["file"]: row["kinds"].get("timing") for row in json.loads(capsys.readouterr().out)["files"]}
    told = rows["Lead double.wav"]
    assert told["before_ms"]["median"] > 40 and 0 < told["after_ms"]["median"] < 16, told
    assert told["after_ms"]["off_90"] < 0.7 * told["before_ms"]["off_90"]
    assert rows["Ad-libs.wav"] == {"count": 0, "changed": 0, "left": 0, "total_change_db": 0, "deepest_change_db": 0.0,
                                   "alike": rows["Ad-libs.wav"]["alike"], "same": False}  # fmt: skip


def test_a_stack_follows_the_lead_that_sings_with_it(tmp_path, capsys):
    """A verse lead and a chorus lead, each silent where the other sings; a third that sings something else there.

    The part lines up as well with both as with one that sings all of it; each phrase goes by its own lead.
    """
    takes, rate, onsets = pair("en-us", "en-us+f3")
    gaps = np.diff(onsets[:, 0])
    middle = round((onsets[np.argmax(gaps), 0] + gaps.max() / 2 + 0.2) * rate)
    noise = np.random.default_rng(2).standard_normal(len(takes[0])).astype(np.float32) * 3e-4
    verse, chorus = takes[0].copy(), takes[0].copy()
    verse[middle:], chorus[:middle] = noise[middle:], noise[:middle]
    other = speak("de", TEXTS["de"][1])[0][:middle]
    wrong = chorus.copy()
    wrong[: len(other)] = other  # sings in the verse too, but another text
    files = {name: write(tmp_path / f"{name}.wav", x, rate, "FLOAT")
             for name, x in (("part", takes[1]), ("whole", takes[0]), ("verse", verse), ("chorus", chorus),
                             ("wrong", wrong))}  # fmt: skip

    def off(*leads: str) -> tuple[float, dict]:
        call = ["find", str(files["part"]), "--role", "double", "--only", "timing,ess", "--json", "--quiet"]
        assert main([*call, *(x for name in leads for x in ("--lead", str(files[name])))]) == 0
        told = json.loads(capsys.readouterr().out)
        anchors = np.array(told["line_up"]["anchors"] or [[0, 0], [60, 60]])
        return float(np.percentile(np.abs(np.interp(onsets[:, 1], *anchors.T) - onsets[:, 0] - 0.008), 80)), told

    whole, told = off("whole")
    both, told_both = off("verse", "chorus")
    assert both < whole + 0.01 and told_both["line_up"]["lead"] == "verse.wav, chorus.wav"
    likest, _ = off("wrong", "verse")
    assert likest < whole + 0.015
    assert off("verse")[0] > 2 * both, "the verse lead alone tells nothing of the chorus"
    partners = [[m.get("partner_s") for m in one["marks"] if m["kind"] == "ess"] for one in (told, told_both)]
    assert partners[0] == pytest.approx(partners[1], abs=0.02) and any(partners[1])
