"""Makes what is published of a version: wheel, source archive, Debian package, list of parts (SBOM), checksums.

Usage: .venv/bin/python tools/release.py [FOLDER]

FOLDER (dist) is made anew. The same commit gives the same files to the last bit: all times in them are that of the
commit. The Debian package carries the locked Python packages and is for the Python that it is made with.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import os
import re
import shutil
import subprocess
import sys
import tarfile
import tempfile
from importlib import metadata
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))

from isophon import __version__  # noqa: E402
from isophon.cli import desktop  # noqa: E402

LOCK = ROOT / "requirements.lock"
_LAUNCHER = """#!/bin/sh
ISOPHON_CALLED=isophon PYTHONPATH=/usr/lib/isophon PYTHONNOUSERSITE=1 exec /usr/bin/python3 -P -m isophon "$@"
"""
_CONTROL = """Package: isophon
Version: {version}
Section: sound
Priority: optional
Architecture: {architecture}
Depends: {depends}
Installed-Size: {size}
Maintainer: The Isophon developers <isophon@localhost>
Description: clean recorded vocals against the voice around each blemish
 Isophon cleans recorded vocals before the vocal chain: sibilance, plosives, breaths, mouth clicks, resonances, noise
 and headphone bleed. Every blemish is measured against the voice around it and brought down just enough; every
 decision stays with the engineer, and recordings are never written to.
"""


def run(*command: str | Path, **more: object) -> str:
    return subprocess.run([str(part) for part in command], check=True, stdout=subprocess.PIPE, text=True, **more).stdout  # type: ignore[call-overload]


def build_archives(folder: Path, when: int) -> Path:
    """The source archive, and out of it the wheel, which is returned."""
    run(sys.executable, "-m", "build", "--no-isolation", "--outdir", folder, ROOT)
    for archive in folder.glob("*.tar.gz"):
        _repack(archive, when)
    return next(folder.glob("*.whl"))


def _repack(archive: Path, when: int) -> None:
    """Write a source archive anew: in order, of nobody, and of the time of the commit."""
    packed = io.BytesIO()
    with tarfile.open(archive) as old, tarfile.open(fileobj=packed, mode="w", format=tarfile.GNU_FORMAT) as new:
        for member in sorted(old.getmembers(), key=lambda one: one.name):
            member.mtime, member.uid, member.gid, member.uname, member.gname = when, 0, 0, "", ""
            member.mode = 0o755 if member.isdir() or member.mode & 0o100 else 0o644
            member.pax_headers = {}
            new.addfile(member, old.extractfile(member) if member.isfile() else None)
    archive.write_bytes(gzip.compress(packed.getvalue(), mtime=0))


def locked() -> list[tuple[str, str, list[str]]]:
    """Name, version and SHA-256 sums of each locked package."""
    found = re.findall(r"^([\w.-]+)==([\w.]+)((?: \\\n\s+--hash=sha256:\w+)+)", LOCK.read_text(), re.MULTILINE)
    return [(name, version, re.findall(r"sha256:(\w+)", hashes)) for name, version, hashes in found]


def parts_list() -> str:
    """All that the program is made of, as CycloneDX 1.5 has it."""
    parts = []
    for name, version, _sums in locked():
        about = metadata.metadata(name)
        licence = about.get("License-Expression") or (about.get("License") or "unknown").splitlines()[0]
        parts.append({"type": "library", "name": name, "version": version, "purl": f"pkg:pypi/{name}@{version}",
                      "licenses": [{"license": {"name": licence}}]})  # fmt: skip
    program = {"type": "application", "name": "isophon", "version": __version__}
    bom = {"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1, "metadata": {"component": program},
           "components": parts}  # fmt: skip
    return json.dumps(bom, indent=1) + "\n"


def build_deb(folder: Path, wheel: Path, when: int) -> Path:
    """The Debian package."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name) / "root"
        packages, share = root / "usr" / "lib" / "isophon", root / "usr" / "share"
        pip = sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-compile", "--target", packages
        run(*pip, "--require-hashes", "-r", LOCK)
        run(*pip, wheel)
        shutil.rmtree(packages / "bin", ignore_errors=True)
        for listing in packages.glob("*.dist-info"):  # they tell where and when it was installed
            for one in ("RECORD", "direct_url.json", "REQUESTED"):
                (listing / one).unlink(missing_ok=True)
        desktop.install(share, "isophon", tell=False)
        _write(root / "usr" / "bin" / "isophon", _LAUNCHER.encode(), 0o755)
        page = (ROOT / "packaging" / "isophon.1").read_bytes()
        _write(share / "man" / "man1" / "isophon.1.gz", gzip.compress(page, mtime=0))
        completion = ROOT / "packaging" / "completion"
        _write(share / "bash-completion" / "completions" / "isophon", (completion / "isophon").read_bytes())
        _write(share / "zsh" / "vendor-completions" / "_isophon", (completion / "_isophon").read_bytes())
        _write(share / "doc" / "isophon" / "copyright", (ROOT / "LICENSE").read_bytes())
        size = sum(path.stat().st_size for path in root.rglob("*") if path.is_file()) // 1024
        control = _CONTROL.format(
            version=__version__, architecture=run("dpkg", "--print-architecture").strip(), depends=_depends(), size=size
        )
        _write(root / "DEBIAN" / "control", control.encode())
        for path in (root, *root.rglob("*")):
            if not path.is_symlink():
                path.chmod(0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644)
            os.utime(path, (when, when), follow_symlinks=False)
        deb = folder / f"isophon_{__version__}_{run('dpkg', '--print-architecture').strip()}.deb"
        run("dpkg-deb", "--root-owner-group", "-Zxz", "--build", root, deb)
    return deb


def _depends() -> str:
    """The system libraries, and the Python whose packages are carried."""
    script = f'. "{ROOT}/tools/setup.sh"; printf %s "$ISOPHON_DEBIAN"'
    major, minor = sys.version_info[:2]
    python = f"python3 (>= {major}.{minor}~)", f"python3 (<< {major}.{minor + 1}~)"
    return ", ".join((*python, *run("sh", "-c", script).split()))


def _write(path: Path, content: bytes, mode: int = 0o644) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    path.chmod(mode)


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else ROOT / "dist").absolute()
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    when = int(run("git", "-C", ROOT, "log", "-1", "--format=%ct"))
    os.environ["SOURCE_DATE_EPOCH"] = str(when)
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    wheel = build_archives(folder, when)
    shutil.rmtree(ROOT / "src" / "isophon.egg-info", ignore_errors=True)
    (folder / f"isophon-{__version__}.cdx.json").write_text(parts_list(), encoding="utf-8")
    build_deb(folder, wheel, when)
    sums = [f"{hashlib.sha256(p.read_bytes()).hexdigest()}  {p.name}" for p in sorted(folder.iterdir())]
    (folder / "SHA256SUMS").write_text("\n".join(sums) + "\n", encoding="utf-8")
    print("\n".join(sums))


if __name__ == "__main__":
    main()
