"""The Self-oscillation step in the real window: pull, tone, tuner, cusp, bells, the whistle into its own cutoff."""

import numpy as np
import pytest
from PyQt6.QtWidgets import QLabel

from jiyuu.bench.heard import Heard
from jiyuu.bench.walk import StepState
from jiyuu.measurement.tone import measure_tone
from jiyuu.signals.ceiling import CEILING_DB
from jiyuu.signals.recordings import read_recording
from jiyuu.simulation.oscillation import oscillation
from tests.desktop.using import measured, settled

OPENS_AT = "self_oscillation"


@pytest.fixture
def step(window, qtbot):
    window.session.take(2)  # an OTA cascade: its whistle goes flat with resonance
    window.go("self_oscillation")
    settled(window, qtbot)
    return window.view("self_oscillation")


@pytest.mark.long
def test_the_drawing_says_pitch_over_the_control(window, step):
    curve = step.pull.curve("predicted")
    document, now = window.session.standing().filter, window.session.standing()
    tone = oscillation(document.network(), now.mode, cutoff_hz=now.cutoff_hz, gain=document.gain_at(100.0))
    assert curve.places[-1] == pytest.approx(100.0)
    assert curve.values[-1] == pytest.approx(1200 * np.log2(tone.frequency_hz / now.cutoff_hz), abs=0.01)
    said = [step.findings.item(i).text() for i in range(step.findings.count())]
    assert any(text.startswith("Self-oscillates from") for text in said)
    assert any("cents" in text for text in said)
    assert any("whistle" in text for text in said)
    assert "start low" in "".join(label.text() for label in step.side.findChildren(QLabel))


@pytest.mark.long
def test_measured_beside_predicted_and_in_tune(window, step, qtbot):
    measured(window, qtbot)
    assert window.session.states()["self_oscillation"] is StepState.DONE
    assert step.pull.curve("measured").places.size >= 7
    assert "measured" in step.pull.captions.note
    _note, cents, hertz, *lines = step.tuner.words()
    assert cents.endswith("cents")
    assert hertz.endswith("Hz")
    assert "turn the cutoff" in lines[0] or lines[0].startswith("On ")
    assert window.session.in_hand is not None
    step.target.go.click()
    settled(window, qtbot)
    assert "out of date" in step.pull.captions.why
    measured(window, qtbot)
    assert abs(step.tone.cents) < 3.0  # the converter's own scale error over a fraction of an octave
    window.undo()


@pytest.mark.long
def test_an_interval_above_an_oscillator_beats(window, step, qtbot):
    presenter = window.view("self_oscillation").presenter
    tone_hz = presenter.tone_hz()
    step.target.numbers["oscillator_hz"].entered.emit(tone_hz / 1.5 + 0.4)
    step.target.choices["target"].textActivated.emit("an interval")
    step.target.choices["ratio"].textActivated.emit("fifth")
    settled(window, qtbot)
    assert step.tone.target_hz == pytest.approx((tone_hz / 1.5 + 0.4) * 1.5)
    assert any("Beats with the oscillator 1.20 times a second near 3:2" in line for line in step.tuner.words())
    step.target.choices["ratio"].setCurrentText("7:4")
    step.target.choices["ratio"].lineEdit().editingFinished.emit()
    settled(window, qtbot)
    assert step.tone.target_hz == pytest.approx((tone_hz / 1.5 + 0.4) * 1.75)
    step.target.choices["ratio"].setCurrentText("a lot")
    step.target.choices["ratio"].lineEdit().editingFinished.emit()
    assert "is no interval" in window.tidings.text()
    assert step.target.choices["ratio"].currentText() == "7:4"


@pytest.mark.long
def test_concert_pitch_and_bells(window, step, qtbot):
    step.target.numbers["concert_a_hz"].entered.emit(442.0)
    step.target.choices["target"].textActivated.emit("a pitch")
    step.target.numbers["pitch_hz"].entered.emit(300.0)
    settled(window, qtbot)
    assert step.bells.rowCount() == 9
    assert step.bells.item(2, 1).text() == "360.0 Hz"
    step.target.choices["bell"].textActivated.emit("free bar")
    settled(window, qtbot)
    assert [step.bells.item(i, 0).text() for i in range(step.bells.rowCount())] == ["1", "2.76", "5.4", "8.93"]
    window.undo()
    assert step.bells.rowCount() == 9


@pytest.mark.long
def test_the_sine_becomes_a_saw_and_the_loop_is_explained(window, step, qtbot):
    step.left_choice.button(2).click()
    settled(window, qtbot)
    second = step.patch.curve("harmonic 2")
    assert second.places.tolist() == pytest.approx([*np.linspace(0, 2, 9), 2.5, 3.0])
    assert (np.diff(second.values) > 0).all()
    assert second.values[-1] == pytest.approx(-6.0, abs=1.5)
    assert "nearest at ±2.5 octaves" in step.patch.captions.note
    assert step.loop.item(0, 0).text() == "as it stands"
    assert step.loop.rowCount() >= 3
    step.left_choice.button(1).click()
    assert step.trace.curve("predicted") is not None


@pytest.mark.long
def test_a_filter_that_does_not_whistle_says_so(window, step, qtbot):
    index = next(i for i, s in enumerate(window.session.shelf) if s.letter == "A")
    window.session.take(index)
    settled(window, qtbot)
    window.session.change({"resonance_taper": [[0.0, 0.0], [0.999, 0.5], [1.0, 1.0]]})
    settled(window, qtbot)
    if step.whistle is not None:  # a table that ends at the file's own gain still whistles at its very end
        assert step.whistle.onset_percent > 99.0
    else:
        assert "does not whistle" in step.tuner.words()[0]


@pytest.mark.long
def test_what_it_sounds_like_as_a_file_under_the_ceiling(window, step, qtbot, tmp_path):
    window.files.sound.write(tmp_path / "none.wav", Heard.WHISTLE)
    qtbot.waitUntil(lambda: not window.files.sound.jobs.busy, timeout=60_000)
    assert "does not whistle" in window.tidings.text()
    assert not (tmp_path / "none.wav").exists()
    window.view("self_oscillation").presenter.set_resonance(100.0)
    for what in (Heard.WHISTLE, Heard.FILTER):
        window.files.sound.write(tmp_path / f"{what.name}.wav", what)
        qtbot.waitUntil(lambda: not window.files.sound.jobs.busy, timeout=60_000)
        assert "Start low" in window.tidings.text()
    record = read_recording(tmp_path / "WHISTLE.wav", full_scale_v=1.0)
    assert np.abs(record.loudest_v).max() <= 10 ** (CEILING_DB / 20)
    tone = measure_tone(record.loudest_v[96_000:144_000], 48_000)
    assert tone.frequency_hz.value == pytest.approx(step.whistle.tone.frequency_hz, rel=1e-3)


@pytest.mark.long
def test_the_night_and_the_keys(window, step):
    window.menus.turn_theme()
    step.pull.setFocus()
    before = window.session.standing().resonance_percent
    step.pull.position_dropped.emit(before + 1)
    assert window.session.standing().resonance_percent == before + 1
