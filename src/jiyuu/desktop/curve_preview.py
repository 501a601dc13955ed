"""A curve of another program before it is taken in: what was understood of its file, to be changed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from jiyuu.desktop.figures.small_plot import Course, SmallPlot
from jiyuu.desktop.parts.aside import Aside, main_button
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.quantities import signed
from jiyuu.signals.response_table import ResponseTable, lines_of, read_response_table
from jiyuu.signals.table_layout import NAMES, SEPARATORS, Layout, guessed

ROWS = 8
SIGNS = {"point": ".", "comma": ","}
THOUSANDS = {"none": "", "points": ".", "commas": ",", "spaces": " ", "apostrophes": "'"}
HERTZ, LEVELS = {"Hz": "Hz", "kHz": "kHz"}, {"dB": "dB", "V/V, a ratio": "V/V"}
PHASES = {"degrees": "°", "radians": "rad"}
Import = Callable[[Path, Layout], None]


class CurvePreview(Aside):
    """Not modal; then: called with the file and how it is to be read."""

    refused = pyqtSignal(str)

    def __init__(self, parent: QWidget, then: Import) -> None:
        super().__init__(parent, "Import a curve", (480, 600))
        self._then = then
        self._path = Path()
        self._lines: list[str] = []
        self.layout_read = Layout()
        column = self.sheet()
        self.said = QLabel()
        self.said.setWordWrap(True)
        column.addWidget(self.said)
        self.table = PlainTable("The file", ("1",))
        column.addWidget(self.table, 1)
        self._column = column
        rows = form()
        self.separator = _box("Between columns", [(NAMES[sign], sign) for sign in SEPARATORS])
        self.decimal, self.thousands = _box("Decimal sign", [*SIGNS.items()]), _box("Between thousands",
                                                                                    [*THOUSANDS.items()])
        self.frequency, self.frequency_unit = _box("Frequency", []), _box("Unit of the frequency", [*HERTZ.items()])
        self.level, self.level_unit = _box("Level", []), _box("Unit of the level", [*LEVELS.items()])
        self.phase, self.phase_unit = _box("Phase", []), _box("Unit of the phase", [*PHASES.items()])
        rows.addRow("Between columns", self.separator)
        for name, *boxes in (("Decimal sign, thousands", self.decimal, self.thousands),
                             ("Frequency", self.frequency, self.frequency_unit),
                             ("Level", self.level, self.level_unit), ("Phase", self.phase, self.phase_unit)):
            row = QHBoxLayout()
            for box in boxes:
                row.addWidget(box, 1)
            rows.addRow(name, row)
        for box in (self.separator, self.decimal, self.thousands, self.frequency, self.frequency_unit, self.level,
                    self.level_unit, self.phase, self.phase_unit):
            box.activated.connect(lambda _: self._changed())
        column.addLayout(rows)
        self.plot = SmallPlot("As it is understood")
        column.addWidget(self.plot, 1)
        self.take = main_button("Import", self._take)
        column.addWidget(self.take, 0, Qt.AlignmentFlag.AlignLeft)

    def ask(self, path: Path) -> None:
        """What the file seems to say. Raises JiyuuError where there is no text in it."""
        self._lines = lines_of(path)
        self._path = path
        self._show(guessed(self._lines))
        self.bring()

    def _changed(self) -> None:
        """As the person has it now."""
        read, signs = self.layout_read, (self.separator.currentData(), self.decimal.currentData(),
                                         self.thousands.currentData())
        self._show(replace(
            read, separator=signs[0], decimal=signs[1], thousands=signs[2], frequency=self.frequency.currentData(),
            level=self.level.currentData(), phase=self.phase.currentData(),
            frequency_unit=self.frequency_unit.currentData(), level_unit=self.level_unit.currentData(),
            phase_unit=self.phase_unit.currentData()))

    def _show(self, layout: Layout) -> None:
        self.layout_read = layout
        cells = [layout.cells(line) for line in self._lines[:400] if line.strip()]
        width = max((len(row) for row in cells), default=1)
        for box, none in ((self.frequency, False), (self.level, False), (self.phase, True)):
            box.clear()
            if none:
                box.addItem("none", None)
            for place in range(max(width, 2)):
                box.addItem(f"column {place + 1}", place)
        for box, value in (
            (self.separator, layout.separator), (self.decimal, layout.decimal), (self.thousands, layout.thousands),
            (self.frequency, layout.frequency), (self.level, layout.level), (self.phase, layout.phase),
            (self.frequency_unit, layout.frequency_unit), (self.level_unit, layout.level_unit),
            (self.phase_unit, layout.phase_unit),
        ):
            box.setCurrentIndex(max(box.findData(value), 0))
        fresh = PlainTable("The file", tuple(str(place + 1) for place in range(width)))
        fresh.fill([[*row, *[""] * (width - len(row))] for row in cells[:ROWS]])
        self._column.replaceWidget(self.table, fresh)
        self.table.hide()
        self.table.deleteLater()
        self.table = fresh
        self._understand(layout)

    def _understand(self, layout: Layout) -> None:
        try:
            found = read_response_table(self._path, layout)
        except JiyuuError as error:
            self.said.setText(f"Read as: {layout.said}. But: {error}")
            self.plot.show_courses("As it is understood", (), over="Hz", unit="dB", says="Nothing can be drawn yet.")
            self.take.setEnabled(False)
            return
        self.said.setText(f"{self._path.name}, {layout.said}. {summary(found)}")
        self.plot.show_courses("As it is understood", [Course("level", THEME.palette.ink, found.frequency_hz,
                                                              found.level_db)], over="Hz", unit="dB", log=True)
        self.take.setEnabled(True)

    def _take(self) -> None:
        self._then(self._path, self.layout_read)
        self.close()


def _box(name: str, choices: list[tuple[str, str]]) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(name)
    for text, value in choices:
        box.addItem(text, value)
    return box


def summary(found: ResponseTable) -> str:
    """'401 points, 20 Hz to 20000 Hz, −60.1 to +3.2 dB, with phase.'"""
    low, high = found.level_db.min(), found.level_db.max()
    phase = "with phase" if found.phase_deg is not None else "without phase"
    return (f"{found.frequency_hz.size} points, {found.frequency_hz[0]:.4g} Hz to {found.frequency_hz[-1]:.5g} Hz, "
            f"{signed(low)} to {signed(high)} dB, {phase}.")


class Curves(QObject):
    """Foreign curves of a window: plain ones are taken at once, the others are asked about."""

    message = pyqtSignal(str, bool)

    def __init__(self, parent: QWidget, take: Callable[[Path, Layout], None]) -> None:
        super().__init__(parent)
        self._window, self._take = parent, take
        self.preview: CurvePreview | None = None

    def open(self, path: Path, *, ask: bool = False) -> None:
        """Raises JiyuuError where it is no text."""
        layout = guessed(lines_of(path))
        if layout.plain and not ask:
            self._take(path, layout)
            return
        if self.preview is None:
            self.preview = CurvePreview(self._window, self._guarded)
        self.preview.ask(path)

    def _guarded(self, path: Path, layout: Layout) -> None:
        try:
            self._take(path, layout)
        except JiyuuError as error:
            self.message.emit(str(error), True)
