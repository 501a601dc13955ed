"""The resonance map and study against single responses and the loudness of simulated filters."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.control import Taper
from jiyuu.circuits.filter_file import Filter, neutral_filter
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.prediction.resonance import (
    MAP_HZ,
    onset_percent_of,
    resonance_map,
    study_resonance,
)
from jiyuu.prediction.response import read_prediction
from jiyuu.signals.source import Source, SourceKind
from jiyuu.simulation.source_levels import source_levels
from tests.truths import Made, exact


@pytest.mark.parametrize("circuit_id", list(circuits()))
def test_every_row_of_the_map_is_the_response_at_its_position(circuit_id):
    document = neutral_filter(circuit_id)
    network, modes = document.network(), document.entry.modes
    found = resonance_map(document, network, modes, cutoff_hz=700.0, onset_percent=None, positions=41)
    for row in (0, 7, 33):
        gain = document.gain_at(found.position_percent[row])
        exact = level_db(complex_gain(network, MAP_HZ, cutoff_hz=700.0, gain=gain, modes=modes))
        assert found.level_db[:, row] == pytest.approx(exact, abs=1e-5)


def test_tracks_follow_peak_and_notch():
    document = neutral_filter("state-variable")
    found = resonance_map(document, document.network(), ["lowpass", "notch", "highpass"], cutoff_hz=700.0,
                          onset_percent=None)
    k = document.gains_at(found.position_percent)
    q = 1 / np.maximum(2 - k, 1e-9)
    peaked = (q > 0.9) & (q < 20)
    expected = 700 * np.sqrt(1 - 1 / (2 * q[peaked] ** 2))
    assert found.peak_hz[0][peaked] == pytest.approx(expected, rel=5e-4)  # the map's own spacing is 1.5 %
    assert np.isnan(found.peak_hz[0][q < 0.7]).all()
    assert found.notch_hz[1][peaked] == pytest.approx(np.full(peaked.sum(), 700.0), rel=2e-3)
    assert np.isnan(found.notch_hz[0]).all()
    assert np.isnan(found.notch_hz[2]).all()


def test_the_slice_lies_between_its_rows():
    document = neutral_filter("transistor-ladder")
    found = resonance_map(document, document.network(), ["lowpass-24"], cutoff_hz=700.0, onset_percent=90.9)
    exact = level_db(complex_gain(document.network(), MAP_HZ, cutoff_hz=700.0, gain=document.gain_at(40.3),
                                  modes=["lowpass-24"]))[0]
    assert found.slice_db("lowpass-24", 40.3) == pytest.approx(exact, abs=0.01)
    assert found.slice_db("lowpass-24", 100.0) == pytest.approx(found.level_db[0, -1])


@pytest.mark.parametrize("taper", list(Taper))
def test_onset_in_per_cent_of_the_travel(taper):
    document = Filter(name="x", circuit="transistor-ladder", resonance_taper=taper, full_gain=4.4)
    percent = onset_percent_of(document, document.network(), 500.0)
    assert document.gain_at(percent) == pytest.approx(4.0, rel=1e-6)
    short = document.model_copy(update={"full_gain": 3.0})
    assert onset_percent_of(short, short.network(), 500.0) is None


def test_the_study_proposes_a_taper_that_is_as_even_as_it_says():
    """Build what was proposed and read it again."""
    document = neutral_filter("transistor-ladder")
    found = study_resonance(document, document.network(), "lowpass-24", cutoff_hz=500.0)
    best = found.proposals[0]
    assert best.evenness < found.taper.evenness
    built = document.model_copy(update={"resonance_taper": best.table})
    again = study_resonance(built, built.network(), "lowpass-24", cutoff_hz=500.0, with_proposals=False)
    assert again.taper.evenness == pytest.approx(best.evenness, abs=0.03)


def test_a_notch_is_not_judged_by_a_peak_it_has_not():
    document = neutral_filter("state-variable")
    found = study_resonance(document, document.network(), "notch", cutoff_hz=500.0)
    assert found.taper is None
    assert "lowpass or bandpass" in found.why_no_taper


def test_a_small_source_comes_out_as_the_linear_curve_says_and_a_large_one_does_not():
    network = circuit("state-variable").network()
    source = Source(SourceKind.SINE, pitch_hz=500.0, level_v=0.001)
    gains = np.array([0.0, 1.0, 1.8])
    small = [s.peak_v for s in source_levels(network, source.record(duration_s=0.4), 48_000.0, "bandpass",
                                             cutoff_hz=500.0, gains=gains)]
    assert small == pytest.approx(0.001 / (2 - gains), rel=2e-3)
    loud = Source(SourceKind.SINE, pitch_hz=500.0, level_v=5.0).record(duration_s=0.4)
    large = [s.peak_v for s in source_levels(network, loud, 48_000.0, "bandpass", cutoff_hz=500.0, gains=gains,
                                             rail_v=3.0)]
    assert large[2] <= 3.0
    assert large[2] < 5.0 / 0.2


def test_a_peak_hardly_wider_than_the_points_stand_apart_is_read_as_the_closed_form_says():
    document = neutral_filter("transistor-ladder")
    found = study_resonance(document, document.network(), "lowpass-24", cutoff_hz=500.0)
    full = document.gain_at(100.0)
    assert found.onset_percent == pytest.approx(100 * 4 / full, abs=1e-6)
    for i in (20, 35, 39, 40):
        gain = float(document.gain_at(float(found.curves.position_percent[i])))
        truth = exact(Made("transistor-ladder", "lowpass-24", 500.0, gain), (8.0, 21_000.0))
        assert found.curves.peak_hz[i] == pytest.approx(truth["peak_hz"], rel=1e-6)
        assert found.curves.peak_db[i] == pytest.approx(truth["peak_db"], abs=1e-3)
        assert found.curves.q[i] == pytest.approx(truth.get("q", np.nan), rel=1e-4, nan_ok=True)
    high, low = (exact(Made("transistor-ladder", "lowpass-24", 500.0, document.gain_at(found.onset_percent - away)),
                       (8.0, 21_000.0))["peak_db"] for away in (0.5, 5.5))
    assert found.taper.suddenness_db_per_percent == pytest.approx((high - low) / 5, rel=1e-3)


@pytest.mark.parametrize(("circuit_id", "mode", "gain"), [
    ("transistor-ladder", "lowpass-24", 3.98), ("state-variable", "bandpass", 1.99),
])
def test_the_drawing_is_read_between_the_points_too(circuit_id, mode, gain):
    network = neutral_filter(circuit_id).network()
    findings = {f.quantity: f.value for f in read_prediction(network, mode, cutoff_hz=820.0, gain=gain)}
    truth = exact(Made(circuit_id, mode, 820.0, gain), (10.0, 20_480.0))
    assert findings["q"] == pytest.approx(truth["q"], rel=1e-6)
    assert findings["peak_hz"] == pytest.approx(truth["peak_hz"], rel=1e-6)
