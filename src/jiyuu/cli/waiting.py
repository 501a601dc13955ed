"""What a person at a terminal sees while a command works for long."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager

AFTER_S = 1.0  # what is over sooner needs no sign


@contextmanager
def in_view(text: str) -> Iterator[None]:
    """Inside, where nothing is printed, standard error says what is done and for how long, if it is a terminal."""
    stream = sys.stderr
    if not stream.isatty():
        yield
        return
    done = threading.Event()

    def show() -> None:
        if done.wait(AFTER_S):
            return
        from rich.console import Console
        from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        columns = (SpinnerColumn(), TextColumn("{task.description}"), TimeElapsedColumn())
        with Progress(*columns, console=Console(file=stream), transient=True, redirect_stdout=False,
                      redirect_stderr=False) as bar:
            bar.add_task(text, total=None)
            done.wait()

    thread = threading.Thread(target=show, daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()
