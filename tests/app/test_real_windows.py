"""In real windows: under X11 with a window manager, and under a Wayland compositor; nobody sees them."""

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

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
QTimer.singleShot(80_000, app.quit)
app.exec()
"""


def run_in_window(command, demo, picture, **more):
    """What the script printed; it ends by itself."""
    result = subprocess.run([*command, sys.executable, "-c", SCRIPT, str(demo), str(picture)],
                            env={**os.environ, "PYTHONPATH": str(SRC), **more},
                            capture_output=True, text=True, timeout=110, check=False)  # fmt: skip
    assert picture.is_file(), result.stderr[-500:]
    return result.stdout


def test_the_window_under_x_with_a_window_manager(demo, tmp_path):
    picture = tmp_path / "window.png"
    managed = ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "sh", "-c", 'openbox >/dev/null 2>&1 & exec "$@"', "sh"]
    assert run_in_window(managed, demo, picture, QT_QPA_PLATFORM="xcb").startswith("xcb Lead 85")
    assert picture.stat().st_size > 30_000


def test_the_window_under_wayland(demo, tmp_path):
    """Under weston without a screen, its software renderer."""
    if shutil.which("weston") is None:
        pytest.skip("weston is not here")
    runtime, picture = tmp_path / "runtime", tmp_path / "window.png"
    runtime.mkdir(mode=0o700)
    here = {"XDG_RUNTIME_DIR": str(runtime), "WAYLAND_DISPLAY": "isophon-test"}
    weston = ["weston", "--backend=headless-backend.so", "--width=1280", "--height=800", "--socket=isophon-test",
              "--idle-time=0", f"--log={tmp_path}/weston.log"]  # fmt: skip
    with subprocess.Popen(weston, env={**os.environ, **here}, stderr=subprocess.DEVNULL) as compositor:
        try:
            until = time.monotonic() + 20
            while not (runtime / "isophon-test").exists():
                assert time.monotonic() < until and compositor.poll() is None, (tmp_path / "weston.log").read_text()
                time.sleep(0.05)
            said = run_in_window([], demo, picture, QT_QPA_PLATFORM="wayland", **here)
        finally:
            compositor.terminate()
    assert said.startswith("wayland Lead 85") and picture.stat().st_size > 30_000


def test_the_first_window_waits_for_no_numeric_module(tmp_path):
    """They take longest to load, and are loaded once the window is there."""
    code = (
        "import sys; from isophon.app.main import make_app; from isophon.app.window import Window; app = make_app(); "
        "window = Window(); window.show(); app.processEvents(); "
        "print(*{'numpy', 'scipy', 'soundfile'} & {*sys.modules})"
    )
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path), "XDG_STATE_HOME": str(tmp_path)}
    done = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True)
    assert done.returncode == 0 and done.stdout.strip() == "", done.stdout + done.stderr
