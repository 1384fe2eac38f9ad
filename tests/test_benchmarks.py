"""The benchmarks are not run with the tests; that what they import is there is."""

import ast
import importlib
from pathlib import Path

import pytest

BENCHMARKS = sorted((Path(__file__).parents[1] / "benchmarks").glob("*.py"))


@pytest.mark.parametrize("path", BENCHMARKS, ids=lambda p: p.stem)
def test_what_a_benchmark_imports_is_there(path):
    imports = [
        node
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ImportFrom) and str(node.module).startswith("fascis")
    ]
    # One that times whole commands imports nothing of ours.
    assert imports or '"-m", "fascis"' in path.read_text()
    for node in imports:
        module = importlib.import_module(node.module)
        missing = [name.name for name in node.names if not hasattr(module, name.name)]
        assert not missing, (node.module, missing)
