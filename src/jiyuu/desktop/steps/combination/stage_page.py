"""What is combined: something to begin with, which filters go with the knob, and the fields of the stage that is looked
at."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QHBoxLayout, QVBoxLayout, QWidget

from jiyuu.bench.combinations import COMBINATIONS
from jiyuu.bench.standing import Standing
from jiyuu.desktop.parts.frame import form, narrow
from jiyuu.desktop.parts.knobs import number_field
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.path.panel import StagePanel
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.desktop.steps.combination.ringing_presenter import RingingPresenter
from jiyuu.desktop.steps.combination.ringing_section import RingingSection
from jiyuu.desktop.steps.combination.shapes_section import ShapesSection
from jiyuu.patch.document import FilterStage
from jiyuu.patch.editing import places

CHOOSE = "combine it with …"


class StagePage(QWidget):
    """Made anew where other filters stand in the path."""

    def __init__(self, presenter: CombinationPresenter, ringing: RingingPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._names: tuple[str, ...] = ()
        self.ties: dict[str, QCheckBox] = {}
        self.spacings: dict[str, TypedValue] = {}
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        self.start = narrow(QComboBox())
        self.start.setAccessibleName("Something to combine it with")
        self.start.addItem(CHOOSE)
        for key, one in COMBINATIONS.items():
            self.start.addItem(one.title, key)
            self.start.setItemData(self.start.count() - 1, one.says, 3)  # tool tip
        self.start.activated.connect(self._start)
        whole.addWidget(self.start)
        self._rows: QFormLayout = form()
        whole.addLayout(self._rows)
        self.shapes = ShapesSection(presenter)
        whole.addWidget(self.shapes)
        self.ringing = RingingSection(ringing)
        whole.addWidget(self.ringing)
        self.panel = StagePanel(presenter.path, inside_a_step=True)
        whole.addWidget(self.panel, 1)
        whole.addStretch(0)  # has the room where the panel is hidden
        presenter.path.changed.connect(self._show_stage)
        self._show_stage()

    def _start(self, index: int) -> None:
        key = self.start.itemData(index)
        self.start.setCurrentIndex(0)
        if key:
            self._presenter.start_from(key)

    def _show_stage(self) -> None:
        self.panel.setVisible(self._presenter.place is not None)
        self.panel.refresh()
        self.shapes.show_stage()

    def show_standing(self, standing: Standing) -> None:
        """Which filters go with the knob, and how far off."""
        setup = standing.setup
        names = tuple(stage.id for _, stage in places(setup.path)
                      if isinstance(stage, FilterStage) and stage.id and stage.id != setup.in_hand)
        if names != self._names:
            self._build(names)
        for name in names:
            tied = name in setup.tied
            self.ties[name].setChecked(tied)
            self.spacings[name].setEnabled(tied)
            self.spacings[name].set_value(setup.tied.get(name, 0.0))

    def _build(self, names: tuple[str, ...]) -> None:
        while self._rows.rowCount():
            self._rows.removeRow(0)
        self._names, self.ties, self.spacings = names, {}, {}
        for name in names:
            tie, field = QCheckBox("one knob"), number_field(f"Spacing of {name}", "oct", 0.1)
            tie.setAccessibleName(f"{name} goes with the cutoff of the filter in hand")
            tie.setToolTip("Moved by the cutoff of the filter in hand, so many octaves off; its line in the figure "
                           "moves the spacing.")
            tie.clicked.connect(partial(self._presenter.set_tied, name))
            field.entered.connect(partial(self._presenter.set_spacing, name))
            field.refused.connect(self._refused)
            self.ties[name], self.spacings[name] = tie, field
            row = QHBoxLayout()
            row.addWidget(tie)
            row.addWidget(field, 1)
            self._rows.addRow(name, row)

    def _refused(self, text: object) -> None:
        self._presenter.message.emit(str(text), True)
