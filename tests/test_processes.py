"""Works in processes of their own: what they tell, what they raise, and that none is left."""

import gc
import os
import signal
import subprocess
import sys
import threading
from multiprocessing import active_children

import pytest

from jiyuu import processes, stopping
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.processes import as_they_come
from jiyuu.stopping import Stopped, checkpoint, stoppable


def count(to):
    yield from range(to)


def endless(ends_in):
    """Says so in a file when it is called off."""
    try:
        while True:
            checkpoint()
            yield "on"
    finally:
        ends_in.touch()


@pytest.mark.parametrize("many", [1, 2, 4])
def test_works_tell_as_they_come_however_many_are_done_at_a_time(monkeypatch, many):
    monkeypatch.setattr(processes, "workers", lambda: many)
    found = list(as_they_come([lambda to=to: count(to) for to in (3, 0, 2, 5, 1)]))
    for number, to in enumerate((3, 0, 2, 5, 1)):
        assert [item for one, item in found if one == number] == [*range(to), None]
    assert not active_children()


def test_of_no_works_nothing_is_told():
    assert list(as_they_come([])) == []


def test_they_are_done_elsewhere():
    def where():
        yield os.getpid()

    told = [item for _, item in as_they_come([where, where]) if item is not None]
    assert os.getpid() not in told


@pytest.mark.parametrize(("cores", "many", "threads"), [(2, 2, 1), (2, 1, 2), (8, 4, 2), (1, 2, 1)])
def test_none_has_more_threads_than_there_are_cores_left(monkeypatch, cores, many, threads):
    """Two processes of two threads on two cores take a third longer than of one."""
    def its():
        yield stopping.WORKERS

    monkeypatch.setattr(stopping, "WORKERS", 2)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: set(range(cores)))
    assert {item for _, item in as_they_come([its] * many) if item is not None} == {threads}
    assert stopping.WORKERS == 2


def test_what_one_work_raises_calls_the_others_off(tmp_path):
    def broken():
        yield "begun"
        raise MeasurementError("made up")

    with pytest.raises(MeasurementError, match="made up"):
        list(as_they_come([lambda: endless(tmp_path / "ended"), broken]))
    assert (tmp_path / "ended").exists()
    assert not active_children()


def test_who_waits_for_works_can_be_called_off(tmp_path):
    flag = threading.Event()
    with stoppable(flag):
        told = as_they_come([lambda: endless(tmp_path / "ended")])
        assert next(told) == (0, "on")
        flag.set()
        with pytest.raises(Stopped):
            list(told)
    assert (tmp_path / "ended").exists()
    assert not active_children()


def test_who_wants_no_more_leaves_nothing_running(tmp_path):
    told = as_they_come([lambda: endless(tmp_path / "ended")])
    assert next(told) == (0, "on")
    told.close()
    assert (tmp_path / "ended").exists()
    assert not active_children()


def test_processes_end_with_whoever_began_them(tmp_path):
    script = (
        "import os, pathlib, signal, time\n"
        "from jiyuu.processes import as_they_come\n"
        "from jiyuu.stopping import checkpoint\n"
        "def endless(name):\n"
        "    try:\n"
        "        yield 'on'\n"
        "        while True:\n"
        "            checkpoint()\n"
        "            time.sleep(0.01)\n"
        "    finally:\n"
        f"        (pathlib.Path({str(tmp_path)!r}) / name).touch()\n"
        "told = as_they_come([lambda: endless('one'), lambda: endless('other')])\n"
        "next(told), next(told)\n"
        "os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    # What it writes to is closed once the last of them has ended.
    subprocess.run([sys.executable, "-c", script], stdout=subprocess.PIPE, timeout=60, check=False)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["one", "other"]


def test_a_process_that_is_killed_is_told_of_with_what_to_do():
    def killed():
        yield "begun"
        os.kill(os.getpid(), signal.SIGKILL)
        yield "never"

    with pytest.raises(JiyuuError, match="run it again"):
        list(as_they_come([killed, killed]))
    assert not active_children()


def test_a_process_lets_go_of_nothing_that_was_there_before_it():
    """A thread or a window that waits to be collected belongs to the process that made it."""
    class Held:
        def __init__(self):
            self.itself, self.where = self, os.getpid()

        def __del__(self):
            if os.getpid() != self.where:
                os._exit(9)

    def collected():
        gc.collect()
        yield "still here"

    gc.collect()
    gc.disable()
    try:
        Held()
        assert (0, "still here") in list(as_they_come([collected]))
    finally:
        gc.enable()


def test_a_key_press_meant_for_whoever_waits_does_not_end_a_work():
    def pressed():
        os.kill(os.getpid(), signal.SIGINT)
        yield "still here"

    assert (0, "still here") in list(as_they_come([pressed]))
