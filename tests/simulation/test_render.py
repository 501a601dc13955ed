"""Large-signal output against an adaptive integrator, and what must hold for any input at all."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.signal.windows import blackmanharris

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.compose import modulated
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import CircuitError, SignalError
from jiyuu.simulation.render import render, render_each
from tests.reference import adaptive, residual_db
from tests.trials import some

RATE = 48_000.0
LENGTH_S = 0.024
FADE_S = 0.006


def fade(t):
    """Smooth to the third derivative, so that the samples' band-limited interpolation is the function itself."""
    x = min(max(t / FADE_S, 0.0), 1.0)
    y = min(max((LENGTH_S - t) / FADE_S, 0.0), 1.0)
    return (x**4 * (35 - 84 * x + 70 * x**2 - 20 * x**3)) * (y**4 * (35 - 84 * y + 70 * y**2 - 20 * y**3))


def played(function):
    return np.array([function(t) for t in np.arange(round(LENGTH_S * RATE)) / RATE])


@pytest.mark.parametrize("circuit_id", circuits())
@pytest.mark.parametrize(("level_v", "cutoff_hz", "share"), [(10.0, 10_000.0, 0.9), (1.0, 700.0, 1.05)])
def test_render_meets_the_adaptive_integrator(circuit_id, level_v, cutoff_hz, share):
    circuit = circuits()[circuit_id]
    gain = share * circuit.onset_gain

    def source(t):
        return level_v * fade(t) * (0.6 * np.sin(2 * np.pi * 437.0 * t) + 0.4 * np.sin(2 * np.pi * 1931.0 * t))

    found = render(circuit.network(), played(source), sample_rate_hz=RATE, cutoff_hz=cutoff_hz, gain=gain,
                   modes=[circuit.modes[0]]).output_v[0]
    true = adaptive(circuit.network(), np.arange(4 * found.size) / (4 * RATE), u_v=source, mode=circuit.modes[0],
                    cutoff_hz=lambda t: cutoff_hz, gain=lambda t: gain)
    assert residual_db(found, true, rate_hz=RATE) < -90


@pytest.mark.parametrize("circuit_id", circuits())
def test_cutoff_and_resonance_may_move_at_audio_rate(circuit_id):
    circuit = circuits()[circuit_id]
    top = circuit.onset_gain

    def source(t):
        return 5 * fade(t) * np.sin(2 * np.pi * 220.0 * t)

    def volts(t):
        return 1.5 * fade(t) * np.sin(2 * np.pi * 1500.0 * t)

    def resonance(t):
        return 0.3 * top * fade(t) * np.sin(2 * np.pi * 900.0 * t)

    found = render(
        circuit.network(), played(source), sample_rate_hz=RATE, cutoff_hz=2000.0, gain=0.5 * top,
        modes=[circuit.modes[0]], cutoff_cv_v=played(volts), gain_cv=played(resonance),
    ).output_v[0]
    true = adaptive(circuit.network(), np.arange(4 * found.size) / (4 * RATE), u_v=source, mode=circuit.modes[0],
                    cutoff_hz=lambda t: 2000.0 * 2 ** volts(t), gain=lambda t: 0.5 * top + resonance(t))
    assert residual_db(found, true, rate_hz=RATE) < -90


@pytest.mark.parametrize("patch", some([
    {"octaves_per_v": -0.7, "gain_per_v": 0.4}, {"octaves_per_v": 1.2}, {"gain_per_v": 0.6},
], 1, long=3))
def test_an_output_patched_into_its_own_controls(patch):
    network = modulated(circuits()["state-variable"].network(), "bandpass", **patch)

    def source(t):
        return 2 * fade(t) * np.sin(2 * np.pi * 330.0 * t)

    found = render(network, played(source), sample_rate_hz=RATE, cutoff_hz=900.0, gain=1.5, modes=["highpass"])
    true = adaptive(network, np.arange(4 * found.output_v.shape[1]) / (4 * RATE), u_v=source, mode="highpass",
                    cutoff_hz=lambda t: 900.0, gain=lambda t: 1.5)
    assert residual_db(found.output_v[0], true, rate_hz=RATE) < -90


