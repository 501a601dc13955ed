"""The window where there is little to show or nothing may be written, and the small parts it is made of."""

import sqlite3
import threading
import time

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFontMetrics, QPen
from PyQt6.QtTest import QTest

from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.layer import bends, polygon_of
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.rulers import HIGHEST_V, LOWEST_V, HertzAxis, NoteAxis
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.jobs import Crew, Jobs
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.quantities import parse_frequency


def test_an_empty_book_says_what_to_do_and_nothing_breaks(open_window, tmp_path, qtbot):
    Book.create(tmp_path / "empty.jiyuu").close()
    window = open_window(tmp_path / "empty.jiyuu")
    for key in (Qt.Key.Key_M, Qt.Key.Key_B, Qt.Key.Key_K):
        QTest.keyClick(window, key)
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Right)
    window.view("response").presenter.try_cutoff(500.0)
    window.view("response").presenter.set_parameter("compensation", 1.0)
    window.view("response").presenter.set_component("capacitor_f", 1e-9)
    window.view("response").presenter.prefer_capacitor("E12")
    window.undo()
    window.go("logbook")
    window.view("response").presenter.measure()
    assert "no filter on the shelf" in window.tidings.text()
    window.files.open([tmp_path / "a.wav", tmp_path / "b.wav"])
    assert "no filter on the shelf" in window.tidings.text()


@pytest.mark.long
def test_a_book_that_may_only_be_read_is_shown_and_says_why_it_keeps_nothing(open_window, book_path, qtbot):
    connection = sqlite3.connect(book_path)
    connection.execute("PRAGMA journal_mode = DELETE")
    connection.execute("PRAGMA user_version = 99")
    connection.commit()
    connection.close()
    before = book_path.read_bytes()
    window = open_window(book_path)
    assert "read only" in window.windowTitle()
    assert "lowpass-24" in window.view("response").level.shown_names()
    with qtbot.captureExceptions() as caught:
        QTest.keyClick(window.view("response").level, Qt.Key.Key_Right)
    assert all("reading only" in str(error) for _, error, _ in caught)
    assert len(caught) == 1
    with qtbot.waitSignal(window.measuring.jobs.failed, timeout=60_000) as told:
        window.view("response").presenter.measure()
    assert "reading only" in told.args[0]
    window.close()
    assert book_path.read_bytes() == before


def test_one_filter_alone_has_nothing_to_stand_beside(open_window, tmp_path):
    book = Book.create(tmp_path / "one.jiyuu")
    book.add_filter("A", Filter(name="Fog voice", circuit="lowpass-gate"), seed=1)
    book.close()
    window = open_window(tmp_path / "one.jiyuu")
    beside = window.view("response").form.beside
    assert [beside.itemText(i) for i in range(beside.count())] == ["none"]
    assert {"filter", "level", "both"} <= set(window.view("response").level.shown_names())


# Jobs


@pytest.fixture
def jobs(qtbot):
    crew = Crew()
    yield Jobs(crew, "testing")
    crew.call_off()
    qtbot.waitUntil(lambda: not crew.busy)


def test_a_job_tells_its_steps_and_ends_once(jobs, qtbot):
    steps, ends = [], []
    jobs.stepped.connect(steps.append)
    for name in ("finished", "cancelled"):
        getattr(jobs, name).connect(lambda name=name: ends.append(name))
    with qtbot.waitSignal(jobs.finished):
        jobs.start(lambda: iter([1, 2, 3]))
    assert steps == [1, 2, 3]
    assert ends == ["finished"]
    assert not jobs.busy


@pytest.mark.parametrize(("error", "words"), [(MeasurementError("raise the level"), "raise the level"),
                                              (ValueError("odd"), "Something went wrong inside")])
def test_a_job_that_fails_says_so(jobs, qtbot, error, words, capfd):
    def steps():
        yield 1
        raise error

    with qtbot.waitSignal(jobs.failed) as told:
        jobs.start(steps)
    assert words in told.args[0]


def test_late_results_of_an_overtaken_job_are_dropped(jobs, qtbot):
    gate, seen = threading.Event(), []
    jobs.stepped.connect(seen.append)

    def slow():
        gate.wait(5)
        yield "old"

    jobs.start(slow)
    with qtbot.waitSignal(jobs.finished):
        jobs.start(lambda: iter(["new"]))
        gate.set()
    time.sleep(0.05)
    qtbot.wait(50)
    assert seen == ["new"]


# Typed values and figures


@pytest.fixture
def field(qtbot):
    made = TypedValue("Cutoff", parse=parse_frequency, show=lambda v: f"{v:.1f} Hz",
                      stepped=lambda v, way, fine: v + way * (0.1 if fine else 1.0))
    qtbot.addWidget(made)
    made.set_value(440.0)
    made.show()
    return made


def test_arrows_step_and_shift_makes_them_fine(field, qtbot):
    seen = []
    field.entered.connect(seen.append)
    QTest.keyClick(field, Qt.Key.Key_Up)
    QTest.keyClick(field, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert seen == [441.0, 439.9]


def test_what_is_being_typed_is_not_overwritten(field):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "1k")
    field.set_value(300.0)
    assert field.text() == "1k"
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "300.0 Hz"


def test_a_polyline_keeps_to_its_curve_with_few_corners():
    x = np.linspace(0, 10, 481)
    for y in (1 / (1 + (x - 5) ** 2 * 8), -24 * np.maximum(x - 4, 0), np.sin(3 * x)):
        kept = bends(y, 0.002)
        assert np.abs(np.interp(x, x[kept], y[kept]) - y).max() < 0.01
        assert kept[[0, -1]].all()
    assert bends(2 * x, 0.002).sum() < 20


