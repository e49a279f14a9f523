"""One vocabulary: what the window, the terminal and the manual say holds none of the words that were given up."""

import ast
import re
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
RETIRED = re.compile(
    r"\b(in hand|taken? out|take away|bring in|copy out|start from it|stillness|still moments?|survey(ed|ing)|let be|"
    r"never (more|further) than|this sure|closes in|opens in|altogether|look again|relearn|learn(ed|s)? (here|from)|"
    r"wary|borne out|guides?|bed|what it is|starts at|sides|matched|loud words down|by heart|so and so)\b",
    re.IGNORECASE,
)
ALLOWED = re.compile(r"bring loud words down|--bed|`bed`|\bbed instrumental\b|cut sides", re.IGNORECASE)


def strings(path):
    """The strings of a module that are no docstrings and no single names, with their lines."""
    tree = ast.parse(path.read_text())
    docs = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
            words = node.value.strip()
            if " " in words or words[:1].isupper():
                yield node.lineno, words


def test_the_window_and_the_terminal_say_no_retired_words():
    said = [f"{path.relative_to(ROOT)}:{line}: {words}" for part in ("app", "cli")
            for path in sorted((ROOT / "src" / "isophon" / part).rglob("*.py")) for line, words in strings(path)
            if RETIRED.search(ALLOWED.sub("", words))]  # fmt: skip
    assert not said, "\n".join(said)


def test_manual_and_proof_say_no_retired_words():
    proof = ROOT / "src" / "isophon" / "core" / "handover" / "proof.html"
    said = [f"{path.name}:{number}: {line}" for path in (ROOT / "docs" / "manual.md", ROOT / "README.md", proof)
            for number, line in enumerate(path.read_text().splitlines(), 1)
            if RETIRED.search(ALLOWED.sub("", re.sub(r"`[^`]*`", "", line)))]  # fmt: skip
    assert not said, "\n".join(said)
