"""Work that can be called off: whoever computes for long asks now and then whether it is still wanted.

The asking costs some tens of nanoseconds, so it stands in every loop that may take longer than a tenth of a second.
Nothing is asked of code that nobody may stop: without `stoppable` around it a `checkpoint` does nothing.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import ContextVar, copy_context
from typing import TypeVar

_stop: ContextVar[threading.Event | None] = ContextVar("stop", default=None)
WORKERS = 2  # of what is done side by side
WORKS = 2  # that know nothing of each other
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


def as_they_come(works: Sequence[Callable[[], Iterator[Item]]]) -> Iterator[tuple[int, Item | None]]:
    """(number of the work, what it yields) of works that know nothing of each other, two at a time; (number, None) when
    one has ended. What one raises is raised here, and the others are called off, as they are when nobody wants more."""
    stop, told = threading.Event(), queue.SimpleQueue[tuple[int, Item | None, BaseException | None]]()

    def done(number: int, work: Callable[[], Iterator[Item]]) -> None:
        error: BaseException | None = None
        try:
            with stoppable(stop):
                checkpoint()
                for item in work():
                    told.put((number, item, None))
                    checkpoint()
        except BaseException as problem:  # whatever it is belongs to whoever asked for the work
            error = problem
        told.put((number, None, error))

    with ThreadPoolExecutor(WORKS) as pool:
        try:
            for number, work in enumerate(works):
                pool.submit(copy_context().run, done, number, work)
            waiting = len(works)
            while waiting:
                checkpoint()
                try:
                    number, item, error = told.get(timeout=LOOKED_S)
                except queue.Empty:
                    continue
                if error is not None:
                    raise error
                waiting -= item is None
                yield number, item
        finally:
            stop.set()
