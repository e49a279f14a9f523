import os
import signal

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["ISOPHON_SILENT"] = "1"  # no test is heard, whatever this machine has
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as the program sets it

from itertools import count
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from filelock import FileLock
from hypothesis import settings

from isophon.core.demo.build import make_demo
from isophon.core.passes.ess import treat
from isophon.core.passes.ess.find import find
from isophon.core.passes.ess.settings import LEFT_ALONE, change_of
from isophon.core.session import file
from isophon.core.survey import survey

COUNT = int(os.environ.get("ISOPHON_FUZZ", "80"))  # how many cases tests with made-up input try
LONG = max(1, COUNT // 80)
settings.register_profile("check", max_examples=30 * LONG, deadline=None)
settings.load_profile("check")


def pytest_configure():
    # what runs in the background of a shell has interrupts ignored, and so would all that tests start
    signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_collection_modifyitems(items):
    """The files with the longest tests first (whole processes, then windows), so that no worker is left with one."""
    items.sort(key=lambda item: len(item.path.parts))


def _shared(tmp_path_factory) -> Path:
    """A folder that all processes of a run share."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if os.environ.get("PYTEST_XDIST_WORKER") else own


@pytest.fixture(autouse=True, scope="session")
def _own_cache(tmp_path_factory):
    """No test touches the person's own cache; what one measured serves the next, in every process of a run."""
    os.environ["XDG_CACHE_HOME"] = str(_shared(tmp_path_factory) / "cache")


@pytest.fixture(autouse=True)
def _own_state(request, tmp_path, monkeypatch):
    """No test touches the person's own state; loudness is not matched, so that samples can be compared."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    if "app" in request.node.path.parts:
        (tmp_path / "state" / "isophon").mkdir(parents=True)
        (tmp_path / "state" / "isophon" / "listening.json").write_text('{"matched": false}\n')


@pytest.fixture(autouse=True)
def _at_rest(request, monkeypatch):
    """Nothing is rendered ahead or heard beside the lead in a test, but in those of it: it would take the cores. Views
    are where they are to be at once.
    """
    if "app" in request.node.path.parts and "rendered_ahead" not in request.node.name:
        from isophon.app.model import rendering_ahead

        monkeypatch.setattr(rendering_ahead, "_QUIET_MS", 600_000)
    if "app" in request.node.path.parts and "glides" not in request.node.name:
        from isophon.app.model import glide

        monkeypatch.setattr(glide, "LONGEST_MS", 0)
    if "app" in request.node.path.parts and "line_up" not in request.node.path.name:
        from isophon.app.model.lining_up import LiningUp

        monkeypatch.setattr(LiningUp, "look", lambda self: None)


@pytest.fixture(scope="session")
def fresh(tmp_path_factory):
    """Makes a new folder at each call, for tests of made-up input, which have one fixture for all of their cases."""
    base, number = tmp_path_factory.mktemp("fresh"), count()

    def make() -> Path:
        folder = base / str(next(number))
        folder.mkdir()
        return folder

    return make


@pytest.fixture(scope="session")
def demo(tmp_path_factory) -> Path:
    """The demo session's file; it is made once in a run, however many processes test."""
    folder = _shared(tmp_path_factory)
    with FileLock(folder / "demo.lock"):
        return make_demo(folder / "demo")


@pytest.fixture(scope="session")
def demo_take(demo) -> Path:
    return demo.parent / "Lead.wav"


def reader(samples: np.ndarray):
    """``read(start, frames)`` over an array ``(n,)`` or ``(channels, n)``, zeros outside."""
    samples = np.atleast_2d(samples).astype(np.float32)

    def read(start: int, frames: int) -> np.ndarray:
        out = np.zeros((len(samples), frames), np.float32)
        first, last = max(0, start), min(samples.shape[1], start + frames)
        if last > first:
            out[:, first - start : last - start] = samples[:, first:last]
        return out

    return read


class Written:
    """Stands for a recording of an array ``(n,)`` or ``(channels, n)``."""

    path = Path("array.wav")

    def __init__(self, samples: np.ndarray, rate: int) -> None:
        samples = np.atleast_2d(samples).astype(np.float32)
        self.sample_rate, self.read = rate, reader(samples)
        self.channels, self.frames = samples.shape
        self.duration = self.frames / rate

    def blocks(self, size: int = 1 << 18):
        return (self.read(at, min(size, self.frames - at)) for at in range(0, self.frames, size))


def look(samples: np.ndarray, rate: int):
    """Survey and esses of an array, its T's and F's aside."""
    two = np.atleast_2d(samples).astype(np.float32)
    found = survey([two], rate, two.shape[1])
    return found, tuple(m for m in find(reader(two), found) if m.sound not in LEFT_ALONE)


def cuts(marks, settings, usual, rate: int):
    """What settings do to the esses of a take whose usual one is known."""
    changes = [(mark, change_of(mark, settings, usual)) for mark in marks if mark.kind == "ess"]
    return treat.cuts([(mark, change) for mark, change in changes if change <= -0.05], settings, rate)


def write(path: Path, samples: np.ndarray, rate: int, subtype: str = "PCM_24", **more) -> Path:
    sf.write(path, np.atleast_2d(samples).T, rate, subtype=subtype, **more)
    return path


@pytest.fixture
def window(qtbot):
    from isophon.app.main import make_app
    from isophon.app.window import Window

    make_app()
    window = Window()
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    yield window
    window.close()


@pytest.fixture
def room(window, demo, tmp_path, qtbot):
    """The work_page on a copy of the demo session's file, beside the original recordings."""
    from driving import opened

    session = file.load(demo)
    path = tmp_path / "song.isophon"
    file.save(session, path)
    return opened(window, path, qtbot)
