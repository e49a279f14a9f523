"""Once in a real window under Xvfb, and once through PortAudio to an ALSA file device."""

import os
import subprocess
import sys
from pathlib import Path

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


def test_the_window_under_x(demo, tmp_path):
    environment = {**os.environ, "PYTHONPATH": str(SRC), "QT_QPA_PLATFORM": "xcb"}
    picture = tmp_path / "window.png"
    result = subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, "-c", SCRIPT, str(demo), str(picture)],
        env=environment, capture_output=True, text=True, timeout=90, check=False,
    )  # fmt: skip
    assert result.stdout.startswith("xcb Lead 85"), result.stderr[-500:]
    assert picture.stat().st_size > 30_000
