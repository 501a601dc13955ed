"""The Tracking step in the real window: the table, what to turn, turning and reading again, recordings, the record."""

import json

import numpy as np
import pytest
from PyQt6.QtGui import QGuiApplication

from jiyuu.bench.walk import StepState
from jiyuu.circuits.trims import Trim
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import JiyuuError
from jiyuu.signals.recordings import write_recording
from jiyuu.wording.findings import sentence
from tests.desktop.using import measured, settled, typed
from tests.staircase import Staircase

OPENS_AT = "tracking"

RATE = 48_000


@pytest.fixture
def tracking(window):
    window.go("tracking")
    return window.view("tracking")


def test_before_anything_is_measured_the_builds_are_shown(window, tracking, qtbot):
    settled(window, qtbot)
    assert "95 % of builds" in tracking.errors.captions.note
    assert "95 % of builds" in tracking.errors.band_names()
    assert not tracking.turn.isEnabled()
    assert "Nothing measured yet" in tracking.heading.text()
    window.view("tracking").presenter.turn_as_advised()
    assert "Measure first" in window.tidings.text()


@pytest.mark.long
def test_turn_read_turn(window, tracking, qtbot):
    measured(window, qtbot)
    assert tracking.table.rowCount() == 9
    first = tracking.errors.curve("measured").values
    readings = window.view("tracking").presenter.judged.tracking.readings
    errors = 1200 * (np.log2(readings.frequency_hz / readings.frequency_hz[0]) - readings.volts)
    assert first == pytest.approx(errors)
    assert tracking.table.item(8, 3).text().startswith("✗")
    volts, cents, doubts, left = (
        np.array([float(tracking.table.item(row, column).text().lstrip("✗ ").replace("−", "-")) for row in range(9)])
        for column in (1, 3, 4, 5))
    np.testing.assert_allclose(left, cents - np.polyval(np.polyfit(volts, cents, 1), volts), atol=0.02)
    assert np.all((doubts >= 0.01) & (doubts < 1))
    assert window.session.states()["tracking"] is StepState.OUTSIDE
    texts = tracking.trims.words()
    assert "clockwise" in texts[0]
    assert texts[3] == "Resonance trim: leave"
    assert tracking.errors.curve("once turned") is not None
    tracking.turn.click()
    settled(window, qtbot)
    second = tracking.errors.curve("measured").values
    assert np.abs(second).max() < 5.0 < np.abs(first).max()
    assert tracking.errors.curve("before").values == pytest.approx(first)
    assert window.session.states()["tracking"] is StepState.DONE
    assert window.view("tracking").presenter.trims[Trim.SCALE] != 0
    window.undo()
    assert window.view("tracking").presenter.trims[Trim.SCALE] == 0
    assert "trim turned since" in tracking.errors.captions.why
    assert window.session.states()["tracking"] is StepState.STALE
    assert not tracking.turn.isEnabled()


@pytest.mark.long
def test_range_tolerance_and_reference_are_typed(window, tracking, qtbot):
    tracking.page_choice.button(1).click()
    for field, text in (("from_v", "1 V"), ("to_v", "3"), ("step_v", "0.5"), ("reference_v", "2"),
                        ("tolerance_cents", "20 cents"), ("start_hz", "C2")):
        typed(tracking.ask.fields[field], text)
    assert window.view("tracking").presenter.setting.volts() == (1.0, 1.5, 2.0, 2.5, 3.0)
    measured(window, qtbot)
    table = window.view("tracking").presenter.judged.tracking
    assert table.readings.volts.tolist() == [1.0, 1.5, 2.0, 2.5, 3.0]
    assert table.error_cents[2] == 0
    assert table.tolerance_cents == 20.0
    assert table.readings.frequency_hz[2] == pytest.approx(65.4 * 4, rel=0.05)
    before = window.view("tracking").presenter.setting
    tracking.ask.fields["to_v"].entered.emit(0.0)
    assert "must lie above" in window.tidings.text()
    assert window.view("tracking").presenter.setting == before


