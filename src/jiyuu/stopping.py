"""Work that can be called off: whoever computes for long asks now and then whether it is still wanted.

The asking costs some tens of nanoseconds, so it stands in every loop that may take longer than a tenth of a second.
Nothing is asked of code that nobody may stop: without `stoppable` around it a `checkpoint` does nothing.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import ContextVar, copy_context
from typing import TypeVar

_stop: ContextVar[threading.Event | None] = ContextVar("stop", default=None)
WORKERS = 2  # of what is done side by side
Item = TypeVar("Item")
Result = TypeVar("Result")
LOOKED_S = 0.05  # how often whoever waits for others looks whether it is still wanted


class Stopped(Exception):
    """The work was called off. No JiyuuError: whoever called it off knows, and nobody is told."""


@contextmanager
def stoppable(stop: threading.Event) -> Iterator[None]:
    """Inside, `checkpoint` raises Stopped once `stop` is set."""
    token = _stop.set(stop)
    try:
        yield
    finally:
        _stop.reset(token)


def checkpoint() -> None:
    """Raises Stopped when the work is not wanted any more."""
    stop = _stop.get()
    if stop is not None and stop.is_set():
        raise Stopped


def side_by_side(do: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
    """Results in the order of the items, two at a time, each stoppable as the caller is. What has not begun when the
    caller stops or an item raises is dropped."""
    with ThreadPoolExecutor(WORKERS) as pool:
        jobs = [pool.submit(copy_context().run, do, item) for item in items]
        try:
            for job in jobs:
                yield job.result()
        except BaseException:
            for job in jobs:
                job.cancel()
            raise


@contextmanager
def meanwhile(do: Callable[[], object]) -> Iterator[None]:
    """Inside, something is worked out beside that will be asked for again later and is kept, stoppable as the caller
    is. What it raises is raised where it is asked for."""
    with ThreadPoolExecutor(1) as pool:
        pool.submit(copy_context().run, do)
        yield
