"""Recordings with what is to be said of them: channel, interface, loudest harmonic."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from scipy.signal import butter, sosfilt

from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.desktop.using import settled, typed
from tests.staircase import Staircase
from tests.truths import Made, recorded

RATE = 48_000


def given(row, path):
    row.text.clear()
    QTest.keyClicks(row.text, str(path))


@pytest.fixture
def chooser(window):
    window.files.choose_recordings()
    return window.files.recordings


@pytest.mark.long
def test_the_interface_is_divided_out_of_the_channel_that_was_chosen(window, chooser, qtbot, tmp_path):
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=1.0), sample_rate_hz=RATE)
    unit = recorded(Made("state-variable", "lowpass", 900.0, 1.0), stimulus, RATE)
    rolled = butter(1, 30.0, "highpass", fs=RATE, output="sos")
    noise = np.random.default_rng(4).normal(0, 1e-4, (2, unit.size))
    wire = np.pad(stimulus, (0, unit.size - stimulus.size))
    write_recording(tmp_path / "played.wav", stimulus, RATE)
    write_recording(tmp_path / "both.wav", np.stack([wire + noise[0], sosfilt(rolled, unit) + noise[1]]), RATE)
    write_recording(tmp_path / "alone.wav", sosfilt(rolled, wire) + noise[0], RATE)
    assert not chooser.measure.isEnabled()
    given(chooser.stimulus, tmp_path / "played.wav")
    given(chooser.recording, tmp_path / "both.wav")
    given(chooser.interface, tmp_path / "alone.wav")
    qtbot.waitUntil(lambda: "left channel is taken" in chooser.understood.text()
                    or "right channel is taken" in chooser.understood.text(), timeout=20_000)
    assert "both.wav: 48000 Hz, stereo" in chooser.understood.text()
    assert "played.wav: " in chooser.understood.text()
    chooser.channel.setCurrentText("right")
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        QTest.mouseClick(chooser.measure, Qt.MouseButton.LeftButton)
    settled(window, qtbot)
    book = window.session.book
    (run,) = book.runs(window.session.in_hand.id, "response")
    assert run.source == "played.wav, both.wav, less alone.wav"
    found = {logged.finding.quantity: logged.finding.value for logged in book.findings_of_run(run.id)}
    assert found["cutoff_3db_hz"] == pytest.approx(1144.8, rel=1e-3)
    assert found["passband_db"] == pytest.approx(0.0, abs=0.01)


@pytest.mark.long
def test_a_whistle_over_steps_by_the_harmonic_that_was_stated(window, qtbot, tmp_path):
    window.go("tracking")
    write_recording(tmp_path / "third.wav", Staircase([60 * 2.0**v for v in range(9)]).recording(), RATE)
    window.files.choose_recordings()
    chooser = window.files.recordings
    assert not chooser.stimulus.isVisible()
    given(chooser.recording, tmp_path / "third.wav")
    chooser.harmonic.setValue(3)
    QTest.keyClick(chooser.recording.text, Qt.Key.Key_Return)
    settled(window, qtbot)
    assert not chooser.isVisible()
    book = window.session.book
    (run,) = book.runs(window.session.in_hand.id, "tracking")
    hertz = next(iter(book.tables(run.id).values()))["frequency_hz"]
    assert hertz == pytest.approx(20 * 2.0 ** np.arange(9), rel=1e-4)


def test_escape_puts_it_away(chooser):
    QTest.keyClick(chooser, Qt.Key.Key_Escape)
    assert not chooser.isVisible()


def test_what_is_understood_is_said_before_anything_is_measured(chooser, qtbot, tmp_path):
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=1.0), sample_rate_hz=RATE)
    write_recording(tmp_path / "played.wav", stimulus, RATE)
    write_recording(tmp_path / "upside.wav", -0.5 * np.pad(stimulus, (600, 2000)), RATE)
    write_recording(tmp_path / "other.wav", stimulus, 44_100)
    given(chooser.recording, tmp_path / "upside.wav")
    qtbot.waitUntil(lambda: "mono" in chooser.understood.text(), timeout=20_000)
    assert "peak 0.5 V (−26.0 dB re full scale of 10 V)" in chooser.understood.text()
    given(chooser.stimulus, tmp_path / "played.wav")
    qtbot.waitUntil(lambda: "upside down" in chooser.understood.text(), timeout=20_000)
    given(chooser.stimulus, tmp_path / "other.wav")
    qtbot.waitUntil(lambda: "record at the rate of the stimulus" in chooser.understood.text(), timeout=20_000)
    given(chooser.recording, tmp_path / "nowhere.wav")
    qtbot.waitUntil(lambda: "does not exist" in chooser.understood.text(), timeout=20_000)


@pytest.mark.long
def test_levels_are_volts_by_the_full_scale_of_the_interface(window, qtbot, tmp_path):
    """A ladder of levels through a wire, by an interface that is full at 4 V: its loudest is 2 V, and no longer 5."""
    window.go("drive")
    settled(window, qtbot)
    steps = DriveSteps(200.0, (0.5, 1.0, 2.0), 0.4)
    played = steps.record_v(float(RATE))
    wire = np.pad(played, (480, RATE // 2)) + np.random.default_rng(2).normal(0, 1e-5, played.size + 480 + RATE // 2)
    for name, record in (("played", played), ("wire", wire)):
        write_recording(tmp_path / f"{name}.wav", record, RATE, full_scale_v=4.0)
    window.files.choose_recordings()
    chooser = window.files.recordings
    given(chooser.stimulus, tmp_path / "played.wav")
    given(chooser.recording, tmp_path / "wire.wav")
    qtbot.waitUntil(lambda: "full scale of 10 V" in chooser.understood.text(), timeout=20_000)
    assert "peak 5 V" in chooser.understood.text()
    typed(chooser.full_scale, "4 V")
    qtbot.waitUntil(lambda: "full scale of 4 V" in chooser.understood.text(), timeout=20_000)
    assert "peak 2 V (−6.0 dB" in chooser.understood.text()
    typed(chooser.full_scale, "0")
    assert "0.01 to 1000 V" in chooser.understood.text()
    assert chooser.full_scale.text() == "4 V"
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        QTest.mouseClick(chooser.measure, Qt.MouseButton.LeftButton)
    settled(window, qtbot)
    table = window.shown.presenter.tables["drive"]
    assert table["input_peak_v"] == pytest.approx([0.5, 1.0, 2.0], rel=1e-3)
