"""The Tracking step in the real window: the table, what to turn, turning and reading again, recordings, the record."""

import json

import numpy as np
import pytest
from PyQt6.QtGui import QGuiApplication

from jiyuu.book.walk import StepState
from jiyuu.circuits.trims import Trim
from jiyuu.errors import JiyuuError
from jiyuu.measurement.wording import sentence
from jiyuu.rig.simulated import draw_unit
from jiyuu.signals.recordings import write_recording
from tests.staircase import Staircase

RATE = 48_000


@pytest.fixture
def tracking(window):
    window.go("Tracking")
    return window.tracking


def measured(window, qtbot):
    window.measure()
    qtbot.waitUntil(lambda: not window.tracking_presenter.measuring.jobs.busy, timeout=30_000)


def test_before_anything_is_measured_the_builds_are_shown(window, tracking):
    assert "95 % of builds" in tracking.errors._note.toPlainText()
    assert "95 % of builds" in tracking.errors._still.bands
    assert not tracking.turn.isEnabled()
    assert "Nothing measured yet" in tracking.heading.text()
    window.tracking_presenter.turn_as_advised()
    assert "Measure first" in window.notice.text()


def test_turn_read_turn(window, tracking, qtbot):
    measured(window, qtbot)
    assert tracking.table.rowCount() == 9
    first = tracking.errors.curve("measured").values
    readings = window.tracking_presenter._table.tracking.readings
    errors = 1200 * (np.log2(readings.frequency_hz / readings.frequency_hz[0]) - readings.volts)
    assert first == pytest.approx(errors)
    assert tracking.table.item(8, 3).text().startswith("✗")
    assert window.session.states()["Tracking"] is StepState.OUTSIDE
    texts = tracking.trims.texts()
    assert "clockwise" in texts[0]
    assert texts[3] == "Resonance trim: leave"
    assert tracking.errors.curve("after these turns") is not None
    tracking.turn.click()
    qtbot.waitUntil(lambda: not window.tracking_presenter.measuring.jobs.busy, timeout=30_000)
    second = tracking.errors.curve("measured").values
    assert np.abs(second).max() < 5.0 < np.abs(first).max()
    assert tracking.errors.curve("before").values == pytest.approx(first)
    assert window.session.states()["Tracking"] is StepState.DONE
    assert window.tracking_presenter.trims[Trim.SCALE] != 0
    window.undo()
    assert window.tracking_presenter.trims[Trim.SCALE] == 0
    assert "trim turned since" in tracking.errors._why.toPlainText()
    assert window.session.states()["Tracking"] is StepState.STALE
    assert not tracking.turn.isEnabled()


def test_range_tolerance_and_reference_are_typed(window, tracking, qtbot):
    tracking.page_choice.button(1).click()
    for field, text in ((tracking.ask.low, "1 V"), (tracking.ask.high, "3"), (tracking.ask.step, "0.5"),
                        (tracking.ask.reference, "2"), (tracking.ask.tolerance, "20 cents"),
                        (tracking.ask.start, "C2")):
        field.setText(text)
        field.setModified(True)
        field._enter()
    assert window.tracking_presenter.setting.volts() == (1.0, 1.5, 2.0, 2.5, 3.0)
    measured(window, qtbot)
    table = window.tracking_presenter._table.tracking
    assert table.readings.volts.tolist() == [1.0, 1.5, 2.0, 2.5, 3.0]
    assert table.error_cents[2] == 0
    assert table.tolerance_cents == 20.0
    assert table.readings.frequency_hz[2] == pytest.approx(65.4 * 4, rel=0.05)
    before = window.tracking_presenter.setting
    tracking.ask.high.entered.emit(0.0)
    assert "must lie above" in window.notice.text()
    assert window.tracking_presenter.setting == before


