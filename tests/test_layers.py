"""The layers: imports only go down, no circles, no Qt below the window."""

import ast
from functools import cache
from pathlib import Path

import isophon
from isophon.core.passes import NAMES

ROOT = Path(isophon.__file__).parent
FLOORS = (
    ("core.errors", "core.ranges"), ("core.reading", "core.atomic", "core.locks", "core.log", "core.memory",
     "core.lifetime", "core.forking"),
    ("core.audio", "core.standins", "core.marks"), ("core.survey_streams",), ("core.survey",),
    ("core.joined_survey",), ("core.passes",),
    ("core.render_cache", "core.heads", "core.finding"), ("core.staging",), ("core.render",),
    ("core.session",), ("core.takes",), ("core.playing",), ("core.handover", "core.demo"), ("core.work",),
    ("cli.batch", "cli.listing", "cli.options"),
    ("cli.commands", "app"), ("cli",), ("__main__",),
)  # fmt: skip


def _floor(module: str) -> int:
    name = module.removeprefix("isophon.")
    for level, names in enumerate(FLOORS):
        if any(name == n or name.startswith(n + ".") for n in names):
            return level
    raise AssertionError(f"{module} has no floor: name it in FLOORS")


@cache
def _trees():
    """Every module by its path, parsed."""
    return {path: ast.parse(path.read_text(encoding="utf-8")) for path in sorted(ROOT.rglob("*.py"))}


@cache
def _all_imports():
    """Which module imports what, and whether for the type checker alone, so that it never runs."""
    found = []
    for path, tree in _trees().items():
        parts = path.relative_to(ROOT).with_suffix("").parts
        module = ".".join(p for p in parts if p != "__init__")
        unread = {one for node in tree.body if _for_typing(node) for one in ast.walk(node)}
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module:
                found += [(module, node.module, f"{node.module}.{a.name}", node in unread) for a in node.names]
            elif isinstance(node, ast.Import):
                found += [(module, alias.name, alias.name, node in unread) for alias in node.names]
    return found


def _imports(typing=True):
    """The same; ``typing``: that for the type checker alone too."""
    return [found[:3] for found in _all_imports() if typing or not found[3]]


def _for_typing(node):
    return isinstance(node, ast.If) and isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING"


@cache
def _is_module(name: str) -> bool:
    path = ROOT.parent / Path(*name.split("."))
    return path.with_suffix(".py").exists() or path.is_dir()


def test_imports_only_go_down():
    seen = 0
    for module, source, full in _imports(typing=False):
        if not source.startswith("isophon.") or module in ("", "core"):
            continue
        target = full if _is_module(full) else source
        if target in ("isophon.core", "isophon"):
            continue
        seen += 1
        assert _floor(target) <= _floor(module), f"{module} imports {target}, which is above it"
    assert seen > 80


def test_no_circles():
    edges: dict[str, set[str]] = {}
    for module, source, full in _imports(typing=False):
        if source.startswith("isophon"):
            target = (full if _is_module(full) else source).removeprefix("isophon.")
            edges.setdefault(module, set()).add(target)

    whole: set[str] = set()  # what leads into no circle

    def walk(name: str, path: tuple[str, ...]) -> None:
        assert name not in path, f"a circle: {' → '.join((*path, name))}"
        for target in edges.get(name, set()) - whole:
            walk(target, (*path, name))
        whole.add(name)

    for module in edges:
        walk(module, ())


def test_no_circles_between_folders():
    """Each folder that has none in it, as a whole."""
    edges: dict[str, set[str]] = {}
    for module, source, full in _imports(typing=False):
        if not source.startswith("isophon."):
            continue
        target = (full if _is_module(full) else source).removeprefix("isophon.")
        mine, its = _folder(module), _folder(target)
        if mine and its and mine != its:
            edges.setdefault(mine, set()).add(its)
    for start in edges:
        reached, waiting = set(), list(edges[start])
        while waiting:
            name = waiting.pop()
            if name not in reached:
                reached.add(name)
                waiting += edges.get(name, ())
        assert start not in reached, f"{start} leads back to itself"
    assert len(edges) > 20


def test_no_room_imports_another():
    rooms = {path.parent.name for path in (ROOT / "core" / "passes").glob("*/__init__.py")}
    for module, source, full in _imports():
        parts, target = module.split("."), (full if _is_module(full) else source).split(".")
        if parts[:2] == ["core", "passes"] and len(parts) > 2 and parts[2] in rooms:
            other = target[3] if target[:3] == ["isophon", "core", "passes"] and len(target) > 3 else parts[2]
            assert other == parts[2] or other not in rooms, f"{module} imports {'.'.join(target)}"
    assert len(rooms) > 10


@cache
def _folder(module: str) -> str:
    """The folder of a module, '' for one that holds other folders."""
    path = ROOT / Path(*module.split("."))
    path = path if path.is_dir() else path.parent
    holds = any(inner.is_dir() and any(inner.glob("*.py")) for inner in path.iterdir())
    return "" if holds else ".".join(path.relative_to(ROOT).parts)


def test_the_core_never_imports_qt_or_the_window():
    for module, source, _ in _imports():
        if module.startswith("core"):
            assert not source.startswith(("PySide6", "isophon.app", "isophon.cli")), module


def test_no_kind_is_named_outside_of_rooms_sheets_and_the_demo():
    """In code: as a text, a setting of a part, or an import of its room; the registry aside."""
    mine = ("core/passes/__init__.py", *(f"core/passes/{name}/" for name in NAMES), "app/sheets/", "core/demo/")
    attributes = set(NAMES) - {"band", "pop"}  # of a strip, a mark, a list
    may = {("core/passes/filters.py", "hiss")}  # a stage that several kinds share comes after that of one
    seen = 0
    for path, tree in _trees().items():
        name = str(path.relative_to(ROOT))
        if name.startswith(mine):
            continue
        seen += 1
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and node.value in NAMES:
                assert (name, node.value) in may, f"{name}:{node.lineno} names {node.value}"
            if isinstance(node, ast.Attribute) and node.attr in attributes:
                raise AssertionError(f"{name}:{node.lineno} names {node.attr}")
            if isinstance(node, ast.ImportFrom) and node.module:
                room = node.module.removeprefix("isophon.core.passes.").partition(".")[0]
                assert room not in NAMES, f"{name}:{node.lineno} imports the room of {room}"
    assert seen > 100
