"""A kind of blemish is one room and one line, in the window one file and one line: here one is added to a copy."""

import numpy as np
import soundfile as sf

from conftest import write
from new_kinds import drive, with_kind
from voices import spoken

ROOM = '''
"""Hush: every second moment of a take turned down, for the test."""

from typing import Annotated

import msgspec

from isophon.core.marks import Mark
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, Reporter
from isophon.core.passes.stage import Stage, touching


class HushMark(Mark, frozen=True, tag="hush"):
    pass


class HushSettings(msgspec.Struct, frozen=True):
    on: bool = True
    by_db: Annotated[float, msgspec.Meta(ge=-30.0, le=0.0)] = -6.0
    take_s: Annotated[float, msgspec.Meta(ge=0.0, le=9.0)] = 0.5


class HushCut(msgspec.Struct, frozen=True):
    first: int
    last: int
    gain: float


def find(context):
    seconds = range(int(context.frames / context.sample_rate))
    marks = tuple(HushMark(f"hush-{s}", s + 0.25, s + 0.75, -20.0, float(s), 100.0, 900.0, 1.0) for s in seconds)
    return Found(marks, {"loudest": float(context.survey.k_power.max())})


def treatments(part):
    rate = part.source.sample_rate
    for mark, change in part.changed("hush"):
        start, end = mark.span
        yield HushCut(round(start * rate), round(end * rate), 10 ** (change / 20))


def apply(at, mine):
    block = at.block().copy()
    for cut in mine:
        block[:, max(0, cut.first - at.start) : cut.last - at.start] *= cut.gain
    return block


KIND = Kind(
    "hush", HushSettings, lambda role: HushSettings(by_db=-6.0 if role == "lead" else -12.0),
    HushMark, after=("ess",), one_take=("take_s",), finder=Finder(find, measures={"loudest": (float | None, None)}),
    decision=Decision(lambda mark, mine, context: 0.0 if mark.hand.leave or not mine.on else mine.by_db),
    cure=Cure(treatments, (Stage("hush", (HushCut,), apply, after=("ess by rule",)),)),
    reporter=Reporter(row=lambda part: {"loudest": part.measured.loudest}, summary=lambda part: "hush, hush"),
)
'''

SHEET = '''
"""The Hush sheet."""

from isophon.app import theme
from isophon.app.model.passes import Controls, HandTools, Knob, Pass, SkylineView, Words

PASS = Pass("hush", "Hush", theme.tick_shape, Words("hush", "hushes", " in dB"),
            Controls((Knob("by_db", "Hushed by", 0.5, "dB", "How far"),)), SkylineView((-6.0, 6.0, -60.0, 30.0)),
            hand=HandTools(by_hand="Hushes are set for the whole part."))
'''

DRIVE = """
import json, sys, tempfile
from pathlib import Path
import soundfile as sf
from isophon.cli import main
from isophon.core.passes import NAMES, Settings
from isophon.core.session import cards, edits, file, layout
from isophon.core.session.settings import role_default
assert "hush" in NAMES and Settings().hush.by_db == -6
take, folder = Path(sys.argv[1]), Path(sys.argv[2])
assert main(["clean", str(take), "--out", str(folder / "o"), "--only", "hush", "--depth", "32f", "--labels",
             "--set", "hush.by_db=-20", "--quiet"]) == 0
assert main(["clean", str(take), "--out", str(folder / "p"), "--skip", "hush", "--set", "hush.by_db=-99"]) == 2
row = json.loads((folder / "o" / "report.json").read_text())["files"][0]["kinds"]["hush"]
assert row["changed"] == row["count"] > 3 and row["deepest_change_db"] == -20 and row["loudest"] > 0
assert "hush" in (folder / "o" / "take.marks.tsv").read_text()

import os
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import QEventLoop, QTimer, Qt
from PySide6.QtTest import QTest
from isophon.app.main import make_app
from isophon.app.window import Window
from isophon.app.pages.route import STATIONS
app = make_app()
window = Window()
window.show()
window.open_path(take)
def wait(until):
    for _ in range(600):
        if until():
            return
        QTest.qWait(50)
    raise SystemExit("nothing came of it")
wait(lambda: window.work_page is not None and window.work_page.workspace.part.found)
page, workspace = window.work_page, window.work_page.workspace
at = STATIONS.index("Hush")
QTest.keyClick(page, getattr(Qt.Key, f"Key_{(at + 1) % 10}"))
assert workspace.pass_.kind == "hush" and len(workspace.marks) == row["count"]
QTest.qWait(100)
page.sheet.sliders["by_db"].moved.emit(-30.0, ("drag", 1))
assert workspace.part.hush.by_db == -30 and workspace.keeper.history.undo_name.startswith("hushed by")
QTest.keyClick(page, Qt.Key.Key_Right)
assert workspace.mark.kind == "hush"
left = workspace.mark.id
QTest.keyClick(page, Qt.Key.Key_L)
assert workspace.part.mark(left).hand.leave and workspace.part.change(workspace.part.mark(left)) == 0
page.open_station(STATIONS.index("Hand over"))
page.views.hand_over.form.folder.setText(str(folder / "w"))
page.views.hand_over.start()
wait(lambda: "written" in page.views.hand_over.outcome.text())
table = page.views.hand_over.table
heads = [table.horizontalHeaderItem(i).text() for i in range(table.columnCount())]
assert table.item(0, heads.index("Hushes")).text() == f"{row['count'] - 1} of {row['count']}"
song = folder / "s.isophon"
assert workspace.keeper.save(song) and file.load(song).parts[0].hush.by_db == -30
cards.save_card("Ada", edits.replace(workspace.part, hush=edits.replace(workspace.part.hush, take_s=7.0)), folder / "c")
kept = cards.load_card(folder / "c").settings["hush"]
assert kept.take_s == 0.5 and kept.by_db == -30
values = json.loads(song.read_text())
values["session"]["parts"][0]["hush"]["by_db"] = 5
song.write_text(json.dumps(values))
try:
    file.load(song)
except Exception as error:
    assert "hush.by_db" in str(error)
else:
    raise SystemExit("a value out of range was taken")
window.close()
print("all of it")
"""


def test_a_new_kind_needs_nothing_else(tmp_path):
    home = with_kind(tmp_path, "hush", ROOM, SHEET)
    samples, rate, _ = spoken("de")
    take = write(tmp_path / "take.wav", samples, rate)
    assert "all of it" in drive(home, DRIVE, take, tmp_path)
    read = [sf.read(p)[0] for p in (take, tmp_path / "o" / "take.clean.wav")]
    inside, outside = slice(round(1.3 * rate), round(1.7 * rate)), slice(round(1.76 * rate), round(2.24 * rate))
    assert np.allclose(read[1][inside], 0.1 * read[0][inside], atol=1e-6)
    assert np.array_equal(read[1][outside], read[0][outside].astype(np.float32))
