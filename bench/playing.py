"""What is heard while a hand works: how many blocks of the device are silent or late, beside a clock that only copies.

Usage: .venv/bin/python bench/playing.py [SECONDS]

The demo session in a window without a screen, played by the clocked device. SECONDS (10) of each: a ceiling is dragged
with one part and with all; the place jumps every 1.5 s; the view is zoomed and stations are changed. A block counts as
silent where all of it is nothing although the song sounds there as sung; as sung: where it is, since the cleaned sound
was not made yet; as late where it is asked for 5 ms or more after it was due. The control asks for blocks by the same
clock and copies zeros, in the same process.
"""

from __future__ import annotations

import os
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import common  # noqa: F401 (finds the program)
import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QApplication

from isophon.app.main import make_app
from isophon.app.views.route import STATIONS
from isophon.app.window import Window
from isophon.core.demo.build import make_demo
from isophon.core.standins.device import BLOCK

LATE_S = 0.005


class Control(threading.Thread):
    """Asks for blocks by the clock and copies nothing: what this machine does to any clock in this process."""

    def __init__(self, rate: int) -> None:
        super().__init__(daemon=True)
        self.rate, self.late, self.blocks, self.done = rate, 0, 0, False

    def run(self) -> None:
        due = time.monotonic()
        while not self.done:
            due += BLOCK / self.rate
            time.sleep(max(0.0, due - time.monotonic()))
            np.zeros((BLOCK, 2), np.float32)
            self.blocks += 1
            self.late += time.monotonic() - due > LATE_S


class Watched:
    """Counts what the player gives to its device."""

    def __init__(self, player) -> None:
        self.player, self._fill = player, player.fill
        self.silent = self.late = self.blocks = self.sung = 0
        self._due: float | None = None
        player.device._fill = self.fill

    def fill(self, block: np.ndarray) -> None:
        now = time.monotonic()
        if self._due is not None and self.player.playing:
            self.late += now - self._due > LATE_S
        self._due = now + BLOCK / self.player.sample_rate
        self._fill(block)
        if self.player.playing:
            self.blocks += 1
            self.silent += not block.any()
            self.sung += bool(getattr(self.player, "as_sung_for_now", False))


def worked(room, seconds: float, work: Callable[[int], None], every_s: float) -> str:
    """Play for some seconds while ``work(step)`` is done again and again; the figures in words."""
    player = room.hearing.player
    control, watched = Control(player.sample_rate), Watched(player)
    player.set_loop(None)
    player.seek(2 * player.sample_rate)
    player.play()
    control.start()
    end, step, next_at = time.monotonic() + seconds, 0, time.monotonic()
    while time.monotonic() < end:
        QApplication.processEvents()
        if time.monotonic() >= next_at:
            work(step)
            step, next_at = step + 1, time.monotonic() + every_s
        time.sleep(0.002)
    player.stop()
    control.done = True
    player.device._fill = player.fill
    counts = {"silent": watched.silent, "as sung": watched.sung, "late": watched.late}
    shares = [f"{100 * count / max(1, watched.blocks):5.2f} % {name}" for name, count in counts.items()]
    return f"{watched.blocks:5} blocks: {', '.join(shares)} (control {100 * control.late / control.blocks:.2f} %)"


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"], os.environ["XDG_CACHE_HOME"] = folder + "/state", folder + "/cache"
        demo = make_demo(Path(folder) / "Songs")
        make_app()
        window = Window()
        window.show()
        window.open_path(demo)
        while window.work_page is None or not all(p.found for p in window.work_page.workspace.session.parts):
            QApplication.processEvents()
            time.sleep(0.005)
        room = window.work_page
        workspace, player = room.workspace, room.hearing.player
        room.open_station(STATIONS.index("Esses"))

        def drag(step: int) -> None:
            workspace.set_setting("ceiling_db", -6.0 + 5.0 * np.sin(step / 7), gesture="bench")

        def jump(step: int) -> None:
            player.seek(int((5 + 13 * step % 60) * player.sample_rate))

        def look(step: int) -> None:
            room.trace.zoom(1 / 1.3 if step % 8 < 4 else 1.3, QPointF(10, 0).x())
            if step % 10 == 9:
                room.open_station(STATIONS.index(("Esses", "Floor", "Breaths")[step // 10 % 3]))

        print("one part, ceiling dragged:    ", worked(room, seconds, drag, 0.03))
        print("one part, jumps every 1.5 s:  ", worked(room, seconds, jump, 1.5))
        room.hearing.set_hear("with the stack")
        print("five parts, jumps every 1.5 s:", worked(room, seconds, jump, 1.5))
        print("five parts, ceiling dragged:  ", worked(room, seconds, drag, 0.03))
        print("five parts, zoomed, stations: ", worked(room, seconds, look, 0.1))
        window.close()


if __name__ == "__main__":
    main()
