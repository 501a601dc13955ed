"""More of the Response step: slope ruler, curve minus curve, harmonics, trace, another instrument's curve."""

import numpy as np
import pytest

from jiyuu.bench.walk import StepState
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.measurement.curve_reading import SlopeWindow, read_curve
from jiyuu.prediction.response import GRID_HZ
from jiyuu.quantities import parse_frequency
from tests.desktop.using import measured, settled, typed


@pytest.fixture
def right(window, qtbot):
    settled(window, qtbot)
    return window.view("response").support.right


def test_the_slope_ruler_stands_one_to_three_octaves_past_the_cutoff_and_reads(window, right):
    found = read_curve(GRID_HZ, window.view("response").level.curve("lowpass-24").values)
    low, high = right.ruler.region.getRegion()
    edge = float(volts_of_hz(np.array([found.cutoff_3db_hz]))[0])
    assert (low, high) == pytest.approx((edge + 1, edge + 3), abs=1e-6)
    assert f"{abs(found.slope_db_per_octave):.1f} dB/oct" in right.slope.captions.note
    assert "of 4" in right.slope.captions.note


def test_the_ruler_is_dragged_and_reads_its_own_stretch(window, right):
    edge = right.ruler.cutoff_octave
    right.ruler.region.setRegion((edge + 2.0, edge + 3.5))
    assert right.ruler.window == SlopeWindow(2.0, 3.5)
    values = window.view("response").level.curve("lowpass-24").values
    own = read_curve(GRID_HZ, values, window=SlopeWindow(2.0, 3.5)).slope_db_per_octave
    assert right.ruler.reading.slope_db_per_octave == pytest.approx(own)
    assert "2 to 3.5 oct" in right.slope.captions.note


def test_a_highpass_is_ruled_on_its_lower_side(window, right, qtbot):
    window.view("response").presenter.set_mode("highpass-24")
    settled(window, qtbot)
    low, high = right.ruler.region.getRegion()
    edge = right.ruler.cutoff_octave
    assert (low, high) == pytest.approx((edge - 3, edge - 1))
    window.view("response").presenter.set_mode("notch")
    settled(window, qtbot)
    assert not right.ruler.region.isVisible() or right.ruler.reading.slope_db_per_octave is None


def test_one_mode_minus_another(window, right):
    right.choice.button(1).click()
    right.one.setCurrentText("lowpass-12")
    right.other.setCurrentText("lowpass-24")
    right.one.activated.emit(0)
    shown = right.difference.curve("difference")
    level = window.view("response").level
    expected = level.curve("lowpass-12").values - level.curve("lowpass-24").values
    assert shown.values == pytest.approx(expected, abs=1e-9)
    assert "lowpass-12 − lowpass-24" in right.difference.captions.note


