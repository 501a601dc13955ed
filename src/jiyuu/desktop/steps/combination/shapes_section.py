"""Stored settings of shelves and peaks: a list to go back to, a name to store under, the ways between them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from jiyuu.desktop.parts.frame import narrow
from jiyuu.desktop.parts.knobs import model_field
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.desktop.steps.combination.shapes_presenter import WAYS, ShapesPresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.patch.shapes import Shapes


class ShapesSection(QWidget):
    """Over the fields of the stage."""

    def __init__(self, combination: CombinationPresenter) -> None:
        super().__init__()
        self._presenter = presenter = ShapesPresenter(combination)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name to store the bands under")
        self.name.setPlaceholderText("name")
        self.name.setMaxLength(120)
        self.name.returnPressed.connect(self._store)
        self.store = _button("Store", self._store)
        self.anew = _button("Begin anew", presenter.begin_anew)
        self.anew.setToolTip("No band and no trim; what is stored stays.")
        self.stored = narrow(QComboBox())
        self.stored.setAccessibleName("Stored settings")
        self.recall = _button("Recall", lambda: presenter.recall(self.stored.currentText()))
        self.away = _button("Take away", lambda: presenter.take_away(self.stored.currentText()))
        rows = QGridLayout()
        rows.setSpacing(STEP)
        for i, row in enumerate(((self.name, self.store), (self.stored, self.recall), (self.away, self.anew))):
            for k, widget in enumerate(row):
                rows.addWidget(widget, i, k)
        rows.setColumnStretch(0, 1)
        rows.setColumnStretch(1, 1)
        column.addLayout(rows)
        self.how = narrow(QComboBox())
        self.how.setAccessibleName("Morph between stored settings")
        self.how.textActivated.connect(presenter.choose)
        column.addWidget(self.how)
        self.names: list[QLineEdit] = []
        self.ways: list[TypedValue] = []
        self._rows: list[QWidget] = []
        for way in range(len(WAYS)):
            column.addWidget(self._way(way, combination))
        self.across = _button("Copy to the other side", presenter.copy_across)
        column.addWidget(self.across)
        self.note = QLabel("The bands below do not count while it stands between settings.")
        self.note.setProperty("role", "quiet")
        self.note.setWordWrap(True)
        column.addWidget(self.note)

    def _way(self, way: int, combination: CombinationPresenter) -> QWidget:
        name = QLineEdit()
        name.setAccessibleName(f"Name of way {way + 1}")
        name.setMaxLength(120)
        name.editingFinished.connect(lambda: self._named(way))
        field = model_field(Shapes, WAYS[way], partial(self._presenter.set_way, way),
                            lambda text: combination.message.emit(str(text), True), title=f"Way {way + 1}")
        self.names.append(name)
        self.ways.append(field)
        row = QWidget()
        across = QHBoxLayout(row)
        across.setContentsMargins(0, 0, 0, 0)
        across.addWidget(name, 1)
        across.addWidget(field, 1)
        self._rows.append(row)
        return row

    def _named(self, way: int) -> None:
        if self.names[way].isModified():
            self.names[way].setModified(False)
            self._presenter.name_way(way, self.names[way].text())

    def _store(self) -> None:
        self._presenter.store(self.name.text())
        stage = self._presenter.stage
        if stage is not None and self.name.text().strip() in [setting.name for setting in stage.settings]:
            self.name.clear()

    def show_stage(self) -> None:
        """What is stored, and where it stands between."""
        presenter, stage = self._presenter, self._presenter.stage
        self.setVisible(stage is not None)
        if stage is None:
            return
        here = self.stored.currentText()
        self.stored.clear()
        self.stored.addItems([setting.name for setting in stage.settings])
        self.stored.setCurrentText(here)
        for widget in (self.stored, self.recall, self.away):
            widget.setEnabled(bool(stage.settings))
        self.how.clear()
        self.how.addItems(presenter.choices())
        self.how.setCurrentText(presenter.choice)
        self.how.setEnabled(self.how.count() > 1)
        for way, row in enumerate(self._rows):
            row.setVisible(way < len(stage.ways))
            if way < len(stage.ways):
                self.names[way].setText(stage.axes[way] if way < len(stage.axes) else WAYS[way].replace("_", " "))
                self.ways[way].set_value(stage.ways[way])
        self.across.setVisible(presenter.across is not None)
        self.note.setVisible(bool(stage.ways))


def _button(text: str, do: Callable[[], object]) -> QPushButton:
    button = QPushButton(text)
    button.clicked.connect(lambda: do())
    return button
