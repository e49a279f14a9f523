"""A kind with all that the first new one leaves out, added to a copy as that is.

It reaches around its marks, adds to them, meets the lead, learns from a span in a worker, takes marks from a file, and
draws over the map and in its sheet.
"""

import filecmp
from itertools import chain
from pathlib import Path

import numpy as np
import soundfile as sf
from scipy.ndimage import uniform_filter1d

from conftest import write
from new_kinds import SRC, drive, with_kind
from voices import spoken

ROOM = '''
"""Blur: places of a take made dull, for the test."""

from typing import Annotated, Any

import msgspec
import numpy as np
from msgspec.structs import replace
from scipy.ndimage import uniform_filter1d

from isophon.core.marks import Hand, Mark
from isophon.core.passes.kind import (
    BesideLead, Cure, Decision, Finder, Found, Kind, MarkFile, Reporter, Span, SpanLearning,
)
from isophon.core.passes.stage import Stage

FRAMES = 9


class BlurMark(Mark, frozen=True, tag="blur"):
    """``width``: over how many frames; ``lead_s``: the start of the lead's that it meets."""

    width: Annotated[int, msgspec.Meta(ge=1, le=FRAMES)] = FRAMES
    lead_s: float | None = None


class BlurSettings(msgspec.Struct, frozen=True):
    over_db: Annotated[float, msgspec.Meta(ge=-60.0, le=20.0)] = -60.0
    learn_from: Annotated[float, msgspec.Meta(ge=0.0, le=86_400.0)] = 0.0
    learn_to: Annotated[float, msgspec.Meta(ge=0.0, le=86_400.0)] = 0.0


class BlurCut(msgspec.Struct, frozen=True):
    first: int
    last: int
    width: int


def find(context):
    seconds = range(1, int(context.frames / context.sample_rate), 2)
    return Found(tuple(BlurMark(f"blur-{s}", s, s + 0.5, -20.0, 1.0 + s / 10, 100.0, 900.0, 1.0) for s in seconds))


def meet(marks, lead, later_s):
    starts = [m.start for m in lead if isinstance(m, BlurMark)]
    def met(mark):
        near = next((t - later_s for t in starts if abs(t - later_s - mark.start) < 0.2), None)
        return replace(mark, lead_s=near)
    return tuple(met(m) if isinstance(m, BlurMark) else m for m in marks)


def treatments(part):
    rate = part.source.sample_rate
    for mark, _ in part.changed("blur"):
        yield BlurCut(round(mark.span[0] * rate), round(mark.span[1] * rate), mark.width)


def apply(at, mine):
    wide = at.read(at.start - FRAMES, at.frames + 2 * FRAMES)
    block = at.block().copy()
    for cut in mine:
        first, last, there = at.within(cut)
        dull = uniform_filter1d(wide.astype(np.float64), cut.width, axis=1)[:, FRAMES:-FRAMES]
        block[:, there] = dull[:, there]
    return block


def learn(recording, survey, part, span):
    frames = slice(survey.frame(span.start), survey.frame(span.end))
    return float(10 * np.log10(survey.k_power[frames].mean() + 1e-12))


def adopt(part, span, level):
    start, end = span or (0.0, 0.0)
    over = -60.0 if level is None else max(-60.0, min(20.0, -level))
    return replace(part, blur=replace(part.blur, over_db=over, learn_from=start, learn_to=end))


def asked(part):
    span = Span(part.blur.learn_from, part.blur.learn_to)
    return span if span.end > span.start else None


def load(path, duration):
    rows = [line.split() for line in path.read_text().splitlines()]
    return tuple(BlurMark(f"blur-file-{i}", float(a), float(b), 0.0, 99.0, 0.0, 0.0, 1.0, Hand(drawn=True), width=3)
                 for i, (a, b) in enumerate(rows))


KIND = Kind(
    "blur", BlurSettings, lambda role: BlurSettings(), BlurMark, after=("ess",), one_take=("learn_from", "learn_to"),
    finder=Finder(find),
    decision=Decision(lambda mark, mine, context: -6.0 if mark.standout_db > mine.over_db else 0.0),
    cure=Cure(treatments, (Stage("blur", (BlurCut,), apply, after=("outline",), reach=lambda rate: FRAMES),)),
    reporter=Reporter(mark_json=lambda part, mark, with_lead: {"lead_s": mark.lead_s} if with_lead else {},
                      label=lambda mark: f"{mark.width} frames"),
    beside_lead=BesideLead(meet, lambda mark: mark.lead_s is not None),
    span_learning=SpanLearning(float, learn, adopt, asked), mark_file=MarkFile("blurs", "places", "places", load),
)
'''

