"""What is shown at a terminal while a command works for long, and nowhere else."""

import io
import sys
import time

import pytest

from jiyuu.cli import waiting


class Screen(io.StringIO):
    """A terminal, or what a pipe leads to."""

    def __init__(self, *, terminal: bool) -> None:
        super().__init__()
        self._terminal = terminal

    def isatty(self) -> bool:
        return self._terminal


def shown(screen: Screen, monkeypatch: pytest.MonkeyPatch, *, until_s: float) -> str:
    """What stands there after a while inside, as soon as there is something."""
    monkeypatch.setattr(sys, "stderr", screen)
    with waiting.in_view("Rendering"):
        late = time.monotonic() + until_s
        while "Rendering" not in screen.getvalue() and time.monotonic() < late:
            time.sleep(0.01)
    return screen.getvalue()


def test_a_terminal_is_told_what_takes_long_and_the_line_is_taken_away(monkeypatch):
    monkeypatch.setattr(waiting, "AFTER_S", 0.0)
    text = shown(Screen(terminal=True), monkeypatch, until_s=20.0)
    assert "Rendering" in text
    assert text.rstrip().endswith("\x1b[2K")  # the line is empty again


def test_a_pipe_and_what_is_over_soon_are_told_nothing(monkeypatch):
    monkeypatch.setattr(waiting, "AFTER_S", 0.0)
    assert shown(Screen(terminal=False), monkeypatch, until_s=0.05) == ""
    monkeypatch.setattr(waiting, "AFTER_S", 60.0)
    assert shown(Screen(terminal=True), monkeypatch, until_s=0.0) == ""


def test_what_goes_wrong_inside_is_raised_and_ends_it(monkeypatch):
    monkeypatch.setattr(waiting, "AFTER_S", 60.0)
    monkeypatch.setattr(sys, "stderr", Screen(terminal=True))
    with pytest.raises(ValueError, match="no"), waiting.in_view("Rendering"):
        raise ValueError("no")
