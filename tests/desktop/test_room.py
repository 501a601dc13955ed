"""At every size of type nothing is cut off, and what does not fit can be scrolled to."""

import pytest
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QAbstractSpinBox, QComboBox, QLabel, QLineEdit

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


def squeezed(root):
    """Controls that are smaller than they can be."""
    for kind in (QAbstractButton, QComboBox, QLineEdit, QAbstractSpinBox, QLabel, QAbstractItemView):
        for widget in root.findChildren(kind):
            if not widget.isVisible() or isinstance(widget.parent(), QComboBox | QAbstractSpinBox | QAbstractItemView):
                continue
            least = widget.minimumSizeHint().boundedTo(widget.maximumSize())
            wide = not isinstance(widget, QLabel) and least.width() > widget.width() + 2
            if wide or least.height() > widget.height() + 1:
                yield f"{kind.__name__} {widget.accessibleName()!r} is {widget.width()}x{widget.height()} px"


def pages_of(view):
    """Buttons that turn the pages of a step."""
    buttons = view.figures.findChildren(QAbstractButton) + view.side.findChildren(QAbstractButton)
    return [button for button in buttons if button.property("role") == "page" and button.isVisible()]


def lasting(window, qtbot):
    """What is cut off or squeezed still when what was being computed stands there."""
    for _ in range(LOOKS):
        qtbot.wait(LAID_OUT_MS)
        found = [*cut_off(window), *squeezed(window)]
        if not found:
            break
    return found


LAID_OUT_MS, LOOKS = 50, 20
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
