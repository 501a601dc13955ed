"""The sampling of gated spectra, the noise that the gate leaves, and the choice of windows."""

import numpy as np
import pytest
from scipy.signal import savgol_coeffs

from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE, WINDOWS, FineGrid, Gate, chosen_windows, pick, smoothed

RATE = 48_000.0
GATE = Gate(2400, 24_000)
GRID = FineGrid(15.0, 10 * POINTS_PER_OCTAVE, 1 << 17, RATE, GATE)


@pytest.mark.parametrize(("hertz", "decay_s"), [(300.0, 0.004), (300.0, 0.02), (5000.0, 0.001), (40.0, 0.01)])
def test_a_ringing_impulse_is_sampled_exactly(hertz, decay_s):
    pole = np.exp((-1 / decay_s + 2j * np.pi * hertz) / RATE)
    impulse = np.zeros(GATE.before + GATE.after)
    impulse[GATE.before :] = (pole ** np.arange(GATE.after)).real  # long over where the gate falls
    turn = np.exp(-2j * np.pi * GRID.frequency_hz / RATE)
    exact = 0.5 / (1 - pole * turn) + 0.5 / (1 - np.conj(pole) * turn)
    found = GRID.sampled(impulse)
    inner = slice(2, -2)
    assert np.abs(found / exact - 1)[inner].max() < 5e-6


def test_drawn_noise_is_the_noise_of_the_gate():
    """Against noise made in the plain way: a whole record of it gated and sampled like any impulse response."""
    drawn = GRID.unit_noise(64)
    generator = np.random.default_rng(8)
    plain = np.array([GRID.sampled(generator.standard_normal(GATE.window.size) * GATE.window) for _ in range(64)])
    for window in WINDOWS:
        ours, theirs = (np.mean(np.abs(smoothed(field, window)) ** 2, axis=0) for field in (drawn, plain))
        for start in range(0, GRID.count, 240):
            piece = slice(start, start + 240)
            assert np.sqrt(ours[piece].mean() / theirs[piece].mean()) == pytest.approx(1.0, abs=0.15)


def test_drawn_noise_is_the_same_every_time_and_not_to_be_changed():
    assert GRID.unit_noise(8) is GRID.unit_noise(8)
    with pytest.raises(ValueError, match="read-only"):
        GRID.unit_noise(8)[0, 0] = 1.0


@pytest.mark.parametrize("before", [2, 2400])
def test_the_gate_falls_to_nothing_at_both_ends(before):
    window = Gate(before, 24_000).window
    assert window.size == before + 24_000
    assert window[before] == 1.0
    assert window[-1] < 1e-6
    assert (window >= 0).all()
    assert (window <= 1).all()


def test_a_plain_slope_is_smoothed_widely_and_a_sharp_peak_hardly():
    f = GRID.frequency_hz
    generator = np.random.default_rng(3)

    def found(gain):
        white = 1e-4 * (generator.standard_normal(f.size) + 1j * generator.standard_normal(f.size)) / np.sqrt(2)
        estimates = [smoothed(gain + white, window) for window in WINDOWS]
        left = [1.0, *(np.linalg.norm(savgol_coeffs(window, 4)) for window in WINDOWS[1:])]
        chosen = chosen_windows(estimates, [np.full(f.size, 1e-4 * share) for share in left])
        return chosen, np.abs(pick(estimates, chosen) - gain)

    s = 1j * f / 1000
    chosen, error = found(1 / (1 + s))
    assert np.median(chosen) >= 3
    assert np.sqrt(np.mean(error[100:-100] ** 2)) < 0.5e-4  # half of what it was
    chosen, error = found(1 / (1 + s / 40 + s * s))
    peak = int(np.argmin(np.abs(f - 1000)))
    assert chosen[peak] == 0
    assert error[peak - 5 : peak + 5].max() < 4e-4
