"""The Drive step in the real window: the ladder, its slice, the driven resonance, level made good, measured beside."""

import csv
import re

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.bent import Way
from jiyuu.bench.walk import StepState
from jiyuu.measurement.levels import measure_levels
from jiyuu.prediction.drive import drive_ladder
from jiyuu.prediction.drive_feedback import fed_back
from jiyuu.rig.sound_output import StandInOutput
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.source import RECORD_RATE_HZ, mixed_record
from jiyuu.signals.two_tones import TwoTones
from jiyuu.simulation.render import render
from tests.desktop.using import measured, settled, typed

OPENS_AT = "drive"


@pytest.fixture
def drive(window, qtbot):
    """Fog voice A, whose study is settled."""
    window.go("drive")
    settled(window, qtbot)
    return window.view("drive")


@pytest.fixture
def quick(window, qtbot):
    """Fog voice F, whose study takes half as long."""
    window.session.take_letter("F")
    window.go("drive")
    settled(window, qtbot)
    return window.view("drive")


def said(view):
    return [view.findings.item(i).text() for i in range(view.findings.count())]


def test_the_curves_are_those_of_the_ladder_and_the_marks_stand_where_it_bends(window, drive):
    now = window.session.standing()
    volts = 10 ** (np.arange(-40.0, 31.0, 10.0) / 20)
    ladder = drive_ladder(now.network, now.mode, cutoff_hz=now.standing_hz, gain=now.gain, frequency_hz=102.5,
                          levels_v=volts, rail_v=10.5)
    gain, thd = drive.bend.curve("gain"), drive.bend.curve("THD")
    for level in ladder.levels:
        at = 20 * np.log10(level.input_peak_v)
        assert np.interp(at, gain.places, gain.values) == pytest.approx(level.gain_db, abs=1e-3)
        shown = np.interp(at, thd.places, thd.values)
        assert shown == pytest.approx(max(20 * np.log10(level.thd_percent / 100), -120), abs=0.01)
    assert drive.bend.marks() == [f"1 % THD {ladder.thd_1_percent_v:.3g} V", f"lamp, 3 % {ladder.lamp_v:.3g} V",
                                  f"1 dB compressed {ladder.compression_1db_v:.3g} V"]
    texts = said(drive)
    assert any(text.startswith("THD 29.6 % at 5 V, 102.5 Hz") for text in texts)
    assert any(text.startswith("First to bend: input pair") for text in texts)
    assert any("stops the whistle from" in text for text in texts)


@pytest.mark.long
def test_the_nominal_level_is_dragged_typed_and_stepped(window, quick, qtbot):
    drive = quick
    before = drive.bars.words()
    drive.bend.level_dragged.emit(0.5)
    assert drive.bars.words() != before
    assert "at 0.5 V" in drive.bars.words()[0]
    assert window.session.setting(drive.step).level_v == 5.0
    drive.harmonics.level_dropped.emit(0.5)
    assert window.session.setting(drive.step).level_v == 0.5
    settled(window, qtbot)
    assert any(" at 0.5 V, 187.5 Hz" in text for text in said(drive))
    QTest.keyClick(drive.bend, Qt.Key.Key_Right)
    assert window.session.setting(drive.step).level_v == pytest.approx(0.5 * 10 ** (1 / 20), rel=1e-3)
    typed(drive.level, "2 V")
    assert window.session.setting(drive.step).level_v == 2.0
    typed(drive.level, "900 V")
    assert window.session.setting(drive.step).level_v == 2.0
    assert "out of range" in window.tidings.text()
    typed(drive.tone, "A2")
    assert window.session.setting(drive.step).frequency_hz == 110.0


@pytest.mark.long
def test_level_made_good_is_as_loud_as_the_source_and_stands_in_the_path(window, quick, qtbot):
    drive = quick
    QTest.keyClick(drive.bend, Qt.Key.Key_G)
    now = window.session.standing()
    assert now.setup.trim_db != 0
    source = mixed_record(now.setup.sources(), duration_s=2.0)
    out = render(now.network, source, sample_rate_hz=RECORD_RATE_HZ, cutoff_hz=now.standing_hz, gain=now.gain,
                 modes=[now.mode]).output_v[0] * now.setup.trim
    loud = [measure_levels(record[24_000:], RECORD_RATE_HZ).loudness_lufs for record in (source, out)]
    assert loud[0] == pytest.approx(loud[1], abs=0.1)
    assert f"behind +{now.setup.trim_db:.1f} dB" in window.path.accessibleDescription()
    window.undo()
    assert window.session.standing().setup.trim_db == 0