def test_small_signals_meet_the_linear_response():
    circuit = circuits()["transistor-ladder"]
    network = circuit.network()
    hz = 1000.0
    record = 1e-4 * np.sin(2 * np.pi * hz * np.arange(24_000) / RATE)
    found = render(network, record, sample_rate_hz=RATE, cutoff_hz=800.0, gain=2.0, modes=["lowpass-24", "notch"])
    window = blackmanharris(12_000)
    for row, mode in enumerate(("lowpass-24", "notch")):
        tone = np.exp(-2j * np.pi * hz * np.arange(12_000, 24_000) / RATE) * window
        ratio = (found.output_v[row, 12_000:] @ tone) / (record[12_000:] @ tone)
        true = complex_gain(network, np.array([hz]), cutoff_hz=800.0, gain=2.0, modes=[mode])[0, 0]
        assert abs(20 * np.log10(abs(ratio / true))) < 1e-4
        assert abs(np.rad2deg(np.angle(ratio / true))) < 1e-2


@pytest.mark.long
def test_aliasing_stays_under_minus_ninety_decibels():
    """A hard-driven tone of 5/96 of the rate: its harmonics fall on a comb of 48 bins, anything between is aliasing."""
    circuit = circuits()["ota-cascade"]
    hz = 6100.0
    record = 10 * np.sin(2 * np.pi * hz * np.arange(48_000) / RATE)
    found = render(circuit.network(), record, sample_rate_hz=RATE, cutoff_hz=10_000.0, gain=1.0, modes=["lowpass-6"])
    steady = found.output_v[0, 24_000:] * blackmanharris(24_000)
    spectrum = np.abs(np.fft.rfft(steady))
    bins = np.arange(spectrum.size) * RATE / 24_000
    near = np.min(np.abs(bins[:, None] - hz * np.arange(4)[None, :]), axis=1) < 20
    stray = spectrum[(~near) & (bins < 20_000)]
    assert 20 * np.log10(stray.max() / spectrum.max()) < -90


def test_delay_is_taken_out_and_length_kept():
    circuit = circuits()["sallen-key-highpass"]
    impulse = np.zeros(4000)
    impulse[1000] = 1e-3
    found = render(circuit.network(), impulse, sample_rate_hz=RATE, cutoff_hz=20.0, gain=0.0, modes=["highpass-12"])
    assert found.output_v.shape == (1, 4000)
    assert int(np.argmax(found.output_v[0])) == 1000
    assert found.output_v[0, 1000] == pytest.approx(1e-3, rel=0.1)


def test_a_long_record_is_the_same_in_pieces():
    """The record is integrated in segments; their seams must not show."""
    circuit = circuits()["transistor-ladder"]
    record = np.random.default_rng(4).normal(0, 0.3, 40_000)
    whole = render(circuit.network(), record, sample_rate_hz=RATE, cutoff_hz=900.0, gain=3.0, modes=["lowpass-24"],
                   oversampling=4).output_v[0]
    part = render(circuit.network(), record[:20_000], sample_rate_hz=RATE, cutoff_hz=900.0, gain=3.0,
                  modes=["lowpass-24"], oversampling=4).output_v[0]
    assert np.abs(whole[:19_000] - part[:19_000]).max() < 1e-6


