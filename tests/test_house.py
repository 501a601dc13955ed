"""What keeps the house readable: short files, no circles, errors that are told of where they are raised, packages that
are named."""

import ast
import re
import sys
import tomllib
from importlib.metadata import packages_distributions
from pathlib import Path

import pytest

from jiyuu.desktop.help import PACKAGES

SOURCE = Path(__file__).parents[1] / "src" / "jiyuu"
FILES = sorted(SOURCE.rglob("*.py"))
LONGEST, WINDOW = 400, 250


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


@pytest.fixture(scope="module")
def read():
    """By its name what a module imports, and which of its public functions do not tell what they raise. Of the trees,
    a hundred megabytes, nothing is kept."""
    found = {}
    for path in FILES:
        tree = ast.parse(path.read_text())
        found[name_of(path)] = set(imported(tree)), list(untold(tree))
    return found


def test_no_module_comes_round_to_itself(read):
    needs = {name: {one if one in read else one.rpartition(".")[0] for one in wanted} & read.keys() - {name}
             for name, (wanted, _) in read.items()}
    below: set[str] = set()
    while layer := {name for name in needs if name not in below and needs[name] <= below}:
        below |= layer
    assert set(needs) == below


def test_packages_that_are_imported_are_asked_for_and_named_with_their_licences():
    project = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text())["project"]
    asked, named = ({name.lower().replace("_", "-") for name in names} for names in (project["dependencies"], PACKAGES))
    assert asked == named
    at_hand, words = packages_distributions(), set[str]()
    for path in FILES:
        words.update(re.findall(r"^\s*(?:from|import) (\w+)", path.read_text(), re.MULTILINE))
    for word in words & at_hand.keys() - sys.stdlib_module_names - {"jiyuu"}:
        assert {name.lower().replace("_", "-") for name in at_hand[word]} & asked, word


def raised(function):
    """Names of this project's errors that a function itself raises."""
    for node in ast.walk(function):
        called = node.exc.func if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) else None
        if isinstance(called, ast.Name) and called.id.endswith("Error") and called.id != "NotImplementedError":
            yield called.id


def untold(tree):
    """Of the functions of a module, and of its classes."""
    for node in tree.body:
        if isinstance(node, ast.ClassDef):
            yield from untold(node)
        public = isinstance(node, ast.FunctionDef) and not node.name.startswith("_")
        if public and "aise" not in (ast.get_docstring(node) or "") and set(raised(node)):
            yield node.name


def test_public_functions_tell_what_they_raise(read):
    core = [name for name in read if not name.startswith(("jiyuu.desktop", "jiyuu.cli"))]
    assert not [f"{name}.{function}" for name in core for function in read[name][1]]
