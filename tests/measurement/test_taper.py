"""Evenness, dead travel and proposals on controls whose law is known."""

import numpy as np
import pytest

from jiyuu.circuits.control import Taper, loaded_share, taper_share
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.resonance_findings import control_findings
from jiyuu.measurement.taper import PEAK_CEILING_DB, read_taper
from jiyuu.prediction.taper_proposals import propose_taper
from jiyuu.wording.findings import sentence
from tests.truths import Made, exact

TRAVEL = np.linspace(0, 100, 101)


def test_an_even_control_has_a_tenth_of_the_change_in_every_tenth():
    read = read_taper(TRAVEL, 0.2 * TRAVEL)
    assert read.evenness == pytest.approx(0.1, abs=1e-6)
    assert read.dead == ()
    assert read.suddenness_db_per_percent is None


def test_travel_that_does_nothing_is_named_where_it_is():
    values = np.interp(TRAVEL, [0, 30, 60, 75, 100], [0, 0, 10, 10, 20])
    read = read_taper(TRAVEL, values)
    assert [(round(d.from_percent), round(d.to_percent)) for d in read.dead] == [(0, 30), (60, 75)]
    assert read.dead_percent == pytest.approx(45, abs=0.5)
    assert read.evenness == pytest.approx(0.2, abs=0.002)  # 10 dB over 25 %, so 4 dB of 20 in a tenth
    assert read.steepest_percent > 75
    said = [sentence(f) for f in control_findings(read, None, measured=False)]
    assert "45 % of the travel does next to nothing: 0 to 30 %, 60 to 75 %." in said
    assert said[0].startswith("The busiest tenth of the travel, ending at")


def test_a_jump_is_all_of_the_change_in_one_tenth():
    assert read_taper(TRAVEL, np.where(TRAVEL > 50, 12.0, 0.0)).evenness == pytest.approx(1.0)


def test_the_rise_before_the_onset_is_that_of_a_pole_coming_to_the_axis():
    """Peak ∝ 1/(onset − position): 5.5 % before it to 0.5 % before it is a factor of eleven."""
    fine = np.linspace(0, 100, 1001)
    peak = 20 * np.log10(90 / np.maximum(90 - fine, 1e-9))
    read = read_taper(fine, peak, onset_percent=90.0)
    assert read.suddenness_db_per_percent == pytest.approx(20 * np.log10(11) / 5, rel=1e-3)
    assert read.last_stretch_percent == pytest.approx(90 * 10 ** (-12 / 20), abs=0.1)


def test_what_lies_past_the_ceiling_is_not_travel():
    values = np.minimum(0.5 * TRAVEL, 30.0)
    read = read_taper(TRAVEL, values, ceiling_db=PEAK_CEILING_DB)
    assert read.dead == ()
    assert read.evenness == pytest.approx(10 / 60, rel=0.02)


@pytest.mark.parametrize(("positions", "values", "onset", "message"), [
    (np.linspace(0, 100, 20), np.arange(20.0), None, "at most 5 %"),
    (TRAVEL, np.zeros(101), None, "less than 0.05 dB"),
    (TRAVEL, np.arange(101.0), 1.0, "before the third"),
])
def test_tapers_that_cannot_be_read(positions, values, onset, message):
    with pytest.raises(MeasurementError, match=message):
        read_taper(positions, values, onset_percent=onset)


def test_a_loaded_control_is_the_divider_it_is():
    """Half travel of a 100k control with 22k to ground: 50k over 50k parallel to 22k."""
    lower = 50 * 22 / (50 + 22)
    assert float(loaded_share(0.5, 0.22, to_ground=True)) == pytest.approx(lower / (50 + lower))
    assert float(loaded_share(0.5, 0.22, to_ground=False)) == pytest.approx(1 - lower / (50 + lower))
    ends = loaded_share(np.array([0.0, 1.0]), 0.5, to_ground=True)
    assert ends == pytest.approx([0, 1])
    assert loaded_share(0.3, 1e9, to_ground=True) == pytest.approx(0.3, rel=1e-6)
    with pytest.raises(CircuitError, match="resistor"):
        loaded_share(0.3, 0.0, to_ground=True)


@pytest.mark.parametrize("law", [Taper.LOG, Taper.REVERSE_LOG, Taper.LINEAR])
def test_the_taper_that_undoes_a_law_is_proposed_first(law):
    """The sound follows the inverse of a law; then the control with that law is perfectly even."""
    travel = np.linspace(0, 1, 2001)
    law_share = taper_share(travel, law)

    def value(share):
        return 20 * np.interp(share, law_share, travel)

    best, *rest = propose_taper(value, onset_share=None)
    assert best.name == f"{law.value} control"
    assert best.evenness == pytest.approx(0.1, abs=0.002)
    assert all(other.evenness >= best.evenness for other in rest)
    assert best.table[0] == (0.0, 0.0)
    assert best.table[-1] == (1.0, 1.0)


def test_a_resistor_is_proposed_where_no_control_one_can_buy_fits():
    travel = np.linspace(0, 1, 2001)
    law_share = loaded_share(travel, 0.47, to_ground=True)
    best, *_ = propose_taper(lambda share: 20 * np.interp(share, law_share, travel), onset_share=None)
    assert best.resistor_share == 0.47
    assert best.to_ground


@pytest.mark.long
def test_positions_far_apart_tell_the_rise_before_the_onset_as_near_ones_do():
    """The peak of a ladder against its loop gain, from the closed form; every 5 % beside every 0.1 %."""
    def peak(percent):
        return exact(Made("transistor-ladder", "lowpass-24", 500.0, 0.041 * percent), (8.0, 21_000.0)).get("peak_db", 0)

    onset = 4 / 0.041
    coarse = np.arange(0.0, onset, 5.0)
    read = read_taper(coarse, np.array([peak(p) for p in coarse]), onset_percent=onset, ceiling_db=PEAK_CEILING_DB)
    assert read.suddenness_db_per_percent == pytest.approx((peak(onset - 0.5) - peak(onset - 5.5)) / 5, rel=0.01)
    ends = np.arange(76.0, onset - 1.6, 0.1)
    values = np.array([peak(p) for p in ends])
    values = values[values <= PEAK_CEILING_DB]
    busiest = max(values[100:] - values[:-100]) / values.max()
    assert read.evenness == pytest.approx(busiest, rel=0.01)
