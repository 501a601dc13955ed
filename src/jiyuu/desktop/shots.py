"""Renews the pictures of the main views from the demo data."""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QAbstractButton, QApplication, QButtonGroup, QWidget

    from jiyuu.desktop.steps.combination.view import CombinationView
    from jiyuu.desktop.steps.logbook.presenter import LogbookPresenter
    from jiyuu.desktop.steps.modulation.view import ModulationView
    from jiyuu.desktop.steps.response.view import ResponseView
    from jiyuu.desktop.steps.setup.view import SetupView
    from jiyuu.desktop.steps.tracking.presenter import TrackingPresenter
    from jiyuu.desktop.window import MainWindow

SETTLED_S = 0.25  # what takes longer than a frame waits this long at most before it begins


class Camera:
    """One window on the demo book, and pictures of it in a folder."""

    def __init__(self, window: MainWindow, app: QApplication, folder: Path) -> None:
        self.window, self._app, self._folder = window, app, folder

    def settle(self) -> None:
        """Until nothing is computed any more."""
        until = time.monotonic() + SETTLED_S
        window = self.window
        while time.monotonic() < until or window.session.crew.busy or window.shown.presenter.waiting:
            self._app.processEvents()

    def shoot(self, name: str, widget: QWidget | None = None) -> None:
        """What the window (another widget of it) shows, once it has settled; what was said last is not part of it."""
        self.settle()
        self.window.tidings.clear()
        self._app.processEvents()
        (widget or self.window).grab().save(str(self._folder / f"{name}.png"))


