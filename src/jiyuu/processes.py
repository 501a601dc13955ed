"""Works that know nothing of each other, done side by side in processes: one interpreter can hardly run two of them.

The processes are forks, so that what was imported and made so far is there at once, and a work may be any callable;
what it yields is pickled.
"""

from __future__ import annotations

import gc
import os
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from multiprocessing import connection, get_context, parent_process
from typing import TYPE_CHECKING, TypeVar

from jiyuu import stopping
from jiyuu.errors import JiyuuError
from jiyuu.stopping import LOOKED_S, checkpoint, stoppable

if TYPE_CHECKING:
    from multiprocessing.context import ForkProcess
    from multiprocessing.sharedctypes import Synchronized

FEWEST, MOST = 2, 4  # processes: one of them may wait for a disk; each keeps some hundred megabytes of its own
ENDS_S = 2.0  # that a process may take to end once it was called off
GONE_S = 30.0  # and once it has said all: a large one on a busy machine takes its time

Item = TypeVar("Item")
Work = Callable[[], Iterator[Item]]
_forks = get_context("fork")


def workers() -> int:
    """Processes that are worth having on this machine."""
    return min(max(len(os.sched_getaffinity(0)), FEWEST), MOST)


def as_they_come(works: Sequence[Work[Item]]) -> Iterator[tuple[int, Item | None]]:
    """(number of the work, what it yields) as it is yielded; (number, None) when one has ended. Works are begun in
    their order, as many at a time as the machine can do.

    What one raises is raised here, and the others are called off, as they are when nobody wants more. Raises JiyuuError
    where a process ends without a word."""
    begun, at_once = _forks.Value("i", 0), min(workers(), len(works))
    running: dict[connection.Connection, ForkProcess] = {}
    try:
        for _ in range(at_once):
            mine, its = _forks.Pipe(duplex=False)
            process = _forks.Process(target=_work_on, args=(works, begun, at_once, its, [*running, mine]), daemon=True)
            # A key press is meant for whoever waits, and that calls the others off; a process begins as deaf as this.
            heard = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
            try:
                process.start()
            finally:
                signal.pthread_sigmask(signal.SIG_SETMASK, heard)
            its.close()
            running[mine] = process
        waiting = len(works)
        while waiting:
            checkpoint()
            for ready in connection.wait(list(running), LOOKED_S):
                assert isinstance(ready, connection.Connection)
                try:
                    number, item, error = ready.recv()
                except EOFError:
                    process = running.pop(ready)
                    process.join(GONE_S)
                    if process.exitcode == 0 and running:
                        continue  # it found nothing more to do
                    raise JiyuuError(f"A process ended before its work was done ({process.exitcode}); there may be too "
                                     "little memory. Close what else is open, and run it again.") from None
                if error is not None:
                    raise error
                waiting -= item is None
                yield number, item
    finally:
        _call_off(running)


def _work_on(
    works: Sequence[Work[Item]], begun: Synchronized[int], at_once: int, to: connection.Connection,
    others: Sequence[connection.Connection],
) -> None:
    """In the process: one work after the other that no other process has begun."""
    # Threads of its own would only take the cores from the others.
    stopping.WORKERS = max(min(len(os.sched_getaffinity(0)) // at_once, stopping.WORKERS), 1)
    gc.freeze()  # what is left lying about here is for the process to let go of that made it: threads, windows
    for other in others:
        other.close()  # else nobody would notice that whoever listens is gone
    stop = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())
    threading.Thread(target=_end_with_parent, args=(stop,), daemon=True).start()
    try:
        with stoppable(stop):
            while (number := _next_of(begun)) < len(works):
                for item in works[number]():
                    checkpoint()
                    to.send((number, item, None))
                to.send((number, None, None))
    except BaseException as problem:  # whatever it is belongs to whoever asked for the work
        with suppress(OSError):  # of nobody who listens
            to.send((0, None, problem))
    to.close()
    os._exit(0)  # nothing of what is open here is this process's to close


def _end_with_parent(stop: threading.Event) -> None:
    if (waiting := parent_process()) is not None:
        waiting.join()
    stop.set()


def _next_of(begun: Synchronized[int]) -> int:
    with begun.get_lock():
        begun.value += 1
        return begun.value - 1


def _call_off(running: dict[connection.Connection, ForkProcess]) -> None:
    for process in running.values():
        process.terminate()
    for told, process in running.items():
        told.close()  # so that whoever waits to say something need not
        process.join(ENDS_S)
        if process.exitcode is None:
            process.kill()
            process.join()
