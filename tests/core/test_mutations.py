"""Whatever a file holds, nothing hangs, nothing ends in a traceback, and every refusal is one line.

``ISOPHON_FUZZ=10000`` tries that many mutations of each kind; a few hundred by default.
"""

import random
import signal

import msgspec
import numpy as np
import pytest
import soundfile as sf
from test_strangers import song  # noqa: F401 (a fixture)

from conftest import COUNT
from isophon.cli import main
from isophon.core.errors import IsophonError
from isophon.core.session import cards, edits, file
from isophon.core.session.checks import flaw_of, flaw_of_values
from isophon.core.session.history import History
from isophon.core.session.journal import Journal, replay
from mutating import bytes_changed, value_changed


@pytest.fixture(autouse=True)
def in_time():
    """No single case may take ten seconds: the alarm is set anew for each."""

    def late(*_):
        raise AssertionError("this took more than 10 s")

    before = signal.signal(signal.SIGALRM, late)
    yield
    signal.alarm(0)
    signal.signal(signal.SIGALRM, before)


def one_line(error: IsophonError) -> None:
    assert "\n" not in str(error) and "\x1b" not in str(error) and len(str(error)) < 2_000


def test_recordings(tmp_path, capsys):
    rng = random.Random(1)
    t = np.arange(9_600) / 16_000
    voice = (0.2 * np.sin(2 * np.pi * 220 * t) * (t < 0.4) + 1e-3 * np.sin(7e6 * t**2)).astype(np.float32)
    kinds = [("wav", "PCM_16"), ("wav", "FLOAT"), ("w64", "PCM_24"), ("aiff", "PCM_16"), ("caf", "PCM_16"),
             ("au", "PCM_16"), ("flac", "PCM_16"), ("ogg", "VORBIS"), ("mp3", "MPEG_LAYER_III"),
             ("rf64", "PCM_16")]  # fmt: skip
    whole = []
    for ending, subtype in kinds:
        path = tmp_path / f"{subtype}.{ending}"
        sf.write(path, voice, 16_000, subtype=subtype, format="RF64" if ending == "rf64" else None)
        whole.append((ending, path.read_bytes()))
    statuses = set()
    for i in range(COUNT // 2):
        ending, data = whole[i % len(whole)]
        path = tmp_path / f"case.{ending}"
        path.write_bytes(bytes_changed(rng, data))
        signal.alarm(10)
        status = main(["find", str(path), "--quiet", "--only", "ess,pop,gap,breath,tick,hum"])
        signal.alarm(0)
        told = capsys.readouterr().err
        assert status in (0, 3) and told.count("\n") <= 1 and "Traceback" not in told and "inside" not in told, told
        statuses.add(status)
    assert statuses == {0, 3}


def test_sessions(song, tmp_path, capsys):  # noqa: F811
    """Through loading, rescuing and planning; some through the whole command."""
    rng = random.Random(2)
    text = song.read_text()
    opened = rescued = 0
    for i in range(COUNT):
        data = bytes_changed(rng, text.encode()) if i % 3 == 0 else value_changed(rng, text).encode()
        song.write_bytes(data)
        signal.alarm(10)
        try:
            session = file.load(song)
            opened += 1
        except IsophonError as error:
            one_line(error)
            try:
                session, _ = file.rescue(song)
                rescued += bool(session.parts)
            except IsophonError as error:
                one_line(error)
                session = None
        if session is not None:
            assert all(part.plan is not None and hash(part) for part in session.parts)
            file.save(session, tmp_path / "again.isophon")
            assert file.load(tmp_path / "again.isophon") == session
        if i % 10 == 0:
            out = tmp_path / f"out{i}"
            status = main(["clean", "--session", str(song), "--out", str(out), "--quiet", "--skip", "bleed"])
            told = capsys.readouterr().err
            assert status in (0, 3, 4) and "inside" not in told, told
        signal.alarm(0)
    assert opened and rescued > COUNT / 4


def test_cards(tmp_path, capsys):
    rng = random.Random(3)
    from test_strangers import Part, layout

    path = tmp_path / "a.voicecard"
    cards.save_card("Ada", Part("p", "p", layout.Source("x", 48_000, 1, 9)), path)
    text = path.read_text()
    for i in range(COUNT):
        path.write_bytes(bytes_changed(rng, text.encode()) if i % 2 else value_changed(rng, text).encode())
        signal.alarm(10)
        try:
            cards.load_card(path)
        except IsophonError as error:
            one_line(error)
    assert main(["find", str(tmp_path / "none.wav"), "--card", str(tmp_path)]) == 3


def test_journals(song, tmp_path):  # noqa: F811
    """What can be read of it is a history whose every step can be saved."""
    rng = random.Random(4)
    history = History(file.load(song))
    journal = Journal(tmp_path / "a.journal", history, song)
    for i in range(12):
        history.do("ceiling", edits.set_setting(history.session, ["part-1"], "ess", "ceiling_db", -float(i)))
        if i % 5 == 4:
            history.undo()
        journal.write(history)
    journal.saved(history, song, tmp_path / "a.journal")
    lines = (tmp_path / "a.journal").read_bytes().split(b"\n")[:-1]
    read = 0
    for i in range(COUNT):
        mine = list(lines)
        at = rng.randrange(len(mine))
        how = i % 4
        if how == 0:
            mine[at] = bytes_changed(rng, mine[at])
        elif how == 1:
            mine[at] = value_changed(rng, mine[at].decode()).encode()
        elif how == 2:
            del mine[at]
        else:
            odd = (b"[]", b"1", b'{"go": -3}', b'{"step": 1, "change": []}', b'{"saved": [1]}',
                   b'{"found": 1, "findings": {}}', b'{"step": "x", "change": {"=": null}}')  # fmt: skip
            mine.insert(at, rng.choice(odd))
        (tmp_path / "b.journal").write_bytes(b"\n".join(mine) + b"\n")
        signal.alarm(10)
        try:
            told = replay(tmp_path / "b.journal")
        except IsophonError as error:
            one_line(error)
            continue
        read += 1
        for _, step in told.history.steps:
            assert not flaw_of(step) and not any(flaw_of_values(msgspec.to_builtins(step))), "it could not be saved"
        file.save(told.history.session, tmp_path / "again.isophon")
    assert read > COUNT / 2