def main(folder: Path) -> None:
    """Draws every main view at 1280×800, offscreen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QSettings
    from PyQt6.QtWidgets import QApplication

    from jiyuu.bench.demo import write_demo_book
    from jiyuu.book.store import Book
    from jiyuu.desktop.theme.style import THEME, load_faces
    from jiyuu.desktop.window import MainWindow, keep_focus_on_figure

    app = QApplication(["jiyuu"])
    app.setStyle("Fusion")
    load_faces()
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, place)
        os.environ["JIYUU_DATA_DIR"] = place
        path = Path(os.environ.get("JIYUU_SHOT_BOOK") or Path(place) / "fog-voices.jiyuu")
        if not path.exists():
            write_demo_book(path)
        THEME.apply("paper")
        window = MainWindow(Book.open(path))
        window.resize(1280, 800)
        window.show()
        keep_focus_on_figure(window)
        camera = Camera(window, app, folder)
        for view in (_setup, _response, _resonance, _self_oscillation, _tracking, _drive, _path, _modulation,
                     _combination, _comparison, _logbook, _night):
            view(camera)
        window.close()
        while window.session.crew.busy:
            app.processEvents()


def _click(group: QButtonGroup, which: int) -> None:
    button: QAbstractButton | None = group.button(which)
    assert button is not None
    button.click()


def _measure(camera: Camera, step: str, letter: str) -> None:
    """A step with one measurement of a filter in it."""
    window = camera.window
    window.session.take_letter(letter)
    window.go(step)
    camera.settle()
    window.view(step).presenter.measure()
    camera.settle()


def _setup(camera: Camera) -> None:
    """An envelope that holds the filter open, and the plan of the measurements."""
    window = camera.window
    window.session.take_letter("A")
    window.go("setup")
    window.session.change_setup(
        cvs=[{"amount_percent": 80, "now_v": 5.0}, {"amount_percent": -40, "low_v": -5.0}, {"low_v": -5.0}],
        key_follow_percent=100,
    )
    window.view("setup").presenter.measure()
    camera.shoot("setup")
    window.undo()
    setup = cast("SetupView", window.view("setup"))
    window.session.take_letter("B")
    _click(setup.page_choice, 3)
    camera.shoot("plan")
    _click(setup.page_choice, 0)


def _response(camera: Camera) -> None:
    window = camera.window
    window.session.take_letter("A")
    window.go("response")
    camera.shoot("response")
    view = cast("ResponseView", window.view("response"))
    view.form.at_level.entered.emit(2.0)
    view.presenter.ask(beside=window.session.shelf[2].id)
    view.band.setChecked(True)
    _click(view.page_choice, 1)
    _click(view.support.choice, 2)
    camera.shoot("circuit")
    window.files.choose_circuit()
    chooser = window.files.chooser
    assert chooser is not None
    camera.shoot("chooser", chooser)
    chooser.close()
    view.band.setChecked(False)
    view.form.at_level.entered.emit(0.0)
    view.presenter.ask(beside=None)
    _click(view.page_choice, 0)
    _click(view.support.choice, 0)
    window.session.take_letter("B")
    camera.shoot("response-out-of-tolerance")


def _resonance(camera: Camera) -> None:
    _measure(camera, "resonance", "B")
    camera.shoot("resonance")


def _self_oscillation(camera: Camera) -> None:
    _measure(camera, "self_oscillation", "C")
    camera.shoot("self-oscillation")


def _tracking(camera: Camera) -> None:
    _measure(camera, "tracking", "C")
    camera.shoot("tracking")
    cast("TrackingPresenter", camera.window.view("tracking").presenter).turn_as_advised()
    camera.shoot("tracking-trimmed")


def _drive(camera: Camera) -> None:
    _measure(camera, "drive", "F")
    camera.shoot("drive")


def _path(camera: Camera) -> None:
    """A loop round the filter, a curve and another filter behind it."""
    window = camera.window
    window.session.take_letter("A")
    window.go("response")
    path = window.path.presenter
    assert path.shown is not None
    path.choose(path.shown.in_hand)
    path.add("feedback")
    path.set_field(amount=-0.6)
    path.add("shape")
    path.set_field(headroom_v=2.0, id="after")
    path.add("filter")
    path.beside_dry()
    path.choose((0,))
    camera.shoot("signal-path")
    path.choose(None)
    for _ in range(6):
        window.undo()


def _modulation(camera: Camera) -> None:
    """A figure with accents and slides, its envelope between two bounds; the unit struck and stepped."""
    window = camera.window
    window.session.take_letter("A")
    window.go("modulation")
    view = cast("ModulationView", window.view("modulation"))
    view.presenter.set_knob(180.0)
    view.presenter.start_from("tide")
    view.presenter.set_bounds(150.0, 2400.0)
    _click(view.page_choice, 1)
    camera.shoot("modulation")
    _click(view.page_choice, 0)
    view.presenter.measure()
    camera.shoot("modulation-measured")
    for _ in range(3):
        window.undo()


def _combination(camera: Camera) -> None:
    """A notch of two filters behind one knob; a bank that a melody wakes."""
    window = camera.window
    window.session.take_letter("A")
    window.go("combination")
    view = cast("CombinationView", window.view("combination"))
    view.presenter.start_from("notch")
    camera.shoot("combination")
    view.presenter.start_from("bank")
    camera.shoot("combination-bank")
    for _ in range(2):
        window.undo()


def _comparison(camera: Camera) -> None:
    camera.window.session.take_letter("A")
    camera.window.go("comparison")
    camera.settle()
    camera.window.shown.presenter.measure()
    camera.shoot("comparison")


def _logbook(camera: Camera) -> None:
    camera.window.session.take_letter("A")
    camera.window.go("logbook")
    camera.settle()
    presenter = cast("LogbookPresenter", camera.window.shown.presenter)
    presenter.look_at(next(entry for entry in reversed(presenter.every) if entry.run_id is not None))
    camera.shoot("logbook")


def _night(camera: Camera) -> None:
    from jiyuu.desktop.theme.style import THEME

    THEME.apply("night")
    camera.window.go("response")
    camera.shoot("response-night")


if __name__ == "__main__":
    asked = argparse.ArgumentParser(prog="python -m jiyuu.desktop.shots", description=__doc__)
    asked.add_argument("folder", type=Path, help="where the pictures go; it is made where there is none")
    main(asked.parse_args().folder)
