"""The tree: no file imports itself by way of others, whether at run time or for types alone."""

import ast
import graphlib
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parents[1] / "docs"))
from tree import with_tree

SOURCE = Path(__file__).parents[1] / "src"


def imports(root):
    """The modules of a package that each of its modules imports, anywhere in it."""
    modules = {}
    for path in sorted(root.rglob("*.py")):
        name = ".".join(path.relative_to(root.parent).with_suffix("").parts)
        modules[name.removesuffix(".__init__")] = path
    found = {}
    for name, path in modules.items():
        found[name] = set()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module:
                found[name] |= {
                    inner if (inner := f"{node.module}.{each.name}") in modules else node.module for each in node.names
                }
            elif isinstance(node, ast.Import):
                found[name] |= {each.name for each in node.names}
        found[name] &= modules.keys() - {name}
    return found


def test_no_file_imports_itself_by_way_of_others():
    graphlib.TopologicalSorter(imports(SOURCE / "offing")).prepare()


def test_a_circle_is_found_even_for_types_alone(tmp_path):
    package = tmp_path / "made"
    package.mkdir()
    (package / "__init__.py").write_text("")
    (package / "one.py").write_text("from made import two\n")
    (package / "two.py").write_text("from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from made.one import x\n")
    with pytest.raises(graphlib.CycleError):
        graphlib.TopologicalSorter(imports(package)).prepare()


def test_the_tree_in_contributing_is_that_of_the_source():
    page = (SOURCE.parent / "CONTRIBUTING.md").read_text(encoding="utf-8")
    assert page == with_tree(page), "Run python docs/tree.py."
    assert "`model.py`" in page


def test_every_planted_fault_stands_in_the_source():
    """A fault whose line was renamed away would be planted nowhere."""
    page = ast.parse((SOURCE.parent / "benchmarks" / "planted.py").read_text(encoding="utf-8"))
    faults = [
        [ast.literal_eval(each) for each in call.args]
        for call in ast.walk(page)
        if isinstance(call, ast.Call) and getattr(call.func, "id", "") == "Fault"
    ]
    assert len(faults) > 50
    for what, file, line, *_ in faults:
        assert line in (SOURCE / "offing" / file).read_text(encoding="utf-8"), what
