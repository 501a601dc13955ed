"""Small-signal responses against formulas written down by hand, one per circuit and mode."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.linear import quotient_gain, response

HZ = np.geomspace(20, 20_000, 301)
FC = 1234.5


def stage(s):
    return 1 / (1 + s)


def ladder_loop(s, k, c=0.0):
    return (1 + c * k) / (1 + k * stage(s) ** 4)  # input of the first stage, per volt


LADDER = {
    "lowpass-6": lambda p: p,
    "lowpass-12": lambda p: p**2,
    "lowpass-18": lambda p: p**3,
    "lowpass-24": lambda p: p**4,
    "bandpass-12": lambda p: 2 * p * (1 - p),
    "bandpass-24": lambda p: 4 * p**2 * (1 - p) ** 2,
    "highpass-12": lambda p: (1 - p) ** 2,
    "highpass-24": lambda p: (1 - p) ** 4,
    "notch": lambda p: 1 - 2 * p + 2 * p**2,
}
MIXER = {
    **LADDER,
    "highpass-6": lambda p: 1 - p,
    "highpass-18": lambda p: (1 - p) ** 3,
    "bandpass-hp6-lp12": lambda p: p**2 * (1 - p),
    "bandpass-hp6-lp18": lambda p: p**3 * (1 - p),
    "bandpass-hp12-lp6": lambda p: p * (1 - p) ** 2,
    "bandpass-hp18-lp6": lambda p: p * (1 - p) ** 3,
    "notch-lowpass-6": lambda p: p * (1 - 2 * p + 2 * p**2),
    "all-pass-3": lambda p: (1 - 2 * p) ** 3,
    "all-pass-3-lowpass-6": lambda p: p * (1 - 2 * p) ** 3,
    "free": lambda p: p**4,
}


def second_order(s, k):
    return s**2 + (2 - k) * s + 1


STATE_VARIABLE = {
    "lowpass": lambda s, k: 1 / second_order(s, k),
    "bandpass": lambda s, k: s / second_order(s, k),
    "highpass": lambda s, k: s**2 / second_order(s, k),
    "notch": lambda s, k: (s**2 + 1) / second_order(s, k),
    "morph": lambda s, k: (s**2 + 1) / second_order(s, k),
}


def diode_ladder(s, k, c=(2, 1, 1, 1)):
    """Continued by hand from the last stage: i4 = x4, then x3, x2, x1 and the driving voltage in terms of x4."""
    x4 = 1.0 + 0 * s
    # s·x4 = c4(q3 − q4), q3 = x3 − x4, q4 = x4, and so on down the ladder
    q4 = x4
    q3 = s * x4 / c[3] + q4
    x3 = q3 + x4
    q2 = s * x3 / c[2] + q3
    x2 = q2 + x3
    q1 = s * x2 / c[1] + q2
    x1 = q1 + x2
    q0 = s * x1 / c[0] + q1
    return 1 / (q0 + k * x4)


def expected(circuit_id, mode, s, k):
    if circuit_id == "transistor-ladder" or circuit_id == "ota-cascade":
        return ladder_loop(s, k) * LADDER[mode](stage(s))
    if circuit_id == "pole-mixer":
        return ladder_loop(s, k) * MIXER[mode](stage(s))
    if circuit_id == "state-variable":
        return STATE_VARIABLE[mode](s, k)
    if circuit_id == "diode-ladder":
        return diode_ladder(s, k)
    if circuit_id == "sallen-key-pair":
        h = 4 * s  # its highpass stands two octaves lower, without resonance
        return h**2 / second_order(h, 0) * {"bandpass-24": 1 / second_order(s, k), "highpass-12": 1}[mode]
    if circuit_id == "lowpass-gate":
        hz = s.imag * FC
        level = 1j * hz / ((s + 3e-4) * (1j * hz + 16_000.0))
        return {"filter": 1, "both": level}.get(mode, 0) / second_order(s, k) + (level if mode == "level" else 0)
    return {"lowpass-12": 1, "highpass-12": s**2}[mode] / second_order(s, k)


CASES = [(c.id, mode) for c in circuits().values() for mode in c.modes]


@pytest.mark.parametrize(("circuit_id", "mode"), CASES)
@pytest.mark.parametrize("share", [0.0, 0.5, 0.97])
def test_response_meets_the_closed_form(circuit_id, mode, share):
    circuit = circuits()[circuit_id]
    k = share * circuit.onset_gain
    found = response(circuit.network(), HZ, cutoff_hz=FC, gain=k, modes=[mode])
    true = expected(circuit_id, mode, 1j * HZ / FC, k)
    assert np.abs(found.level_db[0] - 20 * np.log10(np.abs(true))).max() < 1e-6
    turns = (found.phase_deg[0] - np.rad2deg(np.angle(true))) / 360
    assert np.abs(turns - np.round(turns)).max() * 360 < 1e-6


@pytest.mark.parametrize(("circuit_id", "mode"), CASES)
@pytest.mark.parametrize("share", [0.0, 0.97])
def test_a_quotient_of_polynomials_meets_the_closed_form(circuit_id, mode, share):
    circuit = circuits()[circuit_id]
    k = share * circuit.onset_gain
    found = quotient_gain(circuit.network(), HZ, cutoff_hz=FC, gain=k, mode=mode)
    true = expected(circuit_id, mode, 1j * HZ / FC, k)
    assert np.abs(found - true).max() < 1e-10 * np.abs(true).max()


@pytest.mark.parametrize(("circuit_id", "mode"), CASES)
def test_phase_is_continuous_and_group_delay_is_its_slope(circuit_id, mode):
    circuit = circuits()[circuit_id]
    hz = np.geomspace(20, 20_000, 20_001)
    found = response(circuit.network(), hz, cutoff_hz=FC, gain=0.8 * circuit.onset_gain, modes=[mode])
    depth = np.abs(found.gain[0])
    dips = "notch" in mode or mode == "morph"  # a zero on the axis turns the phase by half a turn at once
    clear = depth > 0.02 * depth.max() if dips else depth > 0
    phase = np.deg2rad(found.phase_deg[0])
    slope = -np.gradient(phase, 2 * np.pi * hz)
    inner = clear & (np.arange(hz.size) > 1) & (np.arange(hz.size) < hz.size - 2)
    if dips:
        inner &= np.abs(np.log(hz / FC)) > 0.01
    error = np.abs(slope - found.group_delay_s[0])[inner]
    assert error.max() < 1e-4 * np.abs(found.group_delay_s[0][inner]).max() + 1e-9


def test_compensation_keeps_the_passband():
    circuit = circuits()["transistor-ladder"]
    low = np.array([1e-3])
    for k in (0.0, 2.0, 3.9):
        level = response(circuit.network({"compensation": 1.0}), low, cutoff_hz=FC, gain=k, modes=["lowpass-24"])
        assert level.level_db[0, 0] == pytest.approx(0.0, abs=1e-9)
    bare = response(circuit.network(), low, cutoff_hz=FC, gain=4.0, modes=["lowpass-24"])
    assert bare.level_db[0, 0] == pytest.approx(-13.979, abs=1e-3)


def test_coupled_feedback_keeps_the_bass_below_its_corner():
    corner_hz, k = 40.0, 3.0
    network = circuits()["transistor-ladder"].network({"feedback_coupling_hz": corner_hz})
    s = 1j * HZ / FC
    coupled = 1j * HZ / (1j * HZ + corner_hz)
    true = stage(s) ** 4 / (1 + k * coupled * stage(s) ** 4)
    found = response(network, HZ, cutoff_hz=FC, gain=k, modes=["lowpass-24"])
    assert np.abs(found.gain[0] - true).max() < 1e-9
    assert found.level_db[0, 0] > -20 * np.log10(1 + k) + 5


@pytest.mark.parametrize("m", [0.0, 0.25, 0.5, 0.75, 1.0])
def test_morph_mixes_lowpass_and_highpass(m):
    network = circuits()["state-variable"].network({"morph": m})
    s = 1j * HZ / FC
    true = (min(1, 2 - 2 * m) + min(1, 2 * m) * s**2) / second_order(s, 1.0)
    assert np.abs(response(network, HZ, cutoff_hz=FC, gain=1.0, modes=["morph"]).gain[0] - true).max() < 1e-9


def test_free_mix_is_the_sum_of_its_taps():
    weights = [0.5, -1.5, 2.0, 0.25, -3.0]
    network = circuits()["pole-mixer"].network({f"mix_{i}": w for i, w in enumerate(weights)})
    s = 1j * HZ / FC
    true = ladder_loop(s, 2.0) * sum(w * stage(s) ** i for i, w in enumerate(weights))
    assert np.abs(response(network, HZ, cutoff_hz=FC, gain=2.0, modes=["free"]).gain[0] - true).max() < 1e-9


def test_bandpass_leads_lowpass_and_highpass_leads_bandpass_by_a_quarter_turn():
    found = response(circuits()["state-variable"].network(), HZ, cutoff_hz=FC, gain=1.2,
                     modes=["lowpass", "bandpass", "highpass"])
    assert found.phase_deg[1] - found.phase_deg[0] == pytest.approx(np.full(HZ.size, 90.0))
    assert found.phase_deg[2] - found.phase_deg[1] == pytest.approx(np.full(HZ.size, 90.0))


def test_mismatched_stages_move_their_own_poles():
    network = circuits()["transistor-ladder"].network({"stage_2_mismatch_percent": 20.0})
    s = 1j * HZ / FC
    true = stage(s) ** 3 * stage(s / 1.2)
    assert np.abs(response(network, HZ, cutoff_hz=FC, gain=0.0, modes=["lowpass-24"]).gain[0] - true).max() < 1e-9
