"""Where names of curves stand, and pages that are made when they are opened."""

from itertools import pairwise

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QImage, QPen
from PyQt6.QtWidgets import QLabel

from jiyuu.desktop.figures.control_figure import ControlFigure
from jiyuu.desktop.figures.labels import TURN_PX, place_labels
from jiyuu.desktop.figures.layer import PIECE, Label, Layer, pieces_of
from jiyuu.desktop.figures.movable_line import MovableLine, captions_px
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.small_plot import Course, SmallPlot
from jiyuu.desktop.figures.time_figure import TimeFigure
from jiyuu.desktop.figures.tones import ToneMap, Tones
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.notes_list import NotesList
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.inks import PALETTES

WIDE, HIGH = 800, 300
X = np.linspace(0, 1, 2001)


@pytest.fixture
def figure(qtbot):
    made = TimeFigure("Trace, volts")
    qtbot.addWidget(made)
    made.resize(WIDE, HIGH)
    made.show_span(20.0, 0.9)
    made.show()
    qtbot.waitExposed(made)
    return made


def pixels(shown):
    """(high, wide, 3) red, green, blue of a widget or an image."""
    image = shown if isinstance(shown, QImage) else shown.grab().toImage()
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    rows = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), dtype=np.uint8)
    return rows.reshape(image.height(), image.bytesPerLine() // 4, 4)[..., 2::-1].astype(int)


def placed(curves, marks=(), nameless=()):
    """Pixels from the left at which the name of each curve stands, in a view from 0 to 1 and from −1 to 1."""
    labels = {name: Label(name, QColor("black"), QPointF(0, 0)) for name in curves if name not in nameless}
    curves = {name: (X, heights) for name, heights in curves.items()}
    place_labels(labels, curves, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), marks)
    assert all(label.shown for label in labels.values())
    return {name: label.place.x() * WIDE for name, label in labels.items()}


def test_a_name_stands_on_no_mark_where_another_place_would_do():
    """Its curve is farther from the other one at the mark than anywhere else, where there is room for a name too."""
    other = -0.2 * np.ones(X.size)
    bump = 0.5 * np.exp(-((X - 0.5) / 0.08) ** 2)
    usual = placed({"C": bump, "A": other})["C"]
    for mark in (usual, usual - 5, usual + 5):
        assert abs(placed({"C": bump, "A": other}, [mark])["C"] - mark) > 8


@pytest.mark.parametrize("up", [1.0, -1.0])
def test_where_only_its_peak_is_its_own_a_name_stands_over_that(up):
    """Everywhere else the curve is another's: a name on it would hide the peak, or be nobody's."""
    other, peak = -0.1 * up * np.ones(X.size), 0.25 * np.exp(-((X - 0.5) / 0.05) ** 2)
    label = Label("at this position", QColor("black"), QPointF(0, 0))
    curves = {"own": (X, other + up * peak), "other": (X, other)}
    place_labels({"own": label, "other": Label("o", QColor("black"), QPointF(0, 0))}, curves,
                 ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), ())
    assert label.shown
    assert label.under_px * up < 0
    half = 0.5 * QFontMetrics(THEME.font(px=SMALL_PX)).horizontalAdvance(label.text)
    beside = np.abs(X * WIDE - label.place.x() * WIDE) < half
    middle_px = (1.0 - label.place.y()) / 2 * HIGH + label.under_px
    for _, heights in curves.values():
        assert (np.abs((1.0 - heights[beside]) / 2 * HIGH - middle_px) > 8).all()


@pytest.mark.parametrize("periods", [1, 3, 4])
def test_a_name_covers_no_turn_of_a_wave(periods):
    wave = 0.8 * np.sin(2 * np.pi * periods * X)
    turns = (np.arange(2 * periods) + 0.5) / (2 * periods) * WIDE
    assert np.abs(placed({"output": wave})["output"] - turns).min() > TURN_PX + 10


