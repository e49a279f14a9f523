"""The window's speed: ceiling to samples, painting while zooming, start to first paint.

Usage: .venv/bin/python bench/window.py [SECONDS [MARKS]]
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import common
import numpy as np
from PySide6.QtCore import QEventLoop, QTimer

from isophon.app.sheets import PASSES

BARE = """
from PySide6.QtWidgets import QApplication, QMainWindow
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event)
        import os; os._exit(0)
app = QApplication([])
window = Window()
window.resize(1280, 800)
window.show()
app.exec()
"""
OURS = """
from isophon import cli
import isophon.app.main as main
class Window(main.Window):
    def paintEvent(self, event):
        super().paintEvent(event)
        import os; os._exit(0)
main.Window = Window
cli.main([])
"""


def _wait(ms: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(ms, loop.quit)
    loop.exec()


def first_paint(runs: int) -> None:
    environment = {**os.environ, "PYTHONPATH": str(common.ROOT / "src")}

    def start(script: str) -> None:
        subprocess.run([sys.executable, "-c", script], env=environment, capture_output=True, check=False, timeout=60)

    start(OURS)
    bare = common.median_time(lambda: start(BARE), runs)
    ours = common.median_time(lambda: start(OURS), runs)
    print(f"start to first paint: {ours / bare:.2f} of a bare QMainWindow ({ours:.2f} s, {bare:.2f} s)  (aim: 2.5)")


def work_page(seconds: float, walked: int) -> None:
    from isophon.app.main import make_app
    from isophon.app.window import Window

    app = make_app()
    window = Window()
    window.show()
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"], os.environ["XDG_CACHE_HOME"] = folder + "/state", folder + "/cache"
        window.open_path(common.long_take(Path(folder) / "take.wav", seconds))
        while window.work_page is None or not window.work_page.workspace.part.found:
            _wait(20)
        _wait(300)
        room = window.work_page
        print(f"ceiling to samples ready in the loop: {_ceiling(room):.1f} ms median  (aim: 50)")
        print(f"painting the trace while zooming: {_zooming(room, app):.1f} ms median a frame  (aim: 16)")
        longest, sound = _walking(room, app, walked)
        print(f"walking {walked} marks by Return: longest turn {longest:.0f} ms  (aim: 50), "
              f"key to sound {sound:.0f} ms median  (aim: 150)")  # fmt: skip
        window.close()


def _ceiling(room) -> float:
    workspace, player = room.workspace, room.hearing.player
    middle = workspace.part.marks[len(workspace.part.marks) // 2]
    workspace.take_in_hand([middle.id])
    player.play()
    times = []
    for i in range(40):
        _wait(25)
        start = time.perf_counter()
        workspace.set_setting("ceiling_db", -6.0 - 0.2 * i, ("bench", 0))
        player.ready(player.set_scene(player.scene), 1.0)
        times.append(1000 * (time.perf_counter() - start))
    player.stop()
    return float(np.median(times))


def _walking(room, app, walked: int) -> tuple[float, float]:
    """Return pressed mark after mark while each is looped: the longest turn of the event loop, and key to sound."""
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest

    workspace, player = room.workspace, room.hearing.player
    room.open_station(len(PASSES))
    workspace.set_setting("ceiling_db", -24.0)
    workspace.take_in_hand([])
    QTest.keyClick(room, Qt.Key.Key_Return)
    _wait(1_500)
    longest, sounds = 0.0, []
    for i in range(walked):
        pressed = time.perf_counter()
        QTest.keyClick(room, Qt.Key.Key_L if i % 4 == 3 else Qt.Key.Key_Return)
        longest = max(longest, time.perf_counter() - pressed)
        loop = room.hearing.loop_span() or (0, 0)
        heard = 0.0
        while time.perf_counter() - pressed < 0.25:
            turn = time.perf_counter()
            app.processEvents()
            longest = max(longest, time.perf_counter() - turn)
            if not heard and loop[0] <= player.position < loop[1]:
                heard = time.perf_counter() - pressed
            time.sleep(0.002)
        sounds.append(heard or 0.25)
    player.stop()
    return 1000 * longest, 1000 * float(np.median(sounds))


def _zooming(room, app) -> float:
    workspace, trace = room.workspace, room.trace
    times = []
    for i in range(120):
        if i % 40 == 0:
            workspace.set_view(0, workspace.take.recording.duration)
        trace.zoom(1 / 1.2, workspace.take.recording.duration * 0.41)
        start = time.perf_counter()
        trace.repaint()
        times.append(1000 * (time.perf_counter() - start))
        app.processEvents()
    return float(np.median(times))


if __name__ == "__main__":
    length = float(sys.argv[1]) if len(sys.argv) > 1 else 300.0
    first_paint(7 if length > 60 else 1)
    work_page(length, walked=int(sys.argv[2]) if len(sys.argv) > 2 else 200)
