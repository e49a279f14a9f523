"""Takes the pictures in docs/screenshots from the demo session. Usage: .venv/bin/python tools/screenshots.py"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, QTimer  # noqa: E402

from isophon.app.keys import KeysPage  # noqa: E402
from isophon.app.main import make_app  # noqa: E402
from isophon.app.window import Window  # noqa: E402
from isophon.core.demo.build import make_demo  # noqa: E402

TARGET = ROOT / "docs" / "screenshots"


def wait(ms: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(ms, loop.quit)
    loop.exec()


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = folder + "/state"
        demo = make_demo(Path(folder) / "Songs")
        app = make_app()
        window = Window()
        window.show()
        window.open_path(demo)
        while window.workroom is None:
            wait(20)
        room, desk = window.workroom, window.workroom.desk
        desk.set_view(5.6, 11.5)
        marks = [m for m in desk.part.marks if 5.6 < m.start < 11.5]
        desk.take_in_hand([marks[-1].id])
        desk.set_change([marks[-1].id], -8.0)
        desk.take_in_hand([marks[1].id])
        desk.toggle_leave()
        tallest = max(marks, key=lambda m: m.standout_db)
        desk.take_in_hand([tallest.id])
        room.transport.match.setChecked(True)
        room.player.play()
        wait(1100)
        window.grab().save(str(TARGET / "esses.png"))
        room.player.stop()
        room.tallest.setChecked(True)
        room.sheet.more.setChecked(True)
        wait(300)
        window.grab().save(str(TARGET / "tallest-first.png"))
        room.open_station(1)
        room.hand_over.folder.setText(str(Path(folder) / "cleaned"))
        room.hand_over.start()
        while not room.hand_over.table.isVisible():
            wait(20)
        room.hand_over.folder.setText("~/Songs/cleaned")
        room.hand_over.outcome.setText("Written to ~/Songs/cleaned")
        wait(100)
        window.grab().save(str(TARGET / "hand-over.png"))
        keys = KeysPage(window)
        keys.show()
        wait(100)
        keys.grab().save(str(TARGET / "keys.png"))
        keys.close()
        desk.settle()
        start = Window()
        start.show()
        wait(200)
        start.start.show_lists([("Glasshouse Starlings", demo)], [])
        wait(100)
        start.grab().save(str(TARGET / "start.png"))
        start.close()
        window.close()
        app.quit()


if __name__ == "__main__":
    main()
