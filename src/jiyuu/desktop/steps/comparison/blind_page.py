"""Blind listening as a page: what is asked, buttons to hear, answers to give, the result in words."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QSpinBox

from jiyuu.character.blind import ANSWERS, BUTTONS, FEWEST, MOST_TRIALS, Task
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.steps.comparison.blind_presenter import BlindPresenter
from jiyuu.desktop.steps.comparison.ear_page import FIELD_PX, EarPage

NAME = "Blind listening"
ABOUT = ("Two filters, one loudness, and no name: the order is drawn and kept in the book before the first trial, and "
         "what was right is counted against guessing.")
MOST = 3


class BlindPage(EarPage):
    """The filter in hand and the one beside it."""

    def __init__(self, presenter: BlindPresenter) -> None:
        super().__init__(NAME, ABOUT, presenter.ear)
        self.presenter = presenter
        rows = form()
        self.task = self.choice("What is asked", [(str(task), task) for task in Task], presenter.choose)
        rows.addRow("Asked", self.task)
        self.trials = QSpinBox()
        self.trials.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.trials.setRange(FEWEST, MOST_TRIALS)
        self.trials.setAccessibleName("Trials")
        self.trials.setMaximumWidth(FIELD_PX)
        self.trials.valueChanged.connect(presenter.set_trials)
        rows.addRow("Trials", self.trials)
        self.before.addLayout(rows)
        self.proposal = QLabel()
        self.proposal.setWordWrap(True)
        self.proposal.setProperty("role", "quiet")
        self.before.addWidget(self.proposal)
        self.begin = self.begin_button(presenter.begin)
        self.buttons("Listen", MOST, presenter.hear, sounds=True)
        self.answers = self.buttons("Answer", MOST, presenter.answer)
        self.silence, self.stop = self.buttons("", 2, lambda i: (presenter.pause, presenter.break_off)[i]())
        self.silence.setText("Silence")
        self.stop.setText("Break off")
        presenter.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, series = self.presenter, self.presenter.series
        self.pages.setCurrentIndex(0 if series is None else 1)
        if series is None:
            self.title.setText(NAME)
            self.task.setCurrentIndex(self.task.findData(presenter.task))
            self.trials.blockSignals(True)
            self.trials.setValue(presenter.trials)
            self.trials.blockSignals(False)
            self.proposal.setText(presenter.proposal)
            self.told.setText(presenter.result)
            return
        self.title.setText(f"Trial {len(series.answers) + 1} of {len(series.order)}" if presenter.ready else
                           "Making the sounds …")
        first, second = series.pair
        names = [{"first": first, "second": second}.get(name, name) for name in BUTTONS[series.task]]
        answers = [text.replace("the first", first).replace("the second", second) for text in ANSWERS[series.task]]
        for i in range(MOST):
            self.hear[i].setVisible(i < len(names))
            self.answers[i].setVisible(i < len(answers))
            self.answers[i].setEnabled(presenter.ready)
        for i, name in enumerate(names):
            self.hear[i].setText(f"{name}   {i + 1}")
        for i, text in enumerate(answers):
            self.answers[i].setText(text)
        self.show_heard(ready=presenter.ready)
        self.told.setText(presenter.after)