def test_a_polygon_holds_the_points_it_was_given():
    polygon = polygon_of(np.array([0.0, 1.5]), np.array([-2.0, 4.0]))
    assert [(p.x(), p.y()) for p in polygon] == [(0.0, -2.0), (1.5, 4.0)]


@pytest.fixture
def figure(qtbot):
    made = FrequencyFigure(title="Level, dB", unit="dB", level_steps=(6.0, 12.0), strong_step=12.0)
    qtbot.addWidget(made)
    made.resize(600, 300)
    made.show()
    return made


@pytest.mark.parametrize("size", [(600, 300), (280, 140)], ids=["wide", "narrow"])
@pytest.mark.parametrize("note", ["", "A note that takes two lines where the figure is as narrow as here"])
def test_what_is_written_over_a_figure_lies_on_no_curve(figure, note, size):
    figure.resize(*size)
    hz = np.geomspace(20, 20_000, 500)
    figure.show_curve(PlotCurve("one", hz, -3 - np.maximum(40 * np.log10(hz / 1000), 0)), QPen(),
                      labelled=True)
    figure.set_levels(-60.0, 0.5)
    figure.say_note(note, brief=note[:6])
    assert not figure.captions.covers()
    assert figure.captions.note == note
    top = figure.view.viewRange()[1][1]
    assert 0.5 < top < 0.5 + 1.3 * 60.5  # the curve keeps nearly half of the height
    figure.show_curve(PlotCurve("one", hz, np.full(hz.size, -30.0)), QPen(), labelled=True)
    figure.place_labels()
    assert figure.view.viewRange()[1][1] == pytest.approx(0.5)


def test_a_curve_beside_a_short_note_and_under_the_title_gets_room(figure):
    hz = np.geomspace(20, 20_000, 2000)
    beyond = hz[hz > 31]  # right of the note's letter
    figure.set_levels(-60.0, 0.5)
    figure.show_curve(PlotCurve("one", beyond, np.full(beyond.size, -1.0)), QPen())
    figure.show_curve(PlotCurve("two", hz, np.full(hz.size, -59.0)), QPen())
    figure.say_note("A")
    assert not figure.captions.covers()


def test_a_note_that_would_leave_little_of_the_curves_is_left_out(figure):
    figure.resize(280, 100)
    hz = np.geomspace(20, 20_000, 500)
    figure.show_curve(PlotCurve("one", hz, np.linspace(0, -60, 500)), QPen())
    figure.show_curve(PlotCurve("two", hz, np.linspace(-60, -30, 500)), QPen())
    figure.set_levels(-60.0, 0.5)
    figure.say_note("A note")
    assert not figure.captions.covers()
    assert "A note" in figure.words()


@pytest.mark.parametrize("scale", [1.0, 1.5, 2.0])
@pytest.mark.parametrize("length", [200, 350, 500, 900])
def test_numbers_at_a_ruler_keep_apart_in_every_type(scale, length):
    THEME.apply("paper", scale=scale)
    metrics = QFontMetrics(THEME.font(px=SMALL_PX))
    for axis in (HertzAxis(), NoteAxis()):
        (spacing, places), *_ = axis.tickValues(LOWEST_V, HIGHEST_V, length)
        names = axis.tickStrings(places, 1.0, spacing)
        middles = (np.array(places) - LOWEST_V) / (HIGHEST_V - LOWEST_V) * length
        halves = [metrics.horizontalAdvance(name) / 2 for name in names]
        assert len(names) > 1
        for i in range(len(names) - 1):
            assert middles[i] + halves[i] < middles[i + 1] - halves[i + 1]


def test_values_of_several_curves_are_copied_as_one_table(figure):
    from PyQt6.QtGui import QGuiApplication, QPen

    hz = np.array([100.0, 200.0, 400.0])
    figure.show_curve(PlotCurve("one", hz, np.array([0.0, -1.0, -2.0])), QPen())
    figure.show_curve(PlotCurve("two", hz[:2], np.array([5.0, 6.0])), QPen(), still=True)
    figure.copy_values()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0] == "frequency_hz\tone_db\ttwo_db"
    assert lines[2].split("\t") == ["200", "-1", "6"]
    figure.forget("one", "two")
    assert figure.as_csv() == ""


def test_a_figure_is_saved_only_under_an_ending_it_knows(figure, tmp_path):
    with pytest.raises(JiyuuError, match=r"\.svg, \.png, \.pdf, \.csv or \.txt"):
        figure.save(tmp_path / "figure.doc")
    with pytest.raises(JiyuuError, match="not a folder"):
        figure.save(tmp_path / "nowhere" / "figure.svg")
    assert list(tmp_path.glob("figure*")) == []


@pytest.mark.parametrize("lines", [0, 1, 300])
def test_a_spectrum_is_drawn_however_many_lines_it_has(qtbot, lines):
    figure = SpectrumFigure("Harmonics, dB re 1 V")
    qtbot.addWidget(figure)
    figure.resize(400, 300)
    figure.show()
    bare = figure.grab().toImage()
    figure.show_lines("source", 40.0 * np.arange(1, lines + 1), np.zeros(lines), QPen(Qt.GlobalColor.black, 2))
    assert (figure.grab().toImage() != bare) == (lines > 0)
