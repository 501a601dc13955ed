"""The Setup step in the real window: what is typed moves the figures, can be undone, and says what is wrong."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QTextLayout
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from jiyuu.bench.walk import StepState
from jiyuu.circuits.linear import complex_gain
from jiyuu.desktop.figures.reach_figure import TOGETHER
from jiyuu.desktop.theme.style import STEP
from tests.desktop.using import settled, typed

OPENS_AT = "setup"


@pytest.fixture
def setup(window):
    window.go("setup")
    view = window.view("setup")
    for page in (1, 2, 3, 0):
        view.page_choice.button(page).click()
    return view


def advice(setup):
    return [setup.advice.item(i).text() for i in range(setup.advice.count())]


def test_a_held_voltage_opens_the_filter_and_is_blamed_for_the_dead_travel(window, setup):
    page = setup.cutoff_page
    typed(page.cvs[0].numbers["amount_percent"], "100")
    typed(page.cvs[0].numbers["now_v"], "5")
    assert window.session.standing().setup.cvs[0].amount_percent == 100
    assert any("Knob: the upper" in line and "CV 1 (+5.0 octaves)" in line for line in advice(setup))
    assert "CV 1 at +100 %, standing at +5.0 V" in setup.checklist.text()
    # The bar of the CV ends where knob and voltage add up to, or at the ear's limit before it.
    rows = {row.split(",")[0]: row.split(",")[1:] for row in setup.reach.as_csv().splitlines()}
    assert [float(end) for end in rows["CV 1"][:2]] == pytest.approx([820.0, 820.0 * 2**5], rel=1e-4)
    window.undo()
    window.undo()
    assert not any("CV 1" in line for line in advice(setup))


def test_a_sentence_of_advice_is_never_cut_off(window, setup, qtbot):
    for cv, amount in ((0, "80"), (1, "-40")):
        typed(setup.cutoff_page.cvs[cv].numbers["amount_percent"], amount)
    typed(setup.cutoff_page.cvs[0].numbers["now_v"], "5")
    settled(window, qtbot)
    assert len(advice(setup)) > 3
    font, high = setup.advice.font(), setup.advice.fontMetrics().height()
    for width in range(190, 290, 6):
        setup.advice.setFixedWidth(width)
        QApplication.processEvents()
        for i, text in enumerate(advice(setup)):
            rect = setup.advice.visualItemRect(setup.advice.item(i))
            layout = QTextLayout(text, font)
            layout.beginLayout()
            lines = 0
            while (line := layout.createLine()).isValid():
                line.setLineWidth(setup.advice.viewport().width() - 2 * STEP - 4)
                lines += 1
            layout.endLayout()
            assert rect.height() >= lines * high + 2 * STEP, (width, text)


def test_neutral_is_one_act(window, setup):
    typed(setup.cutoff_page.fields["key_follow_percent"], "100")
    typed(setup.source_page.fields["drive_db"], "6")
    assert window.session.standing().resonance_percent == 45
    setup.reach.setFocus()
    QTest.keyClick(setup.reach, Qt.Key.Key_N)
    assert window.session.standing().resonance_percent == 0
    assert setup.checklist.text().startswith("Neutral")
    assert not setup.neutral.isEnabled()
    window.undo()
    assert window.session.standing().resonance_percent == 45
    assert window.session.standing().setup.drive_db == 6
    assert "Key follow at 100 %" in setup.checklist.text()


def test_lines_in_and_out_differ_by_the_response(window, setup):
    source, output = setup.spectrum.curve("source"), setup.spectrum.curve("output")
    document, now = window.session.standing().filter, window.session.standing()
    exact = complex_gain(document.network(), source.places, cutoff_hz=now.cutoff_hz,
                         gain=document.gain_at(now.resonance_percent), modes=[now.mode])[0]
    assert source.places == pytest.approx(110.0 * np.arange(1, source.places.size + 1))
    shown = (output.values - source.values)[:40]
    assert shown == pytest.approx(20 * np.log10(np.abs(exact))[:40], abs=0.05)


@pytest.mark.long
def test_every_source_can_be_chosen_and_is_drawn(window, setup):
    row = setup.source_page.rows[0]
    for kind in ("square", "pulse", "triangle", "sine", "white noise", "pink noise", "chord", "tide figure",
                 "wave wash", "low knock", "knock figure"):
        row.kind.setCurrentText(kind)
        row.kind.textActivated.emit(kind)
        assert window.session.standing().setup.inputs[0].kind.value == kind
        assert np.abs(setup.trace.curve("source").values).max() > 0.1
        assert window.path.accessibleDescription().startswith(f"source, {kind}")
        assert row.fields["pitch_hz"].isEnabled() == (kind not in ("white noise", "pink noise", "wave wash"))
        assert row.fields["width"].isHidden() == (kind != "pulse")


def test_inputs_are_mixed_and_taken_away(window, setup):
    setup.source_page.more.click()
    assert len(window.session.standing().setup.inputs) == 2
    assert "2 inputs mixed" in setup.checklist.text()
    setup.source_page.rows[0].away.click()
    assert [source.kind.value for source in window.session.standing().setup.inputs] == ["sine"]


def test_what_cannot_be_is_said_and_not_taken(window, setup):
    before = window.session.standing().setup
    for field, text, words in (("drive_db", "99", "Drive of 99 dB is out of range"),
                               ("drive_db", "6 V", "is not in dB"), ("next_limit_v", "0", "out of range"),
                               ("drive_db", "soup", "not a number")):
        typed(setup.source_page.fields[field], text)
        assert words in window.tidings.text()
        assert window.session.standing().setup == before


@pytest.mark.long
def test_a_source_of_no_volts_is_no_trouble(window, setup, qtbot):
    typed(setup.source_page.rows[0].fields["level_v"], "0")
    assert window.session.standing().setup.inputs[0].level_v == 0
    window.go("resonance")
    settled(window, qtbot)
    assert np.isfinite(window.view("resonance").presenter.latest.output.output_db).all()


def test_limits_the_wrong_way_round_are_refused(window, setup):
    before = window.session.standing().setup
    typed(setup.cutoff_page.fields["lowest_hz"], "30k")
    assert "must lie under its highest" in window.tidings.text()
    assert window.session.standing().setup == before
    assert setup.cutoff_page.fields["lowest_hz"].text() == "16.00 Hz"


def test_dragging_the_knob_moves_the_figures_and_not_yet_the_book(window, setup):
    before = setup.reach.shown_names()
    setup.reach.cutoff_line.setValue(3.0)
    setup.reach.cutoff_dragged.emit(2093.0)
    assert window.session.standing().cutoff_hz == 820.0
    assert setup.reach.shown_names() == before
    setup.reach.cutoff_dropped.emit(2093.0)
    assert window.session.standing().cutoff_hz == 2093.0


def test_levels_are_measured_and_kept(window, setup, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        QTest.keyClick(window, Qt.Key.Key_M)
    assert window.session.states()["setup"] is StepState.DONE
    assert "Output peak" in setup.findings.item(0).text()
    setup.findings.setCurrentRow(0)
    QTest.keyClick(window, Qt.Key.Key_K)
    assert [entry.step for entry in window.session.book.logbook()] == ["setup"]


@pytest.mark.long
def test_the_plan_walks_stops_and_goes_on(window, setup, qtbot):
    window.session.take(5)  # one mode: the shortest walk
    plan = setup.plan
    assert plan.steps.count() == 10
    assert "1  Setup: open" in plan.steps.item(0).text()
    plan.do.click()
    qtbot.waitUntil(lambda: window.session.states()["response"] is not StepState.OPEN, timeout=120_000)
    window.tidings.cancel.click()
    qtbot.waitUntil(lambda: not window.session.crew.busy, timeout=60_000)
    qtbot.waitUntil(lambda: "what was measured until then is kept" in window.tidings.text(), timeout=20_000)
    assert "1  Setup: open" not in plan.steps.item(0).text()
    plan.do.click()
    qtbot.waitUntil(lambda: window.session.states()["resonance"] is StepState.DONE, timeout=120_000)
    window.tidings.cancel.click()
    qtbot.waitUntil(lambda: not window.session.crew.busy, timeout=60_000)
    assert len(window.session.book.runs(window.session.in_hand.id, "setup")) == 1  # done once, not again
    plan.go.emit("resonance")
    assert window.step == "resonance"


def test_the_reach_reads_under_the_pointer_and_saves_as_a_table(window, setup, tmp_path):
    figure = setup.reach
    row = figure.rows().index(TOGETHER)
    assert "together 16.00 Hz to 22.00 kHz" in figure.reading_at(0.0, float(row))
    assert "all of its travel is of use" in figure.reading_at(0.0, float(figure.rows().index("Fine")))
    for ending in ("csv", "svg", "png"):
        figure.save(tmp_path / f"reach.{ending}")
        assert (tmp_path / f"reach.{ending}").stat().st_size > 100
    assert (tmp_path / "reach.csv").read_text().startswith("control,low_hz,high_hz,now_hz")


def test_figures_follow_a_hand_and_sentences_wait_until_it_rests(window, setup, qtbot):
    settled(window, qtbot)
    said, peak_v = advice(setup), np.abs(setup.trace.curve("output").values).max()
    setup.presenter.try_cutoff(40.0)
    assert np.abs(setup.trace.curve("output").values).max() < 0.9 * peak_v
    assert advice(setup) == said
    settled(window, qtbot)
    assert advice(setup) != said
    assert "40.00 Hz" in advice(setup)[0]
