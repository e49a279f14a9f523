"""A whole session: from dropping many parts to the first picture and to everything found; memory; mixing.

Usage: .venv/bin/python bench/session.py [PARTS] [SECONDS]
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import common
import numpy as np
import soundfile as sf
from PySide6.QtCore import QEventLoop, QTimer

from conftest import cuts
from isophon.core import memory
from isophon.core.audio.files import Recording
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.playing.mix import Strip, mixed
from isophon.core.render import Renderer
from isophon.core.render_cache import RenderCache
from isophon.core.survey import survey

_MIXED = 30


def _parts(folder: Path, count: int, seconds: float) -> list[Path]:
    """Takes that differ: the long take, turned by a part of its length and another gain each."""
    samples, rate = sf.read(common.long_take(folder / "long.wav", seconds), dtype="float32")
    (folder / "long.wav").unlink()
    paths = []
    for i in range(count):
        paths.append(folder / f"{'lead' if i == 0 else 'harmony'} {i + 1}.wav")
        sf.write(paths[-1], np.roll(samples, i * len(samples) // count) * (1 - 0.02 * i), rate, subtype="PCM_24")
    return paths


def _wait(ms: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(ms, loop.quit)
    loop.exec()


def opening(folder: Path, count: int, seconds: float) -> None:
    from isophon.app.main import make_app
    from isophon.app.window import Window

    memory.give_back()  # as the application does
    app = make_app()
    paths = _parts(folder, count, seconds)
    window = Window()
    window.show()
    window.background.warm_up()
    _wait(4_000)
    sound = sf.read(paths[0], dtype="float32")[0]
    trip = common.round_trip_s(sound)
    watch = common.Watch()
    watch.start()
    start = last = time.perf_counter()
    first = entering = longest = busiest = 0.0
    window.open_paths(paths)
    while True:
        own = time.thread_time()
        app.processEvents()
        own, now = time.thread_time() - own, time.perf_counter()
        room = window.work_page
        if first:
            longest, busiest = max(longest, now - last), max(busiest, own)
        else:
            entering = max(entering, now - last)
        last = now
        if room is not None and not first and room.workspace.take.wave is not None:
            room.views.trace.repaint()
            first = time.perf_counter() - start
            last = time.perf_counter()
        if room is not None and all(p.found for p in room.workspace.session.parts):
            break
        time.sleep(0.002)
        last += 0.002
    found, finding = time.perf_counter() - start, watch.peak
    for part in room.workspace.session.parts:
        room.workspace.select_part(part.id)
        _wait(30)
    watch.done = True
    marks = sum(len(p.marks) for p in room.workspace.session.parts)
    print(f"{count} parts of {seconds:.0f} s")
    print(f"dropped to first picture    {first:.2f} s  (aim: 1.5)")
    trip = (trip + common.round_trip_s(sound)) / 2
    print(f"all surveyed and found      {found:.1f} s, {found / trip:.1f} R of one part  (aim: 9), {marks} marks")
    print(f"longest wait of the window  {1000 * longest:.0f} ms, {1000 * busiest:.0f} ms of its own work (aim: 50)")
    print(f"longest turn while entering {1000 * entering:.0f} ms  (aim: 50)")
    print(f"highest resident memory     {finding:.0f} MB, workers included, until then  (aim: 650); "
          f"{watch.peak:.0f} MB with parts shown and rendered ahead")  # fmt: skip
    window.close()


def mixing(folder: Path, seconds: float) -> None:
    """How much faster than real time 30 parts are mixed, every ess treated, in the player's own chunks."""
    path = common.long_take(folder / "part.wav", seconds)
    recording = Recording(path)
    found = survey(recording.blocks(), recording.sample_rate, recording.frames)
    from isophon.core.passes.ess.find import find

    plan = cuts(find(recording.read, found), EssSettings(ceiling_db=-24), None, common.RATE)
    cache = RenderCache()
    scene = tuple(
        Strip(Renderer(recording.read, common.RATE, recording.frames, cache), plan, 1_000 * i, 0.2, 0.2, i < 1)
        for i in range(_MIXED)
    )
    start = time.perf_counter()
    for at in range(0, recording.frames - 1_024, 1_024):
        mixed(scene, common.RATE, at, 1_024)
    took = time.perf_counter() - start
    print(f"mixing {_MIXED} parts           {seconds / took:.1f} × real time on one core  (aim: 8)")


def main(count: int, seconds: float) -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"], os.environ["XDG_CACHE_HOME"] = folder + "/state", folder + "/cache"
        opening(Path(folder), count, seconds)
        mixing(Path(folder), min(60.0, seconds))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 16, float(sys.argv[2]) if len(sys.argv) > 2 else 300.0)
