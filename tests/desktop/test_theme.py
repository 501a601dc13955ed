"""Both grounds can be read, at every size of type."""

import pytest
from PyQt6.QtGui import QFontDatabase, QFontMetricsF

from jiyuu.desktop.theme.style import FACE, THEME
from jiyuu.inks import PALETTES, contrast
from tests.desktop.using import settled
from tests.trials import some


@pytest.mark.parametrize("palette", PALETTES.values(), ids=PALETTES)
def test_text_and_traces_stand_out_from_their_ground(palette):
    for ground in (palette.ground, palette.raised):
        for colour in (palette.ink, palette.quiet, palette.attention, palette.stale):
            assert contrast(colour, ground) >= 4.5
        for ink in palette.inks:
            assert contrast(ink.colour, ground) >= 4.5
    assert contrast(palette.ink, palette.rule) >= 4.5


def test_contrast_is_that_of_black_and_white():
    assert contrast("#000000", "#FFFFFF") == pytest.approx(21)


def test_every_ink_has_a_dash_of_its_own():
    for palette in PALETTES.values():
        assert len({ink.dash for ink in palette.inks}) == 6
        assert len({ink.colour for ink in palette.inks}) == 6


def test_the_shipped_face_is_there_and_its_figures_stand_in_columns(qapp):
    assert FACE in QFontDatabase.families()
    digits = QFontMetricsF(THEME.font())
    assert len({digits.horizontalAdvance(digit) for digit in "0123456789"}) == 1


def test_night_and_larger_type_restyle_the_window(window):
    window.menus.turn_theme()
    assert THEME.palette.name == "night"
    height = window.path.height()
    window.menus.scale_type(1.5)
    assert window.path.height() > height
    assert THEME.px(5) >= 11
    assert window.grab().width() >= 1280


@pytest.mark.long
def test_a_step_that_is_not_looked_at_takes_the_night_when_it_shows_the_filter_in_hand(window, qtbot):
    window.go("resonance")
    settled(window, qtbot)
    window.go("setup")
    window.session.take(4)
    window.shown.presenter.set_mode("notch")
    with qtbot.captureExceptions() as caught:
        window.menus.turn_theme()
    assert not caught
    window.go("resonance")
    settled(window, qtbot)
    picture = window.view("resonance").map.grab().toImage()
    assert picture.pixelColor(picture.width() - 3, picture.height() - 3).lightness() < 80


def of_colour(figure, *colours):
    """How many points of a coarse grid over a figure have one of these colours."""
    picture, wanted = figure.grab().toImage(), {colour.casefold() for colour in colours}
    return sum(picture.pixelColor(x, y).name() in wanted for x in range(60, picture.width() - 60, 3)
               for y in range(60, picture.height() - 60, 3))


@pytest.mark.long
@pytest.mark.parametrize("which", some(["setup", "response", "drive", "combination", "comparison"], 1, long=2))
def test_the_ruled_ground_of_every_figure_goes_with_the_theme(which, window, qtbot):
    window.go(which)
    settled(window, qtbot)
    figure, paper, night = window.shown.main_figure, PALETTES["paper"], PALETTES["night"]
    assert of_colour(figure, paper.rule, paper.strong_rule) > 50
    THEME.apply("night")
    settled(window, qtbot)
    try:
        assert of_colour(figure, paper.rule, paper.strong_rule) == 0
        assert of_colour(figure, night.rule, night.strong_rule) > 50
    finally:
        THEME.apply("paper")


def test_a_step_that_was_looked_at_before_opens_in_the_theme(window, qtbot):
    window.go("resonance")
    settled(window, qtbot)
    figure, paper = window.shown.main_figure, PALETTES["paper"]
    assert of_colour(figure, paper.rule, paper.ink) > 50
    window.go("drive")
    THEME.apply("night")
    try:
        window.go("resonance")
        settled(window, qtbot)
        assert of_colour(figure, paper.rule, paper.ink) == 0
        assert window.side.grab().toImage().pixelColor(2, 2).lightness() < 80
    finally:
        THEME.apply("paper")


def test_what_is_opened_from_the_window_wears_its_style(window):
    preferences = window.menus.preferences
    preferences.bring()
    preferences.theme_box.textActivated.emit("night")
    try:
        assert preferences.grab().toImage().pixelColor(2, 2).lightness() < 80
        assert preferences.theme_box.grab().toImage().pixelColor(4, 4).lightness() < 80
    finally:
        THEME.apply("paper")
    assert preferences.theme_box.grab().toImage().pixelColor(4, 4).lightness() > 180
