"""A few mutated files of every format; thousands in the benchmarks."""

import pytest

from tests.fuzzing import faults


@pytest.mark.parametrize("first", [0, 1000])
def test_no_mutated_file_makes_a_command_fail(first, tmp_path, monkeypatch):
    monkeypatch.setattr("tests.fuzzing.SLOW_S", float("inf"))  # a busy machine is no fault: the benchmarks look at time
    assert list(faults(tmp_path / "fuzz", first, 40)) == []
