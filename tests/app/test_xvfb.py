"""Once in a real window under Xvfb, and once through PortAudio to an ALSA file device."""

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from voices import spoken

SRC = Path(__file__).parent.parent.parent / "src"

SCRIPT = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from isophon.app import main
from isophon.app.window import Window

app = main.make_app()
window = Window()
window.show()
window.open_path(Path(sys.argv[1]))

def look():
    if window.work_page is None or not window.work_page.workspace.part.found:
        return
    timer.stop()
    QTimer.singleShot(400, done)

def done():
    window.grab().save(sys.argv[2])
    print(app.platformName(), window.work_page.workspace.part.name, len(window.work_page.workspace.marks))
    window.close()
    app.quit()

timer = QTimer(interval=50)
timer.timeout.connect(look)
timer.start()
QTimer.singleShot(40_000, app.quit)
app.exec()
"""

PLAY = """
import sys, time
import numpy as np
from isophon.core.playing.device import open_device
from isophon.core.playing.mix import Strip
from isophon.core.playing.player import Player
from isophon.core.render import Renderer

samples = np.load(sys.argv[1])

def read(start, frames):
    out = np.zeros((1, frames), np.float32)
    piece = samples[max(0, start) : max(0, start + frames)]
    out[0, : len(piece)] = piece
    return out

player = Player(48000, len(samples), open_device)
player.set_scene((Strip(Renderer(read, 48000, len(samples)), ()),))
print(player.device.silent)
player.set_compare("as sung")
player.play()
time.sleep(1.2)
player.close()
"""

ASOUND = """
pcm.!default {{
    type file
    slave.pcm {{ type null }}
    file "{path}"
    format "raw"
}}
ctl.!default {{ type hw card 0 }}
"""


def test_the_window_under_x(demo, tmp_path):
    environment = {**os.environ, "PYTHONPATH": str(SRC), "QT_QPA_PLATFORM": "xcb"}
    picture = tmp_path / "window.png"
    result = subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, "-c", SCRIPT, str(demo), str(picture)],
        env=environment, capture_output=True, text=True, timeout=90, check=False,
    )  # fmt: skip
    assert result.stdout.startswith("xcb Lead 85"), result.stderr[-500:]
    assert picture.stat().st_size > 30_000


def test_portaudio_plays_the_samples(tmp_path):
    """What reaches the sound system are the samples themselves. The null device takes them faster than
    any real one plays, so the feeder may be overtaken: pieces are looked for, not the whole."""
    samples, _, _ = spoken("en-us")
    np.save(tmp_path / "samples.npy", samples)
    played = tmp_path / "played.raw"
    (tmp_path / "asound.conf").write_text(ASOUND.format(path=played))
    result = subprocess.run(
        [sys.executable, "-c", PLAY, str(tmp_path / "samples.npy")], capture_output=True, text=True, timeout=60,
        env={**os.environ, "PYTHONPATH": str(SRC), "ALSA_CONFIG_PATH": str(tmp_path / "asound.conf")}, check=False,
    )  # fmt: skip
    if "True" in result.stdout:
        pytest.skip("PortAudio opened no device here; the stand-in played")
    assert result.returncode == 0, result.stderr[-500:]
    raw = played.read_bytes()
    heard = np.frombuffer(raw[: len(raw) // 8 * 8], np.float32).reshape(-1, 2)[:, 0]
    matched = 0
    for at in range(0, len(heard) - 400, 400):
        piece = heard[at : at + 400]
        starts = np.flatnonzero(samples[:-400] == piece[0]) if np.abs(piece).max() > 1e-3 else ()
        matched += any(np.array_equal(samples[a : a + 400], piece) for a in starts[:400])
    assert matched > 20
