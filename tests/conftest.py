"""Shared by all tests: an offscreen window system, settings that do not touch the person's own."""

import gc
import os
import time
import zlib
from pathlib import Path

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # a worker a core: more threads would be in the way

from hypothesis import settings

# How long it takes depends on the machine; the same draws every time, so that a run can be compared with the last.
settings.register_profile("jiyuu", deadline=None, derandomize=True)
settings.register_profile("wander", deadline=None)  # new draws: pytest --hypothesis-profile=wander
settings.load_profile("jiyuu")

AHEAD = ("desktop", "circuits", "patch", "measurement")
MADE_IN_S = 300.0
TIDY_MB = pytest.StashKey[float]()  # in use when this worker was last tidied
GROWN_MB = 16  # since it was last tidied


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """One more than cores: a worker that drives a window often waits for it."""
    return len(os.sched_getaffinity(0)) + 1


def pytest_addoption(parser) -> None:
    parser.addoption("--share", metavar="K/N", help="of the tests that are selected only one in N, by their names")


def pytest_collection_modifyitems(config, items) -> None:
    """Windows ahead of all, and what measures a good way behind them: workers begin so far apart, so that none keeps
    what both leave behind. Of what is left the share that is asked for, the same in every worker."""
    items.sort(key=lambda item: AHEAD.index(item.path.parent.name) if item.path.parent.name in AHEAD else len(AHEAD))
    if share := config.getoption("share"):
        which, of = map(int, share.split("/"))
        other = [item for item in items if zlib.crc32(item.nodeid.encode()) % of != which % of]
        config.hook.pytest_deselected(items=other)
        items[:] = [item for item in items if zlib.crc32(item.nodeid.encode()) % of == which % of]


def pytest_collection_finish() -> None:
    """What was imported stays for good: it need not be looked through each time that something is to be freed."""
    gc.collect()
    gc.freeze()


def pytest_configure() -> None:
    """A worker stays small beside another one, as the application does all day, and leaves the other cores to them."""
    from jiyuu import stopping
    from jiyuu.desktop.memory import give_back

    give_back()
    stopping.WORKERS = 1


def in_use_mb() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


@pytest.fixture(autouse=True)
def tidied(request):
    """What lies free in pieces is given back, as after long work in the application, once it has come to much."""
    from jiyuu.desktop.memory import tidy

    yield
    if in_use_mb() > request.config.stash.get(TIDY_MB, 0.0) + GROWN_MB:
        tidy()
        request.config.stash[TIDY_MB] = in_use_mb()


@pytest.fixture(scope="session")
def measured_demo(tmp_path_factory, request) -> Path:
    """The demo book with what was measured, made once for all workers: to be copied, or opened for reading."""
    from jiyuu.bench.demo import write_demo_book

    base = tmp_path_factory.getbasetemp()
    base = base.parent if hasattr(request.config, "workerinput") else base
    path, mine = base / "measured-demo.jiyuu", base / "measured-demo.lock"
    try:
        os.close(os.open(mine, os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        late = time.monotonic() + MADE_IN_S
        while not path.exists() and time.monotonic() < late:  # it takes its name when it is whole
            time.sleep(0.2)
        return path
    write_demo_book(path)
    return path