@pytest.mark.long
def test_what_is_patched_round_it_and_behind_it_is_said(window, quick, qtbot):
    drive = quick
    drive.page_choice.button(1).click()
    drive.patched.form.choices["behind"].textActivated.emit("folding")
    typed(drive.patched.form.numbers["feedback"], "-0.5")
    settled(window, qtbot)
    now = window.session.standing()
    found = fed_back(now.filter, now.mode, cutoff_hz=now.standing_hz, gain=now.gain, amount=-0.5, through=None,
                     frequency_hz=187.5, level_v=5.0)
    assert any(f"Output fed back by −0.50: THD {found.thd_percent:.3g} %" in text for text in said(drive))
    assert any("a folding curve" in text for text in said(drive))


@pytest.mark.long
def test_a_whistling_filter_shows_what_stops_it(window, drive, qtbot):
    window.session.change({"resonance_percent": 97.0})
    settled(window, qtbot)
    assert drive.stops.isVisible()
    assert not drive.bend.isVisible()
    curve = drive.stops.curve("stops the whistle")
    easiest = curve.places[np.argmin(curve.values)]
    assert easiest == pytest.approx(window.session.standing().standing_hz, rel=0.5)
    assert "oscillates by itself" in drive.stops.captions.note.lower()
    QTest.keyClick(window, Qt.Key.Key_M)
    assert "oscillates by itself" in window.tidings.text()


@pytest.mark.long
def test_a_measured_unit_stands_beside_its_drawing(window, drive, qtbot):
    measured(window, qtbot)
    assert window.session.states()["drive"] is StepState.DONE
    found, drawn = drive.bend.curve("gain measured"), drive.bend.curve("gain")
    assert found.values == pytest.approx(np.interp(found.places, drawn.places, drawn.values), abs=1.5)
    assert any("± " in text and text.startswith("THD 29.") for text in said(drive))
    products = {order: [float(re.search(rf"{order} order ([\d.]+)", text)[1]) for text in said(drive)
                        if f"products of {order} order" in text] for order in ("second", "third")}
    assert len(products["third"]) >= 1
    assert products["third"] == pytest.approx([33.4] * len(products["third"]), abs=1.0)
    assert any("± " in text and "products of third order" in text for text in said(drive))
    QTest.keyClick(drive.bend, Qt.Key.Key_M)
    window.session.change({"resonance_percent": 20.0})
    settled(window, qtbot)
    assert window.session.states()["drive"] is StepState.STALE
    assert "out of date: resonance was 45 %" in drive.bend.captions.why


@pytest.mark.long
def test_where_it_is_bent_is_heard(window, quick, qtbot):
    quick.page_choice.button(1).click()
    page, bent, output = quick.patched, quick.bent, StandInOutput()
    bent.ear.output.make = lambda: output
    told = []
    bent.message.connect(lambda text, _: told.append(text))
    page.hear[Way.BEHIND].click()
    assert not page.hear[Way.CLEAN].isEnabled()  # while they are made
    qtbot.waitUntil(lambda: bent.ear.heard is not None, timeout=60_000)
    assert page.hear[Way.BEHIND].isChecked()
    qtbot.waitUntil(lambda: np.abs(output.heard).max(initial=0.0) > 0.001)
    page.hear[Way.DRIVEN].click()
    assert [way for way, button in page.hear.items() if button.isChecked()] == [Way.DRIVEN]
    assert told[-1] == "Heard driven at the nominal level."
    page.hear[Way.FED_BACK].click()
    assert "goes back first" in told[-1]
    page.hear[Way.DRIVEN].click()
    assert bent.ear.heard is None
    page.hear[Way.DRIVEN].click()
    window.session.change({"resonance_percent": 31.0})
    assert (bent.bent, bent.ear.heard) == (None, None)
    page.hear[Way.CLEAN].click()
    assert "still being computed" in told[-1]
    settled(window, qtbot)
    window.go("response")
    assert not bent.ear.output.is_open


def test_both_spectra_stand_beside_each_other(window, quick):
    study = quick.presenter.latest
    rows = list(csv.reader(quick.bars.as_csv().splitlines()))
    assert rows[0] == ["harmonic", "level_db", "behind_level_db"]
    found = np.array(rows[1:], dtype=float)
    assert found[:, 2] == pytest.approx(study.behind.behind_db, abs=1e-6)
    size = 10 ** (found[1:, 1:] / 20)
    assert 100 * np.sqrt(np.sum(size**2, axis=0)) == pytest.approx(study.nominal_percent, rel=1e-3)
    quick.presenter.try_level(2.0)  # of another level the curve behind is not known
    assert "behind_level_db" not in quick.bars.as_csv()