def test_a_name_covers_no_curve_that_has_none_where_another_place_would_do():
    """The ground of a name, half a line of text and more in height, would cut a gap into it."""
    own = np.zeros(X.size)
    usual = placed({"morph": own})["morph"]
    measured = 0.05 * np.ones(X.size)  # 8 pixels off, but for a quarter of the width far from where the name would be
    far = (X > 0.6) if usual < 0.5 * WIDE else (X < 0.4)
    measured[far] = 0.6
    found = placed({"morph": own, "measured": measured}, nameless=["measured"])["morph"]
    assert far[int(found / WIDE * 2000)]
    everywhere = 0.05 * np.ones(X.size)
    everywhere[:20] = 0.6
    assert placed({"morph": own, "measured": everywhere}, nameless=["measured"])["morph"] == usual


def test_a_curve_without_points_has_no_name_and_is_in_nobodys_way():
    labels = {name: Label(name, QColor("black"), QPointF(0, 0)) for name in ("one", "none")}
    nothing = np.zeros(0)
    curves = {"one": (X, 0.1 * X), "none": (nothing, nothing), "nor this": (nothing, nothing)}
    place_labels(labels, curves, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), ())
    assert {name: label.shown for name, label in labels.items()} == {"one": True, "none": False}


def test_a_name_keeps_off_what_is_written_there_already():
    own = {"C": 0.5 * X}
    labels = {"C": Label("C", QColor("black"), QPointF(0, 0))}

    def stands(captions):
        place_labels(labels, {"C": (X, own["C"])}, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), (), captions)
        assert labels["C"].shown
        return labels["C"].place.x() * WIDE, HIGH / 2 * (1 - labels["C"].place.y())

    x, y = stands([])
    for caption in ((x, y, 60.0), (x + 50, y - 8, 60.0)):
        found = stands([caption])
        assert abs(found[0] - caption[0]) > 60 or abs(found[1] - caption[1]) > 16
    assert stands([(x, y + 100, 60.0)]) == (x, y)


def test_who_has_but_one_place_comes_first_where_another_would_take_it():
    """A second curve is farther from the first in the middle than elsewhere, where it has room as well; the last one is
    nowhere but there, a line of text above the first."""
    middle = np.abs(X - 0.5) < 0.025
    curves = {"first": (X, np.zeros(X.size)), "second": (X, np.where(middle, -0.6, -0.06)),
              "last": (X[middle], np.full(middle.sum(), 0.1))}
    for shown in (["first", "second"], ["first", "second", "last"]):
        labels = {name: Label(name, QColor("black"), QPointF(0, 0)) for name in shown}
        place_labels(labels, {name: curves[name] for name in shown}, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), ())
        assert all(label.shown for label in labels.values())
        assert (abs(labels["first"].place.x() - 0.5) < 0.025) is ("last" not in shown)


def test_a_name_keeps_off_the_line_of_an_onset(qtbot):
    made = ControlFigure(title="Pitch", unit="cents", level_steps=(50.0,), strong_step=100.0)
    qtbot.addWidget(made)
    made.resize(WIDE, HIGH)
    made.show()
    qtbot.waitExposed(made)
    made.set_levels(0.0, 100.0)
    percent = np.linspace(0, 100, 101)
    made.show_curve(PlotCurve("predicted", percent, 40 + 0.2 * percent), QPen(), labelled=True)
    made.place_labels()
    usual = made.names_at()["predicted"]
    half = 0.5 * QFontMetrics(THEME.font(px=SMALL_PX)).horizontalAdvance("predicted") / made.view.width() * 100
    for onset, keeps_off in ((usual, True), (usual + half / 2, True), (usual + 4 * half, False)):
        made.show_onset(onset)
        made.place_labels()
        at = made.names_at()["predicted"]
        assert abs(at - onset) > half
        assert (at != usual) is keeps_off  # a line elsewhere moves no name


def test_a_line_says_where_its_words_stand(figure, qtbot):
    line = MovableLine(angle=90, bounds=(0.0, 20.0))
    figure.add(line)
    line.restyle()
    line.place(10.0, "cutoff 820 Hz")
    qtbot.wait(10)
    ((x, y, half),) = captions_px(figure.view)
    ground = line.label.mapRectToScene(line.label.boundingRect())
    corner = figure.view.mapRectToScene(figure.view.boundingRect()).topLeft()
    assert (x, y) == pytest.approx((ground.center().x() - corner.x(), ground.center().y() - corner.y()), abs=1.5)
    assert half == pytest.approx(ground.width() / 2, abs=1.0)
    line.place(10.0, "")
    assert captions_px(figure.view) == []


