"""The proof: one page that shows what was done to each part, before and after, with nothing outside of itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from math import inf, log10
from pathlib import Path
from typing import Any

import jinja2

import isophon
from isophon.core.atomic import write_text
from isophon.core.handover import drawings
from isophon.core.handover.counts import kinds
from isophon.core.marks import GONE_DB, Mark
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.passes.kind import Kind
from isophon.core.session.model import Part
from isophon.core.session.notes import Note
from isophon.core.takes.take import Take

PROOF = "report.html"
_DULL_DB = 3.0  # dB by which the top of the vowels may become softer without a remark
_TOP_HZ = 5_000.0  # Hz from which that is
_OVER_NOISE_DB = 6.0  # dB over the noise, where it is measured
_MOST_DECISIONS = 400  # that are listed
_MOST_PLACES = 6  # that a doubt names
_SILENT_DBFS = -119.0  # dBFS that are called silence
_LISTS = (
    ("Decided by the settings alone", "Nobody has accepted, changed or left these marks one by one.", "unheard"),
    ("Accepted unheard", "By the program’s measure these cannot be heard in the mix. They were accepted in one step.",
     "masked"),
)  # fmt: skip
_ROLES = {"lead": "lead", "double": "double", "harmony": "harmony", "adlib": "ad-lib"}


def proof_values(part: Part, spectra: dict[str, Any], without: Sequence[str] = (), maps: tuple[str, str] = ("", ""),
            notes: Sequence[Note] = ()) -> dict[str, Any]:  # fmt: skip
    """What the proof tells of a part beside its row of the report; values that JSON holds.

    ``notes``: those of the part and the named places of the song.
    ``maps``: its map as sung and cleaned, see :class:`isophon.core.handover.song_maps.SongMaps`; '' for none yet.
    """
    return {
        "name": part.name,
        "role": part.role,
        "singer": part.singer,
        "seconds": part.source.duration,
        "spectra": spectra,
        "maps": maps,
        "whole": [words for kind in KINDS if kind.name not in without and (words := _whole(part, kind))],
        "skylines": [
            _skyline(part, kind.name) for kind in KINDS if kind.name not in without and _has_skyline(part, kind)
        ],
        "decisions": _decisions(part),
        "notes": [{"at": _clock(n.start), "kind": n.kind, "words": n.words} for n in notes[:_MOST_DECISIONS]],
        "warnings": _warnings(part, spectra, without),
        "unheard": _unheard(part),
        "masked": _masked(part),
        "meets": {kind.name: met for kind in KINDS if (met := _met(part, kind))},
    }


def _met(part: Part, kind: Kind) -> int:
    """How many of its marks meet one of the lead's."""
    return sum(kind.beside_lead.met(m) for m in part.of_kind(kind.name))


def _whole(part: Part, kind: Kind) -> str:
    """What is done to the whole take, in words."""
    words = kind.reporter.summary(part)
    return words if words and any(True for _ in kind.cure.treatments(part)) else ""


def _has_skyline(part: Part, kind: Kind) -> bool:
    marks = part.of_kind(kind.name)
    values = not kind.reporter.if_changed or any(part.acts(m) for m in marks)
    return kind.reporter.in_time and values and any(map(kind.decision.height, marks))


def _skyline(part: Part, kind: str) -> dict[str, Any]:
    marks = part.of_kind(kind)
    decision = BY_NAME[kind].decision
    changed = [(m, part.change(m)) for m in marks if part.acts(m)]
    return {
        "kind": kind,
        "unit": decision.unit,
        "marks": [[round(m.span[0], 2), decision.height(m), round(part.change(m), 1)] for m in marks],
        "seconds": round(sum(m.span[1] - m.span[0] for m, _ in changed), 3),
        "changed": len(changed),
        "deepest": round(min((change for _, change in changed), default=0.0), 1),
    }


def _decisions(part: Part) -> list[dict[str, Any]]:
    """What a hand decided, in order of time."""
    rows = []
    for mark in sorted((m for m in part.marks if m.hand.any), key=lambda m: m.span[0]):
        unit = BY_NAME[mark.kind].decision.unit
        what = "left as sung" if mark.hand.leave else f"{part.change(mark):+.1f} {unit}".replace("-", "−")
        rows.append({"at": _clock(mark.span[0]), "kind": mark.kind, "what": what, "drawn": mark.hand.drawn})
    return rows[:_MOST_DECISIONS]


def _warnings(part: Part, spectra: dict[str, Any], without: Sequence[str]) -> list[str]:
    """What deserves a listen, in words."""
    values = []
    for doubt in (doubt for kind in KINDS if kind.name not in without for doubt in kind.reporter.doubts(part)):
        where = f" at {', '.join(_clock(at) for at in doubt.at[:_MOST_PLACES])}" if doubt.at else ""
        more = f" and {len(doubt.at) - _MOST_PLACES} more" if len(doubt.at) > _MOST_PLACES else ""
        values.append(f"{doubt.words[:1].upper()}{doubt.words[1:]}{where}{more}.")
    duller = _duller_db(spectra)
    if duller < -_DULL_DB:
        values.append(f"The vowels have become duller: {duller:.1f} dB over 5 kHz.".replace("-", "−"))
    if part.voice_lufs is None:
        values.append("No voice was found to measure against.")
    if part.stale:
        values.append("Its marks were found before the bleed was changed.")
    return values


def _masked(part: Part) -> dict[str, dict[str, Any]]:
    """The marks that were accepted unheard since they cannot be heard in the mix, as :func:`_unheard` has them."""
    return _counted({kind.name: [m for m in part.of_kind(kind.name) if m.hand.masked] for kind in KINDS})