SHEET = '''
"""The Blur sheet."""

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout

from isophon.app import theme
from isophon.app.model.passes import Controls, HandTools, Knob, Pass, SkylineView, TraceView, Words
from isophon.app.sheets.extras import Extras
from isophon.core.passes.blur import BlurMark
from isophon.core.passes.kind import Span

INK = QColor(1, 254, 3)


class BlurExtras(Extras):
    def __init__(self, workspace):
        super().__init__(workspace)
        self.learn = QPushButton("Learn")
        self.learn.clicked.connect(lambda: workspace.analysis.span_lessons.learn(
            workspace.part, "blur", Span(*workspace.selected_time), "blur learned"))
        QVBoxLayout(self).addWidget(self.learn)

    def show_part(self):
        pass


def draw(painter, ground):
    for mark in ground.workspace.part.of(BlurMark):
        painter.fillRect(int(ground.x_of(mark.start)), int(ground.map.top()), 9, 30, INK)


PASS = Pass("blur", "Blur", theme.tick_shape, Words("blur", "blurs", " in dB"),
            Controls((Knob("over_db", "Blurred over", 0.5, "dB", "What stands out more"),), extras=BlurExtras,
                     picture=lambda workspace: QLabel("a picture of its own")),
            SkylineView((-6.0, 6.0, -60.0, 30.0)), trace=TraceView(draw=draw), hand=HandTools(handles=()))
'''

DRIVE = """
import json, sys
from pathlib import Path
import numpy as np
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.passes import STAGES
from isophon.core.session import file
from isophon.core.takes.take import renderer_of
take, lead, boxes, folder = map(Path, sys.argv[1:])
assert [s.name for s in STAGES].index("blur") > [s.name for s in STAGES].index("outline")
same = ["--only", "blur", "--lead", str(lead), "--blurs", str(boxes), "--quiet"]
assert main(["clean", str(take), "--out", str(folder / "o"), "--depth", "32f", "--labels", *same]) == 0
assert main(["clean", str(take), "--out", str(folder / "p"), "--depth", "32f", *same, "--set", "blur.learn_from=1",
             "--set", "blur.learn_to=2"]) == 0
assert "9 frames" in (folder / "o" / "take.marks.tsv").read_text()
assert main(["find", str(take), "--only", "blur"]) == 2

import os
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from isophon.app.main import make_app
from isophon.app.window import Window
from isophon.app.pages.route import STATIONS
app = make_app()
window = Window()
window.resize(1280, 800)
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
page.open_station(STATIONS.index("Blur"))
wait(lambda: workspace.pass_.kind == "blur" and page.sheet.extras.isVisible())
assert page.sheet.picture.text() == "a picture of its own"
def green():
    image = page.views.trace.grab().toImage()
    return sum(image.pixelColor(x, y).getRgb()[:3] == (1, 254, 3)
               for x in range(0, image.width(), 3) for y in range(0, image.height(), 9)) > 5
wait(green)
workspace.select_time((1.0, 2.0))
QTest.mouseClick(page.sheet.extras.learn, Qt.MouseButton.LeftButton)
wait(lambda: workspace.part.blur.over_db != -60)
assert workspace.keeper.history.undo_name == "blur learned" and workspace.part.blur.learn_to == 2.0
learned = workspace.part.blur
song = folder / "s.isophon"
assert workspace.keeper.save(song) and file.load(song).parts[0].marks == workspace.part.marks
page.views.title.undo.click()
assert workspace.part.blur.over_db == -60
values = json.loads(song.read_text())
mark = next(m for m in values["session"]["parts"][0]["marks"] if m["kind"] == "blur")
mark["width"] = 1000
song.write_text(json.dumps(values))
try:
    file.load(song)
except Exception as error:
    assert "width" in str(error)
else:
    raise SystemExit("a width out of range was taken")
with Recording(take) as recording:
    renderer, plan = renderer_of(recording), workspace.part.plan
    whole = renderer.cleaned(plan, 0, recording.frames)
    pieces = [renderer.cleaned(plan, at, min(4_321, recording.frames - at)) for at in range(0, recording.frames, 4_321)]
    assert np.array_equal(whole, np.concatenate(pieces, axis=1))
window.close()
assert main(["find", str(take), "--json", *same]) == 0
"""


def files_of(folder: Path) -> set[str]:
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file() and "__pycache__" not in p.parts}


def test_a_kind_with_everything_else_needs_no_other_edit(tmp_path):
    home = with_kind(tmp_path, "blur", ROOM, SHEET)
    new = files_of(home / "isophon") - files_of(SRC / "isophon")
    names = files_of(home / "isophon") - new
    _, changed, wrong = filecmp.cmpfiles(SRC / "isophon", home / "isophon", names, shallow=False)
    assert new == {"core/passes/blur/__init__.py", "app/sheets/blur.py"} and not wrong
    assert set(changed) == {"core/passes/__init__.py", "app/sheets/__init__.py"}
    samples, rate, _ = spoken("de")
    take, lead = (write(tmp_path / f"{name}.wav", samples, rate) for name in ("take", "lead"))
    boxes = tmp_path / "boxes.txt"
    boxes.write_text("2.6 2.8\n")
    told = drive(home, DRIVE, take, lead, boxes, tmp_path)
    sung, cleaned, learned = (sf.read(p, dtype="float32")[0] for p in (
        take, tmp_path / "o" / "take.clean.wav", tmp_path / "p" / "take.clean.wav"))  # fmt: skip
    expected = sung.copy()
    for start, end, width in chain(((s, s + 0.5, 9) for s in range(1, int(len(sung) / rate), 2)), ((2.6, 2.8, 3),)):
        span = slice(round(start * rate), round(end * rate))
        expected[span] = uniform_filter1d(sung.astype(np.float64), width)[span]
    assert np.array_equal(cleaned, expected)
    assert not np.array_equal(learned, cleaned), "what was learned from the span counts"
    assert '"lead_s": 1.0' in told
