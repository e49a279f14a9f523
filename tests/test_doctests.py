"""The examples in docstrings give what they say."""

import doctest
import importlib
from pathlib import Path

import numpy as np
import pytest

SRC = Path(__file__).resolve().parent.parent / "src"
WITH_EXAMPLES = [
    ".".join(path.relative_to(SRC).with_suffix("").parts)
    for path in sorted(SRC.rglob("*.py"))
    if ">>> " in path.read_text(encoding="utf-8")
]


@pytest.mark.parametrize("name", WITH_EXAMPLES)
def test_examples(name):
    with np.printoptions(precision=8):
        failed, tried = doctest.testmod(importlib.import_module(name))
    assert tried and not failed
