"""What keeps the house readable: short files, no circles, errors that are told of where they are raised."""

import ast
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "jiyuu"
FILES = sorted(SOURCE.rglob("*.py"))
LONGEST, WINDOW = 400, 250


@cache
def tree_of(path):
    return ast.parse(path.read_text())


def name_of(path):
    return ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")


def test_no_file_is_longer_than_one_reads():
    assert not {path.name for path in FILES if len(path.read_text().splitlines()) > LONGEST}
    assert len((SOURCE / "desktop" / "window.py").read_text().splitlines()) < WINDOW


def imported(tree):
    """Modules imported when a module is: not those inside functions, nor those for the type checker alone."""
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module:
            yield from (f"{node.module}.{alias.name}" for alias in node.names)
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def test_no_module_comes_round_to_itself():
    names = {name_of(path) for path in FILES}
    needs = {}
    for path in FILES:
        found = imported(tree_of(path))
        needs[name_of(path)] = {
            wanted if wanted in names else wanted.rpartition(".")[0] for wanted in found
        } & names - {name_of(path)}
    below: set[str] = set()
    while layer := {name for name in needs if name not in below and needs[name] <= below}:
        below |= layer
    assert set(needs) == below


def raised(function):
    """Names of this project's errors that a function itself raises."""
    for node in ast.walk(function):
        called = node.exc.func if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) else None
        if isinstance(called, ast.Name) and called.id.endswith("Error") and called.id != "NotImplementedError":
            yield called.id


CORE = [path for path in FILES if "desktop" not in path.parts and "cli" not in path.parts]


def test_public_functions_tell_what_they_raise():
    untold = []
    for path in CORE:
        for node in ast.walk(tree_of(path)):
            if not isinstance(node, ast.FunctionDef) or node.name.startswith("_"):
                continue
            if set(raised(node)) and "aise" not in (ast.get_docstring(node) or ""):
                untold.append(f"{name_of(path)}.{node.name}")
    assert not untold
