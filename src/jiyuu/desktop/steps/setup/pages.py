"""What can be set in the Setup step: the source with its drive, and what moves the cutoff."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QComboBox, QFileDialog, QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.setup import MOST_SOURCES, CutoffInput, Setup, SourceSetting
from jiyuu.desktop.parts.frame import form, narrow, scrolled
from jiyuu.desktop.parts.knobs import by_name, model_field
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.steps.setup.presenter import SetupPresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.signals.source import PITCHED, SourceKind

OF_SOURCE = ("pitch_hz", "level_v", "width")
OF_CUTOFF = ("knob_low_hz", "knob_high_hz", "lowest_hz", "highest_hz", "fine_cents", "key_follow_percent", "key_v")
OF_CV = ("amount_percent", "now_v", "low_v", "high_v")
OF_PATH = ("drive_db", "trim_db", "next_limit_v")


def _refuse(presenter: SetupPresenter, text: str) -> None:
    presenter.message.emit(text, True)


def _heading(text: str) -> QLabel:
    label = QLabel(text)
    label.setProperty("role", "heading")
    return label


class _InputRow(QWidget):
    """One input of the mix."""

    def __init__(self, index: int, presenter: SetupPresenter) -> None:
        super().__init__()
        self._index, self._presenter = index, presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, STEP)
        column.setSpacing(STEP)
        self.kind = narrow(QComboBox())
        self.kind.setAccessibleName(f"Source {index + 1}")
        self.kind.addItems([kind.value for kind in SourceKind])
        self.kind.textActivated.connect(self._choose)
        rows = form()
        rows.addRow(f"Source {index + 1}", self.kind)
        self.fields = {
            name: model_field(SourceSetting, name, by_name(partial(presenter.change_input, index), name),
                              partial(_refuse, presenter),
                              title=f"{SourceSetting.model_fields[name].title} of source {index + 1}")
            for name in OF_SOURCE
        }
        self._rows = rows
        for name, field in self.fields.items():
            rows.addRow(str(SourceSetting.model_fields[name].title), field)
        column.addLayout(rows)
        self.away = QPushButton("Remove")
        self.away.setAccessibleName(f"Remove source {index + 1}")
        self.away.clicked.connect(lambda: presenter.remove_input(index))
        column.addWidget(self.away)

    def _choose(self, text: str) -> None:
        if text != SourceKind.FILE.value:
            self._presenter.change_input(self._index, kind=text, path=None)
            return
        name, _ = QFileDialog.getOpenFileName(self, "Source", "", "Recordings (*.wav *.flac)")
        if name:
            self._presenter.change_input(self._index, kind=text, path=name)
        else:
            self._presenter.refresh()

    def show_setting(self, setting: SourceSetting, *, only: bool) -> None:
        """What the source is, and which of its fields count."""
        self.kind.setCurrentText(setting.kind.value)
        self.kind.setToolTip(setting.path or "What is played into the filter.")
        for name, field in self.fields.items():
            field.set_value(getattr(setting, name))
        self.fields["pitch_hz"].setEnabled(setting.kind in PITCHED)
        self._rows.setRowVisible(self.fields["width"], setting.kind is SourceKind.PULSE)
        self.away.setVisible(not only)


class SourcePage(QWidget):
    """Up to eight inputs mixed, the drive ahead of the filter, the limit of what comes next."""

    def __init__(self, presenter: SetupPresenter) -> None:
        super().__init__()
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        area, column = scrolled()
        whole.addWidget(area)
        self._presenter = presenter
        self.rows: list[_InputRow] = []  # as many as were ever needed
        self._inputs = QVBoxLayout()
        column.addLayout(self._inputs)
        self.more = QPushButton("Mix in another source")
        self.more.clicked.connect(presenter.add_input)
        column.addWidget(self.more)
        self.form = ModelForm(Setup, OF_PATH, presenter.change, partial(_refuse, presenter))
        self.fields = self.form.numbers
        column.addLayout(self.form.rows)
        column.addStretch(1)

    def show_setup(self, setup: Setup) -> None:
        for i in range(len(self.rows), len(setup.inputs)):
            self.rows.append(_InputRow(i, self._presenter))
            self._inputs.addWidget(self.rows[i])
        for i, row in enumerate(self.rows):
            row.setVisible(i < len(setup.inputs))
            if i < len(setup.inputs):
                row.show_setting(setup.inputs[i], only=len(setup.inputs) == 1)
        self.more.setVisible(len(setup.inputs) < MOST_SOURCES)
        self.form.show(setup)


class CutoffPage(QWidget):
    """Knob range, circuit's limits, fine tuning, key follow, three control voltages."""

    def __init__(self, presenter: SetupPresenter) -> None:
        super().__init__()
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        area, column = scrolled()
        whole.addWidget(area)
        refused = partial(_refuse, presenter)
        self.form = ModelForm(Setup, OF_CUTOFF, presenter.change, refused)
        self.fields = self.form.numbers
        column.addLayout(self.form.rows)
        self.cvs: list[ModelForm] = []
        for index in range(3):
            column.addWidget(_heading(f"CV {index + 1}"))
            self.cvs.append(ModelForm(CutoffInput, OF_CV, partial(presenter.change_cv, index), refused,
                                      before=f"CV {index + 1}: "))
            column.addLayout(self.cvs[-1].rows)
        column.addStretch(1)

    def show_setup(self, setup: Setup) -> None:
        self.form.show(setup)
        for fields, cv in zip(self.cvs, setup.cvs, strict=True):
            fields.show(cv)
