"""The circuit behind a filter in the window: parameters, curve at level, band of builds, poles, delay."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.walk import StepState
from jiyuu.circuits.linear import complex_gain, level_db, poles
from jiyuu.prediction.response import GRID_HZ
from jiyuu.simulation.level_response import level_response
from tests.desktop.using import settled, typed
from tests.trials import some


@pytest.mark.parametrize("index", some(range(6), 2))
def test_every_parameter_of_a_circuit_stands_in_its_group_with_its_meaning(window, index):
    window.session.take(index)
    page, entry = window.view("response").circuit_page, window.session.in_hand.document.entry
    values = entry.values(window.session.standing().parameters)
    assert page.fields
    assert set(page.fields) == {p.name for p in entry.parameters}
    for parameter in entry.parameters:
        assert page.fields[parameter.name].toolTip().startswith(parameter.meaning)
        assert page.fields[parameter.name].text().startswith(f"{values[parameter.name]:.5g}")
    assert page.drawing.accessibleName().endswith(entry.title)


def test_a_parameter_moves_the_curve_and_can_be_undone(window):
    field = window.view("response").circuit_page.fields["compensation"]
    before = window.view("response").level.curve("lowpass-24").values.copy()
    typed(field, "1")
    document = window.session.standing().filter
    assert document.parameters["compensation"] == 1.0
    shown = window.view("response").level.curve("lowpass-24").values
    assert shown[0] == pytest.approx(0.0, abs=0.01)
    assert before[0] < -9
    window.undo()
    assert window.view("response").level.curve("lowpass-24").values == pytest.approx(before)
    window.redo()
    QTest.mouseDClick(field, Qt.MouseButton.LeftButton)
    assert window.session.standing().filter.parameters == window.session.in_hand.document.parameters


def test_a_parameter_that_makes_no_sense_is_refused_in_place(window):
    for text, words in (("7", "out of range"), ("soup", "not a number"), ("1 Hz", "not in")):
        typed(window.view("response").circuit_page.fields["compensation"], text)
        assert words in window.tidings.text()
        assert window.session.standing().filter.parameters.get("compensation", 0.0) == 0.0, text


@pytest.mark.long
def test_a_changed_parameter_puts_the_measurement_out_of_date(window, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        window.view("response").presenter.measure()
    assert window.session.states()["response"] is StepState.DONE
    typed(window.view("response").circuit_page.fields["input_gain"], "2")
    assert window.session.states()["response"] is StepState.STALE
    assert "input_gain was" in window.view("response").level.captions.why


@pytest.mark.long
def test_the_curve_at_level_is_the_settled_first_harmonic(window, qtbot):
    typed(window.view("response").form.at_level, "2 V")
    settled(window, qtbot)
    shown = window.view("response").level.curve("at 2 V")
    document = window.session.standing().filter
    some = shown.places[::40]
    true = level_response(document.network(), some, cutoff_hz=820.0, gain=document.gain_at(45.0), level_v=2.0,
                          modes=["lowpass-24"])
    assert shown.values[::40] == pytest.approx(level_db(true.gain[0]), abs=0.01)
    window.view("response").presenter.try_cutoff(1000.0)
    assert window.view("response").level.curve("at 2 V") is None  # never beside a curve it does not belong to
    window.view("response").presenter.set_cutoff(1000.0)
    settled(window, qtbot)
    assert window.view("response").level.curve("at 2 V") is not None
    typed(window.view("response").form.at_level, "off")
    assert window.view("response").level.curve("at 2 V") is None


@pytest.mark.long
def test_the_band_of_builds_names_the_worst_contributor(window, qtbot):
    QTest.keyClick(window, Qt.Key.Key_B)
    assert window.view("response").band.isChecked()
    settled(window, qtbot)
    assert "builds" in window.view("response").level.band_names()
    note = window.view("response").level.captions.note
    assert note.startswith("1000 builds, 5 to 95 %")
    assert "most of the spread from the" in note
    assert "onset at" in note
    QTest.keyClick(window, Qt.Key.Key_B)
    assert "builds" not in window.view("response").level.band_names()
    assert window.view("response").level.captions.note == ""


def test_poles_follow_and_tell_their_frequency(window, qtbot):
    window.view("response").support.choice.button(2).click()
    settled(window, qtbot)
    figure, document = window.view("response").support.poles, window.session.standing().filter
    assert figure.isVisible()
    true = poles(document.network(), cutoff_hz=820.0, gain=document.gain_at(45.0)) / (2 * np.pi * 820.0)
    assert np.sort_complex(figure.map.poles) == pytest.approx(np.sort_complex(true))
    assert "Q" in figure.reading_of(complex(true[np.argmax(np.abs(true.imag))]), "pole")
    assert "0 poles right of the axis" in figure.accessibleDescription()
    window.view("response").presenter.set_resonance(100.0)
    settled(window, qtbot)
    assert "2 poles right of the axis" in figure.accessibleDescription()
    assert figure.as_csv().splitlines()[0] == "kind,loop_gain,real,imaginary"
    assert not figure.grab().isNull()


def test_group_delay_is_that_of_the_circuit(window):
    window.view("response").support.choice.button(1).click()
    shown = window.view("response").support.delay.curve("predicted")
    document = window.session.standing().filter
    nearby = np.array([499.0, 501.0])
    phase = np.angle(complex_gain(document.network(), nearby, cutoff_hz=820.0, gain=document.gain_at(45.0),
                                  modes=["lowpass-24"])[0])
    true_ms = -1e3 * float(np.diff(phase)[0]) / (2 * np.pi * 2.0)
    assert np.interp(500.0, shown.places, shown.values) == pytest.approx(true_ms, rel=0.01)
    assert shown.places.size == GRID_HZ.size


def test_component_values_move_cutoff_and_headroom_and_can_be_undone(window):
    section = window.view("response").circuit_page.components
    before = window.session.standing().components
    typed(section.fields["capacitor_f"], "20n")
    assert window.session.standing().cutoff_hz == pytest.approx(820.0 / 2, rel=1e-4)
    assert section.fields["capacitor_f"].text() == "20 nF"
    assert "Headroom 1 V" in section.comes_to.text()
    typed(section.fields["attenuation"], "0.01")
    assert window.session.standing().filter.parameters["stage_headroom_v"] == pytest.approx(5.1385, rel=1e-3)
    window.undo()
    window.undo()
    assert window.session.standing().components == before
    assert window.session.standing().cutoff_hz == 820.0
    assert "stage_headroom_v" not in window.session.standing().filter.parameters


def test_the_nearest_capacitor_is_named_with_its_error_in_cents(window):
    section = window.view("response").circuit_page.components
    typed(section.fields["capacitor_f"], "5n1")
    set_hz = window.session.standing().cutoff_hz
    window.view("response").presenter.prefer_capacitor("E12")
    assert section.fields["capacitor_f"].text() == "4.7 nF"
    assert "+141.4 cents" in window.tidings.text()
    assert window.session.standing().cutoff_hz == pytest.approx(set_hz * 5.1 / 4.7, rel=1e-4)


def test_component_values_that_make_no_sense_are_refused_in_place(window):
    for text in ("soup", "-3n", "1 V", "1e9"):
        window.tidings.clear()
        typed(window.view("response").circuit_page.components.fields["capacitor_f"], text)
        assert window.tidings.is_error, text
        assert window.session.standing().cutoff_hz == 820.0, text


def test_a_circuit_is_chosen_by_its_drawing_and_put_on_the_shelf(window):
    QTest.keyClick(window, Qt.Key.Key_N,
                   Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    chooser = window.files.chooser
    titles = [chooser.list.item(row).text() for row in range(chooser.list.count())]
    assert "Diode ladder" in titles
    assert len(titles) == 9
    chooser.list.setCurrentRow(titles.index("Sallen–Key pair"))
    assert "4 poles" in chooser.facts.text()
    assert chooser.drawing.accessibleName() == "Block diagram: Sallen–Key pair"
    QTest.mouseClick(chooser.take, Qt.MouseButton.LeftButton)
    assert window.session.in_hand.letter == "G"
    assert window.session.in_hand.document.circuit == "sallen-key-pair"
    assert "bandpass-24" in window.view("response").level.shown_names()
    chooser.close()


@pytest.mark.long
def test_filters_of_one_slope_coincide_small_and_part_at_level(window, qtbot):
    """Two four-pole lowpasses with the same cutoff and loop gain: one curve when small, two when driven."""
    shown = {}
    for index in (0, 2):  # a transistor ladder and an OTA cascade
        window.session.take(index)
        window.session.change({"cutoff_hz": 1000.0, "resonance_percent": 70.0, "response": {"curve_level_v": 2.0}})
        settled(window, qtbot)
        shown[index] = [window.view("response").level.curve(name).values for name in ("lowpass-24", "at 2 V")]
    assert np.abs(shown[0][0] - shown[2][0]).max() < 1e-9
    assert np.abs(shown[0][1] - shown[2][1]).max() > 3


def test_the_resonance_resistor_sets_the_end_of_the_control(window):
    field = window.view("response").circuit_page.components.fields["resonance_ohm"]
    assert field.text() == "22.73 kΩ"
    typed(field, "20k")
    assert window.session.standing().filter.gain_at(100.0) == pytest.approx(5.0)
    assert "k = 2.25" in window.view("response").gain.text()
    window.undo()
    assert window.session.standing().filter.gain_at(100.0) == pytest.approx(4.4)


def test_another_filter_stands_beside_and_parts_at_level(window, qtbot):
    box = window.view("response").form.beside
    index = next(i for i in range(box.count()) if box.itemText(i).startswith("C"))
    box.setCurrentIndex(index)
    box.activated.emit(index)
    figure = window.view("response").level
    own, other = figure.curve("lowpass-24").values, figure.curve("C lowpass-24").values
    assert np.abs(own - other).max() < 1e-6  # a ladder and a cascade, small
    typed(window.view("response").form.at_level, "2 V")
    settled(window, qtbot)
    parted = figure.curve("at 2 V").values - figure.curve("C at 2 V").values
    assert np.abs(parted).max() > 3
    window.view("response").presenter.try_cutoff(1500.0)
    assert figure.curve("C at 2 V") is None
    assert np.abs(figure.curve("C lowpass-24").values - other).max() > 3
    window.view("response").presenter.ask(beside=None)
    assert figure.curve("C lowpass-24") is None
