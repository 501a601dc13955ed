"""The sampling of gated spectra, the noise that the gate leaves, and the choice of windows."""

import numpy as np
import pytest
from scipy.signal import savgol_coeffs

from jiyuu.measurement.smoothing import (
    HELD_BACK,
    POINTS_PER_OCTAVE,
    WINDOWS,
    FineGrid,
    Gate,
    NoiseLike,
    chosen_windows,
    pick,
    smoothed,
)

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


@pytest.mark.long
def test_drawn_noise_is_the_noise_of_the_gate():
    """Against noise made in the plain way: a whole record of it gated and sampled like any impulse response."""
    generator = np.random.default_rng(8)

    def plain():
        return GRID.sampled(0.02 * generator.standard_normal(GATE.window.size) * GATE.window)

    theirs = np.array([plain() for _ in range(64)])
    likes = [NoiseLike.of(plain(), GRID) for _ in range(12)]
    for place, window in enumerate(WINDOWS[:-HELD_BACK]):
        chosen = np.full(GRID.count, place)
        ours = np.concatenate([like.drawn(chosen, 24, np.random.default_rng(seed))[0]
                               for seed, like in enumerate(likes)])
        deviation = np.sqrt(np.mean([like.deviations[place] ** 2 for like in likes], axis=0))
        for start in range(0, GRID.count, 240):
            piece = slice(start, start + 240)
            power = np.mean(np.abs(smoothed(theirs, window)[:, piece]) ** 2)
            assert np.sqrt(np.mean(np.abs(ours[:, piece]) ** 2) / power) == pytest.approx(1.0, abs=0.17)
            assert np.sqrt(np.mean(deviation[piece] ** 2) / power) == pytest.approx(1.0, abs=0.17)


def test_drawn_noise_scatters_no_less_at_one_point_than_around_it():
    """Else what is read at just that point promises too much, in every recording of the same stimulus."""
    for values in GRID.unit_noise().smoothed:
        scatter = np.sqrt(np.mean(np.abs(values) ** 2, axis=0))
        inner = scatter[POINTS_PER_OCTAVE:-POINTS_PER_OCTAVE]
        around = np.convolve(scatter, np.full(97, 1 / 97), mode="same")[POINTS_PER_OCTAVE:-POINTS_PER_OCTAVE]
        assert np.abs(inner / around - 1).max() < 0.04


def test_the_same_seed_draws_the_same_and_another_does_not():
    like = NoiseLike.of(np.full(GRID.count, 1e-3 + 0j), GRID)
    chosen = np.zeros(GRID.count, dtype=int)
    first, again, other = (like.drawn(chosen, 8, np.random.default_rng(seed))[0] for seed in (1, 1, 2))
    assert (first == again).all()
    assert (first != other).any(axis=1).all()
    with pytest.raises(ValueError, match="read-only"):
        GRID.unit_noise().smoothed[0][0, 0] = 1.0


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
