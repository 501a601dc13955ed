"""Blind listening as a page: what is asked, buttons to hear, answers to give, the result in words."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QSpinBox, QStackedWidget, QVBoxLayout, QWidget

from jiyuu.bench.heard import WARNING
from jiyuu.character.blind import ANSWERS, BUTTONS, FEWEST, MOST_TRIALS, Task
from jiyuu.desktop.parts.frame import form, narrow
from jiyuu.desktop.steps.comparison.blind_presenter import BlindPresenter
from jiyuu.desktop.theme.style import STEP

ABOUT = ("Two filters, one loudness, and no name: the order is drawn and kept in the book before the first trial, and "
         "what was right is counted against guessing.")
MOST = 3


class BlindPage(QWidget):
    """Keys 1, 2, 3 play while the page has the focus."""

    def __init__(self, presenter: BlindPresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Blind listening")
        column = QVBoxLayout(self)
        column.setContentsMargins(4 * STEP, 3 * STEP, 4 * STEP, 3 * STEP)
        column.setSpacing(2 * STEP)
        self.title = QLabel("Blind listening")
        self.title.setProperty("role", "heading")
        column.addWidget(self.title)
        self.pages = QStackedWidget()
        self.pages.addWidget(self._before())
        self.pages.addWidget(self._meanwhile())
        column.addWidget(self.pages)
        self.told = QLabel()
        self.told.setWordWrap(True)
        self.told.setAccessibleName("Result")
        column.addWidget(self.told)
        column.addStretch(1)
        presenter.changed.connect(self.refresh)
        self.refresh()

    def _before(self) -> QWidget:
        page, presenter = QWidget(), self.presenter
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2 * STEP)
        about = QLabel(ABOUT)
        about.setWordWrap(True)
        column.addWidget(about)
        rows = form()
        self.task = narrow(QComboBox())
        self.task.setAccessibleName("What is asked")
        for task in Task:
            self.task.addItem(str(task), task)
        self.task.activated.connect(lambda _: presenter.choose(self.task.currentData()))
        rows.addRow("Asked", self.task)
        self.trials = QSpinBox()
        self.trials.setRange(FEWEST, MOST_TRIALS)
        self.trials.setAccessibleName("Trials")
        self.trials.valueChanged.connect(presenter.set_trials)
        rows.addRow("Trials", self.trials)
        for field in (self.task, self.trials):
            field.setMaximumWidth(60 * STEP)
        column.addLayout(rows)
        self.proposal = QLabel()
        self.proposal.setWordWrap(True)
        self.proposal.setProperty("role", "quiet")
        column.addWidget(self.proposal)
        self.begin = QPushButton("Begin")
        self.begin.setToolTip(WARNING)
        self.begin.clicked.connect(presenter.begin)
        column.addWidget(self.begin, 0, Qt.AlignmentFlag.AlignLeft)
        return page

    def _meanwhile(self) -> QWidget:
        page, presenter = QWidget(), self.presenter
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2 * STEP)
        self.hear, self.answers = [QPushButton() for _ in range(MOST)], [QPushButton() for _ in range(MOST)]
        for buttons, then, said in ((self.hear, presenter.hear, "Listen"), (self.answers, presenter.answer, "Answer")):
            row = QHBoxLayout()
            label = QLabel(said)
            label.setProperty("role", "quiet")
            label.setMinimumWidth(16 * STEP)
            row.addWidget(label)
            for i, button in enumerate(buttons):
                button.clicked.connect(lambda _, i=i, then=then: then(i))
                row.addWidget(button)
            row.addStretch(1)
            column.addLayout(row)
        for button in self.hear:
            button.setCheckable(True)
            button.setProperty("role", "sound")
        row = QHBoxLayout()
        self.pause, self.stop = QPushButton("Silence"), QPushButton("Break off")
        self.pause.clicked.connect(presenter.pause)
        self.stop.clicked.connect(presenter.break_off)
        row.addSpacing(16 * STEP + STEP)
        row.addWidget(self.pause)
        row.addWidget(self.stop)
        row.addStretch(1)
        column.addLayout(row)
        return page

    def keyPressEvent(self, event: object) -> None:
        """1, 2, 3: what the buttons play."""
        key = event.key() - Qt.Key.Key_1  # type: ignore[attr-defined]
        if self.presenter.ready and 0 <= key < len(BUTTONS[self.presenter.task]):
            self.presenter.hear(key)
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, series = self.presenter, self.presenter.series
        self.pages.setCurrentIndex(0 if series is None else 1)
        if series is None:
            self.title.setText("Blind listening")
            self.task.setCurrentIndex(self.task.findData(presenter.task))
            self.trials.blockSignals(True)
            self.trials.setValue(presenter.trials)
            self.trials.blockSignals(False)
            self.proposal.setText(presenter.proposal)
            self.told.setText(presenter.result)
            return
        number = len(series.answers) + 1
        self.title.setText(f"Trial {number} of {len(series.order)}" if presenter.ready else "Making the sounds …")
        first, second = series.pair
        names = [{"first": first, "second": second}.get(name, name) for name in BUTTONS[series.task]]
        answers = [text.replace("the first", first).replace("the second", second) for text in ANSWERS[series.task]]
        for i in range(MOST):
            self.hear[i].setVisible(i < len(names))
            self.answers[i].setVisible(i < len(answers))
            if i < len(names):
                self.hear[i].setText(f"{names[i]}   {i + 1}")
                self.hear[i].setChecked(presenter.heard == i)
                self.hear[i].setEnabled(presenter.ready)
            if i < len(answers):
                self.answers[i].setText(answers[i])
                self.answers[i].setEnabled(presenter.ready)
        self.told.setText(presenter.after)