def test_a_scale_is_typed_and_key_follow_found(window, tracking, qtbot):
    tracking.ask.scale.setText("C2 5/4, 702c 130.8 C4")
    tracking.ask.scale.returnPressed.emit()
    assert not tracking.ask.low.isEnabled()
    tracking.ask.follow.entered.emit(50.0)
    assert window.tracking_presenter.setting.volts() == pytest.approx(
        [0.5, 0.5 + np.log2(5 / 4) / 2, 0.5 + 0.2925, 1.0, 1.5], abs=1e-3)
    measured(window, qtbot)
    assert [tracking.table.item(row, 0).text() for row in range(5)] == ["C2", "E2 −14", "G2 +2", "C3", "C4"]
    said = [logged.finding for logged in window.session.book.findings_of_run(
        window.session.book.runs(window.session.in_hand.id, "Tracking")[0].id)]
    follow = next(finding for finding in said if finding.quantity == "key_follow_percent")
    table = window.tracking_presenter._table.tracking.readings
    keys = np.log2([65.406, 65.406 * 5 / 4, 65.406 * 2 ** (702 / 1200), 130.8, 261.6256])
    assert follow.value == pytest.approx(100 * np.polyfit(keys, np.log2(table.frequency_hz), 1)[0], abs=0.01)
    assert "follows the keys by" in sentence(follow)
    assert not {"droop_cents", "leak_cents"} & {finding.quantity for finding in said}  # too few octaves
    before = window.tracking_presenter.setting
    for wrong, why in (("C2 H9", "not a frequency"), ("C4", "at least two"), ("C4 C4", "at least two"),
                       ("1e-9 C4", "more than 12 V"), ("5/0 C3", "no step of a scale")):
        window.tracking_presenter.change(scale=wrong)
        assert why in window.notice.text(), wrong
    assert window.tracking_presenter.setting == before
    window.undo()
    window.undo()
    assert window.tracking_presenter.setting.scale == ""


def test_trims_are_turned_by_hand_within_their_ends(window, tracking):
    tracking.trim_page.turns[Trim.OFFSET].entered.emit(-3.5)
    assert window.tracking_presenter.trims[Trim.OFFSET] == -3.5
    tracking.trim_page.turns[Trim.HIGH_FREQUENCY].entered.emit(25.0)
    assert "past its end" in window.notice.text()
    window.undo()
    assert window.tracking_presenter.trims[Trim.OFFSET] == 0.0


def test_one_recording_of_a_staircase_is_dropped(window, tracking, qtbot, tmp_path):
    hertz = [40 * 2 ** (1.004 * v) for v in range(9)]
    write_recording(tmp_path / "hand.wav", Staircase(hertz, glide_s=0.01).recording(), RATE)
    window.open_files([tmp_path / "hand.wav"])
    qtbot.waitUntil(lambda: not window.tracking_presenter.measuring.jobs.busy, timeout=30_000)
    assert tracking.errors.curve("measured").values == pytest.approx(4.8 * np.arange(9), abs=0.05)
    write_recording(tmp_path / "short.wav", Staircase(hertz[1:]).recording(), RATE)
    window.open_files([tmp_path / "short.wav"])
    qtbot.waitUntil(lambda: not window.tracking_presenter.measuring.jobs.busy, timeout=30_000)
    assert "8 steps were found, but 9 volts given" in window.notice.text()
    assert len(window.session.book.runs(window.session.in_hand.id, "Tracking")) == 1


def test_findings_are_kept_and_the_table_is_copied(window, tracking, qtbot):
    measured(window, qtbot)
    tracking.findings.setCurrentRow(0)
    window.keep()
    assert window.session.book.logbook()[0].finding.quantity == "tracking_error_cents"
    tracking.table.copy()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].split("\t")[:3] == ["asked", "volts", "hertz"]
    assert len(lines) == 10
    assert tracking.errors.as_csv().startswith("volts,")