@pytest.mark.long
def test_a_scale_is_typed_and_key_follow_found(window, tracking, qtbot):
    tracking.ask.scale.setText("C2 5/4, 702c 130.8 C4")
    tracking.ask.scale.returnPressed.emit()
    assert not tracking.ask.fields["from_v"].isEnabled()
    tracking.ask.fields["key_follow_percent"].entered.emit(50.0)
    assert window.view("tracking").presenter.setting.volts() == pytest.approx(
        [0.5, 0.5 + np.log2(5 / 4) / 2, 0.5 + 0.2925, 1.0, 1.5], abs=1e-3)
    measured(window, qtbot)
    assert [tracking.table.item(row, 0).text() for row in range(5)] == ["C2", "E2 −14", "G2 +2", "C3", "C4"]
    said = [logged.finding for logged in window.session.book.findings_of_run(
        window.session.book.runs(window.session.in_hand.id, "tracking")[0].id)]
    follow = next(finding for finding in said if finding.quantity == "key_follow_percent")
    table = window.view("tracking").presenter.judged.tracking.readings
    keys = np.log2([65.406, 65.406 * 5 / 4, 65.406 * 2 ** (702 / 1200), 130.8, 261.6256])
    assert follow.value == pytest.approx(100 * np.polyfit(keys, np.log2(table.frequency_hz), 1)[0], abs=0.01)
    assert "follows the keys by" in sentence(follow)
    assert not {"droop_cents", "leak_cents"} & {finding.quantity for finding in said}  # too few octaves
    before = window.view("tracking").presenter.setting
    for wrong, why in (("C2 H9", "not a frequency"), ("C4", "at least two"), ("C4 C4", "at least two"),
                       ("1e-9 C4", "more than 12 V"), ("5/0 C3", "no step of a scale")):
        window.view("tracking").presenter.ask(scale=wrong)
        assert why in window.tidings.text(), wrong
    assert window.view("tracking").presenter.setting == before
    window.undo()
    window.undo()
    assert window.view("tracking").presenter.setting.scale == ""


def test_trims_are_turned_by_hand_within_their_ends(window, tracking):
    tracking.trim_page.turns[Trim.OFFSET].entered.emit(-3.5)
    assert window.view("tracking").presenter.trims[Trim.OFFSET] == -3.5
    tracking.trim_page.turns[Trim.HIGH_FREQUENCY].entered.emit(25.0)
    assert "past its end" in window.tidings.text()
    window.undo()
    assert window.view("tracking").presenter.trims[Trim.OFFSET] == 0.0


@pytest.mark.long
def test_one_recording_of_a_staircase_is_dropped(window, tracking, qtbot, tmp_path):
    hertz = [40 * 2 ** (1.004 * v) for v in range(9)]
    write_recording(tmp_path / "hand.wav", Staircase(hertz, glide_s=0.01).recording(), RATE)
    window.files.open([tmp_path / "hand.wav"])
    settled(window, qtbot)
    assert tracking.errors.curve("measured").values == pytest.approx(4.8 * np.arange(9), abs=0.05)
    write_recording(tmp_path / "short.wav", Staircase(hertz[1:]).recording(), RATE)
    window.files.open([tmp_path / "short.wav"])
    settled(window, qtbot)
    assert "8 steps were found, but 9 volts given" in window.tidings.text()
    assert len(window.session.book.runs(window.session.in_hand.id, "tracking")) == 1


def test_findings_are_kept_and_the_table_is_copied(window, tracking, qtbot):
    measured(window, qtbot)
    tracking.findings.setCurrentRow(0)
    window.shown.keep_current()
    assert window.session.book.logbook()[0].finding.quantity == "tracking_error_cents"
    tracking.table.copy()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].split("\t")[:3] == ["asked", "volts", "hertz"]
    assert len(lines) == 10
    assert tracking.errors.as_csv().startswith("volts,")


