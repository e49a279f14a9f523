"""Hand over and the take at hand: figures against pyloudnorm and against what was written."""

import os
import re
import shutil
import signal
import time
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile as sf
from msgspec.structs import replace

from conftest import write
from isophon.cli import main
from isophon.core.errors import Cancelled, OutputError
from isophon.core.handover import bundle
from isophon.core.handover.counts import kinds
from isophon.core.handover.labels import labels
from isophon.core.handover.proof import proof_values
from isophon.core.handover.report import write_report
from isophon.core.handover.stems import hand_over
from isophon.core.handover.target import Target, check_free
from isophon.core.passes import BY_NAME
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.session import file
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.takes.take import open_take
from isophon.core.work import worker
from voices import spoken


@pytest.fixture(scope="module")
def prepared(tmp_path_factory):
    samples, rate, _ = spoken("de")
    path = write(tmp_path_factory.mktemp("t") / "take.wav", samples, rate, "FLOAT")
    source = Source(str(path), rate, 1, len(samples))
    worker.measure(path, False, lambda fraction: None)
    take = open_take(source)
    settings = EssSettings(ceiling_db=-14.0, limit_db=-20.0)
    part = Part("part-1", "take", source, ess=settings, marks=take.surveyed.found.marks, found=True, voice_lufs=-20.0)
    return take, part


def loudness(samples, rate):
    return pyloudnorm.Meter(rate, filter_class="DeMan").integrated_loudness(samples.astype(float))


def test_the_reports_figures_are_those_of_the_files(prepared, tmp_path):
    take, part = prepared
    target = Target(tmp_path, depth="32f", removed=True, labels=True)
    told = []
    row = hand_over(part, take.recording, take.surveyed.survey, target, told.append)
    clean, rate = sf.read(tmp_path / "take.clean.wav")
    sung, _ = sf.read(part.source.path)
    assert row["before"]["loudness_lufs"] == pytest.approx(loudness(sung, rate), abs=0.1)
    assert row["after"]["loudness_lufs"] == pytest.approx(loudness(clean, rate), abs=0.1)
    assert row["before"]["true_peak_dbtp"] >= 20 * np.log10(np.abs(sung).max()) - 0.01
    changes = [part.change(m) for m in part.of_kind("ess")]
    ess = row["kinds"]["ess"]
    assert ess["changed"] == sum(c < 0 for c in changes) > 5
    assert ess["total_change_db"] == pytest.approx(sum(changes), abs=0.01)
    assert told == sorted(told) and told[-1] == 1.0
    first = (tmp_path / "take.marks.tsv").read_text().splitlines()[0].split("\t")
    mark = next(m for m in part.marks if BY_NAME[m.kind].reporter.in_time and not BY_NAME[m.kind].reporter.if_changed)
    assert (float(first[0]), float(first[1])) == mark.span and first[2].startswith("ess ")


def test_what_is_hardly_changed_counts_as_left(prepared):
    _, part = prepared
    highest = max(m.standout_db for m in part.of_kind("ess"))
    hardly = replace(part, ess=EssSettings(ceiling_db=round(highest - 0.02, 2), usual_db=24.0))
    clearly = replace(hardly, ess=EssSettings(ceiling_db=round(highest - 0.1, 2), usual_db=24.0))
    assert kinds(clearly)["ess"]["changed"] >= 1 and not any(map(hardly.change, hardly.of_kind("ess")))
    row = kinds(hardly)["ess"]
    assert row["changed"] == 0 and row["left"] == row["count"] > 5 and row["deepest_change_db"] == 0
    assert "change 0.0 dB" in labels(hardly) and "-0.0" not in labels(hardly)


def test_the_paragraph_tells_what_acts_on_the_whole_take_and_only_that(prepared):
    take, part = prepared
    part = replace(part, measured=take.surveyed.found.measured)
    by_rule = replace(part, ess=EssSettings(by="both", rule_over_db=-10.0, air_db=2.0))
    words = proof_values(by_rule, {})["whole"]
    assert words[-1] == ("esses by rule: from 5000 Hz, over -10.0 dB to the voice, 8:1, at most 12.0 dB off; "
                         "air: 2.0 dB of top from 9000 Hz")  # fmt: skip
    assert words[:-1] == proof_values(part, {})["whole"] != []
    still = replace(part, rumble=replace(part.rumble, on=False), hiss=replace(part.hiss, on=False),
                    hum=replace(part.hum, on=False))  # fmt: skip
    assert not any(word in line for line in proof_values(still, {})["whole"] for word in ("low cut", "hiss", "hum"))