def _unheard(part: Part) -> dict[str, dict[str, Any]]:
    """The marks that the settings alone decided, by kind: how many, and the times of the first of them."""
    return _counted({kind.name: part.undecided(kind.name) for kind in KINDS})


def _counted(rows: Mapping[str, Sequence[Mark]]) -> dict[str, dict[str, Any]]:
    return {kind: {"count": len(marks), "at": [_clock(m.span[0]) for m in marks[:_MOST_DECISIONS]]}
            for kind, marks in rows.items() if marks}  # fmt: skip


def _duller_db(spectra: dict[str, Any]) -> float:
    """By how much the top of the vowels changed, where it was more than noise."""
    vowels, still = spectra.get("vowels"), spectra.get("noise floor")
    if not vowels:
        return 0.0
    noise = still["sung"] if still else [-inf] * len(vowels["hz"])
    top = [after - before for hz, before, after, under in
           zip(vowels["hz"], vowels["sung"], vowels["cleaned"], noise, strict=True)
           if hz > _TOP_HZ and before > under + _OVER_NOISE_DB]  # fmt: skip
    return sum(top) / len(top) if top else 0.0


def page(rows: Sequence[dict[str, Any]], title: str) -> str:
    """The whole page, from rows of the report that hold a ``proof`` each."""
    parts = [_shown(row) for row in rows if "proof" in row]
    stack = [p for p in parts if p["role"] != "lead"]
    environment = jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    template = environment.from_string((Path(__file__).parent / "proof.html").read_text(encoding="utf-8"))
    return template.render(
        title=title,
        parts=parts,
        made=datetime.now().strftime("%Y-%m-%d %H:%M"),
        version=isophon.__version__,
        sum_before=_sum([p["row"]["before"]["floor_dbfs"] for p in parts]),
        sum_after=_sum([p["row"]["after"]["floor_dbfs"] for p in parts]),
        late=[p for p in stack if p["lateness"]],
        meets=sum((Counter(p["meets"]) for p in stack), Counter()),
        stack=stack,
        lists=[(title, what, [p for p in parts if p[key]], key) for title, what, key in _LISTS],
    )


def write_proof(rows: Sequence[dict[str, Any]], folder: Path, title: str) -> None:
    """Write ``report.html`` into a folder, over one that is there."""
    write_text(folder / PROOF, page(rows, title))


def _sum(levels: Sequence[float]) -> float:
    return round(10 * log10(sum(10 ** (level / 10) for level in levels) + 1e-13), 1)


def _shown(row: dict[str, Any]) -> dict[str, Any]:
    values = row["proof"]
    pictures = [
        {
            "words": f"{name}, as sung (thin) and cleaned",
            "uri": drawings.spectrum(one["hz"], one["sung"], one["cleaned"], name),
        }
        for name, one in values["spectra"].items()
    ]
    skylines = [
        {**one, "lasts": _lasts(one["seconds"]), "uri": drawings.skyline(one["marks"], values["seconds"], one["kind"])}
        for one in values["skylines"]
    ]
    return {
        **values,
        "figures": {key: f"{_level(row['before'][key])} → {_level(row['after'][key])}" for key in row["before"]},
        "row": row,
        "role_words": _ROLES.get(values["role"], values["role"]),
        "pictures": pictures,
        "skylines": skylines,
        "lateness": _lateness(row),
        "words": _words(values),
    }


def _level(level: float | None) -> str:
    return "?" if level is None else "silence" if level <= _SILENT_DBFS else f"{level:.1f}".replace("-", "−")


def expected(part: Part, take: Take, without: Sequence[str] = (), notes: Sequence[Note] = ()) -> dict[str, Any]:
    """A row for the page as far as it is known before anything is written; None for what is not."""
    plan = part.plan_without(tuple(without))
    loudness = take.surveyed.survey.loudness if take.surveyed else None
    still = take.noise_floor(plan) or (_SILENT_DBFS, _SILENT_DBFS)
    before = {"loudness_lufs": loudness, "true_peak_dbtp": None, "floor_dbfs": still[0]}
    after = {"loudness_lufs": loudness and loudness - take.matched_gain_db(plan), "true_peak_dbtp": None,
             "floor_dbfs": still[1]}  # fmt: skip
    return {
        "before": before,
        "after": after,
        "kinds": kinds(part, without),
        "proof": proof_values(part, {}, without, notes=notes),
    }


def _lateness(row: dict[str, Any]) -> dict[str, Any] | None:
    return next((values for values in row["kinds"].values() if "before_ms" in values), None)


def _words(values: dict[str, Any]) -> str:
    """What was done, in a paragraph."""
    said = [words.replace(" -", " −") for words in values["whole"]]
    for one in values["skylines"]:
        count = len(one["marks"])
        if one["unit"] == "ms":
            said.append(f"{one['changed']} of {count} words were moved")
        elif one["changed"]:
            said.append(
                f"{one['changed']} of {count} {one['kind']} marks were changed over {_lasts(one['seconds'])}, "
                + ("the deepest removed" if one["deepest"] <= GONE_DB else f"by up to {-one['deepest']:.1f} dB")
            )
    words = "; ".join(said)
    return f"{words[:1].upper()}{words[1:]}." if words else "Nothing was changed."


def _lasts(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds >= 1 else f"{1000 * seconds:.0f} ms"


def _clock(seconds: float) -> str:
    return f"{int(seconds // 60)}:{seconds % 60:05.2f}"
