"""Stored settings of the filter in hand: a list to call back from, to tell apart, and to move between."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial

from PyQt6.QtCore import QObject, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QSlider, QWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.stored_settings import LONGEST_NAME, Stored, among, apart, recalling, stored, storing
from jiyuu.desktop.parts.aside import Aside, quiet
from jiyuu.desktop.parts.frame import narrow
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.quantities import shown_hz

ABOUT = ("How the filter in hand stands, under names; what is stored is never overwritten, and every step back is "
         "undone by Ctrl+Z. Choose one to move there from where it stands, or several (Ctrl+click) to move between "
         "them: along all in their order, on a sheet between four, in a block between eight.")
ALONG, CORNERS = "along them", {4: "on a sheet", 8: "in a block"}
WAYS, MOST_WAYS = "ways", 3
COLUMNS = ("name", "stored", "mode", "cutoff", "resonance")
APART = ("what", "there", "here")
STEPS, PAUSE_MS = 100, 60


class StoredSettings(QObject):
    """One for a window."""

    message = pyqtSignal(str, bool)
    changed = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._window = session, parent
        self.aside: StoredAside | None = None
        self._from: tuple[str, ...] = ()
        self._ends: list[dict[str, object]] | None = None
        session.settings_changed.connect(self.changed)
        session.filter_changed.connect(self._other)

    def open(self) -> None:
        """Beside the bench."""
        if self.aside is None:
            self.aside = StoredAside(self._window, self)
        self.aside.bring()
        self.aside.refresh()

    def _other(self) -> None:
        self._ends = None
        self.changed.emit()

    @property
    def every(self) -> list[Stored]:
        """Of the filter in hand, oldest first."""
        return stored(self._session.kept())

    def standing_of(self, one: Stored) -> Standing | None:
        """How the filter in hand would stand; None where that cannot be read."""
        in_hand = self._session.in_hand
        try:
            return None if in_hand is None else Standing.of(in_hand.document, one.values)
        except JiyuuError:
            return None

    def _guarded(self, do: Callable[[], str]) -> None:
        try:
            said = do()
        except JiyuuError as error:
            self.message.emit(str(error), True)
        else:
            self.message.emit(said, False)

    def store(self, name: str) -> None:
        """How it stands now."""
        def do() -> str:
            if self._session.in_hand is None:
                raise JiyuuError("There is no filter on the shelf whose settings could be stored.")
            self._session.change(storing(self._session.kept(), name,
                                         datetime.now(UTC).isoformat(timespec="milliseconds")))
            return f"Stored as '{' '.join(name.split())}'."

        self._guarded(do)

    def recall(self, name: str) -> None:
        """As it was stored."""
        for one in self.every:
            if one.name == name:
                self._ends = None
                self._session.change(recalling(one.values))
                self.message.emit(f"The filter stands as '{name}'; Ctrl+Z takes it back.", False)

    def begin_anew(self) -> None:
        """As the filter's file has it."""
        self._ends = None
        self._session.change(recalling({}))
        self.message.emit("The filter stands as its file has it; Ctrl+Z takes it back.", False)

    def apart(self, names: list[str]) -> list[tuple[str, object, object]]:
        """In what a stored setting differs from another, or from how it stands."""
        ends, in_hand = self._chosen(names), self._session.in_hand
        if ends is None or in_hand is None:
            return []
        try:
            return apart(in_hand.document, *ends[:2])
        except JiyuuError:
            return []

    def _chosen(self, names: list[str]) -> list[dict[str, object]] | None:
        """Those by name; one alone and how it stands."""
        known = {one.name: dict(one.values) for one in self.every}
        if not names or any(name not in known for name in names):
            return None
        return [known[name] for name in names] if len(names) > 1 else [known[names[0]], dict(self._session.kept())]

    def move(self, names: list[str], ways: list[float]) -> None:
        """To places from 0 to 1 on the ways between those chosen, or from where it stood to the one chosen."""
        in_hand = self._session.in_hand
        if self._ends is None or self._from != tuple(names):
            ends = self._chosen(names)
            # From where it stood when the hand began: one chosen is the goal.
            self._ends = None if ends is None else ends if len(names) > 1 else ends[::-1]
            self._from = tuple(names)
        if self._ends is None or in_hand is None:
            return
        try:
            self._session.change(among(in_hand.document, self._ends, ways), together=True)
        except JiyuuError as error:
            self.message.emit(str(error), True)

    @property
    def ways(self) -> list[str]:
        """What a person calls them."""
        kept = self._session.kept().get(WAYS)
        names = [str(one) for one in kept] if isinstance(kept, list) else []
        return [*names, *[""] * MOST_WAYS][:MOST_WAYS]

    def name_way(self, way: int, name: str) -> None:
        names = self.ways
        names[way] = " ".join(name.split())
        if self._session.in_hand is not None and names != self.ways:
            self._session.change({WAYS: names if any(names) else None})