def test_vowels_are_called_duller_only_where_they_were_more_than_noise(prepared):
    """Hiss that goes makes no voice duller; a top that goes does."""
    _, part = prepared
    hz = [1_000.0, 6_000.0, 9_000.0]
    still = {"hz": hz, "sung": [-70.0, -60.0, -60.0], "cleaned": [-80.0, -72.0, -72.0]}

    def warned(sung: list[float], cleaned: list[float], **more) -> bool:
        spectra = {"vowels": {"hz": hz, "sung": sung, "cleaned": cleaned}, **more}
        return any("duller: −8.0 dB" in words for words in proof_values(part, spectra)["warnings"])

    assert not warned([-20.0, -58.0, -59.0], [-20.0, -66.0, -67.0], **{"noise floor": still})
    assert warned([-20.0, -40.0, -59.0], [-20.0, -48.0, -67.0], **{"noise floor": still})
    assert warned([-20.0, -58.0, -59.0], [-20.0, -66.0, -67.0])


def test_esses_that_come_down_make_no_vowel_duller(prepared, tmp_path):
    """A Z is voiced and no vowel."""
    take, part = prepared
    deep = replace(part, ess=EssSettings(ceiling_db=-24.0, limit_db=-24.0))
    target = Target(tmp_path, depth="32f", proof=True)
    spectra = hand_over(deep, take.recording, take.surveyed.survey, target)["proof"]["spectra"]
    change = {name: np.mean(np.subtract(one["cleaned"], one["sung"])[np.array(one["hz"]) > 5_000])
              for name, one in spectra.items()}  # fmt: skip
    assert change["esses"] < -10 and change["vowels"] == pytest.approx(0, abs=0.2)


def test_what_a_label_says_breaks_no_line_and_acts_on_no_terminal(prepared):
    _, part = prepared
    marks = tuple(replace(m, sound="s\t\n\x1b[2J") for m in part.of_kind("ess")[:2])
    lines = labels(replace(part, marks=marks)).splitlines()
    assert len(lines) == 2 and all(line.count("\t") == 2 and "\x1b" not in line for line in lines)
    assert all("s\\t\\n\\x1b[2J" in line for line in lines)


def test_cancelled_in_the_middle_leaves_nothing(prepared, tmp_path):
    take, part = prepared

    def cancel(fraction):
        raise Cancelled

    with pytest.raises(Cancelled):
        hand_over(part, take.recording, take.surveyed.survey, Target(tmp_path), cancel)
    assert list(tmp_path.iterdir()) == []


def test_the_recording_itself_is_never_written_to(prepared, tmp_path):
    source = tmp_path / "take.clean.wav"
    source.write_bytes(b"precious")
    alias = tmp_path / "take.wav"
    alias.symlink_to(source)
    part = Part("p", "take", Source(str(alias), 48_000, 1, 1))
    with pytest.raises(OutputError, match="is one of the inputs"):
        check_free(part, Target(tmp_path, force=True))
    assert source.read_bytes() == b"precious"


def test_matched_gain_matches(prepared):
    """The gain from the survey's levels against a measurement of the rendered samples, within 0.15 LU."""
    take, part = prepared
    rate = take.recording.sample_rate
    deep = replace(part, ess=EssSettings(ceiling_db=-24.0, limit_db=-24.0))
    for plan in (part.plan, deep.plan):
        sung = take.recording.read(0, take.recording.frames)[0]
        clean = take.renderer.cleaned(plan, 0, take.recording.frames)[0]
        expected = loudness(sung, rate) - loudness(clean, rate)
        assert take.matched_gain_db(plan) == pytest.approx(expected, abs=0.15)
    assert take.matched_gain_db(()) == 0


def test_measuring_can_be_cancelled_and_a_take_says_what_is_wrong(prepared, tmp_path):
    take, part = prepared

    def cancel(fraction):
        raise Cancelled

    with pytest.raises(Cancelled):
        worker.measure(Path(part.source.path), True, cancel)
    assert open_take(take.source).surveyed is not None
    gone = open_take(replace(take.source, path=str(tmp_path / "gone.wav")))
    assert "gone.wav: no such file" in gone.trouble and gone.surveyed is None
    assert not gone.renderer.cleaned((), 0, 1000).any()
    other = open_take(replace(take.source, frames=17))
    assert "is not the recording" in other.trouble


