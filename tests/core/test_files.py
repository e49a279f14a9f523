"""Files in: formats, rates, and what is said of files that cannot be used."""

import numpy as np
import pytest
import soundfile as sf
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import LONG, write
from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, IsophonError

RNG = np.random.default_rng(1)
TONE = (0.3 * np.sin(np.arange(5000) * 0.05)).astype(np.float32)


@pytest.mark.parametrize(
    ("ending", "fmt", "subtype", "tolerance"),
    [
        ("wav", "WAV", "PCM_16", 2**-15), ("wav", "WAV", "PCM_24", 2**-23), ("wav", "WAV", "PCM_32", 2**-23),
        ("wav", "WAV", "FLOAT", 0), ("wav", "WAVEX", "PCM_24", 2**-23), ("wav", "RF64", "PCM_24", 2**-23),
        ("aiff", "AIFF", "PCM_24", 2**-23), ("flac", "FLAC", "PCM_24", 2**-23), ("ogg", "OGG", "VORBIS", 0.06),
    ],
)  # fmt: skip
@pytest.mark.parametrize("rate", [8000, 44100, 192000])
def test_reads_formats_in_any_piece(tmp_path, ending, fmt, subtype, tolerance, rate):
    stereo = np.stack([TONE, -0.5 * TONE])
    path = write(tmp_path / f"take.{ending}", stereo, rate, subtype, format=fmt)
    with Recording(path) as recording:
        assert (recording.sample_rate, recording.channels, recording.frames) == (rate, 2, 5000)
        whole = np.concatenate(list(recording.blocks(700)), axis=1)
        assert np.abs(whole - stereo).max() <= tolerance
        piece = recording.read(4900, 300)
        assert np.array_equal(piece[:, :100], whole[:, 4900:]) and not piece[:, 100:].any()
        assert np.array_equal(recording.read(-50, 100)[:, 50:], whole[:, :50])


def test_says_what_is_wrong_with_a_file(tmp_path):
    good = write(tmp_path / "good.wav", RNG.standard_normal(20_000) * 0.1, 48_000)
    data = good.read_bytes()
    flac = write(tmp_path / "good.flac", RNG.standard_normal(20_000) * 0.1, 48_000, format="FLAC").read_bytes()
    ogg = write(tmp_path / "good.ogg", RNG.standard_normal(90_000) * 0.1, 48_000, "VORBIS", format="OGG").read_bytes()
    aiff = write(tmp_path / "good.aiff", RNG.standard_normal(20_000) * 0.1, 48_000, format="AIFF").read_bytes()
    cases = {
        "empty.wav": (b"", "is empty"), "text.wav": (b"a shopping list, no sound\n" * 40, "is not audio"),
        "cut.wav": (data[: len(data) // 2], "is cut short"), "cut.flac": (flac[: len(flac) // 2], "cut short|decoded"),
        "cut.ogg": (ogg[: len(ogg) // 2], "is cut short"), "cut.aiff": (aiff[: len(aiff) // 2], "is cut short"),
    }  # fmt: skip
    for name, (content, words) in cases.items():
        (tmp_path / name).write_bytes(content)
        with pytest.raises(InputError, match=rf"^{name}: .*({words})"):
            list(Recording(tmp_path / name).blocks())
    with pytest.raises(InputError, match=r"no such file"):
        Recording(tmp_path / "missing.wav")
    with pytest.raises(InputError, match=r"6 channels"):
        Recording(write(tmp_path / "six.wav", np.zeros((6, 100)), 48_000))
    broken = RNG.standard_normal(9_000) * 0.1
    broken[5_000] = np.nan
    with pytest.raises(InputError, match=r"not numbers near 0\.1 s"):
        list(Recording(write(tmp_path / "nan.wav", broken, 48_000, "FLOAT")).blocks())


def test_a_streamed_wav_without_a_length_is_read(tmp_path):
    data = bytearray(write(tmp_path / "stream.wav", TONE, 48_000, "PCM_16").read_bytes())
    at = data.index(b"data")
    data[at + 4 : at + 8] = b"\xff\xff\xff\xff"
    data[4:8] = b"\xff\xff\xff\xff"
    (tmp_path / "stream.wav").write_bytes(data)
    assert Recording(tmp_path / "stream.wav").frames == 5000


@settings(max_examples=30 * LONG)
@given(st.binary(max_size=4000), st.sampled_from([b"", b"RIFF\x00\x10\x00\x00WAVE", b"fLaC", b"OggS\x00\x02", b"FORM"]))
def test_random_bytes_give_a_clear_error(fresh, content, head):
    path = fresh() / "junk.wav"
    path.write_bytes(head + content)
    try:
        recording = Recording(path)
        list(recording.blocks())
    except IsophonError as error:
        assert str(error).startswith("junk.wav: ") and "\n" not in str(error)
    else:
        assert recording.frames == sf.info(path).frames


def test_a_span_of_an_ogg_is_always_the_same_samples(tmp_path):
    """Seeking in Vorbis is not exact; marks are rendered from spans read out of order."""
    noise = RNG.standard_normal(48_000 * 40).astype(np.float32) * 0.1
    path = tmp_path / "long.ogg"
    with sf.SoundFile(path, "w", 48_000, 1, format="OGG", subtype="VORBIS") as file:
        for start in range(0, len(noise), 65_536):
            file.write(noise[start : start + 65_536])
    recording = Recording(path)
    whole = np.concatenate(list(recording.blocks()), axis=1)
    for start in RNG.integers(0, recording.frames - 5000, 300):
        assert np.array_equal(recording.read(int(start), 5000), whole[:, start : start + 5000])
