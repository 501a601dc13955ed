"""A few mutated files of every format; thousands in the benchmarks."""

import pytest

from tests.fuzzing import FOLDERS, faults


# Then those that once did: schemas and rows whose text is none, so that the complaint about them is none either.
@pytest.mark.parametrize(("first", "count"), [(0, 40), (1000, 40), (619, 1), (1219, 1), (1321, 1), (1533, 1),
                                             (FOLDERS, 16), (FOLDERS + 29, 1)])
def test_no_mutated_file_makes_a_command_fail(first, count, tmp_path, monkeypatch):
    monkeypatch.setattr("tests.fuzzing.SLOW_S", float("inf"))  # a busy machine is no fault: the benchmarks look at time
    assert list(faults(tmp_path / "fuzz", first, count)) == []
