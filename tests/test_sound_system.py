"""What reaches the sound system, through PortAudio to ALSA and to JACK, is what `clean` writes, to the last bit.

Neither needs a sound card: ALSA plays to a file (its plugin ``file`` over ``null``), JACK has a server that plays to
nobody (its driver ``dummy``), of which another client records. PipeWire takes both kinds of clients; that is not tried.
"""

import os
import shutil
import signal
import subprocess
import sys
import time

import numpy as np
import pytest
import soundfile as sf
from msgspec.structs import replace

from conftest import write
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.playing.mix import Strip
from isophon.core.playing.remote import RemotePlayer
from isophon.core.session import layout
from isophon.core.work.completing import completed
from isophon.core.work.worker import render_ahead
from voices import spoken

RATE = 48_000
ASOUND = """
pcm.!default {{ type file slave.pcm {{ type null }} file "{path}" format "raw" }}
ctl.!default {{ type hw card 0 }}
"""
RECORD = """
import sys
import numpy as np
import sounddevice
blocks = []
with sounddevice.InputStream(channels=2, dtype="float32", latency="high",
                             callback=lambda block, frames, time, status: blocks.append(block.copy())):
    print("recording", flush=True)
    sys.stdin.readline()
np.save(sys.argv[1], np.concatenate(blocks))
"""


@pytest.fixture(scope="module")
def cleaned(tmp_path_factory):
    """A take that was cleaned in the terminal: its part, and its stem, float32."""
    folder = tmp_path_factory.mktemp("take")
    samples, rate, _ = spoken("de")
    path = write(folder / "take.wav", np.repeat(samples, 2)[: 8 * RATE] if rate != RATE else samples, RATE)
    assert main(["clean", str(path), "--out", str(folder), "--depth", "32f", "--quiet"]) == 0
    stem, _ = sf.read(folder / "take.clean.wav", dtype="float32")
    with Recording(path) as recording:
        session = layout.new_session("s", [layout.Arrival("take", layout.source_of(recording), "lead")])
        part, _ = completed(session, session.parts[0], recording, lambda step, fraction: None)
    render_ahead(replace(part, found=True), 0.0, lambda fraction: None)
    assert np.abs(stem - sf.read(path, dtype="float32")[0]).max() > 1e-3, "something was cleaned"
    return part, stem


def ready(part):
    """A player of a part, of which what comes first is rendered."""
    player = RemotePlayer()
    player.open(RATE, part.source.frames)
    version = player.set_scene((Strip(part.source, part.plan),), part.source.frames)
    assert player.ready(version, 60.0)
    time.sleep(1.0)
    return player


def test_alsa_plays_what_clean_writes(cleaned, tmp_path, monkeypatch):
    """The null device takes blocks faster than any real one plays, so that some come too late: pieces are compared."""
    part, stem = cleaned
    played = tmp_path / "played.raw"
    (tmp_path / "asound.conf").write_text(ASOUND.format(path=played))
    monkeypatch.setenv("ALSA_CONFIG_PATH", str(tmp_path / "asound.conf"))
    monkeypatch.setenv("JACK_NO_START_SERVER", "1")
    monkeypatch.delenv("ISOPHON_SILENT")
    player = ready(part)
    player.play()
    time.sleep(1.5)
    silent = player.device.silent
    player.end()
    if silent:
        pytest.skip("PortAudio opened no device here; the stand-in played")
    time.sleep(0.3)
    raw = played.read_bytes()
    heard = np.frombuffer(raw[: len(raw) // 8 * 8], np.float32).reshape(-1, 2)
    matched = 0
    for at in range(0, len(heard) - 400, 400):
        piece = heard[at : at + 400, 0]
        starts = np.flatnonzero(stem[:-400] == piece[0]) if np.abs(piece).max() > 1e-3 else ()
        matched += any(np.array_equal(stem[a : a + 400], piece) for a in starts[:400])
    assert matched > 20 and np.array_equal(heard[:, 0], heard[:, 1])


@pytest.fixture
def jack(tmp_path, monkeypatch):
    """A JACK server of the test's own that plays to nobody."""
    if not shutil.which("jackd"):
        pytest.skip("there is no jackd here")
    for name, value in (("JACK_DEFAULT_SERVER", f"isophon-{os.getpid()}"), ("JACK_NO_AUDIO_RESERVATION", "1")):
        monkeypatch.setenv(name, value)
    monkeypatch.delenv("ISOPHON_SILENT")
    command = ["jackd", "--no-realtime", "-d", "dummy", "-r", str(RATE), "-p", "512"]
    with open(tmp_path / "jackd.log", "w") as told:
        server = subprocess.Popen(command, stdout=told, stderr=told)
    until = time.monotonic() + 10
    while subprocess.run(["jack_lsp"], capture_output=True, check=False).returncode and time.monotonic() < until:
        time.sleep(0.1)
    yield
    server.send_signal(signal.SIGTERM)
    server.wait(10)


def test_jack_plays_what_clean_writes(cleaned, jack, tmp_path):
    part, stem = cleaned
    recorded = tmp_path / "recorded.npy"
    recorder = subprocess.Popen([sys.executable, "-c", RECORD, str(recorded)], stdin=subprocess.PIPE,
                                stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert recorder.stdout.readline() == "recording\n"
    before = ports()
    player = ready(part)
    assert not player.device.silent
    ours = sorted(name for name in ports() - before if ":out_" in name)
    its = sorted(name for name in before if ":in_" in name)
    for source, target in zip(ours, its, strict=True):
        subprocess.run(["jack_connect", source, target], check=True, capture_output=True)
    player.play()
    time.sleep(2.5)
    place = player.position
    player.end()
    recorder.communicate("\n", timeout=20)
    heard = np.load(recorded)
    begins = int(np.argmax(np.abs(heard[:, 0]) > 0)) + 2_048  # faded in by then
    # on a busy machine a client loses a period of JACK now and then: half a second in which none did is compared
    pieces = [heard[at : at + RATE // 2] for at in range(begins, begins + 3 * RATE // 2, RATE // 8)]
    assert any(stands_in(stem[: place + RATE], piece[:, 0]) for piece in pieces)
    assert np.array_equal(heard[:, 0], heard[:, 1]) and np.abs(heard).max() > 0.01


def stands_in(stem, piece):
    """Whether a piece is somewhere in the stem, to the last bit."""
    loudest = int(np.argmax(np.abs(piece)))
    starts = np.flatnonzero(stem == piece[loudest]) - loudest
    return any(at >= 0 and np.array_equal(stem[at : at + len(piece)], piece) for at in starts)


def ports():
    return set(subprocess.run(["jack_lsp"], capture_output=True, text=True, check=True).stdout.split())
