"""Compiled integrators: one and many filters agree, order of convergence, what is compiled and kept."""

import os
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.compose import modulated, series, shaper, silent
from jiyuu.circuits.network import Affine, Branch, BranchKind
from jiyuu.simulation.kernel_source import LANES, signature
from jiyuu.simulation.kernels import coefficients_of, integrate
from tests.trials import some

HALF = 0.5 / 192_000


def run(networks, **changed):
    steps = 3000
    generator = np.random.default_rng(1)
    u = np.cumsum(generator.normal(0, 0.05, (2 * steps + 1, 1)), axis=0)
    given = {
        "u_v": u, "omega": np.full((1, 1), 2 * np.pi * 900.0), "gain": np.full((1, 1), 3.0), "half_step_s": HALF,
        "rows": [0], **changed,
    }
    return integrate(networks, **given)


@pytest.mark.parametrize("circuit_id", circuits())
def test_a_batch_gives_what_each_filter_gives_alone(circuit_id):
    entry = circuit(circuit_id)
    headroom = next(p.name for p in entry.parameters if "headroom" in p.name)
    networks = [entry.network({headroom: 0.5 + 0.1 * i}) for i in range(LANES + 3)]
    together, states = run(networks)
    for i, network in enumerate(networks):
        alone, state = run([network])
        assert np.abs(together[:, :, i] - alone[:, :, 0]).max() < 1e-9
        assert_allclose(states[i], state[0], rtol=0, atol=1e-9)


@pytest.mark.long
def test_a_batch_of_patched_filters_gives_what_each_gives_alone():
    bare = circuit("state-variable").network()
    patches = [{"octaves_per_v": 0.3 * i, "gain_per_v": 0.1 + 0.05 * i} for i in range(1, LANES + 1)]
    networks = [modulated(bare, "bandpass", **patch) for patch in patches]
    row = bare.output_index("highpass")
    together, _ = run(networks, rows=[row], gain=np.full((1, 1), 1.2))
    for i, network in enumerate(networks):
        alone, _ = run([network], rows=[row], gain=np.full((1, 1), 1.2))
        assert np.abs(together[:, :, i] - alone[:, :, 0]).max() < 1e-9


def test_every_filter_of_a_batch_may_have_its_own_signals():
    entry = circuit("state-variable")
    count, steps = LANES, 500
    generator = np.random.default_rng(2)
    u = generator.normal(0, 1, (2 * steps + 1, count))
    omega = 2 * np.pi * generator.uniform(100, 3000, (2 * steps + 1, count))
    gain = generator.uniform(0, 2, (2 * steps + 1, count))
    together, _ = run([entry.network()] * count, u_v=u, omega=omega, gain=gain)
    alone, _ = run([entry.network()], u_v=u[:, 3:4], omega=omega[:, 3:4], gain=gain[:, 3:4])
    assert np.abs(together[0, :, 3] - alone[0, :, 0]).max() < 1e-10


def test_halving_the_step_divides_the_error_by_sixteen():
    network = circuit("transistor-ladder").network()

    def settled(factor):
        steps = 200 * factor
        t = np.arange(2 * steps + 1) / (2 * steps) * 2e-3
        u = 2 * np.sin(2 * np.pi * 500.0 * t)[:, None]
        return run([network], u_v=u, half_step_s=0.5 * 2e-3 / steps)[1][0]

    true = settled(64)
    ratio = np.abs(settled(1) - true).max() / np.abs(settled(2) - true).max()
    assert 12 < ratio < 22


@pytest.mark.parametrize(("kind", "shape"), some([
    (BranchKind.TANH, lambda v: 0.7 * np.tanh(v / 0.7)), (BranchKind.ASINH, lambda v: 0.7 * np.arcsinh(v / 0.7)),
    (BranchKind.CLIP, lambda v: np.clip(v, -0.7, 0.7)), (BranchKind.LINEAR, lambda v: v),
], 1, long=4))
@pytest.mark.parametrize("lanes", [1, LANES])
def test_branch_shapes_are_exact_over_twelve_decades(kind, shape, lanes):
    base = circuit("sallen-key-lowpass").network()
    # An output that shows the limiter itself, its capacitors standing still at the voltages given.
    shown = replace(base, branches=tuple(replace(b, kind=kind, headroom_v=0.7) for b in base.branches), written=())
    e = np.zeros(base.E.parts.shape)
    e[0, 0, 0] = 1.0
    shown = replace(shown, E=Affine(e), C=Affine(np.zeros(base.C.parts.shape)))
    volts = np.concatenate([-np.logspace(2, -10, 60), [0.0], np.logspace(-10, 2, 60)])
    for v in volts[:: 1 if lanes == 1 else 6]:
        states = np.tile([0.0, v], (lanes, 1))
        out, _ = integrate([shown] * lanes, u_v=np.zeros((3, 1)), omega=np.zeros((1, 1)), gain=np.zeros((1, 1)),
                           half_step_s=HALF, rows=[0], states=states)
        assert out[0, 0, 0] == pytest.approx(shape(v), rel=2e-12, abs=1e-15)


