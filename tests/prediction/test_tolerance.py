"""Bands of a thousand builds against the builds themselves and against what the tolerances say."""


import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.circuits.many_units import gains_of_units
from jiyuu.circuits.unit import draw_unit
from jiyuu.prediction.tolerance import ToleranceStudy, response_band, study

HZ = np.geomspace(20, 20_000, 481)
EXACT = Tolerances(capacitor_percent=0, offset_mv=0, cutoff_offset_cents=0, cutoff_scale_percent=0,
                   onset_travel_percent=0, gain_db=0, droop_cents=0, leak_cents=0)


@pytest.mark.parametrize("entry", circuits().values(), ids=circuits())
def test_many_units_at_once_give_what_each_gives_alone(entry):
    document = Filter(name="x", circuit=entry.id)
    units = [draw_unit(document, seed) for seed in range(5)]
    gains = np.linspace(0, 0.8 * entry.onset_gain, 5)
    cutoffs = np.geomspace(100, 5000, 5)
    for mode in entry.modes:
        found = gains_of_units(document.network(), HZ, mode, faster=np.array([u.drawn.faster for u in units]),
                               cutoffs_hz=cutoffs, gains=gains)
        for i, unit in enumerate(units):
            true = complex_gain(unit.network, HZ, cutoff_hz=cutoffs[i], gain=gains[i], modes=[mode])[0]
            # Capacitors a hundred times faster than the cutoff cost digits; −140 dB is far below any band drawn.
            assert np.abs(found[i] - true).max() < 1e-7 * max(1.0, np.abs(true).max())


def test_fixed_rates_do_not_follow_the_cutoff():
    document = Filter(name="x", circuit="transistor-ladder", parameters={"feedback_coupling_hz": 12.0})
    found = gains_of_units(document.network(), HZ, "lowpass-24", faster=np.ones((2, 5)),
                           cutoffs_hz=np.array([300.0, 4000.0]), gains=np.array([3.0, 2.0]))
    for row, (cutoff_hz, gain) in enumerate(((300.0, 3.0), (4000.0, 2.0))):
        true = complex_gain(document.network(), HZ, cutoff_hz=cutoff_hz, gain=gain, modes=["lowpass-24"])[0]
        assert np.abs(found[row] - true).max() < 1e-11


def test_without_tolerances_the_band_is_the_curve():
    document = Filter(name="x", circuit="ota-cascade", tolerances=EXACT)
    band = response_band(document, "lowpass-24", HZ, cutoff_hz=900.0, resonance_percent=50.0, units=20)
    true = level_db(complex_gain(document.network(), HZ, cutoff_hz=900.0, gain=document.gain_at(50.0),
                                 modes=["lowpass-24"])[0])
    assert np.abs(band - true).max() < 1e-9


@pytest.mark.long
def test_the_band_of_one_tolerance_is_its_normal_distribution():
    document = Filter(name="x", circuit="state-variable", tolerances=EXACT.model_copy(update={"gain_db": 0.5}))
    band = response_band(document, "lowpass", HZ, cutoff_hz=900.0, resonance_percent=20.0, units=4000)
    assert band[2, 0] - band[1, 0] == pytest.approx(1.645 * 0.5, rel=0.06)
    assert band[1, 0] - band[0, 0] == pytest.approx(1.645 * 0.5, rel=0.06)


@pytest.mark.long
def test_the_study_names_the_worst_contributor():
    loose = EXACT.model_copy(update={"cutoff_offset_cents": 100.0, "gain_db": 0.05, "onset_travel_percent": 1.0})
    document = Filter(name="x", circuit="state-variable", tolerances=loose)
    *steps, whole = study(document, "lowpass", HZ, cutoff_hz=900.0, resonance_percent=30.0, units=60)
    assert isinstance(whole, ToleranceStudy)
    assert whole.worst == "cutoff trim"
    assert whole.blame["capacitors"] < 1e-12
    low, middle, high = whole.onset_percent
    assert middle == pytest.approx(100 / 1.1, rel=0.01)
    assert high - low == pytest.approx(2 * 1.645, rel=0.35)
    assert whole.pitch_cents[2] - whole.pitch_cents[0] == pytest.approx(2 * 164.5, rel=0.35)
    early = next(step for step in steps if isinstance(step, ToleranceStudy))
    assert early.level_db.shape == (3, HZ.size)
