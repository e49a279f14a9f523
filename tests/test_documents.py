"""What the documents say is so: the tables of settings are those of the kinds, and every option is told."""

import json
import re
import sys
from pathlib import Path

import fastjsonschema
import msgspec
import pytest
from made_files import made_files
from msgspec.structs import replace

from isophon.cli.entry import make_parser
from isophon.core.marks import Mark
from isophon.core.passes import KINDS
from isophon.core.passes.ess.mark import EssMark
from isophon.core.session import file
from isophon.core.session.model import Part

DOCS = Path(__file__).resolve().parent.parent / "docs"


def settings_in(text: str, row: str) -> dict[str, list[set[str]]]:
    """The names in code in the second cell of each row that a pattern finds, without what stands in brackets."""
    found: dict[str, list[set[str]]] = {}
    for kind, cell in re.findall(row, text, re.MULTILINE):
        found.setdefault(kind, []).append(set(re.findall(r"`(\w+)`", re.sub(r"\([^)]*\)", "", cell))))
    return found


def test_the_tables_of_settings_are_those_of_the_kinds():
    said = settings_in((DOCS / "manual.md").read_text(), r"^\| `--set (\w+)\.SETTING=VALUE` \| (.*) \|$")
    for kind in KINDS:
        assert said.get(kind.name) == [set(kind.settings.__struct_fields__)], kind.name


def test_the_file_format_tells_the_range_and_default_of_every_setting():
    sections = dict(
        re.findall(r"^### `(\w+)`: .*\n((?:\n|\|.*\n)+)", (DOCS / "file-format.md").read_text(), re.MULTILINE)
    )
    for kind in KINDS:
        schema = msgspec.json.schema(kind.settings)["$defs"][kind.settings.__name__]["properties"]
        rows = re.findall(r"^\| `(\w+)` \| (.*?) \| (.*?) \|", sections[kind.name], re.MULTILINE)
        said = {name: (values, default) for name, values, default in rows}
        assert said == {name: as_written(field) for name, field in schema.items()}, kind.name


def as_written(field: dict) -> tuple[str, str]:
    """The values and the default of a setting as a table of the file format has them."""
    if "enum" in field:
        values = ", ".join(f"`{value}`" if isinstance(value, str) else str(value) for value in field["enum"])
        return values, f"`{field['default']}`" if isinstance(field["default"], str) else str(field["default"])
    if field["type"] == "boolean":
        return "true, false", str(field["default"]).lower()
    if field["type"] == "number":
        return f"{in_words(field['minimum'])} to {in_words(field['maximum'])}", in_words(field["default"])
    return "(s, s) spans", "none"


def in_words(number: float) -> str:
    return f"{number:,.2f}".rstrip("0").rstrip(".").replace("-", "−")


def test_every_option_stands_in_the_manual():
    manual = (DOCS / "manual.md").read_text()
    commands = next(a for a in make_parser(["find"])._actions if a.dest == "command").choices
    options = {option for name in ("find", "clean") for a in commands[name]._actions for option in a.option_strings}
    missing = {option for option in options if option.startswith("--") and f"`{option}" not in manual}
    assert not missing - {"--help", "--session"}, missing


def test_what_the_file_format_lists_is_what_a_part_holds():
    text = (DOCS / "file-format.md").read_text()
    for field in Part.__struct_fields__:
        assert f"`{field}`" in text, field
    for kind in (kind for kind in KINDS if kind.mark):
        own = set(kind.mark.__struct_encode_fields__) - set(Mark.__struct_encode_fields__)
        row = re.search(rf"^\| `{kind.name}` \| (.*)", text, re.MULTILINE)
        assert own <= set(re.findall(r"`(\w+)`", row[1] if row else "")), kind.name


def test_man_page_completion_and_schema_are_those_of_the_program():
    """Made anew by tools/made_files.py; argparse words some lines otherwise from one Python to the next."""
    for path, text in made_files().items():
        if path.suffix == ".json" or sys.version_info[:2] == (3, 11):
            assert path.read_text(encoding="utf-8") == text, f"{path.name}: run tools/made_files.py"


def test_sessions_are_as_the_schema_says(demo, tmp_path):
    check = fastjsonschema.compile(json.loads((DOCS / "session.schema.json").read_text()))
    session = file.load(demo)
    part = replace(session.parts[0], marks=(EssMark("ess-1", 1.0, 1.1, -20.0, 3.0, 4_000.0, 9_000.0, 0.9),))
    for one in (session, replace(session, parts=(part, *session.parts[1:]))):
        path = tmp_path / "song.isophon"
        file.save(one, path)
        values = json.loads(path.read_text())
        check(values)
    values["session"]["parts"][0]["marks"][0]["confidence"] = 2
    with pytest.raises(fastjsonschema.JsonSchemaException):
        check(values)
