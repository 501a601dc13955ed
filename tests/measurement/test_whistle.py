"""The whistle beside a source, the cusp, and what the drawing's whistle does."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.start_up import start_up_s
from jiyuu.measurement.whistle import SILENT_DB, WhistleLevel, find_balance, whistle_level
from jiyuu.prediction.whistle import (
    beside_source,
    loop_variants,
    nearest_saw,
    patched_into_cutoff,
    whistle_over_gain,
    within_hearing_octaves,
)
from jiyuu.signals.source import Source, SourceKind
from jiyuu.signals.stimuli import impulse
from jiyuu.simulation.oscillation import oscillation
from jiyuu.simulation.render import render
from tests.trials import some

RATE = 48_000
T = np.arange(round(0.4 * RATE)) / RATE


def each(level_at):
    """Of one position, asked for several."""
    return lambda percents: [level_at(percent) for percent in percents]


def saw(pitch_hz=110.0):
    return sum(np.sin(2 * np.pi * n * pitch_hz * T) / n for n in range(1, 60))


@pytest.mark.parametrize("level_db", [-30.0, -6.0, 0.0, 9.0])
def test_level_of_a_line_that_is_no_harmonic(level_db):
    played = saw()
    size = np.std(played) * 10 ** (level_db / 20) * np.sqrt(2)
    found = whistle_level(played + size * np.sin(2 * np.pi * 937.0 * T), RATE, pitch_hz=110.0, near_hz=1000.0)
    assert found.level_db == pytest.approx(level_db, abs=0.1)
    assert found.frequency_hz == pytest.approx(937.0, abs=1.5)
    assert not found.locked


def test_a_whistle_on_a_harmonic_is_caught_and_silence_is_silence():
    played = saw()
    caught = whistle_level(played + np.sin(2 * np.pi * 990.0 * T), RATE, pitch_hz=110.0, near_hz=1000.0)
    assert caught.locked
    assert caught.frequency_hz == pytest.approx(990.0, abs=3)
    noise = 1e-4 * np.random.default_rng(1).standard_normal(T.size)
    alone = whistle_level(played + noise, RATE, pitch_hz=110.0, near_hz=1000.0, may_lock=False)
    assert alone.level_db == SILENT_DB
    with pytest.raises(MeasurementError, match="too short"):
        whistle_level(played[:2000], RATE, pitch_hz=110.0, near_hz=1000.0)


def test_a_loud_harmonic_far_off_has_not_caught_the_whistle():
    """Between the fourth and the fifth of a saw: the third is louder and half an octave below."""
    found = whistle_level(saw(110.0), RATE, pitch_hz=110.0, near_hz=491.0)
    assert found.locked
    assert found.frequency_hz == pytest.approx(440.0, abs=3)


def test_beside_noise_no_harmonics_are_looked_for():
    noise = np.random.default_rng(4).standard_normal(T.size)
    found = whistle_level(noise + 2 * np.sin(2 * np.pi * 990.0 * T), RATE, pitch_hz=None, near_hz=1000.0)
    assert found.level_db == pytest.approx(10 * np.log10(2 / 1), abs=0.7)


def test_the_balance_point_is_where_the_level_is_as_asked():
    def level_at(percent):
        return WhistleLevel(1000.0, -40 + 4 * (percent - 88.0), False)

    found = find_balance(each(level_at), onset_percent=88.0, target_db=-6.0)
    assert found.percent == pytest.approx(96.5, abs=0.06)
    assert found.level_db == pytest.approx(-6.0, abs=0.5)
    assert found.percent_per_db == pytest.approx(0.25, rel=0.01)
    assert found.full_db == pytest.approx(8.0)
    quiet = find_balance(each(lambda percent: WhistleLevel(1000.0, percent - 130, False)), onset_percent=80.0)
    assert quiet.percent is None
    assert quiet.last_db == pytest.approx(10.0)
    with pytest.raises(MeasurementError, match="no balance point"):
        find_balance(each(level_at), onset_percent=104.0)


def test_where_the_source_holds_the_tone_is_said():
    def level_at(percent):
        held = percent < 95
        return WhistleLevel(990.0 if held else 950.0, 0.4 * percent - 40.0 if held else percent - 99.0, held)

    found = find_balance(each(level_at), onset_percent=90.0, target_db=-6.0)
    assert found.percent == pytest.approx(85.0, abs=0.6)
    assert found.caught
    assert found.caught_percent == (pytest.approx(90.2), pytest.approx(94.56, abs=0.1))
    jump = find_balance(each(lambda percent: WhistleLevel(950.0, -20.0 if percent < 95 else -2.0, False)),
                     onset_percent=90.0)
    assert jump.percent == pytest.approx(95.0, abs=0.01)
    assert jump.percent_per_db < 1e-3
    assert jump.level_db == -2.0
    lower = find_balance(each(lambda percent: WhistleLevel(950.0, -7.0 if percent < 95 else 4.0, False)),
                      onset_percent=90.0)
    assert lower.percent == pytest.approx(95.0, abs=0.01)
    assert lower.level_db == -7.0  # of the two sides of a jump the nearer


@pytest.mark.parametrize("circuit_id", some(["transistor-ladder", "state-variable"], 1, long=2))
def test_cusp_of_a_simulated_filter_heard_again(circuit_id):
    """At the position found, another stretch of another length has the level asked."""
    entry = circuit(circuit_id)
    network, mode = entry.network({}), entry.modes[0]
    source = Source(SourceKind.SAW, pitch_hz=66.0, level_v=0.4)
    record = source.record(duration_s=0.7)
    start = {"transistor-ladder": 4.0, "state-variable": 2.0}[circuit_id]

    def heard(percent, played=record):
        gain = percent / 100 * 1.1 * start
        output = beside_source(network, played, mode, cutoff_hz=1000.0, gains=np.array([gain]))[0]
        return whistle_level(output, RATE, pitch_hz=66.0, near_hz=1000.0)

    found = find_balance(each(heard), onset_percent=100 / 1.1, target_db=-14.0)
    assert found.percent is not None
    assert heard(found.percent, source.record(duration_s=0.93)).level_db == pytest.approx(-14.0, abs=0.5)


def test_pull_follows_the_settled_solution():
    network = circuit("ota-cascade").network({})
    gains = np.array([4.05, 4.2, 4.4])
    found = whistle_over_gain(network, "lowpass-24", cutoff_hz=500.0, gains=gains)
    assert found.frequency_hz[2] == pytest.approx(0.84510 * 500, rel=1e-4)
    assert (np.diff(found.cents) < 0).all()
    assert np.isnan(whistle_over_gain(network, "lowpass-24", cutoff_hz=500.0, gains=np.array([3.0])).cents[0])


def test_a_sine_patched_into_its_own_cutoff_becomes_a_saw():
    network = circuit("state-variable").network({})
    found = list(patched_into_cutoff(network, "lowpass", "bandpass", cutoff_hz=200.0, gain=2.2,
                                     swings=np.array([0.0, 1.0, 2.0])))
    bare = oscillation(network, "lowpass", cutoff_hz=200.0, gain=2.2)
    assert found[0].frequency_hz == pytest.approx(bare.frequency_hz, rel=1e-4)
    second = [one.harmonics_db[1] for one in found]
    assert second[0] < -60 < -12 < second[1] < second[2]
    # A saw has 1/n: the second is 6 dB down, the third 9.5.
    assert found[2].harmonics_db[1:3] == pytest.approx([-6.0, -9.5], abs=1.8)
    assert nearest_saw(found) is found[2]
    # All capacitors follow the cutoff: the orbit stays the same, and how long it takes is the mean of 1/ω along it.
    at = render(network, impulse(sample_rate_hz=RATE, level_v=0.2, burst_s=0.01, duration_s=1.0), sample_rate_hz=RATE,
                cutoff_hz=200.0, gain=2.2, modes=["bandpass"], oversampling=8).output_v[0][-RATE // 2 :]
    whole = at[: round(round(0.4 * bare.frequency_hz) * RATE / bare.frequency_hz)]
    for one in found[1:]:
        expected = bare.frequency_hz / np.mean(2.0 ** (-one.octaves_per_v * whole))
        assert one.frequency_hz == pytest.approx(expected, rel=1e-3)


@pytest.mark.parametrize(("cutoff_hz", "octaves"), [(200.0, np.log2(10)), (5000.0, 2.0), (20.0, 0.0)])
def test_how_far_a_cutoff_may_swing_within_hearing(cutoff_hz, octaves):
    assert within_hearing_octaves(cutoff_hz) == pytest.approx(octaves)


def test_a_whistle_that_cannot_be_is_said():
    network = circuit("state-variable").network({})
    with pytest.raises(CircuitError, match="does not whistle"):
        list(patched_into_cutoff(network, "lowpass", "bandpass", cutoff_hz=200.0, gain=1.0, swings=np.array([1.0])))


def test_a_limiter_in_the_loop_moves_the_pitch():
    entry = circuit("ota-cascade")
    variants = {"limiter at half": entry.network({"feedback_headroom_v": 0.5}),
                "limiter at twice": entry.network({"feedback_headroom_v": 2.0})}
    found = loop_variants(variants, entry.network({}), "lowpass-24", cutoff_hz=1000.0, gain=4.4)
    by_title = {one.title: one for one in found}
    assert by_title["limiter at half"].cents > 0 > by_title["limiter at twice"].cents
    assert loop_variants(variants, entry.network({}), "lowpass-24", cutoff_hz=1000.0, gain=3.0) == ()


def test_start_up_of_a_growing_tone():
    t = np.arange(round(1.0 * RATE)) / RATE
    size = 1 / (1 + np.exp(-(t - 0.3) / 0.02))  # passes nine tenths at 0.3 + 0.02·ln 9
    found = start_up_s(size * np.sin(2 * np.pi * 500 * t), RATE, 500.0, from_s=0.1)
    assert found == pytest.approx(0.2 + 0.02 * np.log(9), abs=0.006)
    growing = np.exp(t) * np.sin(2 * np.pi * 500 * t)
    assert start_up_s(growing, RATE, 500.0) is None
