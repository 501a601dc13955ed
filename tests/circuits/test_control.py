"""The exponential converter and the resonance taper against their own equations."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.circuits.components import thermal_v
from jiyuu.circuits.control import Converter, Taper, droop_of, taper_share, taper_travel
from jiyuu.errors import CircuitError

VOLTS = np.linspace(-4, 6, 101)


def test_an_ideal_converter_gives_an_octave_a_volt():
    assert Converter().octaves(VOLTS) == pytest.approx(VOLTS, abs=1e-12)
    assert Converter(scale_error=0.01).octaves(VOLTS) == pytest.approx(1.01 * VOLTS, abs=1e-12)


@given(scale=st.floats(-0.05, 0.05), droop=st.floats(1e-6, 0.05), trim=st.floats(0, 0.002))
def test_the_current_solves_the_converters_equation(scale, droop, trim):
    current = 2.0 ** Converter(scale_error=scale, droop=droop, hf_trim=trim if trim < droop else 0.0).octaves(VOLTS)
    loss = droop - (trim if trim < droop else 0.0)
    assert np.log(current) == pytest.approx(np.log(2) * (1 + scale) * VOLTS - loss * current, abs=1e-9)


def test_bulk_resistance_flattens_the_top_and_the_trim_adds_it_back():
    droop = droop_of(2.0, 1e-5)
    assert droop == pytest.approx(2e-5 / thermal_v(25.0))
    plain, trimmed = Converter(droop=droop), Converter(droop=droop, hf_trim=droop)
    fall = 1200 * (plain.octaves(VOLTS) - VOLTS)
    assert (np.diff(fall) < 0).all()
    assert fall[0] == pytest.approx(0, abs=0.1)
    assert fall[-1] == pytest.approx(-1200 * droop * 2.0**6 / np.log(2), rel=0.05)
    assert trimmed.octaves(VOLTS) == pytest.approx(VOLTS, abs=1e-9)


def test_leakage_holds_up_the_bottom():
    octaves = Converter(leak=0.01).octaves(VOLTS)
    assert octaves[0] == pytest.approx(np.log2(2.0**-4 + 0.01))
    assert octaves[-1] == pytest.approx(6.0, abs=1e-3)


def test_too_much_trim_is_refused():
    with pytest.raises(CircuitError, match="turn it down"):
        Converter(droop=0.0, hf_trim=0.1).octaves(VOLTS)


TABLE = ((0.0, 0.0), (0.3, 0.1), (0.8, 0.9), (1.0, 1.0))


@pytest.mark.parametrize("taper", [*Taper, TABLE])
def test_a_taper_runs_from_nothing_to_all_and_back(taper):
    travel = np.linspace(0, 1, 201)
    share = taper_share(travel, taper)
    assert (share[0], share[-1]) == (pytest.approx(0), pytest.approx(1))
    assert (np.diff(share) > 0).all()
    assert taper_travel(share, taper) == pytest.approx(travel, abs=1e-9)
    assert taper_travel(1.25, taper) == pytest.approx(1.25)


def test_tapers_at_half_travel():
    assert [float(taper_share(0.5, taper)) for taper in Taper] == pytest.approx([0.5, 0.1, 0.9])
    assert float(taper_share(0.55, TABLE)) == pytest.approx(0.5)


@pytest.mark.parametrize("table", [[], [(0, 0)], [(0, 0), (0.5, 0.5)], [(0, 0), (0.6, 0.5), (0.5, 0.7), (1, 1)],
                                   [(0, 0), (0.5, np.nan), (1, 1)], [(0, 0.1), (1, 1)]])
def test_tables_that_are_no_taper_are_refused(table):
    with pytest.raises(CircuitError, match="taper table"):
        taper_share(0.5, table)