class StoredAside(Aside):
    """Not modal."""

    def __init__(self, parent: QWidget, settings: StoredSettings) -> None:
        super().__init__(parent, "Stored settings", (520, 520))
        self._settings = settings
        column = self.sheet(ABOUT)
        row = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setPlaceholderText("name")
        self.name.setAccessibleName("Name to store under")
        self.keep = QPushButton("Store")
        self.keep.clicked.connect(self._store)
        self.name.returnPressed.connect(self._store)
        row.addWidget(self.name, 1)
        row.addWidget(self.keep)
        column.addLayout(row)
        self.table = PlainTable("Stored settings", COLUMNS, words=(0, 1, 2))
        self.table.itemSelectionChanged.connect(self._show_chosen)
        column.addWidget(self.table, 3)
        row = QHBoxLayout()
        self.recall, self.anew = QPushButton("Recall"), QPushButton("Begin anew")
        self.recall.clicked.connect(lambda: settings.recall(self.names()[0]) if self.names() else None)
        self.anew.clicked.connect(settings.begin_anew)
        self.way = quiet()
        row.addWidget(self.recall)
        row.addWidget(self.anew)
        row.addWidget(self.way, 1)
        column.addLayout(row)
        self.how = narrow(QComboBox())
        self.how.setAccessibleName("How it lies between them")
        self.how.activated.connect(lambda _: self._show_ways())
        column.addWidget(self.how)
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self._move)
        self.way_names: list[QLineEdit] = []
        self.sliders: list[QSlider] = []
        rows = QGridLayout()
        for way in range(MOST_WAYS):
            name, slider = QLineEdit(), QSlider(Qt.Orientation.Horizontal)
            name.setPlaceholderText(f"way {way + 1}")
            name.setAccessibleName(f"Name of way {way + 1}")
            name.setMaxLength(LONGEST_NAME)
            name.editingFinished.connect(partial(self._name_way, way))
            slider.setRange(0, STEPS)
            slider.setAccessibleName(f"Place on way {way + 1}, per cent")
            slider.valueChanged.connect(lambda _: self._pause.start() if not self._pause.isActive() else None)
            rows.addWidget(name, way, 0)
            rows.addWidget(slider, way, 1)
            self.way_names.append(name)
            self.sliders.append(slider)
        rows.setColumnStretch(1, 2)
        column.addLayout(rows)
        self.difference = PlainTable("What they differ by", APART, words=(0,))
        column.addWidget(self.difference, 2)
        settings.changed.connect(self.refresh)
        self._show_chosen()

    def names(self) -> list[str]:
        """Those chosen, in the order of the list."""
        rows = sorted({index.row() for index in self.table.selectedIndexes()})
        every = self._settings.every
        return [every[row].name for row in rows if row < len(every)]

    def refresh(self) -> None:
        """As the book has it, where somebody looks."""
        if not self.isVisible():
            return
        chosen = set(self.names())
        self.table.blockSignals(True)
        self.table.fill([self._row(one) for one in self._settings.every])
        self.table.clearSelection()
        for i, one in enumerate(self._settings.every):
            if one.name in chosen:
                for j in range(len(COLUMNS)):
                    item = self.table.item(i, j)
                    assert item is not None
                    item.setSelected(True)
        self.table.blockSignals(False)
        self._show_difference()

    def _row(self, one: Stored) -> tuple[str, ...]:
        standing = self._settings.standing_of(one)
        day = _local(one.at)
        if standing is None:
            return (one.name, day, "–", "–", "–")
        return (one.name, day, standing.mode, shown_hz(standing.cutoff_hz), f"{standing.resonance_percent:.3g} %")

    def _store(self) -> None:
        self._settings.store(self.name.text())
        self.name.clear()

    def _show_chosen(self) -> None:
        names = self.names()
        self.recall.setEnabled(len(names) == 1)
        self.how.clear()
        self.how.addItem(ALONG, 1)
        if len(names) in CORNERS:
            self.how.addItem(CORNERS[len(names)], len(names).bit_length() - 1)
        self.how.setEnabled(self.how.count() > 1)
        self.way.setText("" if not names else f"{names[0]} … {names[-1]}" if len(names) > 1 else
                         f"as it stands … {names[0]}")
        self._show_ways()
        self._show_difference()

    def _show_ways(self) -> None:
        """So many as there are between those chosen, all at their beginning."""
        count, names = int(self.how.currentData() or 1), self._settings.ways
        for way, (slider, name) in enumerate(zip(self.sliders, self.way_names, strict=True)):
            slider.setVisible(way < count)
            name.setVisible(way < count)
            name.setText(names[way])
            slider.setEnabled(bool(self.names()))
            slider.blockSignals(True)
            slider.setValue(0)
            slider.blockSignals(False)

    def _move(self) -> None:
        count = int(self.how.currentData() or 1)
        self._settings.move(self.names(), [slider.value() / STEPS for slider in self.sliders[:count]])

    def _name_way(self, way: int) -> None:
        if self.way_names[way].isModified():
            self.way_names[way].setModified(False)
            self._settings.name_way(way, self.way_names[way].text())

    def _show_difference(self) -> None:
        self.difference.fill([(place, _said(there), _said(here))
                              for place, there, here in self._settings.apart(self.names())])


def _local(at: str) -> str:
    try:
        return f"{datetime.fromisoformat(at).astimezone():%Y-%m-%d %H:%M}"
    except ValueError:
        return at[:16]


def _said(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.5g}".replace("-", "−")
    return "–" if value is None else str(value)

