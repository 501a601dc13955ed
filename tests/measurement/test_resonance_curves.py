"""What resonance does, against formulas written out here; overload against levels worked out by hand."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.many_units import levels_over_resonance
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.resonance_curves import (
    output_level_db,
    overload,
    read_resonance,
)
from jiyuu.measurement.resonance_findings import output_findings
from jiyuu.wording.findings import sentence
from jiyuu.wording.resonance import bass_loss

HZ = 4.0 * 2 ** (np.arange(192 * 12) / 192)
POSITIONS = np.array([0.0, 25.0, 50.0, 75.0, 87.5])


def curves(circuit_id, mode, gains, **parameters):
    network = circuit(circuit_id).network(parameters)
    levels = levels_over_resonance(network, HZ, [mode], cutoff_hz=500.0, gains=np.asarray(gains))[0]
    return read_resonance(POSITIONS, HZ, levels, cutoff_hz=500.0)


@pytest.mark.parametrize("compensation", [0.0, 0.5, 1.0])
def test_body_of_a_ladder_is_its_dc_gain(compensation):
    """H(0) = (1 + c·k)/(1 + k); three octaves under fc the four poles are still 0.27 dB away from that at k = 0."""
    k = np.array([0.0, 1.0, 2.0, 3.0, 3.5])
    read = curves("transistor-ladder", "lowpass-24", k, compensation=compensation)
    s = 1j / 8
    exact = np.abs((1 + compensation * k) * ((1 + s) ** 4 + 0) / ((1 + s) ** 4 + k))
    assert read.body_db == pytest.approx(20 * np.log10(exact), abs=2e-4)
    assert read.kind is Kind.LOWPASS


def test_peak_and_sharpness_of_a_state_variable_filter():
    """Lowpass 1/(s² + s/Q + 1): peak Q/sqrt(1 − 1/4Q²) at sqrt(1 − 1/2Q²); its bandpass has a bandwidth of fc/Q."""
    k = np.array([0.0, 1.0, 1.5, 1.8, 1.9])
    q = 1 / (2 - k)
    low, band = curves("state-variable", "lowpass", k), curves("state-variable", "bandpass", k)
    assert np.isnan(low.peak_db[0])
    assert low.peak_db[1:] == pytest.approx(20 * np.log10(q[1:] / np.sqrt(1 - 1 / (4 * q[1:] ** 2))), abs=1e-3)
    assert low.peak_hz[1:] == pytest.approx(500 * np.sqrt(1 - 1 / (2 * q[1:] ** 2)), rel=1e-4)
    assert band.q == pytest.approx(q, rel=1e-3)
    assert band.amount_db == pytest.approx(20 * np.log10(q / q[0]), abs=5e-3)  # highest of the grid's points
    assert curves("state-variable", "notch", k).amount_db is None


def test_body_of_a_highpass_is_its_top():
    read = curves("sallen-key-highpass", "highpass-12", [0.0, 0.5, 1.0, 1.5, 1.8])
    assert read.body_hz == pytest.approx(4000.0)
    assert np.abs(read.body_db).max() < 0.3


def test_a_source_as_lines_through_a_curve():
    """Two equal lines, one passed whole and one 20 dB down: power (1 + 0.01)/2."""
    level = np.where(HZ < 300, 0.0, -20.0)[np.newaxis]
    assert output_level_db(np.array([100.0, 900.0]), np.ones(2), HZ, level) == pytest.approx(
        10 * np.log10(1.01 / 2), abs=1e-3
    )


def test_a_source_turned_down_to_nothing_has_a_level_re_itself_all_the_same():
    level = np.full((2, HZ.size), -6.0)
    assert output_level_db(np.array([100.0, 900.0]), np.zeros(2), HZ, level) == pytest.approx([-6.0, -6.0])


def test_body_outside_the_band_is_refused():
    with pytest.raises(MeasurementError, match="set the cutoff"):
        read_resonance(POSITIONS, HZ, np.zeros((5, HZ.size)), cutoff_hz=20.0)
    with pytest.raises(MeasurementError, match="two rising"):
        read_resonance(POSITIONS[:1], HZ, np.zeros((1, HZ.size)), cutoff_hz=500.0)


@pytest.mark.parametrize(("positions", "volts", "limit", "from_percent", "trim_db", "says"), [
    # A level that doubles every 25 %: the crossing of the limit and the trim from the volts alone.
    ([0, 25, 50, 75, 100], [1, 2, 4, 8, 16], 5.0, 50 + 25 * np.log2(5 / 4), -10.10, "above 58 %, reaching 16.0 V"),
    ([0, 25, 50, 75, 100], [1, 2, 4, 8, 16], 8.0, 75, -6.02, "above 75 %"),
    ([0, 25, 50, 75, 100], [1, 2, 4, 8, 16], 16.0, None, 0.0, "Never overloads the next module (±16 V); worst"),
    ([0, 25, 50, 75, 100], [1, 2, 4, 8, 16], 32.0, None, 0.0, "worst case 6.0 dB"),
    ([0, 50, 100], [10, 10, 10], 5.0, 0, -6.02, "everywhere on the travel"),
    ([0, 50, 100], [5, 5, 50], 5.0, 50, -20.0, "attenuate by 20.0 dB"),
    ([0, 50, 100], [5, 20, 4], 5.0, 0, -12.04, "reaching 20.0 V"),
    ([0, 100], [2.5, 10], 5.0, 50, -6.02, "above 50 %"),
])
def test_overload_worked_out_by_hand(positions, volts, limit, from_percent, trim_db, says):
    found = overload(np.array(positions, dtype=float), np.array(volts, dtype=float), limit)
    if from_percent is None:
        assert found.from_percent is None
    else:
        assert found.from_percent == pytest.approx(from_percent, abs=0.01)
    assert found.trim_db == pytest.approx(trim_db, abs=0.01)
    findings = output_findings(np.array(positions), np.zeros(len(positions)), found, 0.0, source="a saw",
                               limit_v=limit, measured=False)
    assert says in sentence(findings[1])


@pytest.mark.parametrize(("source_v", "q", "over"), [(1.0, 4.0, False), (1.0, 6.0, True), (5.0, 0.9, False),
                                                     (5.0, 1.2, True)])
def test_a_sine_at_the_peak_of_a_bandpass_leaves_it_q_times_as_large(source_v, q, over):
    gains = np.linspace(0, 2 - 1 / q, 21)
    levels = levels_over_resonance(circuit("state-variable").network(), HZ, ["bandpass"], cutoff_hz=500.0,
                                   gains=gains)[0]
    found = overload(np.linspace(0, 100, 21), source_v * 10 ** (levels.max(axis=1) / 20), 5.0)
    assert found.highest_v == pytest.approx(source_v * q, rel=1e-3)
    assert (found.from_percent is not None) == over


def test_the_bass_loss_sentence_says_number_and_place():
    text = bass_loss(curves("transistor-ladder", "lowpass-24", [0.0, 1.0, 2.0, 3.0, 3.5]), 75)
    assert text.startswith("Resonance 75 %: low end −11.6 dB, peak +15.5 dB at 463")
    assert "Hz" in text
    kept = curves("state-variable", "highpass", [0.0, 0.5, 1.0, 1.5, 1.9])
    assert "high end" in bass_loss(kept, 50)
