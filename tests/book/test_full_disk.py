"""A disk that is full at any write: files may grow to so many bytes and no further, which the system refuses like a
full disk. Every act is either there afterwards or was refused with a sentence."""

import subprocess
import sys

import pytest

from tests.book.full_disk import DAY, wrong_after
from tests.book.test_exchange import written
from tests.trials import some

ENOUGH_KB = 20_000


@pytest.mark.parametrize("limit_kb", some([0, 30, 60, 110, 160, 210, ENOUGH_KB], 1, long=3))
def test_what_is_acknowledged_is_there_and_what_is_not_was_refused(limit_kb, tmp_path):
    path = written(tmp_path / "a.jiyuu", runs=2)
    done = subprocess.run([sys.executable, "-c", DAY, str(path), str(limit_kb * 1024)], capture_output=True, text=True,
                          check=False, timeout=120)
    assert wrong_after(path, done, filled=limit_kb < ENOUGH_KB) == []
