"""Which filter fits a wish, as a page: wishes with tolerances, proposals with their yield, what becomes of one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from jiyuu.bench.designing import percent_of_onset
from jiyuu.character.design import Proposal
from jiyuu.character.scales import SCALE
from jiyuu.character.wish import QUANTITIES, UNITS, Wish
from jiyuu.desktop.file_names import chosen_to_write
from jiyuu.desktop.parts.frame import beside, narrow, page_column, scrolled
from jiyuu.desktop.parts.lines import Lines
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.steps.comparison.wish_presenter import WishPresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import JiyuuError
from jiyuu.wording.findings import QUANTITIES as KNOWN

ABOUT = "Which filter fits? Every circuit and mode is tried, built of preferred parts; the yield is of 4000 builds."
KINDS = "Wishes (*.json)"
NETLISTS = "Netlists (*.cir)"
SERIES = ("E6", "E12", "E24", "E96")
FIELDS = ("target", "tolerance", "weight")
COLUMNS = ("yield, %", "circuit", "mode", "poles, Hz", "of onset", "off, ±", "costs most")
NUMBER_PX, LEAST_PX = 22 * STEP, 26 * STEP


class WishPage(QWidget):
    """Left what is wished, right what is proposed."""

    def __init__(self, presenter: WishPresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setAccessibleName("Which filter fits")
        whole, (area, column) = page_column(self), scrolled()
        column.setSpacing(2 * STEP)
        whole.addWidget(area)
        self.says = QLabel()
        self.says.setWordWrap(True)
        column.addWidget(self.says)
        self.wishes = _wish_table()
        self.wishes.itemChanged.connect(self._typed)
        self.proposals = PlainTable("Proposals", COLUMNS, words=(1, 2, 6))
        self.proposals.itemSelectionChanged.connect(self._show_buttons)
        left, right = QWidget(), QWidget()
        for part, table, rows in ((left, self.wishes, self._wish_buttons()),
                                  (right, self.proposals, self._proposal_buttons())):
            inner = QVBoxLayout(part)
            inner.setContentsMargins(0, 0, 0, 0)
            inner.setSpacing(STEP)
            inner.addWidget(table, 1)
            for row in rows:
                inner.addLayout(row)
        column.addWidget(beside(left, right, sizes=(330, 570)), 1)
        self._filling = False
        presenter.changed.connect(self.refresh)
        self.refresh()

    # Building

    def _wish_buttons(self) -> list[Lines]:
        self.more = narrow(QComboBox())
        self.more.setAccessibleName("Add a wish")
        self.more.addItem("Add a wish …")
        for name in QUANTITIES:
            self.more.addItem(title_of(name), name)
        self.more.activated.connect(self._add)
        self.series = QComboBox()
        self.series.addItems(SERIES)
        self.series.setAccessibleName("Series of the parts")
        self.series.textActivated.connect(lambda text: self.presenter.change_parts(series=text))
        self.spread = QLineEdit()
        self.spread.setAccessibleName("Capacitors, per cent")
        self.spread.setToolTip("One standard deviation of a capacitor.")
        self.spread.setMaximumWidth(NUMBER_PX)
        self.spread.editingFinished.connect(self._spread_typed)
        self.look = _button("Find", self.presenter.look_for)
        self.look.setProperty("main", True)
        self.remove, self.open, self.save = (
            _button("Remove", self._remove), _button("Open …", self._open), _button("Save …", self._save))
        first = Lines(self.more, self.remove, self.open, self.save)
        return [first, Lines(QLabel("Parts"), self.series, QLabel("capacitors ± %"), self.spread, self.look)]

    def _proposal_buttons(self) -> list[Lines]:
        self.shelve = _button("Onto the shelf", lambda: self.presenter.shelve(self.chosen))
        self.netlist = _button("Netlist …", self._save_netlist)
        return [Lines(self.shelve, self.netlist)]

    # What is shown

    @property
    def chosen(self) -> int:
        """Row of the proposal chosen, the first where none is."""
        return max(self.proposals.currentRow(), 0)

    def refresh(self) -> None:
        """As the presenter stands, where somebody looks: what a filter is itself takes a reading of its response."""
        presenter = self.presenter
        if not self.isVisible():
            return
        wishes = presenter.wishes
        self.says.setText(presenter.says or ABOUT)
        self._fill(wishes.wishes)
        self.series.setCurrentText(wishes.parts.series)
        if not self.spread.hasFocus():
            self.spread.setText(f"{wishes.parts.capacitor_percent:g}")
        self.look.setEnabled(not presenter.busy)
        self.proposals.fill([_proposal(one) for one in presenter.proposals])
        self._show_buttons()

    def _show_buttons(self) -> None:
        for button in (self.shelve, self.netlist):
            button.setEnabled(bool(self.presenter.proposals))

    def showEvent(self, event: QShowEvent | None) -> None:
        """What stands otherwise meanwhile is seen."""
        super().showEvent(event)
        self.refresh()

    def _fill(self, wishes: Sequence[Wish]) -> None:
        self._filling = True
        self.wishes.setRowCount(len(wishes))
        for i, wish in enumerate(wishes):
            name = QTableWidgetItem(title_of(wish.quantity))
            name.setFlags(name.flags() & ~Qt.ItemFlag.ItemIsEditable)
            self.wishes.setItem(i, 0, name)
            for j, field in enumerate(FIELDS):
                item = QTableWidgetItem(f"{getattr(wish, field):g}".replace("-", "−"))
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.wishes.setItem(i, 1 + j, item)
        self._filling = False

    # What the person does

    def _typed(self, item: QTableWidgetItem) -> None:
        if not self._filling and item.column():
            self.presenter.change(item.row(), FIELDS[item.column() - 1], item.text().replace("−", "-"))

    def _add(self, place: int) -> None:
        self.more.setCurrentIndex(0)
        if place:
            self.presenter.add(self.more.itemData(place))

    def _remove(self) -> None:
        self.presenter.remove(max(self.wishes.currentRow(), 0))

    def _spread_typed(self) -> None:
        typed = self.spread.text().strip().replace(",", ".")
        try:
            value = float(typed)
        except ValueError:
            self.presenter.message.emit(f"'{typed}' is no number; type for example 1 or 2.5.", True)
            return
        if value != self.presenter.wishes.parts.capacitor_percent:
            self.presenter.change_parts(capacitor_percent=value)

    def _guarded(self, do: Callable[[], None]) -> None:
        try:
            do()
        except JiyuuError as error:
            self.presenter.message.emit(str(error), True)

    def _open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open wishes", "", KINDS)
        if name:
            self._guarded(lambda: self.presenter.open(Path(name)))

    def _save(self) -> None:
        def save() -> None:
            path = chosen_to_write(self, "Save the wishes", "filter.wish.json", KINDS, ending=".wish.json")
            if path is not None:
                self.presenter.save(path)

        self._guarded(save)

    def _save_netlist(self) -> None:
        def save() -> None:
            path = chosen_to_write(self, "Save the netlist", "filter.cir", NETLISTS, ending=".cir")
            if path is not None:
                self.presenter.write_netlist(self.chosen, path)

        self._guarded(save)


def title_of(quantity: str) -> str:
    """'Peak, dB'."""
    title = KNOWN[quantity].title if quantity in KNOWN else SCALE[quantity].title if quantity in SCALE else quantity
    unit = UNITS.get(quantity, "")
    return f"{title}, {unit}" if unit else title


def _proposal(one: Proposal) -> tuple[str, ...]:
    built, subject = one.built, one.subject
    return (f"{100 * built.low:.1f} … {100 * built.high:.1f}", subject.filter.entry.title, subject.mode,
            f"{subject.cutoff_hz:.1f}", f"{percent_of_onset(one):.1f} %", f"{one.worst:.2f}", built.costs_most or "–")


def _wish_table() -> QTableWidget:
    table = QTableWidget(0, 1 + len(FIELDS))
    table.setHorizontalHeaderLabels(["wish", "target", "±", "weight"])
    table.setAccessibleName("Wishes")
    table.setTabKeyNavigation(False)
    table.setShowGrid(False)
    table.setMinimumHeight(LEAST_PX)
    vertical, header = table.verticalHeader(), table.horizontalHeader()
    assert vertical is not None
    assert header is not None
    vertical.hide()
    vertical.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
    return table


def _button(text: str, then: Callable[[], object]) -> QPushButton:
    button = QPushButton(text)
    button.clicked.connect(lambda _: then())
    return button