def test_a_shorter_control_voltage_holds_its_last_value():
    circuit = circuits()["transistor-ladder"]
    record = np.random.default_rng(5).normal(0, 0.3, 6000)
    held = render(circuit.network(), record, sample_rate_hz=RATE, cutoff_hz=500.0, gain=1.0, modes=["lowpass-24"],
                  cutoff_cv_v=np.full(2000, 1.0), oversampling=4).output_v
    full = render(circuit.network(), record, sample_rate_hz=RATE, cutoff_hz=500.0, gain=1.0, modes=["lowpass-24"],
                  cutoff_cv_v=np.full(6000, 1.0), oversampling=4).output_v
    assert np.abs(held - full).max() < 1e-9


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(data=st.data(), which=st.sampled_from(sorted(circuits())))
def test_never_nan_whatever_is_asked(data, which):
    """±10 V steps, resonance past its end, the cutoff swept over its range within a millisecond."""
    circuit = circuits()[which]
    values = {
        p.name: data.draw(st.sampled_from([p.minimum, p.default, p.maximum]), label=p.name) for p in circuit.parameters
    }
    if "feedback_coupling_hz" in values:
        values["feedback_coupling_hz"] = data.draw(st.sampled_from([0.0, 10.0, 1000.0]))
    generator = np.random.default_rng(data.draw(st.integers(0, 1000)))
    record = np.repeat(generator.choice([-10.0, 10.0, 0.0], 16), 40)
    sweep = np.tile(np.linspace(np.log2(5 / 300), np.log2(20_000 / 300), 48), 14)[: record.size]
    found = render(
        circuit.network(values), record, sample_rate_hz=RATE, cutoff_hz=300.0,
        gain=data.draw(st.sampled_from([0.0, 1.0, 1.2])) * circuit.full_gain, modes=circuit.modes,
        cutoff_cv_v=data.draw(st.sampled_from([None, sweep])), oversampling=4,
    ).output_v
    assert np.isfinite(found).all()


def test_records_that_are_not_finite_are_refused():
    network = circuits()["state-variable"].network()
    bad = np.array([0.0, np.nan])
    for given_ in ({"input_v": bad}, {"cutoff_cv_v": bad}, {"gain_cv": bad}):
        arguments = {"input_v": np.zeros(8), **given_}
        with pytest.raises(SignalError, match="not finite"):
            render(network, sample_rate_hz=RATE, cutoff_hz=100.0, gain=0.0, modes=["lowpass"], **arguments)
    for cutoff_hz in (0.0, -3.0, 1e6, np.nan):
        with pytest.raises(CircuitError, match="cutoff"):
            render(network, np.zeros(8), sample_rate_hz=RATE, cutoff_hz=cutoff_hz, gain=0.0, modes=["lowpass"])


@pytest.mark.parametrize("count", some([1, 2, 5, 11], 2))
@pytest.mark.parametrize("circuit_id", ["transistor-ladder", "lowpass-gate", "state-variable"])
def test_side_by_side_is_one_after_the_other(circuit_id, count):
    circuit = circuits()[circuit_id]
    network, modes = circuit.network(), list(circuit.modes[:2])
    record = 3 * np.random.default_rng(2).standard_normal(20_000)  # longer than a segment
    cutoffs, gains = np.geomspace(80, 9000, count), np.linspace(0, 1.1 * (circuit.onset_gain or 1.0), count)
    start = 0.1 * np.random.default_rng(3).standard_normal((count, len(network.capacitors)))
    together = render_each(network, record, sample_rate_hz=RATE, cutoff_hz=cutoffs, gain=gains, modes=modes,
                           oversampling=8, start_v=start)
    assert together.shape == (count, len(modes), record.size)
    for i in range(count):
        alone = render(network, record, sample_rate_hz=RATE, cutoff_hz=float(cutoffs[i]), gain=float(gains[i]),
                       modes=modes, oversampling=8, start_v=start[i]).output_v
        assert np.abs(together[i] - alone).max() <= 1e-9 * np.abs(alone).max()


def test_side_by_side_refuses_what_one_would():
    network = circuits()["transistor-ladder"].network()
    settings = {"sample_rate_hz": RATE, "modes": ["lowpass-24"], "oversampling": 4}
    with pytest.raises(CircuitError):
        render_each(network, np.zeros(9), cutoff_hz=np.array([500.0, -1.0]), gain=np.zeros(2), **settings)
    with pytest.raises(CircuitError):
        render_each(network, np.zeros(9), cutoff_hz=np.array([500.0]), gain=np.array([np.nan]), **settings)
    with pytest.raises(SignalError):
        render_each(network, np.array([0.0, np.inf]), cutoff_hz=np.array([500.0]), gain=np.zeros(1), **settings)
