"""Handing over at once, before anything was found: the stems are those of the command line, bit for bit."""

import soundfile as sf
from msgspec.structs import replace
from PySide6.QtCore import Qt

from conftest import write
from driving import key, press
from isophon.cli import main
from isophon.core.session import file
from isophon.core.session.items import Source

FROM_S, TO_S = 16, 28  # most of the first chorus


def chorus(demo, folder):
    """A session of the demo's parts, cut to its first chorus, of which nothing is known yet."""
    session = file.load(demo)
    parts = []
    for part in session.parts[:3]:
        with sf.SoundFile(part.source.path) as recording:
            rate = recording.samplerate
            recording.seek(FROM_S * rate)
            samples = recording.read((TO_S - FROM_S) * rate, dtype="float32", always_2d=True)
        cut = write(folder / f"{part.name}.wav", samples.T, rate, "FLOAT")
        parts.append(replace(part, source=Source(str(cut), rate, samples.shape[1], len(samples)), offset_s=0.0))
    path = folder / "chorus.isophon"
    file.save(replace(session, parts=tuple(parts), guides=(), markers=()), path)
    return path


def test_stems_handed_over_at_once_are_those_of_the_command_line(demo, window, qtbot, tmp_path):
    path = chorus(demo, tmp_path)
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