def test_among_marks_everywhere_it_stands_between_two():
    marks = np.arange(0, WIDE + 1, 80.0)
    found = placed({"measured": 0.1 * X}, marks)["measured"]
    assert np.abs(found - marks).min() > 30


def test_pages_are_made_when_they_are_opened(qtbot):
    made = []

    def page(name):
        def make():
            made.append(name)
            return QLabel(name)

        return make

    pages = LaterPages(page("first"), page("second"), page("third"))
    qtbot.addWidget(pages)
    assert made == ["first"]
    for index, name in ((2, "third"), (0, "first"), (1, "second"), (2, "third")):
        pages.setCurrentIndex(index)
        assert pages.currentIndex() == index
        assert pages.currentWidget().text() == name
        assert pages.count() == 3
    assert made == ["first", "third", "second"]
    assert [one.text() for one in pages.made] == ["first", "second", "third"]


@pytest.mark.parametrize("corners", [1, 2, PIECE, PIECE + 1, PIECE + 2, 3 * PIECE + 5])
def test_a_line_in_pieces_has_every_corner_and_no_gap(corners):
    x, y = np.arange(corners) / 7, np.cos(np.arange(corners))
    pieces = [[(point.x(), point.y()) for point in piece] for piece in pieces_of(x, y)]
    assert all(one[-1] == other[0] for one, other in pairwise(pieces))
    assert [pieces[0][0], *(point for piece in pieces for point in piece[1:])] == list(zip(x, y, strict=True))


@pytest.mark.parametrize(("colour", "style", "exactly"), [
    ("#102030", Qt.PenStyle.SolidLine, False), ("#102030", Qt.PenStyle.DashLine, True),
    ("#80102030", Qt.PenStyle.SolidLine, True)])
def test_a_curve_is_drawn_as_one_line_would_be(figure, monkeypatch, colour, style, exactly):
    """Pieces that overlap would show in a pen that lets through, and dashes would begin anew with each."""
    pen = QPen(QColor(colour), 2.4, style)
    pen.setCosmetic(True)
    empty, x = pixels(figure), np.linspace(0, 20, 400)
    curve = PlotCurve("output", x, 0.9 * np.sin(2 * x) * np.cos(0.3 * x))
    figure.show_curve(curve, pen)
    drawn = pixels(figure)
    monkeypatch.setattr("jiyuu.desktop.figures.layer.PIECE", 1000)
    figure.show_curve(curve, pen)
    apart = np.abs(drawn - pixels(figure)).max(axis=-1)
    assert (np.abs(drawn - empty).max(axis=-1) > 60).sum() > 1000
    # Where two pieces meet, a pixel or two of an edge may be a little darker.
    assert apart.max() == 0 if exactly else 0 < (apart > 0).sum() < 100 and (apart > 100).sum() < 20


def test_a_map_stands_upright_in_the_colours_of_its_tones(figure):
    tones = Tones(0.0, 12.0)
    made = ToneMap(figure, tones)
    figure.set_levels(0.0, 1.0)
    figure.show_span(20.0, 1.0)
    level = np.array([[1.0, 7.0], [13.0, np.nan]])  # from the foot up
    made.show(np.array([5.0, 15.0]), np.array([-0.5, 0.5]), level, "#1f5fa8")
    colours = tones.colours("#1f5fa8")
    for (x, y), tone in zip(((5, -0.5), (15, -0.5), (5, 0.5), (15, 0.5)), (1, 2, 3, 0), strict=True):
        place = figure.mapFromScene(figure.view.mapViewToScene(QPointF(x + 1.3, y + 0.13)))
        assert pixels(figure)[place.y(), place.x()].tolist() == colours[tone].tolist()
    made.clear()
    place = figure.mapFromScene(figure.view.mapViewToScene(QPointF(6.3, 0.63)))
    assert pixels(figure)[place.y(), place.x()].tolist() == list(QColor(THEME.palette.raised).getRgb()[:3])


