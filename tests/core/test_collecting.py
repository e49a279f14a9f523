"""A session collected in one folder opens there alone, with every decision; what goes wrong leaves nothing."""

import os
import shutil
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from conftest import write
from isophon.cli import main
from isophon.core.errors import Cancelled, ExistsError, InputError
from isophon.core.handover.collecting import RECORDINGS, collect, plain_name
from isophon.core.marks import Hand
from isophon.core.passes.ess.mark import EssMark
from isophon.core.session import file, layout
from isophon.core.session.items import Source


@pytest.fixture
def song(tmp_path):
    """Two takes of the same name in folders of their own, and music; one ess decided by hand."""
    rng, arrivals = np.random.default_rng(1), []
    for folder, role in (("first", "lead"), ("second", "double"), ("third", "bed")):
        (tmp_path / "far" / folder).mkdir(parents=True)
        samples = (0.1 * rng.standard_normal(9_000)).astype(np.float32)
        path = write(tmp_path / "far" / folder / "Take ü.wav", samples, 48_000)
        os.utime(path, (1e9, 1e9))
        arrivals.append(layout.Arrival(folder, Source(str(path), 48_000, 1, len(samples)), role))
    session = layout.new_session("Song", arrivals)
    mark = EssMark("ess-1", 0.05, 0.09, -20.0, 3.0, 4_000.0, 9_000.0, 0.9, hand=Hand(change_db=-4.0))
    return replace(session, parts=(replace(session.parts[0], marks=(mark,), found=True), *session.parts[1:]))


def test_it_opens_elsewhere_alone_and_is_the_same(song, tmp_path):
    told = []
    path = collect(song, "My song/1", tmp_path / "new" / "place", told.append)
    assert path == tmp_path / "new" / "place" / "My song_1.isophon" and told == sorted(told) and told[-1] == 1.0
    originals = [item.source.path for item in song.items]
    contents = [Path(name).read_bytes() for name in originals]
    moved = tmp_path / "carried"
    shutil.move(path.parent, moved)
    shutil.rmtree(tmp_path / "far")
    again = file.load(moved / path.name)
    sources = [item.source.path for item in again.items]
    assert [name.rsplit("/", 1)[1] for name in sources] == ["Take ü.wav", "Take ü 2.wav", "Take ü 3.wav"]
    assert [Path(name).read_bytes() for name in sources] == contents
    assert all(name.startswith(str(moved / RECORDINGS)) and os.stat(name).st_mtime == 1e9 for name in sources)
    assert again.parts[0].marks == song.parts[0].marks and [p.name for p in again.parts] == ["first", "second"]


@pytest.mark.parametrize("name", ["..", ".", "/", "a/../../b", "", "\x00", "  . "])
def test_a_sessions_name_leads_nowhere_else(name):
    plain = plain_name(name)
    assert plain and "/" not in plain and "\x00" not in plain and plain.strip(".") == plain


def test_what_goes_wrong_is_one_line_and_leaves_nothing(song, tmp_path):
    place = tmp_path / "place"
    place.mkdir()
    (place / "mine.txt").write_text("keep")
    with pytest.raises(ExistsError, match="holds something"):
        collect(song, "Song", place)
    assert [p.name for p in place.iterdir()] == ["mine.txt"]

    def give_up(share):
        if share > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        collect(song, "Song", tmp_path / "other", give_up)
    os.remove(song.parts[1].source.path)
    with pytest.raises(InputError, match="is not there or no recording, so nothing was copied"):
        collect(song, "Song", tmp_path / "other")
    Path(song.parts[1].source.path).write_text("a secret that a session may not have carried away")
    with pytest.raises(InputError, match="no recording"):
        collect(song, "Song", tmp_path / "other")
    assert {p.name for p in tmp_path.iterdir()} == {"far", "place"}


def test_from_the_terminal(song, tmp_path, capsys):
    file.save(song, path := tmp_path / "Song.isophon")
    assert main(["collect", str(path), "--out", str(tmp_path / "out"), "--quiet"]) == 0
    told = capsys.readouterr().out.strip()
    assert (
        told == str(tmp_path / "out" / "Song.isophon") and len(file.load(tmp_path / "out" / "Song.isophon").items) == 3
    )
    assert main(["collect", str(path), "--out", str(tmp_path / "out"), "--quiet"]) == 4
    assert main(["collect", str(tmp_path / "none.isophon"), "--out", str(tmp_path / "o")]) == 3
