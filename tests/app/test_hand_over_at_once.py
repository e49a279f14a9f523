"""Handing over at once, before anything was found: the stems are those of the command line, bit for bit."""

import soundfile as sf
from PySide6.QtCore import Qt

from driving import excerpt, key, press
from isophon.cli import main


def test_stems_handed_over_at_once_are_those_of_the_command_line(demo, window, qtbot, tmp_path):
    path = excerpt(demo, tmp_path, 16, 28, range(3))  # most of the first chorus
    window.open_path(path)
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=30_000)
    room = window.work_page
    press(room, key("Hand over"), qtbot=qtbot)
    page = room.views.hand_over
    assert not any(part.found for part in page.parts()) and "still to be found" in page.will.text()
    page.form.folder.setText(str(tmp_path / "out"))
    page.form.bit_depth.setCurrentIndex(2)
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "written to" in page.outcome.text(), timeout=120_000)
    assert main(["clean", "--session", str(path), "--out", str(tmp_path / "cli"), "--depth", "32f", "--quiet"]) == 0
    for part in page.parts():
        ours, theirs, sung = (sf.read(one)[0] for one in (tmp_path / "out" / f"{part.name}.clean.wav",
                              tmp_path / "cli" / f"{part.name}.clean.wav", part.source.path))  # fmt: skip
        assert (ours == theirs).all(), part.name
        assert (ours != sung).any(), part.name