def test_contours_are_named_over_bands_beside_each_other_and_beside_what_lines_say(figure):
    made = ToneMap(figure, Tones(-48.0, 6.0), contours_db=(-12.0, -6.0, -3.0))
    figure.set_levels(-1.0, 1.0)
    figure.show_span(20.0, 1.0)
    x, y = np.linspace(0.0, 20.0, 120), np.linspace(-1.0, 1.0, 80)
    made.show(x, y, -0.15 * (x - 10.0) ** 2 - 12.0 * y[:, np.newaxis] ** 2, "#1f5fa8")
    plain = pixels(figure)
    band = Layer(figure.view, z=10, still=False)
    figure.add(band)
    band.set_band("over", x, np.full(120, -2.0), np.full(120, 2.0), QColor(255, 0, 0), hatched=True)
    band.touched()
    hatched = pixels(figure)
    assert (hatched != plain).any()
    boxes = list(made.names.boxes.values())
    assert set(made.names.boxes) == {"−12 dB", "−6 dB", "−3 dB"}
    for i, box in enumerate(boxes):
        inner = box.toRect().adjusted(1, 1, -1, -1)
        rows, columns = slice(inner.top(), inner.bottom()), slice(inner.left(), inner.right())
        assert (hatched[rows, columns] == plain[rows, columns]).all()
        assert not any(box.intersects(other) for other in boxes[:i])
        assert box.left() >= figure.view.mapViewToDevice(QPointF(0.0, 0.0)).x() + 50


def test_a_trace_has_room_on_a_scale_that_goes_in_steps(figure):
    tops = []
    for volts in np.geomspace(0.003, 300, 400):
        figure.show_span(20.0, float(volts))
        (left, right), (low, high) = figure.view.viewRange()
        assert (left, right) == pytest.approx((0.0, 20.0))
        assert low == -high
        assert 1.04 * volts <= high * (1 + 1e-9) < 1.4 * volts
        tops.append(high)
    assert tops == sorted(tops)
    assert len({*tops}) <= 52
    figure.view.setYRange(0.0, 1.0, padding=0)
    figure.show_span(20.0, 299.0)  # whoever looks at a part of it still does
    assert figure.view.viewRange()[1] == pytest.approx([0.0, 1.0])


def test_a_line_says_where_it_stands_or_nothing(figure):
    line = MovableLine(angle=90, bounds=(0.0, 20.0))
    figure.add(line)
    for text in ("at 1", "at 1", "", "", "at 2"):
        line.place(3.0, text)
        assert line.value() == 3.0
        assert line.label.isVisible() == bool(text)
        assert not text or line.label.toPlainText() == text


def test_notes_say_what_they_are_told(qtbot):
    notes = NotesList("Levels")
    qtbot.addWidget(notes)
    for told in (["one"], ["one", "two", "three"], ["one", "another", "three"], ["three"], [], ["one", "one"]):
        notes.say(told)
        assert [notes.item(row).text() for row in range(notes.count())] == told


def test_a_course_is_drawn_and_named_in_the_dash_of_its_filter(qtbot):
    plot = SmallPlot("Level")
    qtbot.addWidget(plot)
    plot.resize(640, 240)
    x = np.linspace(10.0, 1000.0, 50)

    def inked(dash):
        """Pixels of the colour along the curve, and in the line beside its name."""
        plot.show_courses("Level", [Course("A", "#1f5fa8", x, np.ones(50), dash=dash),
                                    Course("B", "#123456", x, 0.0 * x, named=False)], over="Hz", unit="dB")
        rows = (np.abs(pixels(plot) - [0x1F, 0x5F, 0xA8]).max(axis=-1) < 40).sum(axis=1)
        top = int(np.flatnonzero(rows)[0])
        return int(rows[top + 8 :].sum()), int(rows[top : top + 8].sum())

    drawn = {ink.dash: inked(ink.dash) for ink in PALETTES["paper"].inks}
    solid = drawn.pop(())
    assert len(drawn) == 5
    for curve, sample in drawn.values():
        assert 0.2 * solid[0] < curve < 0.9 * solid[0]
        assert 0.2 * solid[1] < sample < 0.98 * solid[1]
