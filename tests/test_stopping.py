"""Work that is called off ends at its next look, wherever it is."""

import threading

import numpy as np
import pytest

from jiyuu import stopping
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.simulation.kernels import AT_A_STRETCH, integrate
from jiyuu.stopping import Stopped, checkpoint, side_by_side, stoppable
from tests.benching import runs_of


class Looks:
    """A flag that is set at the given look."""

    def __init__(self, at):
        self.count, self._at = 0, at

    def is_set(self):
        self.count += 1
        return self.count >= self._at


def test_without_anybody_who_may_stop_it_nothing_stops():
    checkpoint()
    flag = threading.Event()
    with stoppable(flag):
        checkpoint()
        flag.set()
        with pytest.raises(Stopped):
            checkpoint()
    checkpoint()


def test_a_long_integration_looks_up_and_is_the_same_in_pieces(monkeypatch):
    network, steps = circuit("ota-cascade").network(), 6000
    rng = np.random.default_rng(2)
    asked = {"u_v": rng.standard_normal((2 * steps + 1, 1)), "omega": np.full((1, 1), 6000.0),
             "gain": np.linspace(0, 3, 2 * steps + 1)[:, np.newaxis], "half_step_s": 2e-6, "rows": [0, 1]}
    whole, ended = integrate([network] * 3, **asked)
    assert steps * 8 < AT_A_STRETCH  # in one go
    monkeypatch.setattr("jiyuu.simulation.kernels.AT_A_STRETCH", 8 * 700)
    looks = Looks(at=10**9)
    with stoppable(looks):
        pieces, also_ended = integrate([network] * 3, **asked)
    assert looks.count == 9
    np.testing.assert_array_equal(pieces, whole)
    np.testing.assert_array_equal(also_ended, ended)


@pytest.mark.parametrize("key", ["setup", "response", "self_oscillation", "tracking"])
@pytest.mark.parametrize("at", [2, 40])
def test_every_step_stops_early_and_late(key, at):
    document = neutral_filter("sallen-key-lowpass")
    with stoppable(Looks(at)), pytest.raises(Stopped):
        runs_of(key, document, seed=1)


def test_side_by_side_keeps_order_and_stops_what_has_not_begun():
    assert list(side_by_side(lambda x: x * x, range(6))) == [0, 1, 4, 9, 16, 25]
    begun = []

    def work(number):
        begun.append(number)
        checkpoint()

    flag = threading.Event()
    flag.set()
    with stopping.stoppable(flag), pytest.raises(Stopped):
        list(side_by_side(work, range(200)))
    assert len(begun) < 200


def test_what_is_worked_out_meanwhile_runs_beside_and_stops_with_its_caller():
    met, looked = threading.Barrier(2, timeout=60), []
    with stopping.meanwhile(met.wait):
        met.wait()  # would break if it ran before or after
    flag = threading.Event()

    def until_stopped():
        while True:
            try:
                checkpoint()
            except Stopped:
                looked.append("stopped")
                raise

    with stopping.stoppable(flag), stopping.meanwhile(until_stopped):
        flag.set()
    assert looked == ["stopped"]


@pytest.mark.long
def test_two_at_a_time_find_what_one_after_the_other_finds(monkeypatch):
    """Whoever works beside another one shares nothing with it but what is only read."""
    found = []
    for workers in (1, 2):
        monkeypatch.setattr(stopping, "WORKERS", workers)
        (run,) = runs_of("resonance", neutral_filter("sallen-key-lowpass"), seed=1, asked={"positions": 5})
        found.append(run)
    assert [one.value for one in found[0].findings] == [one.value for one in found[1].findings]
    for first, second in zip(found[0].tables, found[1].tables, strict=True):
        for name, column in first.columns.items():
            np.testing.assert_array_equal(column, second.columns[name])
