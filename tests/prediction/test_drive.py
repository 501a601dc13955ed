"""Harmonics, limits and products of a driven network against quadrature and an adaptive integrator."""

import numpy as np
import pytest
from scipy.optimize import brentq

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.compose import series, shaper, silent
from jiyuu.circuits.network import Branch, BranchKind
from jiyuu.errors import CircuitError
from jiyuu.prediction.drive import branch_shares, drive_ladder, two_tones_products
from jiyuu.signals.two_tones import TwoTones
from tests.reference import adaptive
from tests.trials import some

LEVELS = 10 ** (np.arange(-40, 31, 2) / 20)
CURVES = {
    "tanh": np.tanh, "asinh": np.arcsinh, "fold": np.sin, "clip": lambda v: np.clip(v, -1, 1),
}
TURN = 2 * np.pi * (np.arange(1 << 15) + 0.5) / (1 << 15)


def alone(kind, bias=0.0):
    return silent(shaper(Branch("curve", BranchKind(kind), 1.0, bias)))


def quadrature(curve, level, bias=0.0):
    """(20,) harmonics' peaks."""
    wave = curve(level * np.sin(TURN) + bias)
    return 2 * np.abs(np.fft.rfft(wave)[1:21]) / TURN.size  # where it begins turns a line, and leaves its size


def thd(peaks):
    return 100 * np.sqrt(np.sum(peaks[1:] ** 2)) / peaks[0]


@pytest.mark.parametrize("kind", some(CURVES, 1, long=4))
@pytest.mark.parametrize("bias", [0.0, 0.2])
def test_a_curve_alone_bends_as_quadrature_says(kind, bias):
    found = drive_ladder(alone(kind, bias), "out", cutoff_hz=1000.0, gain=0.0, frequency_hz=100.0, levels_v=LEVELS)
    for level in found.levels:
        peaks = quadrature(CURVES[kind], level.input_peak_v, bias)
        if level.input_peak_v > 20 and kind == "fold":
            continue  # hundreds of folds a period: its harmonics lie far past the twentieth
        assert level.fundamental_peak_v == pytest.approx(peaks[0], rel=1e-3)
        assert level.thd_percent == pytest.approx(thd(peaks), rel=5e-3, abs=1e-5)
        even = 100 * np.sqrt(np.sum(peaks[1::2] ** 2)) / peaks[0]
        assert level.even_percent == pytest.approx(even, rel=5e-3, abs=1e-3)

    def missing(level):
        return 20 * np.log10(quadrature(CURVES[kind], level, bias)[0] / level) - found.small_gain_db + 1

    start = 1.0 if kind == "clip" else 0.01
    assert found.compression_1db_v == pytest.approx(brentq(missing, start, 3.0), rel=5e-3)
    for percent, value in ((1.0, found.thd_1_percent_v), (3.0, found.lamp_v)):
        at = brentq(lambda v, percent=percent: thd(quadrature(CURVES[kind], v, bias)) - percent, start * 0.5, 2.0)
        assert value == pytest.approx(at, rel=5e-3)


@pytest.mark.parametrize(("circuit_id", "mode", "gain", "level_v"), [
    ("transistor-ladder", "lowpass-24", 2.0, 2.0), ("ota-cascade", "lowpass-24", 1.5, 3.0),
    ("diode-ladder", "lowpass-24", 6.0, 1.0), ("state-variable", "lowpass", 1.2, 6.0),
    ("sallen-key-lowpass", "lowpass-12", 1.0, 4.0),
])
def test_a_circuit_bends_as_an_adaptive_integrator_says(circuit_id, mode, gain, level_v):
    network, hertz, points = circuit(circuit_id).network(), 250.0, 512
    (found,) = drive_ladder(network, mode, cutoff_hz=1000.0, gain=gain, frequency_hz=hertz,
                            levels_v=np.array([level_v])).levels
    periods = 14  # the slowest pole of these has died away by then
    times = np.concatenate([[0.0], (periods + np.arange(points) / points) / hertz])
    out = adaptive(network, times, u_v=lambda t: level_v * np.sin(2 * np.pi * hertz * t), cutoff_hz=lambda _: 1000.0,
                     gain=lambda _: gain, mode=mode, rtol=1e-10)[1:]
    peaks = 2 * np.abs(np.fft.rfft(out))[1:21] / points
    assert found.settled
    assert found.fundamental_peak_v == pytest.approx(peaks[0], rel=1e-4)
    assert found.thd_percent == pytest.approx(thd(peaks), rel=2e-3)
    assert found.output_peak_v == pytest.approx(np.abs(out).max(), rel=1e-3)


@pytest.mark.long
def test_two_tones_against_a_double_series():
    """Of a curve alone: the mean over both phases, on a grid of its own."""
    curve, bias, peak = np.tanh, 0.1, 0.5
    phase = 2 * np.pi * np.arange(256) / 256
    wave = curve(peak * (np.sin(phase)[:, np.newaxis] + np.sin(phase)[np.newaxis, :]) + bias)
    lines = np.abs(np.fft.fft2(wave)) / wave.size
    whole = 2 * lines[1, 0]
    found = two_tones_products(alone("tanh", bias), "out", TwoTones(900.0, 970.0, peak), cutoff_hz=1000.0, gain=0.0)
    assert found.second_percent.value == pytest.approx(100 * lines[-1, 1] / whole, rel=1e-3)
    assert found.third_percent.value == pytest.approx(100 * (lines[2, -1] + lines[-1, 2]) / whole, rel=1e-3)


@pytest.mark.long
def test_shares_of_two_gentle_curves_add_up():
    """One after the other, hardly bent: thirds of cubic terms add, the second one's by what the first lets through."""
    both = silent(series(shaper(Branch("first", BranchKind.TANH, 1.0)), "out",
                         shaper(Branch("second", BranchKind.TANH, 0.5))))
    found = branch_shares(both, "out", cutoff_hz=1000.0, gain=0.0, frequency_hz=100.0, level_v=0.02)
    assert [share.branch for share in found.shares] == ["second", "first"]
    assert found.shares[0].share_percent == pytest.approx(80.0, abs=0.5)  # 1/0.5² against 1
    assert found.remainder_percent == pytest.approx(0.0, abs=0.5)


@pytest.mark.parametrize(("levels", "hertz", "gain", "said"), [
    ([], 100.0, 1.0, "levels lie"), ([0.0, 1.0], 100.0, 1.0, "levels lie"), ([1.0], 0.0, 1.0, "frequency"),
    ([1.0], 100.0, 4.2, "oscillates"),
])
def test_what_cannot_be_driven_says_so(levels, hertz, gain, said):
    with pytest.raises(CircuitError, match=said):
        drive_ladder(circuit("transistor-ladder").network(), "lowpass-24", cutoff_hz=500.0, gain=gain,
                     frequency_hz=hertz, levels_v=np.array(levels))
