"""The Resonance step in the real window: map, slice, curves against the control, taper, measurement."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtTest import QTest

from jiyuu.bench.setup import SourceSetting
from jiyuu.bench.walk import StepState
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.desktop.figures.contours import ToneScale
from jiyuu.desktop.figures.movable_line import captions_px
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.prediction.resonance import MAP_HZ
from jiyuu.prediction.resonance_levels import studied
from tests.desktop.using import measured, settled, typed

OPENS_AT = "resonance"


@pytest.fixture
def resonance(window, qtbot):
    window.go("resonance")
    settled(window, qtbot)
    return window.view("resonance")


def test_the_slice_is_the_response_at_the_position(window, resonance):
    document, now = window.session.standing().filter, window.session.standing()
    exact = level_db(complex_gain(document.network(), MAP_HZ, cutoff_hz=now.cutoff_hz,
                                  gain=document.gain_at(45.0), modes=[now.mode]))[0]
    assert resonance.slice.curve("at this position").values == pytest.approx(exact, abs=0.02)


def test_map_and_slice_follow_a_drag_and_the_book_waits(window, resonance, qapp):
    for percent in np.linspace(20, 80, 9):
        resonance.map.position_dragged.emit(float(percent))
        resonance.map.cutoff_dragged.emit(800.0 + float(percent))
        qapp.processEvents()
    assert resonance.map.slice_line.value() == pytest.approx(80.0)
    assert window.session.standing().resonance_percent == 45  # not dropped yet


def test_keys_and_audition_points_move_the_position(window, resonance):
    QTest.keyClick(resonance.map, Qt.Key.Key_Up)
    assert window.session.standing().resonance_percent == 46
    QTest.keyClick(resonance.map, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert window.session.standing().resonance_percent == pytest.approx(45.9)
    resonance.audition["¾"].click()
    assert window.session.standing().resonance_percent == 75
    assert resonance.audition["¾"].isChecked()
    QTest.keyClick(resonance.curves, Qt.Key.Key_Left)
    assert window.session.standing().resonance_percent == 74
    typed(resonance.resonance, "12 %")
    assert window.session.standing().resonance_percent == 12


def test_the_curves_are_those_of_the_study(window, resonance):
    study = window.view("resonance").presenter.latest.study
    assert resonance.curves.curve("body").values == pytest.approx(study.curves.body_db)
    assert resonance.curves.curve("body, compensation 1").values == pytest.approx(np.zeros(41), abs=0.6)
    assert resonance.curves.curve("output, simulated").places.size == 21
    said = [resonance.findings.item(i).text() for i in range(resonance.findings.count())]
    assert any(text.startswith("Self-oscillates from 90.9 %") for text in said)
    assert any("of the change " in text for text in said)
    assert any("the next module (±5 V)" in text for text in said)
    assert "low end −9.1 dB" in resonance.heading.text()


def test_the_even_taper_is_tried_and_taken_back(window, resonance, qtbot):
    before = window.view("resonance").presenter.latest.study.taper.evenness
    resonance.propose.click()
    qtbot.waitUntil(lambda: window.view("resonance").presenter.latest.study.taper.evenness != before, timeout=20_000)
    assert window.view("resonance").presenter.latest.study.taper.evenness < before
    assert resonance.taper.currentText() == "table"
    assert "Ctrl+Z takes it back" in window.tidings.text()
    window.undo()
    assert resonance.taper.currentText() == "as built"
    resonance.taper.textActivated.emit("log")
    assert window.session.standing().filter.resonance_taper == "log"


def test_a_notch_has_no_taper_and_says_so(window, resonance, qtbot):
    window.session.take(1)
    window.view("resonance").presenter.set_mode("notch")
    qtbot.waitUntil(lambda: "no peak" in resonance.curves.captions.note, timeout=60_000)
    resonance.propose.click()
    assert "no taper to propose" in window.tidings.text()


@pytest.mark.long
def test_a_measured_unit_stands_beside_its_drawing_and_is_kept(window, resonance, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        QTest.keyClick(window, Qt.Key.Key_M)
    assert window.session.states()["resonance"] is StepState.DONE
    measured = resonance.curves.curve("body measured")
    drawn = resonance.curves.curve("body")
    assert {"body measured", "peak measured"} <= set(resonance.curves.dotted_names())  # and nothing in between
    assert measured.values == pytest.approx(np.interp(measured.places, drawn.places, drawn.values), abs=1.5)
    window.view("resonance").presenter.set_resonance(20.0)  # a position of the control does not make its curve old
    assert window.session.states()["resonance"] is StepState.DONE
    resonance.findings.setCurrentRow(0)
    QTest.keyClick(window, Qt.Key.Key_K)
    assert window.session.book.logbook()[0].step == "resonance"
    window.view("resonance").presenter.set_cutoff(900.0)
    assert window.session.states()["resonance"] is StepState.STALE
    assert "out of date: cutoff was" in resonance.curves.captions.why


def test_the_map_reads_saves_and_zooms(window, resonance, tmp_path):
    figure = resonance.map
    text = figure.reading_at(np.log2(820 / 261.6255653), 45.0)
    level = float(np.interp(820.0, MAP_HZ, figure.map.slice_db("lowpass-24", 45.0)))
    assert "resonance 45.0 %" in text
    assert f"{abs(level):.1f} dB" in text
    for ending in ("csv", "svg", "png"):
        figure.save(tmp_path / f"map.{ending}")
    table = np.genfromtxt(tmp_path / "map.csv", delimiter=",", skip_header=1)
    assert table.shape == (480, 201)
    assert table[:, 91] == pytest.approx(figure.map.level_db[0][90], abs=1e-4)
    QTest.keyClick(figure, Qt.Key.Key_Plus)
    assert np.diff(figure.view.viewRange()[1]) < 100
    QTest.keyClick(figure, Qt.Key.Key_Home)
    assert figure.view.viewRange()[1] == pytest.approx([0, 100])


def test_both_themes_draw_the_map(window, resonance):
    for _ in range(2):
        picture = resonance.map.grab().toImage()
        assert len({picture.pixel(x, 200) for x in range(60, picture.width() - 20, 7)}) > 6
        window.menus.turn_theme()


def test_every_mode_is_seen_and_chosen_on_the_strip(window, resonance, qtbot):
    strip = resonance.modes
    modes = window.session.standing().filter.entry.modes
    assert [line.split(":")[0] for line in strip.words()] == list(modes)
    assert "peak at" in strip.words()[0]
    box = strip.boxes()[modes.index("notch")]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=box.center())
    assert window.session.standing().mode == "notch"
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Left)
    before = modes[modes.index("notch") - 1]
    assert window.session.standing().mode == before
    assert resonance.mode.currentText() == before
    rows = [row.split(",") for row in strip.as_csv().splitlines()]
    assert [row[0] for row in rows[1:]] == list(modes)
    document, now = window.session.standing().filter, window.session.standing()
    highest = level_db(complex_gain(document.network(), MAP_HZ[::3], cutoff_hz=now.cutoff_hz, gain=0.0,
                                    modes=[modes[0]]))[0].max()
    assert float(rows[1][3]) == pytest.approx(highest, abs=0.01)
    picture = strip.grab().toImage()
    whole, notch = (picture.copy(strip.boxes()[i]) for i in (0, modes.index("notch")))
    assert whole != notch
    window.menus.turn_theme()
    assert strip.grab().toImage().copy(strip.boxes()[0]) != whole
    inside = strip.boxes()[0].center()
    assert strip.grab().toImage().pixelColor(inside).lightness() < picture.pixelColor(inside).lightness()
    window.menus.turn_theme()


@pytest.mark.long
def test_the_strip_is_put_away_where_there_is_one_mode(window, resonance, qtbot):
    for i, shelved in enumerate(window.session.shelf):
        window.session.take(i)
        settled(window, qtbot)
        count = len(shelved.document.entry.modes)
        assert resonance.modes.isHidden() == (count == 1)
        assert len(resonance.modes.boxes()) == count


@pytest.mark.long
def test_as_many_positions_as_are_asked_for_are_swept(window, resonance, qtbot):
    typed(resonance.positions, "6")
    assert window.session.setting(resonance.step).positions == 6
    measured(window, qtbot)
    swept = resonance.presenter.tables["resonance"]["position_percent"]
    assert swept.tolist() == [0.0, 20.0, 40.0, 60.0, 80.0]  # from 100 % on it whistles
    assert resonance.presenter.run.setting["positions"] == 6
    for text in ("4", "102", "many"):
        typed(resonance.positions, text)
        assert window.tidings.text()
        assert window.session.setting(resonance.step).positions == 6
    window.session.undo()
    assert window.session.setting(resonance.step).positions == 21


@pytest.mark.long
def test_what_stood_like_this_before_is_not_computed_again(window, resonance, qtbot, monkeypatch):
    seen = []

    def counted(*arguments, **named):
        seen.append(named["cutoff_hz"])
        return studied(*arguments, **named)

    monkeypatch.setattr("jiyuu.desktop.steps.resonance.presenter.studied", counted)
    for hertz in (777.25, 431.5):  # that nobody else asks for
        resonance.presenter.set_knob(hertz)
        settled(window, qtbot)
    there = resonance.presenter.latest
    assert seen == [777.25, 431.5]
    window.session.undo()
    settled(window, qtbot)
    window.session.redo()
    settled(window, qtbot)
    assert len(seen) <= 3  # both moves were one act: undone, it stands where the book had it
    assert resonance.presenter.latest is there
    # A file that is played may be another one next time.
    setup = window.session.standing().setup
    assert not setup.reads_files
    assert setup.changed(inputs=(SourceSetting(path="/nowhere.wav"),)).reads_files


@pytest.mark.parametrize("scale", [1.0, 2.0])
def test_the_scale_of_tones_hides_none_of_the_map(window, resonance, qtbot, scale):
    THEME.apply("paper", scale=scale)
    settled(window, qtbot)
    figure = resonance.map
    (tones,) = (item for item in figure.items() if isinstance(item, ToneScale))
    place, room = tones.sceneBoundingRect(), figure.view.sceneBoundingRect()
    assert place.left() >= room.right() - 1  # of a view a pen's half is outside
    assert place.right() <= figure.viewRect().right()
    # The number widest of all is whole.
    assert place.width() > QFontMetrics(THEME.font(px=SMALL_PX)).horizontalAdvance("0 dB") + 13


@pytest.mark.parametrize("scale", [1.0, 2.0])
def test_what_the_onset_says_stands_in_the_map(window, resonance, qtbot, scale):
    THEME.apply("paper", scale=scale)
    settled(window, qtbot)
    view = resonance.map.view
    places = [place for place in captions_px(view) if place[1] < 0.4 * view.height()]  # the others stand lower
    assert places
    tall = QFontMetrics(THEME.font(px=SMALL_PX, bold=True)).height()
    assert all(0.4 * tall < y < view.height() for _, y, _ in places)
