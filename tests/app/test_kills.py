"""Killed while a hand never rests: at most half a second of its work is lost."""

import os
import random
import subprocess
import sys
import time

from conftest import COUNT
from isophon.core.session import file, layout
from isophon.core.session.items import Source
from isophon.core.session.journal import replay
from test_cli import SRC

KILLS = 2 if COUNT <= 120 else 200
LOST_S = 0.5
BUSY = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QCoreApplication, QTimer
from isophon.app.model.session_keeper import SessionKeeper
from isophon.core.session import edits, file
from isophon.core.session.history import History

app = QCoreApplication([])
path, count = Path(sys.argv[1]), 0
keeper = SessionKeeper(History(file.load(path)), path, None)

def edit():
    global count
    count += 1
    keeper.edit("ceiling", lambda s: edits.set_setting(s, ["part-1"], "ess", "ceiling_db", -count / 100),
                gesture="drag" if count % 3 else None)
    print(count, time.time(), flush=True)

timer = QTimer(interval=int(sys.argv[2]))
timer.timeout.connect(edit)
timer.start()
app.exec()
"""


def test_at_most_half_a_second_is_lost_however_busy_the_hand(tmp_path):
    rng = random.Random(3)
    for run in range(KILLS):
        folder = tmp_path / str(run)
        folder.mkdir()
        take = Source(str(folder / "take.wav"), 48_000, 1, 480_000)
        file.save(layout.new_session("song", [layout.Arrival("take", take)]), folder / "song.isophon")
        environment = {**os.environ, "PYTHONPATH": str(SRC), "XDG_STATE_HOME": str(folder)}
        command = [sys.executable, "-c", BUSY, str(folder / "song.isophon"), str(rng.choice([15, 120, 400]))]
        process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
        told = [process.stdout.readline().split()]
        time.sleep(rng.uniform(0.8, 2.0))
        process.kill()
        killed = time.time()
        told += [line.split() for line in process.stdout if line.endswith("\n")]
        kept = replay(next(folder.rglob("*.journal"))).history.session.parts[0].ess.ceiling_db
        lost = [float(at) for count, at in told if int(count) > round(-100 * kept)]
        assert not lost or killed - min(lost) < LOST_S, (kept, told[-1], killed - min(lost))
