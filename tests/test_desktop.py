"""Isophon in the menus: what is written is what the freedesktop.org specifications ask for, and goes again."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from isophon.cli import desktop, main

SRC = Path(__file__).resolve().parent.parent / "src"


def test_it_is_put_into_the_menus_and_taken_out_again(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    monkeypatch.setenv("ISOPHON_CALLED", "/opt/my programs/isophon")
    mine = tmp_path / "applications" / "other.desktop"
    mine.parent.mkdir()
    mine.write_text("[Desktop Entry]\n")
    assert main(["--install-desktop"]) == 0 and str(tmp_path) in capsys.readouterr().out
    entry = (tmp_path / "applications" / "isophon.desktop").read_text()
    assert 'Exec="/opt/my programs/isophon" open %f\n' in entry and "TryExec=/opt/my programs/isophon\n" in entry
    for size in desktop.SIZES:
        icon = (tmp_path / f"icons/hicolor/{size}x{size}/apps/isophon.png").read_bytes()
        assert icon[:8] == b"\x89PNG\r\n\x1a\n" and int.from_bytes(icon[16:20], "big") == size  # PNG, 11.2.2
    assert main(["--remove-desktop"]) == 0
    left = [
        path.name
        for path in tmp_path.rglob("*")
        if path.is_file() and "mime" not in path.parts and path.suffix != ".cache"
    ]
    assert left == ["other.desktop"] and not (tmp_path / "mime/packages/isophon-mime.xml").exists()


@pytest.mark.parametrize(
    ("program", "arguments", "name"),
    [("appstreamcli", ["validate", "--no-net"], "isophon.metainfo.xml"),
     ("desktop-file-validate", [], "isophon.desktop"), ("xmllint", ["--noout"], "isophon-mime.xml")],
)  # fmt: skip
def test_what_is_written_validates(program, arguments, name):
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not here")
    done = subprocess.run([program, *arguments, SRC / "isophon" / "desktop" / name], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr


def test_no_name_of_a_program_breaks_the_entry(tmp_path, monkeypatch):
    """A quote, a dollar and a backslash, escaped as the Desktop Entry Specification (Exec) has it."""
    desktop.install(tmp_path, '/tmp/a"b$c\\d/isophon', tell=False)
    entry = (tmp_path / "applications" / "isophon.desktop").read_text()
    assert 'Exec="/tmp/a\\\\"b\\\\$c\\\\\\\\d/isophon" open %f\n' in entry


def test_it_runs_as_a_module_from_a_folder_that_cannot_be_written(tmp_path):
    """As from a package of the system: the manual, the fonts and the menu's files come with it."""
    code = (
        "from importlib import resources; f = resources.files('isophon'); "
        "print(all((f / p).is_file() for p in ('manual/manual.md', 'manual/screenshots/esses.png', "
        "'desktop/isophon.svg', 'app/assets/fonts/OFL.txt')))"
    )
    done = subprocess.run([sys.executable, "-c", code], env={**os.environ, "PYTHONPATH": str(SRC)}, cwd=tmp_path,
                          capture_output=True, text=True)  # fmt: skip
    assert done.stdout.strip() == "True", done.stderr