def test_the_proof_holds_everything_itself_and_says_what_was_done(demo, tmp_path):
    out, song = tmp_path / "whole", file.load(demo)
    three = replace(song, parts=tuple(song.parts[i] for i in (0, 1, 4)))
    file.save(three, session := tmp_path / "Glasshouse Starlings.isophon")
    call = ["clean", "--session", str(session), "--out", str(out), "--quiet", "--report", "--together", "--whole",
            "--name", "{song} {number} {part}", "--set", "ess.ceiling_db=-24", "--set", "ess.limit_db=-24"]  # fmt: skip
    assert main(call) == 0
    html, late = (out / "report.html").read_text(), three.parts[2]
    assert not re.search(r'(src|href)="(?!data:|#)', html), "nothing outside of itself"
    for part in three.parts:
        assert part.name in html
    assert html.count("data:image/svg+xml;base64,") > 15 and "ess marks were changed" in html
    assert re.search(r"\d+ ess marks of the stack meet one of the lead’s", html)
    assert re.search(r"A lisp is likely at \d+:\d\d\.\d\d, ", html)
    assert re.search(r"Low cut at 150 Hz; hum: 50\.0\d Hz and \d+ partials, −6\d\.\d dBFS; hiss: −7\d\.\d dBFS", html)
    assert re.search(r"; bands: 26\d\d Hz hard ring \+\d\.\d dB, change −\d\.\d dB; ", html)
    assert "spot: 0 of" not in html, "what nobody drew"
    assert re.search(r"tick marks were changed over \d+ ms, the deepest removed", html)
    assert "Does not sing what the lead sings" in html.split('<h2 id="p3">')[1].split("<h2")[0]
    assert html.index("data:image/png;base64,") < html.index("<table>"), "the maps come first"
    assert html.index("Decided by the settings alone") > html.index('<h2 id="p3">'), "what nobody heard comes last"
    stems = sorted(out.glob("*.wav"))
    assert [s.name.split()[2] for s in stems] == ["01", "02", "03"]
    lengths = {sf.info(s).frames / sf.info(s).samplerate for s in stems}
    assert max(lengths) - min(lengths) < 1e-4, "all stems begin and end with the song"
    samples, rate = sf.read(next(s for s in stems if late.name in s.name))
    assert not samples[: round(late.offset_s * rate) - 1].any()
    assert main(call) == 4 and not list(tmp_path.glob(".isophon*")), "what is there is kept, and nothing half-written"


@pytest.mark.parametrize("pattern", ["{part.__class__}", "{part:>99999999}", "{0}", "{part!r}", "{"])
def test_a_pattern_of_names_can_only_say_what_it_may(demo, tmp_path, pattern):
    assert main(["clean", "--session", str(demo), "--out", str(tmp_path / "o"), "--name", pattern]) == 2


def test_stopped_or_killed_at_any_moment_a_whole_is_there_complete_or_not_at_all(prepared, tmp_path):
    """Fewer moments here than by ``ISOPHON_MOMENTS=50``; every other one is a kill that nothing can answer to."""
    take, part = prepared
    target = Target(tmp_path / "out", labels=True, removed=True)
    expected = {"take.clean.wav", "take.removed.wav", "take.marks.tsv", "report.json"}

    def made(tell):
        with bundle.all_or_nothing(target) as there:
            row = hand_over(part, take.recording, take.surveyed.survey, there, tell)
            write_report([row], there.folder, "song")

    begun = time.perf_counter()
    made(lambda fraction: None)
    lasts = time.perf_counter() - begun
    moments = int(os.environ.get("ISOPHON_MOMENTS", "12"))
    left = 0

    def complete() -> bool:
        there = target.folder.exists()
        if there:
            assert {path.name for path in target.folder.iterdir()} == expected
            shutil.rmtree(target.folder)
        return there

    assert complete()
    whole = []
    for i in range(moments + 1):
        signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGINT])  # else it may come before the child is ready for it
        child = os.fork()
        if child == 0:
            try:
                signal.signal(signal.SIGINT, signal.default_int_handler)
                signal.pthread_sigmask(signal.SIG_UNBLOCK, [signal.SIGINT])
                made(lambda fraction: None)
            finally:
                os._exit(0)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, [signal.SIGINT])
        time.sleep(lasts * i / moments)
        os.kill(child, signal.SIGKILL if i % 2 else signal.SIGINT)
        os.waitpid(child, 0)
        left += any(path.name.startswith(".isophon-whole-") for path in tmp_path.iterdir())
        whole.append(complete())
    assert left, "some were killed while they were at it"
    bundle.give_up(bundle.begin(target))  # the next one takes away what the killed ones had made so far
    assert not list(tmp_path.iterdir()) and not all(whole)
    two = [bundle.begin(target) for _ in range(2)]
    assert all(one.folder.is_dir() for one in two), "what is being filled now stays"
    for one in two:
        bundle.give_up(one)


def test_a_voice_can_be_handed_over_as_loud_as_it_was_sung(prepared, tmp_path):
    """A low cut high up takes loudness from the voice; with the gain of the report pyloudnorm finds it again."""
    take, part = prepared
    part = replace(part, rumble=replace(part.rumble, cut_hz=250.0, slope=24))
    sung, rate = sf.read(part.source.path)
    stems = {}
    for on in (False, True):
        target = Target(tmp_path / str(on), depth="32f", removed=True, as_loud=on)
        told = []
        row = hand_over(part, take.recording, take.surveyed.survey, target, told.append)
        assert told == sorted(told) and told[-1] == pytest.approx(1.0)
        stems[on] = sf.read(tmp_path / str(on) / "take.clean.wav")[0]
    assert loudness(stems[False], rate) < loudness(sung, rate) - 0.5
    assert loudness(stems[True], rate) == pytest.approx(loudness(sung, rate), abs=0.3)
    gain = 10 ** (row["voice_gain_db"] / 20)
    assert np.allclose(stems[True], gain * stems[False], atol=1e-6)
    removed = [sf.read(tmp_path / str(on) / "take.removed.wav")[0] for on in (False, True)]
    assert np.array_equal(*removed), "what was removed is told without the gain"
