"""Judging a tracking table: line, spans, converter model, advice, key follow, drift."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.circuits.control import Converter
from jiyuu.circuits.trims import Trim, Trims
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.converter_fit import fit_converter
from jiyuu.measurement.tracking import Readings, drift, longest_span, longest_spans_v, read_tracking
from jiyuu.prediction.trim_advice import advise
from jiyuu.quantities import C4_HZ
from jiyuu.wording.tracking import remark_lines, turn_line

VOLTS = np.arange(9.0)


def converter(scale_error, droop_cents, leak_cents):
    return Converter(scale_error, droop_cents * np.log(2) / 1200 * C4_HZ / 1e4, 0.0,
                     (2 ** (leak_cents / 1200) - 1) * 20 / C4_HZ)


def table(hertz, volts=VOLTS, doubt_cents=0.02):
    hertz = np.asarray(hertz)
    return Readings(volts, hertz, hertz * doubt_cents * np.log(2) / 1200, np.ones(volts.size),
                    np.full(volts.size, 0.01))


def bent(scale_error=0.004, droop_cents=6.0, leak_cents=2.0, volts=VOLTS):
    return table(C4_HZ * 2 ** converter(scale_error, droop_cents, leak_cents).octaves(volts - 3.0), volts)


def test_errors_scale_and_offset_of_a_sharp_unit():
    read = read_tracking(table(C4_HZ * 2 ** (VOLTS * 1.01 + 7 / 1200)), tolerance_cents=20.0)
    assert read.error_cents == pytest.approx(12 * VOLTS)
    assert read.residual_cents == pytest.approx(np.zeros(9), abs=1e-6)
    assert read.scale_v_per_octave.value == pytest.approx(1 / 1.01)
    assert read.offset_cents.value == pytest.approx(7.0)
    assert (read.usable.from_v, read.usable.to_v) == (0.0, 1.0)
    assert read.usable.octaves == pytest.approx(1.01)
    assert read.usable_after_trim.volts == 8.0


def test_the_reference_moves_the_errors_not_the_line():
    one, other = (read_tracking(bent(), reference_v=v) for v in (0.0, 4.0))
    assert other.error_cents[4] == 0
    assert np.diff(one.error_cents) == pytest.approx(np.diff(other.error_cents))
    assert one.scale_v_per_octave == other.scale_v_per_octave
    with pytest.raises(MeasurementError, match="No step was measured at the reference"):
        read_tracking(bent(), reference_v=4.5)


def test_spans_are_runs_of_neighbours_by_volts():
    volts = np.array([3.0, 0.0, 1.0, 2.0, 4.0])
    inside = np.array([False, True, True, True, True])
    span = longest_span(volts, volts * 0.99, inside)
    assert (span.from_v, span.to_v) == (0.0, 2.0)
    assert span.octaves == pytest.approx(1.98)
    assert longest_span(volts, volts, np.zeros(5, dtype=bool)) is None


def test_spans_of_many_rows_are_those_of_each():
    draw = np.random.default_rng(5)
    volts = np.cumsum(draw.uniform(0.1, 1.0, 9))
    inside = draw.random((300, 9)) < 0.6
    inside[:2] = [[False] * 9, [True] * 9]
    spans = [longest_span(volts, volts, row) for row in inside]
    assert longest_spans_v(volts, inside).tolist() == [-1.0 if span is None else span.volts for span in spans]


@given(st.floats(-0.015, 0.015), st.floats(0.5, 25.0), st.floats(0.3, 12.0))
def test_scale_droop_and_leakage_are_told_apart(scale_error, droop_cents, leak_cents):
    """Against the converter of the drawing, which is solved with the Lambert W function."""
    fit = fit_converter(bent(scale_error, droop_cents, leak_cents))
    assert fit.scale_error.value == pytest.approx(scale_error, abs=2e-6)
    assert fit.droop_cents.value == pytest.approx(droop_cents, rel=1e-3)
    assert fit.leak_cents.value == pytest.approx(leak_cents, rel=1e-3)
    assert np.abs(fit.left_cents).max() < 1e-3


def test_the_fit_foretells_its_own_table_and_says_its_doubt():
    rng = np.random.default_rng(4)
    inside = np.zeros(3)
    for _ in range(60):
        truth = rng.normal(0, 0.005), abs(rng.normal(0, 5)), abs(rng.normal(0, 3))
        clean = bent(*truth)
        noisy = replace(clean, frequency_hz=clean.frequency_hz * 2 ** (rng.normal(0, 0.03, 9) / 1200),
                        uncertainty_hz=clean.frequency_hz * 0.06 * np.log(2) / 1200)
        fit = fit_converter(noisy)
        found = fit.scale_error, fit.droop_cents, fit.leak_cents
        inside += [abs(f.value - t) <= f.uncertainty for f, t in zip(found, truth, strict=True)]
        again = fit.cents(VOLTS) + fit.left_cents
        assert again == pytest.approx(1200 * np.log2(noisy.frequency_hz), abs=1e-4)
    assert (inside / 60 > 0.88).all()


def test_few_steps_are_not_asked_too_much():
    few = bent(volts=np.arange(3.0))
    fit = fit_converter(few)
    assert fit.droop_cents is None
    assert fit.leak_cents is None
    assert any("Too few steps" in line for line in remark_lines(advise(read_tracking(few))))


def test_advice_names_trim_way_and_what_is_left():
    advice = advise(read_tracking(bent(0.005, 8.0, 0.5)), target_hz=C4_HZ / 8 * 2 ** (-30 / 1200))
    turns = {turn.trim: turn for turn in advice.turns}
    assert turns[Trim.SCALE].amount == pytest.approx(-0.5, abs=0.01)
    assert turns[Trim.HIGH_FREQUENCY].amount == pytest.approx(8.0, abs=0.05)
    # Three octaves under where the converter is true, half a per cent of scale is 18 cents flat already.
    assert turns[Trim.OFFSET].amount == pytest.approx(-30 + 18, abs=0.5)
    assert advice.after.worst_cents < 1.0
    assert advice.after.usable.volts == 8.0
    assert "anticlockwise" in turn_line(turns[Trim.SCALE])
    assert turn_line(turns[Trim.HIGH_FREQUENCY]).endswith("4 turns clockwise.")


def test_without_a_high_frequency_trim_the_scale_makes_the_best_of_it():
    """A droop of 10 cents at 10 kHz leaves a bow that a little more scale spreads over both sides."""
    read = read_tracking(bent(0.0, 12.0, 0.0))
    advice = advise(read, has_hf_trim=False)
    assert [turn.trim for turn in advice.turns] == [Trim.SCALE]
    assert advice.turns[0].amount > 0
    assert advice.after.usable.volts > read.usable.volts


def test_nothing_is_turned_where_nothing_is_wrong():
    advice = advise(read_tracking(bent(0.0, 0.0, 0.0)))
    assert advice.turns == ()
    assert remark_lines(advice)[0].startswith("Nothing to turn")


def test_a_trim_at_its_end_is_not_asked_further():
    standing = Trims(scale=-9.5)
    advice = advise(read_tracking(bent(0.02, 0.0, 0.0)), trims=standing)
    turn = next(turn for turn in advice.turns if turn.trim == Trim.SCALE)
    assert turn.turns == pytest.approx(-0.5)
    assert advice.turned(standing).scale == -10.0
    with pytest.raises(CircuitError, match="past its end"):
        Trims(hf=-1.0)


def test_leakage_is_said_not_trimmed():
    advice = advise(read_tracking(bent(0.003, 3.0, 9.0)))
    assert any("no trim removes it" in line for line in remark_lines(advice))


@pytest.mark.long
@given(st.floats(-0.02, 0.02), st.floats(0.0, 25.0), st.floats(0.0, 10.0))
def test_advice_never_shortens_the_span_it_foretells(scale_error, droop_cents, leak_cents):
    read = read_tracking(bent(scale_error, droop_cents, leak_cents))
    after = advise(read).after
    assert (after.usable.volts if after.usable else 0) >= (read.usable.volts if read.usable else 0)


def test_drift_over_minutes_and_degrees():
    minutes = np.array([0.0, 1.0, 2.0, 5.0])
    found = drift(minutes, 440 * 2 ** (1.5 * minutes / 1200))
    assert found.rate.value == pytest.approx(1.5)
    assert found.whole_cents == pytest.approx(7.5)
    with pytest.raises(MeasurementError, match="three readings"):
        drift(minutes[:2], np.array([440.0, 441.0]))


def test_a_pitch_that_does_not_rise_is_said():
    with pytest.raises(MeasurementError, match="does not rise"):
        read_tracking(table(np.full(9, 440.0)))