def test_the_figures_read_and_save(window, quick, tmp_path):
    drive = quick
    assert "harmonic 3" in drive.harmonics.reading_at(0.0, 3.1)
    for button in drive.map_choice.buttons():
        button.click()
    assert "peak +" in drive.maps[0].reading_at(-30.0, 45.0)
    assert re.search(r"width 0\.\d\d oct", drive.maps[1].reading_at(-30.0, 80.0))
    assert "moved −" in drive.maps[2].reading_at(0.0, 80.0)
    for figure in (drive.bend, drive.harmonics, *drive.maps, drive.bars):
        figure.save(tmp_path / "figure.csv")
        rows = (tmp_path / "figure.csv").read_text(encoding="utf-8").splitlines()
        assert len(rows) > 10
        figure.save(tmp_path / "figure.svg")
        (tmp_path / "figure.csv").unlink()
    window.menus.turn_theme()
    assert drive.harmonics.as_csv()


@pytest.mark.long
def test_a_dropped_ladder_is_measured_in_whichever_order(window, quick, qtbot, tmp_path):
    drive = quick
    steps = DriveSteps(123.4, tuple((10 ** (np.arange(-30, 7, 3) / 20)).tolist()))
    played = steps.record_v(48_000)
    stimulus, recording = tmp_path / "ladder.wav", tmp_path / "taken.wav"
    write_recording(stimulus, played, 48_000)
    noise = np.random.default_rng(1).normal(0, 2e-5, played.size + 9600)
    write_recording(recording, np.concatenate([np.zeros(2400), np.tanh(played), np.zeros(7200)]) + noise, 48_000)
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        window.files.open([recording, stimulus])
    assert "measured and kept" in window.tidings.text()
    found = {logged.finding.quantity: logged.finding for logged in drive.presenter.logged}
    for quantity, exact in (("compression_1db_v", 0.71270), ("thd_1_percent_v", 0.35170)):  # tanh, by quadrature
        assert found[quantity].value == pytest.approx(exact, rel=5e-3)
        assert abs(found[quantity].value - exact) < 2 * found[quantity].uncertainty
    assert drive.presenter.run.source == "ladder.wav, taken.wav"
    write_recording(tmp_path / "other.wav", np.sin(np.arange(48_000) / 9) * np.hanning(48_000), 48_000)
    with qtbot.waitSignal(window.measuring.jobs.failed, timeout=60_000):
        window.files.open([tmp_path / "other.wav", recording])
    assert "no ladder of levels" in window.tidings.text()


@pytest.mark.long
def test_why_two_tones_tell_nothing_is_said(window, quick, qtbot, tmp_path):
    """Their part of the recording is all but silent: the levels stand, and what is missing says why."""
    presenter = quick.presenter
    steps = DriveSteps(100.0, (0.1, 0.3, 1.0), 0.4, pair=TwoTones(900.0, 970.0, 0.5))
    played = steps.record_v(48_000)
    heard = np.tanh(played)
    heard[round(steps.pair_begins_s * 48_000) :] *= 1e-6
    heard += np.random.default_rng(2).normal(0, 1e-5, heard.size)
    write_recording(tmp_path / "played.wav", played, 48_000)
    write_recording(tmp_path / "heard.wav", heard, 48_000)
    headings = []
    presenter.findings.connect(lambda said: headings.append(said.heading))
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        window.files.open([tmp_path / "played.wav", tmp_path / "heard.wav"])
    assert "Two tones of 900 and 970 Hz do not stand out" in headings[-1]
    assert "difference_3_percent" not in {logged.finding.quantity for logged in presenter.logged}
    assert "thd_1_percent_v" in {logged.finding.quantity for logged in presenter.logged}


@pytest.mark.long
def test_what_cannot_be_fed_back_is_said_and_no_old_trim_is_taken(window, quick, qtbot):
    window.session.take_letter("E")
    assert quick.presenter.latest is None
    QTest.keyClick(quick.bend, Qt.Key.Key_G)
    assert window.session.standing().setup.trim_db == 0
    assert "still being computed" in window.tidings.text()
    window.session.change({"mode": "highpass-12"})
    quick.presenter.ask(feedback=0.5)
    settled(window, qtbot)
    assert "follows the input at once" in quick.heading.text()
