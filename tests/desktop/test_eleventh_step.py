"""A step that nobody knew of: two packages, and it is in the walk, the window, the whole walk and the help."""

import sys

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.bench import steps as bench_steps
from jiyuu.bench.walk import StepState, missing_steps, walk
from jiyuu.desktop import steps as desktop_steps
from jiyuu.wording.findings import QUANTITIES, sentence
from tests.desktop.using import measured, settled

BENCH = '''
from typing import Annotated

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.field_words import asked
from jiyuu.bench.step import Step
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.wording.quantity import Quantity


class HumSetting(Setting):
    limit_db: Annotated[float, asked("Limit", unit="dB", low=-120.0, high=0.0)] = -40.0


class HumStep(Step):
    number, key, name = 11, "hum", "Hum"
    purpose, tip = "what comes out when nothing goes in", "Listens to the unit for a tenth of a second."
    setting = HumSetting
    depends_on = ("standing_hz", "mode", "setting.limit_db")
    quantities = {"hum_db": Quantity("Hum", lambda f: f"Hum at {f.value:.0f} dB re 1 V.", "What is heard in a pause.",
                                     "RMS of a tenth of a second of silence.")}

    def request(self, standing, setting):
        return standing.panel, standing.mode

    def run(self, standing, setting, request, rig):
        import numpy as np

        panel, mode = request
        heard = rig.play(np.zeros(round(0.1 * rig.sample_rate_hz)), panel, [mode])[0]
        level = float(20 * np.log10(np.sqrt(np.mean(heard**2)) + 1e-12))
        yield Run(self.key, standing, setting, (
            Finding("hum_db", level, "dB", tolerance=Tolerance(-200.0, setting.limit_db)),
        ))


STEP = HumStep()
'''
DESKTOP = '''
from PyQt6.QtWidgets import QLabel

from jiyuu.bench.steps.hum import HumSetting
from jiyuu.desktop.parts.frame import SideColumn
from jiyuu.desktop.parts.knobs import by_name, model_field
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.desktop.steps.step_view import StepView


class HumView(StepView):
    def __init__(self, session, measuring, step):
        super().__init__(session, measuring, step)
        self.presenter = StepPresenter(session, measuring, step)
        self.figures = QLabel("Nothing to be drawn.")
        self.side = self.column = SideColumn()
        self.limit = model_field(HumSetting, "limit_db", by_name(self.presenter.ask, "limit_db"),
                                 lambda text: self.presenter.message.emit(text, True))
        self.column.add(self.limit)
        self.column.add(self.measure_bar())
        self.column.add(self.found_page(), 1)
        self.connect()

    def show_standing(self, standing):
        self.limit.set_value(self.presenter.setting.limit_db)


VIEW = HumView
'''


@pytest.fixture(autouse=True)
def eleventh(tmp_path, monkeypatch):
    for room, text in ((bench_steps, BENCH), (desktop_steps, DESKTOP)):
        folder = tmp_path / room.__name__
        folder.mkdir()
        (folder / "hum.py").write_text(text)
        monkeypatch.setattr(room, "__path__", [*room.__path__, str(folder)])
    walk.cache_clear()
    yield
    walk.cache_clear()
    for room in (bench_steps, desktop_steps):
        sys.modules.pop(f"{room.__name__}.hum", None)
        vars(room).pop("hum", None)
    QUANTITIES.pop("hum_db", None)


def test_it_stands_in_the_walk_measures_keeps_and_goes_out_of_date(window, qtbot):
    assert [step.key for step in walk()][-1] == "hum"
    assert "hum" in window.walk.stations
    window.go("hum")
    settled(window, qtbot)
    view = window.view("hum")
    shelved, standing = window.session.in_hand, window.session.standing()
    assert "hum" in [step.key for step in missing_steps(window.session.book, shelved.id, standing, {})]
    measured(window, qtbot)
    assert window.session.states()["hum"] is StepState.DONE
    assert view.findings.sentences()[0].startswith("Hum at ")
    assert "in tolerance" in view.findings.sentences()[0]
    window.shown.keep_current()
    (kept,) = window.session.book.logbook()
    assert sentence(kept.finding) == view.findings.sentences()[0]
    view.limit.entered.emit(-110.0)
    settled(window, qtbot)
    assert window.session.states()["hum"] is StepState.STALE
    measured(window, qtbot)
    assert window.session.states()["hum"] is StepState.OUTSIDE
    window.undo()  # the limit
    QTest.keyClick(window, Qt.Key.Key_F1)
    pages = window.menus.help.window.pages
    assert "Hum" in [pages.item(i).text() for i in range(pages.count())]
    window.menus.help.window.close()
    window.session.take(1)
    settled(window, qtbot)
    assert window.session.states()["hum"] is StepState.OPEN
