"""What the documents promise: links that lead somewhere, commands that can be given, the quick ones that run."""

import json
import re
import shlex
from pathlib import Path

import pytest
from typer.main import get_command

from jiyuu.bench.demo import write_demo_book
from jiyuu.cli.commands import app
from jiyuu.cli.entry import in_pairs, main
from tests.patch.making import patch

ROOT = Path(__file__).parent.parent
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
LINK = re.compile(r"\]\(([^)#]+)(#[^)]*)?\)")
INLINE = re.compile(r"`jiyuu ([^`]+)`")
LINE = re.compile(r"^    (?:\.venv/bin/)?jiyuu (.+?)(?:\s+#.*)?$", re.MULTILINE)
# Quick, and asking for nothing that was not made by one before it.
RUN = ("circuits", "respond", "render", "controls", "stimulus", "oscillate", "netlist", "exchange", "validate")


def commands():
    """Every command that a document shows, as words."""
    found = {}
    for document in DOCUMENTS:
        text = document.read_text(encoding="utf-8")
        for match in [*LINE.finditer(text), *INLINE.finditer(text)]:
            words = match.group(1)
            if "|" not in words and "…" not in words and re.match(r"[a-z]+( |$)", words):
                found.setdefault(words, document.name)
    return sorted(found.items())


def test_links_lead_somewhere():
    broken = [f"{document.name}: {target}" for document in DOCUMENTS
              for target, _ in LINK.findall(document.read_text(encoding="utf-8"))
              if "://" not in target and not (document.parent / target).exists()]
    assert not broken
    assert sum(len(LINK.findall(document.read_text())) for document in DOCUMENTS) > 10


@pytest.mark.parametrize(("words", "document"), commands())
def test_a_command_that_is_shown_can_be_given(words, document):
    """Its name, its options and what they take, as the program reads them; placeholders stand for themselves."""
    given = in_pairs(shlex.split(words))
    command = get_command(app)
    context = command.make_context("jiyuu", given, resilient_parsing=True)
    while hasattr(command, "commands"):
        assert given, words
        name, command, given = command.resolve_command(context, given)
        if given and not hasattr(command, "commands"):
            complete = any(not word.startswith("-") for word in given)
            context = command.make_context(name, [*given], parent=context, resilient_parsing=not complete)
        elif not hasattr(command, "commands"):
            return  # named by itself, in a sentence


@pytest.mark.long
def test_the_quick_ones_of_the_readme_run_in_their_order(tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "tide.patch.json").write_text(json.dumps(patch(
        [{"stage": "filter", "id": "first", "filter": "state-variable", "cutoff_hz": 700}],
        sources=[{"kind": "saw"}], controls={"swing": {"kind": "lfo", "rate_hz": 2.0}},
        routes=[{"from": "swing", "to": "first.cutoff", "amount": 1.0}])))
    write_demo_book(tmp_path / "fog-voices.jiyuu", measured=False)
    ran = 0
    for match in LINE.finditer((ROOT / "README.md").read_text(encoding="utf-8")):
        words = shlex.split(match.group(1))
        if words[0] in RUN:
            assert main(words) == 0, (match.group(1), capsys.readouterr().err)
            ran += 1
    assert ran >= 12
    assert (tmp_path / "curve.csv").read_text().startswith("frequency_hz,")
    assert (tmp_path / "fog-voices" / "book.json").exists()
