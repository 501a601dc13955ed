"""At every size of type nothing is cut off, and what does not fit can be scrolled to."""

from collections import defaultdict
from itertools import combinations

import pytest
from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QLineEdit,
)

from jiyuu.bench.walk import walk
from jiyuu.desktop.theme.style import THEME
from tests.desktop.using import settled
from tests.trials import some


def cut_off(root):
    """Words that have less room than they need, of all that is in sight."""
    for widget in root.findChildren(QAbstractButton) + root.findChildren(QLabel):
        text = widget.text().replace("&", "")
        if not widget.isVisible() or not text or isinstance(widget.parent(), QAbstractItemView):
            continue
        metrics = widget.fontMetrics()
        if isinstance(widget, QLabel) and widget.wordWrap():
            needed = metrics.boundingRect(0, 0, widget.width(), 10_000, 0x1000, text).height()
            if needed > widget.height() + 2:
                yield f"{text!r} has {widget.height()} of {needed} px of height"
        elif metrics.horizontalAdvance(text) > widget.width() + 2 or metrics.height() > widget.height() + 2:
            yield f"{text!r} has {widget.width()}x{widget.height()} px"
    for field in root.findChildren(QLineEdit):
        if field.isVisible() and not isinstance(field.parent(), QComboBox):
            text = field.text() or field.placeholderText()
            if field.fontMetrics().horizontalAdvance(text) > field.width() - 6:
                yield f"the field {field.accessibleName()!r} does not show {text!r}"
    for box in root.findChildren(QComboBox):
        if box.isVisible() and box.fontMetrics().height() > box.height():
            yield f"the box {box.accessibleName()!r} is {box.height()} px high"


def controls(root):
    """Everything that says or does something and is in sight, not the parts that it is made of."""
    for kind in (QAbstractButton, QComboBox, QLineEdit, QAbstractSpinBox, QLabel, QAbstractItemView):
        for widget in root.findChildren(kind):
            made_of = isinstance(widget.parent(), QComboBox | QAbstractSpinBox | QAbstractItemView)
            if widget.isVisible() and not made_of and not (kind is QLabel and not widget.text()):
                yield widget


def named(widget):
    text = getattr(widget, "text", str)()
    return f"{type(widget).__name__} {widget.accessibleName() or text[:30]!r}"


def squeezed(every):
    """Controls that are smaller than they can be."""
    for widget in every:
        least = widget.minimumSizeHint().boundedTo(widget.maximumSize())
        wide = not isinstance(widget, QLabel) and least.width() > widget.width() + FOCUS_PX
        if wide or least.height() > widget.height() + FOCUS_PX:
            yield f"{named(widget)} is {widget.width()}x{widget.height()} px"


def outside(every):
    """Controls that reach beyond what they stand in, unless it can be scrolled."""
    for widget in every:
        place = widget.parentWidget()
        while place is not None:
            holder = place.parentWidget()
            if isinstance(holder, QAbstractScrollArea) and holder.viewport() is place:
                break
            box = QRect(widget.mapTo(place, QPoint(0, 0)), widget.size())
            if not place.rect().adjusted(-FOCUS_PX, -FOCUS_PX, FOCUS_PX, FOCUS_PX).contains(box):
                yield f"{named(widget)} stands outside {type(place).__name__}"
                break
            place = None if place.isWindow() else holder


def overlapping(every):
    """Controls that lie on each other."""
    beside = defaultdict(list)
    for widget in every:
        beside[widget.parentWidget()].append((widget, widget.geometry().adjusted(1, 1, -1, -1)))
    for group in beside.values():
        for (one, box), (other, another) in combinations(group, 2):
            if box.intersects(another):
                yield f"{named(one)} lies on {named(other)}"


def wrong(root):
    every = list(controls(root))
    return [*cut_off(root), *squeezed(every), *outside(every), *overlapping(every)]


def pages_of(view):
    """Buttons that turn the pages of a step."""
    buttons = view.figures.findChildren(QAbstractButton) + view.side.findChildren(QAbstractButton)
    return [button for button in buttons if button.property("role") == "page" and button.isVisible()]


def lasting(window, qtbot):
    """What is wrong still when what was being computed stands there."""
    for _ in range(LOOKS):
        qtbot.wait(LAID_OUT_MS)
        found = wrong(window)
        if not found:
            break
    return found


LAID_OUT_MS, LOOKS = 50, 20
FOCUS_PX = 2  # by which the line around a control grows that has the focus
SIZES = [((1024, 700), (2.0,)), ((1280, 800), (1.0, 2.0)), ((1024, 700), (1.5, 1.0)), ((1280, 800), (1.5,)),
         ((1920, 1080), (1.5, 2.0))]


@pytest.mark.parametrize(("size", "scales"), some(SIZES, 1, long=3))
def test_nothing_is_cut_off_or_squeezed_on_any_page(window, qtbot, size, scales):
    window.resize(*size)
    problems = []
    for step in walk():
        window.go(step.key)
        settled(window, qtbot)
    for scale in scales:
        THEME.apply("paper", scale=scale)
        for step in walk():
            window.go(step.key)
            for button in (None, *pages_of(window.shown)):
                if button is not None:
                    button.click()
                page = step.name if button is None else f"{step.name}, {button.text()}"
                problems += [f"{page} at {scale:.0%}: {text}" for text in lasting(window, qtbot)]
    assert not problems


def test_windows_beside_the_bench_grow_with_the_type(window, qtbot):
    opened = [window.menus.preferences]
    window.menus.preferences.open()
    window.menus.help.open_about()
    window.files.choose_circuit()
    opened += [window.menus.help.window, window.files.chooser]
    before = [aside.size() for aside in opened]
    for scale in (1.5, 2.0):  # larger than the screen, some of them
        THEME.apply("paper", scale=scale)
        assert [text for aside in opened for text in lasting(aside, qtbot)] == []
        assert all(aside.height() > size.height() for aside, size in zip(opened, before, strict=True))
    THEME.apply("paper", scale=1.0)
    assert [aside.size() for aside in opened] == before
