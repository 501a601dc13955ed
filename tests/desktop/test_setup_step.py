"""The Setup step in the real window: what is typed moves the figures, can be undone, and says what is wrong."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.book.walk import StepState
from jiyuu.circuits.linear import complex_gain
from jiyuu.desktop.figures.reach_figure import TOGETHER
from jiyuu.quantities import volts_of
from tests.desktop.test_circuit_page import typed


@pytest.fixture
def setup(window):
    window.go("Setup")
    return window.setup


def advice(setup):
    return [setup.advice.item(i).text() for i in range(setup.advice.count())]


def test_a_held_voltage_opens_the_filter_and_is_blamed_for_the_dead_travel(window, setup):
    page = setup.cutoff_page
    typed(page.cvs[0][0], "100")
    typed(page.cvs[0][1], "5")
    assert window.session.setup().cvs[0].amount_percent == 100
    assert any("Knob: the upper" in line and "CV 1 (+5.0 octaves)" in line for line in advice(setup))
    assert "CV 1 at +100 %, standing at +5.0 V" in setup.checklist.text()
    # The bar of the CV ends where knob and voltage add up to, or at the ear's limit before it.
    band = setup.reach._moving.bands["CV 1"].outline.boundingRect()
    assert band.left() == pytest.approx(volts_of(820.0), abs=1e-6)
    assert band.right() == pytest.approx(min(volts_of(820.0) + 5, volts_of(20_000)), abs=1e-6)
    window.undo()
    window.undo()
    assert not any("CV 1" in line for line in advice(setup))


def test_neutral_is_one_act(window, setup):
    typed(setup.cutoff_page.follow, "100")
    typed(setup.source_page.drive, "6")
    assert window.session.settings()["resonance_percent"] == 45
    QTest.keyClick(window, Qt.Key.Key_N)
    assert window.session.settings()["resonance_percent"] == 0
    assert setup.checklist.text().startswith("Neutral")
    assert not setup.neutral.isEnabled()
    window.undo()
    assert window.session.settings()["resonance_percent"] == 45
    assert window.session.setup().drive_db == 6
    assert "Key follow at 100 %" in setup.checklist.text()


def test_lines_in_and_out_differ_by_the_response(window, setup):
    source, output = setup.spectrum.curve("source"), setup.spectrum.curve("output")
    document, now = window.session.document(), window.session.settings()
    exact = complex_gain(document.network(), source.places, cutoff_hz=now["cutoff_hz"],
                         gain=document.gain_at(now["resonance_percent"]), modes=[now["mode"]])[0]
    assert source.places == pytest.approx(110.0 * np.arange(1, source.places.size + 1))
    shown = (output.values - source.values)[:40]
    assert shown == pytest.approx(20 * np.log10(np.abs(exact))[:40], abs=0.05)


def test_every_source_can_be_chosen_and_is_drawn(window, setup):
    row = setup.source_page.rows[0]
    for kind in ("square", "pulse", "triangle", "sine", "white noise", "pink noise", "chord", "tide figure",
                 "wave wash"):
        row.kind.setCurrentText(kind)
        row.kind.textActivated.emit(kind)
        assert window.session.setup().inputs[0].kind.value == kind
        assert np.abs(setup.trace.curve("source").values).max() > 0.1
        assert window.path.accessibleDescription().startswith(f"source, {kind}")
        assert row.pitch.isEnabled() == (kind not in ("white noise", "pink noise", "wave wash"))
        assert row.pulse_width.isHidden() == (kind != "pulse")


def test_inputs_are_mixed_and_taken_away(window, setup):
    setup.source_page.more.click()
    assert len(window.session.setup().inputs) == 2
    assert "2 inputs mixed" in setup.checklist.text()
    setup.source_page.rows[0].away.click()
    assert [source.kind.value for source in window.session.setup().inputs] == ["sine"]


def test_what_cannot_be_is_said_and_not_taken(window, setup):
    before = window.session.setup()
    for field, text, words in (("drive", "99", "drive_db"), ("drive", "6 V", "is not in dB"),
                               ("limit", "0", "next_limit_v"), ("drive", "soup", "not a number")):
        typed(getattr(setup.source_page, field), text)
        assert words in window.notice.text()
        assert window.session.setup() == before


def test_a_source_of_no_volts_is_no_trouble(window, setup, qtbot):
    typed(setup.source_page.rows[0].level, "0")
    assert window.session.setup().inputs[0].level_v == 0
    window.go("Resonance")
    qtbot.waitUntil(lambda: window.resonance_presenter._studied is not None, timeout=60_000)
    qtbot.waitUntil(lambda: not window.resonance_presenter.jobs.busy, timeout=60_000)
    assert np.isfinite(window.resonance_presenter._studied.output.output_db).all()


def test_limits_the_wrong_way_round_are_refused(window, setup):
    before = window.session.setup()
    typed(setup.cutoff_page.limits[0], "30k")
    assert "must lie under its highest" in window.notice.text()
    assert window.session.setup() == before
    assert setup.cutoff_page.limits[0].text() == "16.00 Hz"


def test_dragging_the_knob_moves_the_figures_and_not_yet_the_book(window, setup):
    before = setup.reach._moving.line_names()
    setup.reach.cutoff_line.setValue(3.0)
    setup.reach.cutoff_dragged.emit(2093.0)
    assert window.session.settings()["cutoff_hz"] == 820.0
    assert setup.reach._moving.line_names() == before
    setup.reach.cutoff_dropped.emit(2093.0)
    assert window.session.settings()["cutoff_hz"] == 2093.0


def test_levels_are_measured_and_kept(window, setup, qtbot):
    with qtbot.waitSignal(window.setup_presenter.measuring.jobs.finished, timeout=60_000):
        QTest.keyClick(window, Qt.Key.Key_M)
    assert window.session.states()["Setup"] is StepState.DONE
    assert "Output peak" in setup.findings.item(0).text()
    setup.findings.setCurrentRow(0)
    QTest.keyClick(window, Qt.Key.Key_K)
    assert [entry.step for entry in window.session.book.logbook()] == ["Setup"]


def test_the_plan_walks_stops_and_goes_on(window, setup, qtbot):
    window.session.take(5)  # one mode: the shortest walk
    plan = setup.plan
    assert plan.steps.count() == 10
    assert "1  Setup: open" in plan.steps.item(0).text()
    walking = window.walking
    plan.do.click()
    qtbot.waitUntil(lambda: window.session.states()["Response"] is not StepState.OPEN, timeout=120_000)
    plan.stop.click()
    qtbot.waitUntil(lambda: not walking.jobs._living, timeout=60_000)
    assert "start again" in window.notice.text()
    assert "1  Setup: open" not in plan.steps.item(0).text()
    with qtbot.waitSignal(walking.jobs.finished, timeout=120_000):
        plan.do.click()
    assert len(window.session.book.runs(window.session.in_hand.id, "Setup")) == 1  # done once, not again
    assert window.session.states()["Resonance"] is StepState.DONE
    plan.go.emit("Resonance")
    assert window.step == "Resonance"


def test_the_reach_reads_under_the_pointer_and_saves_as_a_table(window, setup, tmp_path):
    figure = setup.reach
    row = figure._rows.names.index(TOGETHER)
    assert "together 16.00 Hz to 22.00 kHz" in figure.reading_at(0.0, float(row))
    assert "all of its travel is of use" in figure.reading_at(0.0, float(figure._rows.names.index("Fine")))
    for ending in ("csv", "svg", "png"):
        figure.save(tmp_path / f"reach.{ending}")
        assert (tmp_path / f"reach.{ending}").stat().st_size > 100
    assert (tmp_path / "reach.csv").read_text().startswith("control,low_hz,high_hz,now_hz")
