"""Driving the window as a person does."""

import soundfile as sf
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit

from isophon.app.pages.route import LAY_OUT, STATIONS
from isophon.core.session import file
from isophon.core.session.items import Source


def opened(window, path, qtbot):
    before = window.work_page
    window.open_path(path)
    qtbot.waitUntil(lambda: window.work_page not in (None, before) or bool(window.message.text()), timeout=240_000)
    assert window.work_page is not None, window.message.text()
    window.activateWindow()
    workspace = window.work_page.workspace
    qtbot.waitUntil(
        lambda: bool(workspace.take.trouble or (workspace.part.found and workspace.take.surveyed)), timeout=240_000
    )
    qtbot.waitUntil(lambda: bool(window.work_page.hearing.player.device.name), timeout=30_000)
    qtbot.wait(60)
    room = window.work_page
    if room.views.title.route.current == LAY_OUT and workspace.session.parts:  # as a new session begins
        press(room, key("Esses"), qtbot=qtbot)
    room.setFocus()
    return room


def excerpt(demo, folder, from_s, to_s, parts, guides=()):
    """A session of some of the demo's parts and references, cut to a span of the song; nothing is known of it yet."""
    session = file.load(demo)

    def cut(item):
        with sf.SoundFile(item.source.path) as recording:
            rate = recording.samplerate
            recording.seek(round((from_s - item.offset_s) * rate))
            samples = recording.read((to_s - from_s) * rate, dtype="float32", always_2d=True)
        path = folder / f"{item.name}.wav"
        sf.write(path, samples, rate, subtype="FLOAT")
        return replace(item, source=Source(str(path), rate, samples.shape[1], len(samples)), offset_s=0.0)

    path = folder / "excerpt.isophon"
    cut_parts, cut_guides = (tuple(cut(items[i]) for i in chosen)
                             for items, chosen in ((session.parts, parts), (session.guides, guides)))  # fmt: skip
    file.save(replace(session, parts=cut_parts, guides=cut_guides, markers=()), path)
    return path


def crash(workspace):
    """Leave the workspace as a killed process would: what is written is written, and nobody holds the session."""
    workspace.keeper.settle()
    workspace.keeper._lock.release()


def answer_dialog(name):
    """Type a name into the file dialog that opens next and accept it, or leave it with Esc for ''.

    Gives a list that holds the name it proposed once it has been answered.
    """
    proposed, timer = [], QTimer(QApplication.instance())

    def answer():
        dialog = QApplication.activeWindow()
        if not isinstance(dialog, QFileDialog):
            return
        timer.stop()
        field = dialog.findChild(QLineEdit)
        proposed.append(field.text())
        field.setText(name)
        QTest.keyClick(dialog if not name else field, Qt.Key.Key_Return if name else Qt.Key.Key_Escape)

    timer.timeout.connect(answer)
    timer.start(20)
    return proposed


def key(station):
    """The number key of a station of the route, and what is held with it."""
    number = STATIONS.index(station) + 1
    alt = Qt.KeyboardModifier.AltModifier if number > 10 else Qt.KeyboardModifier.NoModifier
    return getattr(Qt.Key, f"Key_{number % 10}"), alt


def all_found(room, qtbot):
    """Wait until every part is analysed: long, as that gets only the time which no other program wants."""
    qtbot.waitUntil(lambda: all(p.found for p in room.workspace.session.parts), timeout=240_000)
    qtbot.wait(30)  # what is new of takes is shown in the turn after


def press(room, key, modifiers=Qt.KeyboardModifier.NoModifier, qtbot=None):
    key, modifiers = key if isinstance(key, tuple) else (key, modifiers)
    qtbot.keyClick(room, key, modifiers)


def drag(qtbot, widget, start, end):
    start, end = (QPoint(round(p.x()), round(p.y())) for p in (start, end))
    qtbot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        qtbot.mouseMove(widget, start + (end - start) * share)
        QApplication.processEvents()
    qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end)
