"""What a stranger needs to read the signal processing: what each number is, and the shape and unit of each array."""

import ast
from pathlib import Path

import isophon

CORE = Path(isophon.__file__).parent / "core"
SHAPES = ("``(", "Parameters", "Returns", " dB", " Hz", " s ", "shape of", "any shape", ":meth:", ":func:")
NOT_FOR_SIGNALS = "demo"  # its numbers are a made-up song


def _trees():
    for path in sorted(CORE.rglob("*.py")):
        name = str(path.relative_to(CORE))
        if not name.startswith(NOT_FOR_SIGNALS):
            text = path.read_text(encoding="utf-8")
            yield name, text.splitlines(), ast.parse(text)


def _is_number(node):
    return isinstance(node, ast.Constant) and type(node.value) in (int, float)


def test_every_number_with_a_name_says_what_it_is():
    bare, seen = [], 0
    for name, lines, tree in _trees():
        for node in tree.body:
            value = getattr(node, "value", None) if isinstance(node, ast.Assign | ast.AnnAssign) else None
            many = value.elts if isinstance(value, ast.Tuple) else [value]
            if value is None or not all(one is not None and _is_number(one) for one in many):
                continue
            seen += 1
            above = node.lineno - 2
            while above >= 0 and lines[above].startswith("_") and "#" not in lines[above]:
                above -= 1  # one comment may stand over several
            said = "#" in "".join(lines[node.lineno - 1 : node.end_lineno]) or lines[above].startswith("#")
            bare += [] if said else [f"{name}:{node.lineno}"]
    assert not bare, f"numbers without a word on what they are: {', '.join(bare)}"
    assert seen > 500


def test_functions_of_arrays_say_their_shapes_or_units():
    """A shape ``(n,)``, a section of parameters, or a unit, in every public function that takes or gives an array."""
    bare, seen = [], 0
    for name, _, tree in _trees():
        of_classes = [node for each in tree.body if isinstance(each, ast.ClassDef) for node in each.body]
        for node in [*tree.body, *of_classes]:
            if not isinstance(node, ast.FunctionDef) or node.name.startswith("_"):
                continue
            notes = [one.annotation for one in node.args.args] + [node.returns]
            if not any(note is not None and "ndarray" in ast.unparse(note) for note in notes):
                continue
            seen += 1
            said = ast.get_docstring(node) or ""
            overload = "overload" in map(ast.unparse, node.decorator_list)
            if not overload and not any(word in said for word in SHAPES):
                bare.append(f"{name}:{node.lineno} {node.name}")
    assert not bare, f"arrays of unknown shape: {', '.join(bare)}"
    assert seen > 200
