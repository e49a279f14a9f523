"""What is heard while a hand works: how many blocks of the device are empty or late, beside a clock that only copies.

Usage: .venv/bin/python bench/playing.py [SECONDS [PARTS]]

The demo session in a window without a screen, played by the simulated device; PARTS (5): its takes again and again.
First the worst of all: all parts play from the beginning while the workers find what is in them. Then SECONDS (10) of
each: a ceiling is dragged; the place jumps every 1.5 s; the view is zoomed and stations are changed. A block counts as
empty where not all of it could be filled; as sung: how much of the time something was heard as it was last, or as sung,
since it was not made yet; as late where the device asks for it 5 ms or more after the one before was over. The control
is a process of its own that asks by the same clock and copies zeros, and does nothing else.
Last, how long it takes from a key to the sound, and to another compare.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import common
import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["ISOPHON_SILENT"] = "1"

import msgspec
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QApplication

from isophon.app.main import make_app
from isophon.app.pages.route import STATIONS
from isophon.app.window import Window
from isophon.core.session import file
from isophon.core.standins.device import BLOCK

CONTROL = f"""
import signal, time
import numpy as np
late, blocks, ends = 0, 0, []
due, source, out = time.monotonic(), np.zeros(({BLOCK}, 2), np.float32), np.empty(({BLOCK}, 2), np.float32)
signal.signal(signal.SIGTERM, lambda *_: ends.append(1))
print("ready", flush=True)
while not ends:
    due += {BLOCK} / 48_000
    time.sleep(max(0.0, due - time.monotonic()))
    out[:] = source
    now = time.monotonic()
    blocks, late, due = blocks + 1, late + (now - due > 0.005), max(due, now - {BLOCK} / 48_000)
print(100 * late / blocks)
"""


@dataclass
class Counts:
    """What was asked for meanwhile."""

    blocks: int = 0
    empty: int = 0
    late: int = 0


def worked(room, seconds: float, work: Callable[[int], None], every_s: float,
           until: Callable[[], bool] = lambda: False) -> str:  # fmt: skip
    """Play for some seconds while ``work(step)`` is done again and again; the figures in words."""
    player = room.hearing.player
    player.set_loop(None)
    player.seek(2 * player.sample_rate)
    wait(0.5)
    control = subprocess.Popen([sys.executable, "-c", CONTROL], stdout=subprocess.PIPE, text=True)
    assert control.stdout is not None
    control.stdout.readline()
    before = Counts(*player.dropouts)
    player.play()
    begun = next_at = time.monotonic()
    step, looks, sung, longest = 0, 0, 0, 0.0
    while time.monotonic() < begun + seconds and not until():
        turn = time.monotonic()
        QApplication.processEvents()
        if time.monotonic() >= next_at:
            work(step)
            step, next_at = step + 1, time.monotonic() + every_s
        longest = max(longest, time.monotonic() - turn)
        if not player.playing:
            player.seek(0)
            player.play()
        looks, sung = looks + 1, sung + player.as_sung_for_now
        time.sleep(0.002)
    player.stop()
    after = Counts(*player.dropouts)
    blocks, late = after.blocks - before.blocks, after.late - before.late
    control.terminate()
    share = float(control.communicate()[0])
    return (
        f"{blocks:6} blocks: {after.empty - before.empty:4} empty, {100 * late / max(1, blocks):5.2f} % late "
        f"(control {share:.2f} %), {100 * sung / looks:5.1f} % as sung, longest turn {1000 * longest:4.0f} ms"
    )


def wait(seconds: float) -> None:
    """Let the window work."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.002)


def delays(room, runs: int) -> tuple[list[float], list[float]]:
    """Seconds from a jump and the key until sound is given to the device, and from a key to another compare."""
    player, starts, compares = room.hearing.player, [], []
    for run in range(runs):
        player.stop()
        wait(0.3)
        frame = int((3 + 17 * run % 60) * player.sample_rate)
        asked = time.monotonic()
        player.seek(frame)
        player.play()
        while player.position <= frame and time.monotonic() < asked + 2:
            time.sleep(0.0005)
        starts.append(time.monotonic() - asked)
        wait(0.2)
        asked = time.monotonic()
        room.hearing.set_compare("as sung" if run % 2 else "cleaned")
        while player.pending and time.monotonic() < asked + 2:
            time.sleep(0.0005)
        compares.append(time.monotonic() - asked)
    player.stop()
    return starts, compares


def with_parts(demo: Path, parts: int, folder: Path) -> Path:
    """The demo's session with so many parts, all of its own takes, as a file in another folder."""
    session = file.load(demo)
    own = session.parts
    more = [own[i % len(own)] for i in range(parts)]
    named = (msgspec.structs.replace(p, id=f"voice-{i + 1}", name=f"{p.name} {i}") for i, p in enumerate(more))
    path = folder / "many.isophon"
    file.save(msgspec.structs.replace(session, parts=tuple(named)), path)
    return path


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
    parts = int(sys.argv[2]) if len(sys.argv) > 2 else 5
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"], os.environ["XDG_CACHE_HOME"] = folder + "/state", folder + "/cache"
        demo = with_parts(common.demo_session(Path(folder) / "Songs"), parts, Path(folder))
        make_app()
        window = Window()
        window.show()
        window.background.warm_up()
        window.open_path(demo)
        while window.work_page is None or not window.work_page.hearing.player.device.name:
            QApplication.processEvents()
            time.sleep(0.005)
        room = window.work_page
        workspace, player = room.workspace, room.hearing.player

        def all_found() -> bool:
            return all(p.found for p in workspace.session.parts)

        room.hearing.set_hear("with the stack")
        nothing: Callable[[int], None] = lambda _step: None  # noqa: E731
        print("all parts, being found:       ", worked(room, 300.0, nothing, 1.0, all_found), flush=True)
        room.open_station(STATIONS.index("Esses"))

        def drag(step: int) -> None:
            workspace.settings.set_setting("ceiling_db", -6.0 + 5.0 * np.sin(step / 7), gesture="bench")

        def jump(step: int) -> None:
            player.seek(int((5 + 13 * step % 60) * player.sample_rate))

        def look(step: int) -> None:
            room.views.trace.gestures.zoom(1 / 1.3 if step % 8 < 4 else 1.3, QPointF(10, 0).x())
            if step % 10 == 9:
                room.open_station(STATIONS.index(("Esses", "Floor", "Breaths")[step // 10 % 3]))

        print("all parts, ceiling dragged:   ", worked(room, seconds, drag, 0.03), flush=True)
        print("all parts, jumps every 1.5 s: ", worked(room, seconds, jump, 1.5), flush=True)
        print("all parts, zoomed, stations:  ", worked(room, seconds, look, 0.1), flush=True)
        room.hearing.set_hear("this part")
        print("one part, ceiling dragged:    ", worked(room, seconds, drag, 0.03), flush=True)
        print("one part, jumps every 1.5 s:  ", worked(room, seconds, jump, 1.5), flush=True)
        room.hearing.set_hear("with the stack")
        for name, delay in zip(("key to sound", "key to compare"), delays(room, max(3, int(seconds))), strict=True):
            print(f"{name}: {1000 * np.median(delay):.0f} ms, {1000 * max(delay):.0f} at most")
        window.close()


if __name__ == "__main__":
    main()