def test_the_calibration_record(window, tracking, qtbot, tmp_path):
    with pytest.raises(JiyuuError, match="Nothing is measured"):
        window.tracking_presenter.write_record(tmp_path / "none.csv")
    tracking.trim_page.note.setText("scale at 2 o'clock")
    tracking.trim_page.note.returnPressed.emit()
    measured(window, qtbot)
    window.tracking_presenter.write_record(tmp_path / "record.json")
    kept = json.loads((tmp_path / "record.json").read_text(encoding="utf-8"))
    assert kept["trims_noted"] == "scale at 2 o'clock"
    assert kept["temperature_c"] == 25.0
    assert len(kept["volts"]) == len(kept["error_cents"]) == 9
    window.tracking_presenter.write_record(tmp_path / "record.csv")
    assert (tmp_path / "record.csv").read_text(encoding="utf-8").count("\n") > 18
    with pytest.raises(JiyuuError, match=r"\.csv or a \.json"):
        window.tracking_presenter.write_record(tmp_path / "record.txt")
    assert not (tmp_path / "record.txt").exists()


def test_a_filter_swept_instead(window, tracking, qtbot):
    window.tracking_presenter.change(by_sweeps=True, step_v=2.0)
    assert tracking.ask.how.currentText() == "by sweeps"
    measured(window, qtbot)
    table = window.tracking_presenter._table.tracking
    assert table.readings.volts.tolist() == [0.0, 2.0, 4.0, 6.0]
    assert np.isnan(table.readings.level_v).all()
    assert tracking.table.item(0, 4).text() == ""


def test_warmth_between_two_runs(window, tracking, qtbot):
    measured(window, qtbot)
    tracking.ask.warmth.entered.emit(35.0)
    assert "it was 25 °C, is 35 °C" in tracking.errors._why.toPlainText()
    measured(window, qtbot)
    drawn = draw_unit(window.session.document(), window.session.in_hand.seed).drawn
    assert window.tracking_presenter._table.cents_per_c == pytest.approx(drawn.temperature_cents_per_c, abs=0.01)
    assert "cents per °C" in tracking.errors._note.toPlainText()


def test_the_trims_are_copied_and_saved(window, tracking, qtbot, tmp_path):
    measured(window, qtbot)
    tracking.trims.copy_words()
    assert QGuiApplication.clipboard().text().startswith("Scale trim: ")
    for ending in ("svg", "png", "csv", "txt"):
        tracking.trims.save(tmp_path / f"trims.{ending}")
        assert (tmp_path / f"trims.{ending}").stat().st_size > 100
    table = (tmp_path / "trims.csv").read_text(encoding="utf-8").splitlines()
    assert table[0].startswith("trim,stands_at_turns,turn_by_turns")
    advised = {turn.trim.value: turn.turns for turn in window.tracking_presenter._table.advice.turns}
    assert {row.split(",")[0]: float(row.split(",")[2]) for row in table[1:]} == {
        trim.value: pytest.approx(advised.get(trim.value, 0.0)) for trim in Trim}
    with pytest.raises(JiyuuError, match=r"use \.svg"):
        tracking.trims.save(tmp_path / "trims.doc")


def test_a_figure_that_cannot_be_saved_says_so(window, tracking, monkeypatch, tmp_path):
    for name, words in (("trims.doc", "use .svg"), ("missing/trims.png", "missing")):
        monkeypatch.setattr("jiyuu.desktop.figures.painted.QFileDialog.getSaveFileName",
                            lambda *_, chosen=str(tmp_path / name): (chosen, ""))
        tracking.trims._choose()
        assert words in window.notice.text()
    assert list(tmp_path.glob("trims*")) == []


def test_marks_keep_their_shape_and_the_night_its_colours(window, tracking, qtbot):
    measured(window, qtbot)
    window.turn_theme()
    assert tracking.errors.curve("measured") is not None
    assert tracking.trims.accessibleDescription().startswith("Scale trim")
