"""A copy of the program with one more kind: its room, its sheet, and a line for each in the registries."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

SRC = Path(__file__).parent.parent / "src"


def with_kind(folder: Path, name: str, room: str, sheet: str) -> Path:
    """The copy's ``src``, with a room and a sheet of a name after those of the esses; nothing else of it differs."""
    home = folder / "src"
    shutil.copytree(SRC / "isophon", home / "isophon", symlinks=True)  # with what is compiled
    core, app = home / "isophon" / "core" / "passes", home / "isophon" / "app" / "sheets"
    (core / name).mkdir()
    (core / name / "__init__.py").write_text(room)
    (app / f"{name}.py").write_text(sheet)
    settings = f"{name.capitalize()}Settings"
    _add(core / "__init__.py", "from isophon.core.passes.ess.settings import EssSettings\n",
         f"from isophon.core.passes.{name} import {settings}\n")  # fmt: skip
    _add(core / "__init__.py", "    ess: EssSettings = EssSettings()\n", f"    {name}: {settings} = {settings}()\n")
    _add(app / "__init__.py", "    ess.PASS,\n", f"    {name}.PASS,\n")
    text = (app / "__init__.py").read_text()
    (app / "__init__.py").write_text(text.replace("import band,", f"import band, {name},"))
    return home


def _add(path: Path, after: str, line: str) -> None:
    text = path.read_text()
    assert text.count(after) == 1
    path.write_text(text.replace(after, after + line))


def drive(home: Path, script: str, *arguments: object) -> str:
    """What a script printed that ran on the copy; AssertionError with what went wrong."""
    state = home.parent / "state"
    environment = {**os.environ, "PYTHONPATH": str(home), "XDG_STATE_HOME": str(state)}
    done = subprocess.run([sys.executable, "-c", script, *map(str, arguments)], env=environment, capture_output=True,
                          text=True)  # fmt: skip
    assert done.returncode == 0, done.stdout[-500:] + done.stderr[-3000:]
    return done.stdout
