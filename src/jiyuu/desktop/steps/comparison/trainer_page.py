"""The ear trainer as a page: a topic, two sounds, which of them it is, what was told before."""

from __future__ import annotations

from jiyuu.character.trainer import ASKED, Topic
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.steps.comparison.ear_page import EarPage
from jiyuu.desktop.steps.comparison.trainer_presenter import TrainerPresenter

NAME = "Ear trainer"
ABOUT = ("Two drawn filters, one loudness, one question. Right twice in a row it becomes harder, wrong once easier; it "
         "ends where your ear tells seven of ten, never below what is just noticed.")
SHOWN_BEFORE = 5
PLACES = ("First", "Second")


class TrainerPage(EarPage):
    """The filters are drawn, not those of the shelf."""

    def __init__(self, presenter: TrainerPresenter) -> None:
        super().__init__(NAME, ABOUT, presenter.ear)
        self.presenter = presenter
        rows = form()
        self.topic = self.choice("Topic", [(str(topic), topic) for topic in Topic], presenter.choose)
        rows.addRow("Topic", self.topic)
        self.before.addLayout(rows)
        self.begin = self.begin_button(presenter.begin)
        for i, button in enumerate(self.buttons("Listen", len(PLACES), presenter.hear, sounds=True)):
            button.setText(f"{PLACES[i]}   {i + 1}")
        self.answers = self.buttons("Answer", len(PLACES), presenter.answer)
        for i, button in enumerate(self.answers):
            button.setText(f"The {PLACES[i].lower()}")
        (self.stop,) = self.buttons("", 1, lambda _: presenter.end())
        self.stop.setText("End")
        presenter.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, stairs = self.presenter, self.presenter.stairs
        self.pages.setCurrentIndex(0 if stairs is None else 1)
        if stairs is None:
            self.title.setText(NAME)
            self.topic.setCurrentIndex(self.topic.findData(presenter.topic))
            self.told.setText(presenter.result)
            self.more.setText(self._before())
            return
        ready = presenter.ear.ready and presenter.question is not None
        self.title.setText(f"{len(stairs.trail) + 1}. {ASKED[stairs.topic][0]}" if ready else "Making a question …")
        self.show_heard(ready=ready)
        for button in self.answers:
            button.setEnabled(ready)
        self.told.setText(presenter.after)
        self.more.setText("")

    def _before(self) -> str:
        found = self.presenter.before[:SHOWN_BEFORE]
        if not found:
            return ""
        told = ", ".join(f"{one.jnds:.1f} on {one.day}" for one in found)
        return f"Before: {told} (just-noticeable differences)."