def test_the_calibration_record(window, tracking, qtbot, tmp_path):
    with pytest.raises(JiyuuError, match="Nothing is measured"):
        window.view("tracking").presenter.write_record(tmp_path / "none.csv")
    tracking.trim_page.note.setText("scale at 2 o'clock")
    tracking.trim_page.note.returnPressed.emit()
    measured(window, qtbot)
    window.view("tracking").presenter.write_record(tmp_path / "record.json")
    kept = json.loads((tmp_path / "record.json").read_text(encoding="utf-8"))
    assert kept["trims_noted"] == "scale at 2 o'clock"
    assert kept["temperature_c"] == 25.0
    assert len(kept["volts"]) == len(kept["error_cents"]) == 9
    window.view("tracking").presenter.write_record(tmp_path / "record.csv")
    assert (tmp_path / "record.csv").read_text(encoding="utf-8").count("\n") > 18
    with pytest.raises(JiyuuError, match=r"\.csv or a \.json"):
        window.view("tracking").presenter.write_record(tmp_path / "record.txt")
    assert not (tmp_path / "record.txt").exists()


@pytest.mark.long
def test_a_filter_swept_instead(window, tracking, qtbot):
    window.view("tracking").presenter.ask(by_sweeps=True, step_v=2.0)
    assert tracking.ask.how.currentText() == "by sweeps"
    measured(window, qtbot)
    table = window.view("tracking").presenter.judged.tracking
    assert table.readings.volts.tolist() == [0.0, 2.0, 4.0, 6.0]
    assert np.isnan(table.readings.level_v).all()
    assert tracking.table.item(0, 6).text() == ""


@pytest.mark.long
def test_warmth_between_two_runs(window, tracking, qtbot):
    measured(window, qtbot)
    tracking.ask.fields["temperature_c"].entered.emit(35.0)
    assert "it was 25 °C, is 35 °C" in tracking.errors.captions.why
    measured(window, qtbot)
    drawn = draw_unit(window.session.standing().filter, window.session.in_hand.seed).drawn
    judged = window.view("tracking").presenter.judged
    assert judged.cents_per_c == pytest.approx(drawn.temperature_cents_per_c, abs=0.01)
    assert "cents per °C" in tracking.errors.captions.note


def test_the_trims_are_copied_and_saved(window, tracking, qtbot, tmp_path):
    measured(window, qtbot)
    tracking.trims.copy_values()
    assert QGuiApplication.clipboard().text().startswith("trim\tstands_at_turns")
    for ending in ("svg", "png", "csv", "txt"):
        tracking.trims.save(tmp_path / f"trims.{ending}")
        assert (tmp_path / f"trims.{ending}").stat().st_size > 100
    table = (tmp_path / "trims.csv").read_text(encoding="utf-8").splitlines()
    assert table[0].startswith("trim,stands_at_turns,turn_by_turns")
    advised = {turn.trim: turn.turns for turn in window.view("tracking").presenter.judged.advice.turns}
    assert {row.split(",")[0]: float(row.split(",")[2]) for row in table[1:]} == {
        trim.value: pytest.approx(advised.get(trim.value, 0.0)) for trim in Trim}
    with pytest.raises(JiyuuError, match=r"use \.svg"):
        tracking.trims.save(tmp_path / "trims.doc")


def test_a_figure_that_cannot_be_saved_says_so(window, tracking, monkeypatch, tmp_path):
    for name, words in (("missing/trims.png", "missing"), ("missing/trims.doc", "missing")):
        monkeypatch.setattr("jiyuu.desktop.file_names.QFileDialog.getSaveFileName",
                            lambda *_, chosen=str(tmp_path / name): (chosen, ""))
        tracking.trims.choose_and_save()
        assert words in window.tidings.text()
    assert list(tmp_path.glob("trims*")) == []


@pytest.mark.long
def test_marks_keep_their_shape_and_the_night_its_colours(window, tracking, qtbot):
    measured(window, qtbot)
    window.menus.turn_theme()
    assert tracking.errors.curve("measured") is not None
    assert tracking.trims.accessibleDescription().startswith("Scale trim")