def test_units_of_one_circuit_share_a_kernel_and_differ_in_their_table():
    entry = circuit("diode-ladder")
    first, second = entry.network(), entry.network({"capacitor_ratio_2": 1.1, "stage_headroom_v": 0.3})
    assert signature(first) == signature(second)
    assert np.abs(coefficients_of(first) - coefficients_of(second)).max() > 0.05
    assert signature(first) != signature(entry.network({"feedback_coupling_hz": 9.0}))


SCRIPT = """
from jiyuu.circuits.catalogue import circuit
from jiyuu.simulation.kernels import kernel_for
kernel_for(circuit('sallen-key-highpass').network())
"""


def test_compiled_code_is_kept_between_runs_and_made_again_where_it_is_spoilt(tmp_path):
    environment = {**os.environ, "JIYUU_CACHE_DIR": str(tmp_path)}

    def ran():
        subprocess.run([sys.executable, "-c", SCRIPT], env=environment, check=True)
        (code,) = (tmp_path / "kernels").iterdir()
        return code, code.stat().st_mtime_ns

    code, made = ran()
    assert ran() == (code, made)  # loaded: whoever compiles writes
    whole = code.read_bytes()
    for spoilt in (whole[: len(whole) // 2], whole[:-9] + b"\0" * 9, b""):
        code.write_bytes(spoilt)
        ran()
        assert code.read_bytes() == whole


def test_what_is_read_only_or_has_gaps_is_integrated_as_it_is(tmp_path, monkeypatch):
    monkeypatch.setenv("JIYUU_CACHE_DIR", str(tmp_path))
    joined = silent(series(shaper(Branch("curve", BranchKind.ASINH, 0.7)), "out", shaper(Branch("b", BranchKind.CLIP))))
    for one in (np.ones((5, 1)), np.broadcast_to(1.0, (5, 1)), np.ones((9, 3))[::2, :1]):
        for lanes in (1, LANES):
            out, _ = integrate([joined] * lanes, u_v=one, omega=one, gain=np.broadcast_to(0.0, (1, 1)),
                               half_step_s=1e-3, rows=[0])
            assert out == pytest.approx(0.7 * np.arcsinh(1 / 0.7), rel=1e-12)
    assert len(list((tmp_path / "kernels").iterdir())) == 1


@pytest.mark.parametrize("lanes", [1, 2, LANES, 2 * LANES + 1])
@pytest.mark.parametrize("moving", [(), ("omega",), ("gain",), ("omega", "gain")])
@pytest.mark.parametrize("each", [False, True])
def test_controls_that_stand_and_controls_that_move_do_the_same(lanes, moving, each):
    network, steps = circuit("transistor-ladder").network(), 50
    given = {"u_v": np.random.default_rng(2).normal(0, 0.3, (2 * steps + 1, 1)), "half_step_s": HALF, "rows": [0, 3]}
    turned = {"omega": 6e3 * (1 + 0.1 * np.arange(lanes) * each), "gain": 2 + 0.1 * np.arange(lanes) * each}
    expected = [integrate([network], omega=np.full((1, 1), turned["omega"][lane]),
                          gain=np.full((1, 1), turned["gain"][lane]), **given) for lane in range(lanes)]
    controls = {name: np.broadcast_to(values if each else values[:1],
                                      (2 * steps + 1 if name in moving else 1, lanes if each else 1))
                for name, values in turned.items()}
    outputs, states = integrate([network] * lanes, **given, **controls)
    assert outputs.shape == (2, steps, lanes)
    for lane, (output, state) in enumerate(expected):
        assert_allclose(outputs[:, :, lane], output[:, :, 0], rtol=1e-12, atol=1e-15)
        assert_allclose(states[lane], state[0], rtol=1e-12, atol=1e-15)
