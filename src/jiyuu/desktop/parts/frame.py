"""What every step's widgets stand in: figures split by handles, a side column under the filter's name, findings."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QLabel,
    QLayout,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from jiyuu.circuits.filter_file import Filter
from jiyuu.desktop.parts.findings_list import FindingsList
from jiyuu.desktop.theme.style import STEP

SHARED_PX = 20  # to a share, before there is a height


def beside(*figures: QWidget, sizes: Sequence[int] = ()) -> QSplitter:
    """Figures side by side."""
    return _split(Qt.Orientation.Horizontal, figures, sizes)


def stacked(*figures: QWidget, shares: Sequence[int]) -> QSplitter:
    """Figures one above the other, sharing the height."""
    # Given as sizes, too: what has not been looked at yet has no wish of its own.
    splitter = _split(Qt.Orientation.Vertical, figures, [SHARED_PX * share for share in shares])
    for i, share in enumerate(shares):
        splitter.setStretchFactor(i, share)
    return splitter


def _split(way: Qt.Orientation, figures: Sequence[QWidget], sizes: Sequence[int]) -> QSplitter:
    splitter = QSplitter(way)
    for figure in figures:
        splitter.addWidget(figure)
    splitter.setChildrenCollapsible(False)
    splitter.setHandleWidth(STEP)
    if sizes:
        splitter.setSizes(list(sizes))
    return splitter


def under(head: QLayout | QWidget, body: QWidget) -> QWidget:
    """A row of buttons, or a strip, with what it turns below it."""
    whole = QWidget()
    column = QVBoxLayout(whole)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    if isinstance(head, QWidget):
        column.addWidget(head)
    else:
        column.addLayout(head)
    column.addWidget(body, 1)
    return whole


def page_column(page: QWidget) -> QVBoxLayout:
    """The column of a page that stands where a figure stands."""
    column = QVBoxLayout(page)
    column.setContentsMargins(4 * STEP, 3 * STEP, 4 * STEP, 2 * STEP)
    column.setSpacing(2 * STEP)
    return column


def form() -> QFormLayout:
    """Names left, fields right, in the step's spacing."""
    made = QFormLayout()
    made.setContentsMargins(0, 0, 0, 0)
    made.setHorizontalSpacing(2 * STEP)
    made.setVerticalSpacing(STEP)
    made.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
    made.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
    return made


class SideColumn(QWidget):
    """The filter's name, and below it what a step adds."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(2 * STEP, STEP, 2 * STEP, STEP)
        self._column.setSpacing(STEP)
        self.circuit = QLabel()
        self.circuit.setProperty("role", "heading")
        self.circuit.setWordWrap(True)
        self.add(self.circuit)

    def add(self, part: QWidget | QLayout, stretch: int = 0) -> None:
        if isinstance(part, QWidget):
            self._column.addWidget(part, stretch)
        else:
            self._column.addLayout(part, stretch)

    def narrow(self) -> None:
        """Without margins, inside another one."""
        self._column.setContentsMargins(0, 0, 0, 0)

    def name(self, letter: str, document: Filter) -> None:
        self.circuit.setText(f"{letter}  {document.name}, {document.entry.title}")


class FoundPage(QWidget):
    """A quiet heading over the findings of a step, and what is wrong with what they were read from."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.heading = QLabel()
        self.heading.setProperty("role", "quiet")
        self.heading.setWordWrap(True)
        self.warning = QLabel()
        self.warning.setProperty("role", "error")
        self.warning.setAccessibleName("Warnings of the measurement")
        self.warning.setWordWrap(True)
        self.warning.setIndent(2 * STEP)
        self.warning.hide()
        self.findings = FindingsList()
        column.addWidget(self.heading)
        column.addWidget(self.warning)
        column.addWidget(self.findings, 1)

    def warn(self, sentences: Sequence[str]) -> None:
        """One under the other; nothing where there are none."""
        self.warning.setText("\n".join(sentences))
        self.warning.setVisible(bool(sentences))


class ModeBox(QComboBox):
    """The outputs of a circuit; as wide as there is room, not as its longest word."""

    def __init__(self) -> None:
        super().__init__()
        self._modes: tuple[str, ...] = ()
        self.setAccessibleName("Mode")
        narrow(self)

    def show_mode(self, modes: tuple[str, ...], chosen: str) -> bool:
        """True where the circuit has other outputs than the one before."""
        other = modes != self._modes
        if other:
            self._modes = modes
            self.clear()
            self.addItems(modes)
        self.setCurrentText(chosen)
        return other


def narrow(box: QComboBox) -> QComboBox:
    """A box that does not ask for the width of its longest entry."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(6)
    return box


def scrolled() -> tuple[QScrollArea, QVBoxLayout]:
    """A page that scrolls up and down where it does not fit, and the column to fill."""
    area, inside = QScrollArea(), QWidget()
    column = QVBoxLayout(inside)
    column.setContentsMargins(0, 0, STEP, 0)
    column.setSpacing(STEP)
    area.setWidget(inside)
    area.setWidgetResizable(True)
    area.setFrameShape(QScrollArea.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return area, column
