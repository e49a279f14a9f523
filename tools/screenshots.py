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

from isophon.app.main import make_app  # noqa: E402
from isophon.app.model import card_shelf  # noqa: E402
from isophon.app.model.appearance import appearance  # noqa: E402
from isophon.app.pages.cards_page import CardsPage  # noqa: E402
from isophon.app.pages.help_page import HelpPage  # noqa: E402
from isophon.app.pages.proof_page import ProofPage  # noqa: E402
from isophon.app.pages.route import HAND_OVER, LAY_OUT, STATIONS  # noqa: E402
from isophon.app.window import Window  # noqa: E402
from isophon.core.demo.build import make_demo  # noqa: E402

TARGET = Path(os.environ.get("SHOTS", str(ROOT / "docs" / "screenshots")))


def wait(ms: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(ms, loop.quit)
    loop.exec()


def shoot(window: Window, name: str) -> None:
    """Keep a picture of the window, once all that it shows is there."""
    room = window.work_page
    while not room.views.lens.pictures.close_up.settled or room.workspace.pool.overall()[1]:
        wait(20)
    wait(250)  # the panel tells of work a moment later, and the map is asked for when the view stands still
    while not room.views.trace.map.maker.settled:
        wait(20)
    window.grab().save(str(TARGET / f"{name}.png"))


def shoot_before_and_after(window: Window) -> None:
    """Keep the pictures of the start page: a phrase as sung, and what stays and goes, on paper and in dusk."""
    room = window.work_page
    while room.workspace.take.surveyed is None:
        wait(20)
    room.workspace.select_marks([])
    room.workspace.viewport.show(6.0, 11.0)
    folder = ROOT / "src" / "isophon" / "app" / "assets" / "start"
    for look in ("dusk", "paper"):
        appearance().choose(look)
        for as_sung, name in ((True, "as-sung"), (False, "cleaned")):
            room.views.trace.show_as_sung(as_sung)
            wait(400)
            while not room.views.trace.map.maker.settled:
                wait(20)
            wait(200)
            box = room.views.trace.places.rows()[3].toRect()
            room.views.trace.grab(box).save(str(folder / f"{name}-{look}.png"))


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"], os.environ["XDG_CACHE_HOME"] = folder + "/state", folder + "/cache"
        os.environ["XDG_DATA_HOME"] = folder + "/data"
        demo = make_demo(Path(folder) / "Songs")
        app = make_app()
        window = Window()
        window.show()
        window.open_path(demo)
        while window.work_page is None or not all(p.found for p in window.work_page.workspace.session.parts):
            wait(20)
        room, workspace = window.work_page, window.work_page.workspace
        room.open_station(STATIONS.index("Esses"))
        shoot_before_and_after(window)
        workspace.select_part("part-1")
        workspace.viewport.show(6.0, 12.3)
        marks = [m for m in workspace.marks if 6.0 < m.start < 12.3]
        workspace.select_marks([marks[-1].id])
        workspace.commands.set_changes({marks[-1].id: -8.0})
        workspace.select_marks([marks[1].id])
        workspace.commands.toggle_leave()
        workspace.select_parts(["part-3", "part-4"])
        workspace.settings.set_setting("ceiling_db", -10.0)
        workspace.settings.toggle_done()
        workspace.select_part("part-1")
        tallest = max(marks, key=lambda m: m.standout_db)
        workspace.select_marks([tallest.id])
        room.hearing.set_matched(True)
        room.hearing.set_hear("with the stack")
        room.hearing.toggle_play()
        wait(1100)
        shoot(window, "esses")
        room.hearing.player.stop()
        room.open_station(STATIONS.index("Floor"))
        room.sheet.extras.between.setChecked(True)
        workspace.viewport.show(20.0, 34.0)
        workspace.select_marks([next(m.id for m in workspace.marks if workspace.part.change(m) < 0)])
        wait(300)
        shoot(window, "floor")
        for name, part, view in (("Pops", "part-4", (16.0, 28.0)), ("Ticks", "part-4", (18.0, 30.0))):
            room.open_station(STATIONS.index(name))
            workspace.select_part(part)
            workspace.viewport.show(*view)
            workspace.select_marks([workspace.marks[1].id])
            wait(300)
            shoot(window, name.lower())
        room.open_station(STATIONS.index("Bleed"))
        workspace.select_part("part-2")
        room.sheet.extras.learn.click()
        while workspace.part.leak is None:
            wait(50)
        room.views.message.hide()
        workspace.viewport.show(0.0, 12.0)
        workspace.select_marks([workspace.marks[2].id])
        wait(300)
        shoot(window, "bleed")
        workspace.select_part("part-1")
        room.open_station(STATIONS.index("Breaths"))
        workspace.viewport.show(6.0, 18.0)
        workspace.select_marks([workspace.marks[2].id])
        wait(300)
        shoot(window, "breaths")
        room.open_station(STATIONS.index("Bands"))
        workspace.viewport.show(6.0, 18.0)
        workspace.commands.make_band(320.0)
        workspace.select_marks([max(workspace.marks, key=lambda m: m.low_hz).id])
        room.hearing.seek(14.8)
        wait(2_500)  # the spectrum is worked out beside the window
        shoot(window, "bands")
        room.open_station(STATIONS.index("Spots"))
        workspace.viewport.show(4.0, 14.0)
        workspace.commands.draw_box(6.55, 6.9, 900.0, 3_200.0)
        wait(300)
        shoot(window, "spots")
        room.open_station(STATIONS.index("Esses"))
        workspace.viewport.show(6.0, 12.3)
        workspace.select_marks([tallest.id])
        appearance().choose("dusk")
        wait(300)
        shoot(window, "dusk")
        appearance().choose("paper")
        window.resize(1920, 1080)
        wait(600)
        shoot(window, "esses-1920")
        window.resize(1280, 800)
        wait(600)
        workspace.settings.set_of_kind("ess", "by", "rule")
        workspace.select_marks([marks[1].id])
        wait(2_500)  # the spectrum is worked out beside the window
        shoot(window, "esses-rule")
        workspace.settings.set_of_kind("ess", "by", "ceiling")
        workspace.select_part("part-3")
        workspace.viewport.show(16.0, 27.0)
        workspace.settings.set_of_kind("ess", "stack", "drop")
        workspace.select_marks([next(m.id for m in workspace.marks if m.partner_s is not None and m.start > 16.0)])
        wait(300)
        shoot(window, "esses-stack")
        while not all(p.measured.lined_up for p in workspace.session.parts if p.role != "lead"):
            wait(20)
        room.open_station(STATIONS.index("Line-up"))
        workspace.select_part("part-2")
        workspace.viewport.show(17.4, 22.4)
        word = next(m for m in workspace.marks if workspace.part.acts(m) and m.start > 18.2 and len(m.anchors) > 1)
        workspace.select_marks([word.id])
        room.views.trace.anchors.taken = (word.id, 0)
        wait(2_500)  # the spectrum is worked out beside the window
        shoot(window, "line-up")
        workspace.select_part("part-1")
        card_shelf.keep(workspace.part.singer, workspace.session.part("part-3"))
        cards = CardsPage(workspace, window)
        cards.show()
        wait(200)
        cards.grab().save(str(TARGET / "voice-cards.png"))
        cards.close()
        room.open_station(LAY_OUT)
        wait(200)
        shoot(window, "lay-out")
        room.open_station(HAND_OVER)
        room.views.hand_over.form.folder.setText(str(Path(folder) / "cleaned"))
        room.views.hand_over.form.proof.setChecked(True)
        room.views.hand_over.start()
        while room.views.hand_over._tasks:
            wait(20)
        room.views.hand_over.form.folder.setText("~/Songs/cleaned")
        room.views.hand_over.outcome.setText(room.views.hand_over.outcome.text().replace(folder, "~/Songs"))
        wait(100)
        shoot(window, "hand-over")
        proof = ProofPage((Path(folder) / "cleaned" / "report.html").read_text(), window)
        proof.show()
        wait(300)
        proof.grab().save(str(TARGET / "proof.png"))
        proof.close()
        manual = HelpPage("Breaths", window)
        manual.show()
        wait(300)
        manual.grab().save(str(TARGET / "help.png"))
        manual.close()
        workspace.keeper.settle()
        start = Window()
        start.show()
        wait(200)
        start.start.show_lists([], [(Path("~/Songs") / demo.name, "5 parts, 206 undecided, left at Esses")])
        wait(100)
        start.grab().save(str(TARGET / "start.png"))
        start.close()
        window.close()
        app.quit()


if __name__ == "__main__":
    main()
