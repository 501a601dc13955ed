"""Reading of curves against what their formulas say."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import Kind, above_noise, local_slope, read_curve

HZ = 10.0 * 2 ** (np.arange(192 * 11 + 1) / 192)


def curve(circuit_id, mode, *, cutoff_hz, gain, **parameters):
    network = circuit(circuit_id).network(parameters)
    gains = complex_gain(network, HZ, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
    return 20 * np.log10(np.maximum(np.abs(gains), 1e-20))


def test_a_four_pole_lowpass():
    read = read_curve(HZ, curve("transistor-ladder", "lowpass-24", cutoff_hz=600.0, gain=0.0))
    assert read.kind is Kind.LOWPASS
    assert read.passband_db == pytest.approx(0, abs=1e-3)
    assert read.cutoff_3db_hz == pytest.approx(600 * np.sqrt(2 ** (1 / 4) - 1), rel=1e-4)
    drop = 40 * np.log10((1 + 4 * (2**0.25 - 1)) / 2**0.25)
    assert read.first_octave_drop_db == pytest.approx(drop, abs=0.01)
    octave = np.log2(read.cutoff_3db_hz) + np.linspace(1, 3, 400)
    exact = -40 * np.log10(1 + (2**octave / 600) ** 2)
    assert read.slope_db_per_octave == pytest.approx(np.polyfit(octave, exact, 1)[0], abs=0.02)
    assert read.peak_db is None
    assert read.humps == ()


@pytest.mark.parametrize("k", [0.7, 1.0, 1.5, 1.9])
def test_a_resonant_two_pole_lowpass(k):
    read = read_curve(HZ, curve("state-variable", "lowpass", cutoff_hz=1000.0, gain=k))
    damping = 2 - k
    assert read.peak_hz == pytest.approx(1000 * np.sqrt(1 - damping**2 / 2), rel=1e-4)
    assert read.peak_db == pytest.approx(-20 * np.log10(damping * np.sqrt(1 - damping**2 / 4)), abs=2e-3)
    assert read.passband_db == pytest.approx(0, abs=2e-3)
    assert read.slope_db_per_octave == pytest.approx(-12.1, abs=0.4)
    assert len(read.humps) == (1 if read.peak_db > 1 else 0)
    if k > 1.8:  # by bandwidth the Q of a lowpass peak comes to that of its pole pair only when it is high
        assert read.q == pytest.approx(1 / damping, rel=0.01)


@pytest.mark.parametrize("k", [0.0, 1.0, 1.8])
def test_a_bandpass_has_two_edges_and_q_from_them(k):
    read = read_curve(HZ, curve("state-variable", "bandpass", cutoff_hz=800.0, gain=k))
    assert read.kind is Kind.BANDPASS
    assert read.peak_hz == pytest.approx(800, rel=1e-4)
    assert read.passband_db == pytest.approx(-20 * np.log10(2 - k), abs=1e-3)
    assert read.q == pytest.approx(1 / (2 - k), rel=1e-3)
    assert read.low_3db_hz * read.high_3db_hz == pytest.approx(800**2, rel=1e-3)
    assert read.cutoff_3db_hz is None
    assert read.slope_db_per_octave == pytest.approx(-6, abs=0.9)  # a sharp peak falls faster at first
    assert read.low_slope_db_per_octave == pytest.approx(-read.slope_db_per_octave, abs=0.02)


def test_a_two_pole_highpass_mirrors_the_lowpass():
    read = read_curve(HZ, curve("sallen-key-highpass", "highpass-12", cutoff_hz=400.0, gain=0.5))
    assert read.kind is Kind.HIGHPASS
    assert read.passband_db == pytest.approx(0, abs=2e-3)
    d = 1.5
    u = (-(2 - d**2) + np.sqrt((2 - d**2) ** 2 + 4)) / 2  # half power: (fc/f)² solves u² + (d² − 2)u − 1 = 0, mirrored
    root = (-(d**2 - 2) + np.sqrt((d**2 - 2) ** 2 + 4)) / 2
    assert read.cutoff_3db_hz == pytest.approx(400 / np.sqrt(root), rel=1e-3)
    assert u > 0
    assert read.slope_db_per_octave == pytest.approx(12, abs=0.4)


@pytest.mark.parametrize("cutoff_hz", [200.0, 777.0, 5000.0])
def test_a_notch(cutoff_hz):
    read = read_curve(HZ, curve("pole-mixer", "notch", cutoff_hz=cutoff_hz, gain=0.0))
    assert read.kind is Kind.NOTCH
    assert read.notch_hz == pytest.approx(cutoff_hz, rel=5e-4)
    assert read.notch_depth_db > 40
    assert read.notch_width_octaves == pytest.approx(2 * np.log2(1 + np.sqrt(2)), rel=0.01)


def test_bass_loss_shows_in_the_passband():
    read = read_curve(HZ, curve("transistor-ladder", "lowpass-24", cutoff_hz=2000.0, gain=3.5))
    assert read.passband_db == pytest.approx(-20 * np.log10(4.5), abs=0.01)


def test_a_coupling_capacitor_that_lifts_the_bass_does_not_mislead():
    level = curve("diode-ladder", "lowpass-24", cutoff_hz=500.0, gain=10.3, feedback_coupling_hz=8.0)
    assert level[0] > -20 * np.log10(11.3) + 1  # the bass is lifted
    read = read_curve(HZ, level)
    assert read.kind is Kind.LOWPASS
    assert read.passband_db == pytest.approx(-20 * np.log10(11.3), abs=0.3)
    assert 400 < read.peak_hz < 700


def test_a_lowpass_that_never_levels_out_in_the_band_is_continued():
    read = read_curve(HZ, curve("state-variable", "lowpass", cutoff_hz=16.0, gain=1.0))
    assert read.passband_db == pytest.approx(0, abs=0.2)


def test_local_slope_of_a_straight_line():
    assert local_slope(HZ, -7.5 * np.log2(HZ)) == pytest.approx(np.full(HZ.size, -7.5))


def test_a_flat_curve_claims_nothing():
    read = read_curve(HZ, np.full(HZ.size, -3.0))
    assert read.kind is Kind.FLAT
    assert read.cutoff_3db_hz is read.peak_hz is read.slope_db_per_octave is None


def test_curves_that_cannot_be_read():
    with pytest.raises(MeasurementError, match="in the noise"):
        read_curve(HZ, np.zeros(HZ.size), usable=np.zeros(HZ.size, bool))
    with pytest.raises(MeasurementError, match="an octave"):
        read_curve(HZ[:30], np.zeros(30))


def test_what_noise_does_to_a_curve_is_no_hump_of_the_filter():
    frequency_hz = 20.0 * 2 ** (np.arange(1800) / 192)
    level = -10 * np.log10(1 + (frequency_hz / 500) ** 4)
    doubt = 10 ** ((-level - 45) / 20)  # a fixed noise under a falling curve
    real = 6 * np.exp(-((np.log2(frequency_hz / 1500) / 0.15) ** 2))
    noise = np.random.default_rng(3).standard_normal(1800) * doubt / 2
    assert len(read_curve(frequency_hz, level + real + noise).humps) > 3
    (hump,) = read_curve(frequency_hz, level + real + noise, level_uncertainty_db=doubt).humps
    assert hump.frequency_hz == pytest.approx(1500, rel=0.1)


def test_what_noise_makes_stand_out_of_itself_far_off_is_no_part_of_a_curve():
    level = curve("transistor-ladder", "lowpass-24", cutoff_hz=600.0, gain=2.0)
    snr = level + 60.0
    snr[(HZ > 900) & (HZ < 1100)] = 0.0  # a notch of a third of an octave
    lost = int(np.argmax(snr[HZ > 1100] < 6)) + int(np.argmax(HZ > 1100))
    snr[-100] = 9.0
    shown = above_noise(HZ, level, snr)
    assert shown[: int(np.argmax(HZ > 900))].all()
    assert shown[int(np.argmax(HZ > 1100)) : lost].all()
    assert not shown[lost:].any()
    assert not above_noise(HZ, level, np.full(HZ.size, 5.0)).any()
    assert above_noise(HZ, level, level + 60.0, 17.0).sum() < above_noise(HZ, level, level + 60.0).sum()