@pytest.mark.long
def test_measured_and_another_filter_can_be_taken_away(window, right, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        window.view("response").presenter.measure()
    window.view("response").presenter.ask(beside=window.session.shelf[2].id)
    names = [right.other.itemText(i) for i in range(right.other.count())]
    assert "measured" in names
    assert any(name.startswith("C ") for name in names)
    right.choice.button(1).click()
    right.other.setCurrentText("measured")
    right.other.activated.emit(0)
    shown = right.difference.curve("difference")
    inside = (shown.places > 30) & (shown.places < 1500)
    assert np.abs(shown.values[inside]).max() < 1.0  # a unit differs from its drawing by its tolerances
    assert np.abs(shown.values[inside]).max() > 0.01
    window.view("response").presenter.ask(beside=None)
    assert not any(right.other.itemText(i).startswith("C ") for i in range(right.other.count()))


def test_harmonics_and_traces_are_the_source_behind_the_response(window, right):
    right.choice.button(2).click()
    source, output = right.spectrum.curve("source"), right.spectrum.curve("output")
    now, document = window.session.standing(), window.session.standing().filter
    exact = level_db(complex_gain(document.network(), source.places, cutoff_hz=now.cutoff_hz,
                                  gain=document.gain_at(45.0), modes=["lowpass-24"]))[0]
    assert (output.values - source.values)[:12] == pytest.approx(exact[:12], abs=0.05)
    assert "output" in right.spectrum.reading_at(float(volts_of_hz(np.array([220.0]))[0]), 0.0)
    right.choice.button(3).click()
    assert set(right.trace.shown_names()) == {"source", *document.entry.modes}
    trace = right.trace.curve("source")
    assert trace.values[0] >= 0  # the trigger: upwards through 0 V
    assert trace.places[-1] == pytest.approx(3000 / 110, rel=0.01)


def curve_file(path, shift_db=0.0):
    hz = np.geomspace(20, 20_000, 300)
    gain = complex_gain(window_network(), hz, cutoff_hz=820.0, gain=1.0, modes=["lowpass-24"])[0]
    rows = zip(hz, 20 * np.log10(np.abs(gain)) + shift_db, np.degrees(np.angle(gain)), strict=True)
    path.write_text("Hz,dB,degrees\n" + "\n".join(",".join(f"{v:.6f}" for v in row) for row in rows))
    return path


def window_network():
    from jiyuu.circuits.catalogue import circuit

    return circuit("transistor-ladder").network()


def test_another_instruments_curve_is_dropped_on_the_window(window, tmp_path):
    window.files.open([curve_file(tmp_path / "bench.csv")])
    shown = window.view("response").level.curve("measured")
    expected = level_db(complex_gain(window_network(), shown.places, cutoff_hz=820.0, gain=1.0, modes=["lowpass-24"]))
    assert shown.values == pytest.approx(expected[0], abs=0.02)
    assert window.session.book.runs(window.session.in_hand.id, "response")[0].source == "bench.csv"
    assert window.session.states()["response"] is StepState.DONE


def test_a_file_that_is_no_curve_is_refused_and_nothing_is_kept(window, tmp_path):
    path = tmp_path / "list.csv"
    path.write_text("screws,12\nwashers,40\n")
    window.files.open([path])
    assert "at least 24" in window.tidings.text()
    assert window.session.book.runs(window.session.in_hand.id, "response") == []


def test_the_figure_names_the_cutoff_by_the_definition_chosen(window, qtbot):
    label = window.view("response").level.cutoff_line.label
    named = window.view("response").form.named
    settled(window, qtbot)
    assert label.format == "cutoff (pole) 820.0 Hz"
    found = read_curve(GRID_HZ, window.view("response").level.curve("lowpass-24").values)
    for name, value in (("−3 dB", found.cutoff_3db_hz), ("peak", found.peak_hz), ("oscillation", 820.0)):
        named.textActivated.emit(name)
        settled(window, qtbot)
        assert label.format.startswith(f"{name} ")
        assert label.format.endswith("pole 820.0 Hz")
        shown = label.format.removeprefix(name).split(",")[0]
        assert parse_frequency(shown) == pytest.approx(value, rel=2e-3)
    window.view("response").presenter.set_mode("notch")
    named.textActivated.emit("−3 dB")
    assert label.format.startswith("−3 dB …")  # not the number of the mode before
    settled(window, qtbot)
    assert "no −3 dB here" in label.format
    window.undo()
    settled(window, qtbot)
    assert label.format.startswith("oscillation")


def test_a_run_less_an_older_one_of_this_mode_or_another(window, right, tmp_path):
    def runs_offered():
        return [text for i in range(right.other.count()) if "run " in (text := right.other.itemText(i))]

    before = set(runs_offered())
    for number in range(3):
        window.files.open([curve_file(tmp_path / f"{number}.csv", shift_db=1.5 * number)])
    window.view("response").presenter.set_mode("lowpass-12")
    window.files.open([curve_file(tmp_path / "other.csv", shift_db=-2.0)])
    right.choice.button(1).click()
    right.one.setCurrentText("measured")
    older = [name for name in runs_offered() if name not in before and "lowpass-24" in name]
    assert len(older) == 3
    for name, apart in zip(sorted(older, key=lambda name: int(name.split()[1].rstrip(":"))), (-2.0, -3.5, -5.0),
                           strict=True):
        right.other.setCurrentText(name)
        right.other.activated.emit(0)
        assert right.difference.curve("difference").values == pytest.approx(apart, abs=1e-3)


def test_one_mode_or_all_of_them(window):
    level = window.view("response").level
    every = set(window.session.in_hand.document.entry.modes)
    assert every <= set(level.shown_names())
    window.view("response").only.click()
    assert every & set(level.shown_names()) == {"lowpass-24"}
    window.view("response").presenter.set_mode("highpass-24")
    assert every & set(level.shown_names()) == {"highpass-24"}
    window.view("response").only.click()
    assert every <= set(level.shown_names())


def test_runs_of_another_filter_can_be_taken_away(window, right, tmp_path):
    window.files.open([curve_file(tmp_path / "here.csv")])
    letter = window.session.in_hand.letter
    window.session.take(1)
    assert any(right.other.itemText(i).startswith(f"{letter} run ") for i in range(right.other.count()))


def test_phase_between_modes(window):
    """The outputs of one ladder: 45 degrees a pole at the cutoff, so two poles apart are 90 degrees apart."""
    support = window.view("response").support
    window.view("response").presenter.set_mode("lowpass-24")
    window.view("response").presenter.set_resonance(0.0)
    cutoff_hz = window.session.standing().standing_hz
    support.reference.setCurrentText("lowpass-12")
    support.reference.activated.emit(0)
    curve = support.phase.curve("predicted")
    at = np.interp(np.log2(cutoff_hz), np.log2(curve.places), curve.values)
    assert at == pytest.approx(-90.0, abs=0.5)
    assert support.phase.curve("measured") is None
    window.view("response").presenter.set_mode("lowpass-12")  # against itself there is nothing to say
    assert support.reference.currentText() == "the input"


def test_a_note_gives_way_to_the_curve_under_the_title(window, right, qtbot):
    """The slope of a resonant filter rises there; of a more resonant one it falls to the foot as well."""
    resonance, (_, top) = window.view("response").resonance, right.slope.view.viewRange()[1]
    for percent, at_foot in (("30", True), ("0", False), ("45", False)):
        typed(resonance, percent)
        settled(window, qtbot)
        assert right.slope.captions.at_foot() is at_foot
        assert not right.slope.captions.covers()
    assert right.slope.view.viewRange()[1][1] >= top
    typed(resonance, "0")
    settled(window, qtbot)
    assert right.slope.view.viewRange()[1][1] < top


@pytest.mark.long
def test_a_note_that_would_lie_on_curves_at_both_ends_gets_room_over_them(window, qtbot):
    view = window.view("response")
    typed(view.resonance, "60")  # peaks under the title, steep ends of highpasses at the foot
    settled(window, qtbot)
    high = view.level.view.viewRange()[1][1]
    view.band.setChecked(True)
    settled(window, qtbot)
    assert "1000 builds" in view.level.captions.note
    assert not view.level.captions.at_foot()
    assert not view.level.captions.covers()
    assert view.level.view.viewRange()[1][1] > high
    view.band.setChecked(False)
    settled(window, qtbot)
    assert view.level.captions.note == ""
    assert view.level.view.viewRange()[1][1] == high


@pytest.mark.long
def test_sweeps_are_as_long_as_asked(window, qtbot):
    window.go("response")
    settled(window, qtbot)
    step = window.shown
    assert step.form.sweep.text() == "5 s"
    typed(step.form.sweep, "0.75 s")
    measured(window, qtbot)
    run = step.presenter.run
    assert run.setting["sweep_s"] == 0.75
    stimulus, rate = window.session.book.record(run.id, "stimulus")
    sounding = np.flatnonzero(np.abs(stimulus) > 0)
    silence_s = 0.5
    assert (sounding[-1] - sounding[0]) / rate == pytest.approx(2 * 0.75 + silence_s, abs=0.01)
    typed(step.form.sweep, "100 s")
    assert "0.5 to 30 s" in window.tidings.text()
    assert window.session.setting(step.step).sweep_s == 0.75
