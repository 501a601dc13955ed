"""At every size of type nothing is cut off, and what does not fit can be scrolled to."""

import pytest
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QComboBox, QLabel, QLineEdit

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


LAID_OUT_MS = 50  # within which every layout has settled


@pytest.mark.parametrize("scales", some([[1.0, 2.0], [1.5]], 1, long=2))
def test_no_word_is_cut_off(window, qtbot, scales):
    problems = []
    for step in walk():
        window.go(step.key)
        settled(window, qtbot)
    for scale in scales:
        THEME.apply("paper", scale=scale)
        for step in walk():
            window.go(step.key)
            qtbot.wait(LAID_OUT_MS)
            problems += [f"{step.name} at {scale:.0%}: {text}" for text in cut_off(window)]
    assert not problems
