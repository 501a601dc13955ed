"""Renews the pictures of the main views from the demo data: python -m jiyuu.desktop.shots FOLDER"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any


def main(folder: Path) -> None:
    """Draws every main view at 1280×800, offscreen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QSettings
    from PyQt6.QtWidgets import QApplication

    from jiyuu.book.demo import write_demo_book
    from jiyuu.book.store import Book
    from jiyuu.desktop.theme.style import THEME, load_faces
    from jiyuu.desktop.window import MainWindow, keep_focus_on_figure

    app = QApplication(["jiyuu"])
    app.setStyle("Fusion")
    load_faces()
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, place)
        path = Path(os.environ.get("JIYUU_SHOT_BOOK") or Path(place) / "fog-voices.jiyuu")
        if not path.exists():
            write_demo_book(path)
        THEME.apply("paper")
        window = MainWindow(Book.open(path))
        window.resize(1280, 800)
        window.show()
        keep_focus_on_figure(window)

        def shoot(name: str) -> None:
            for _ in range(4):
                app.processEvents()
            window.response.level.place_labels()
            app.processEvents()
            window.grab().save(str(folder / f"{name}.png"))

        window.go("Response")
        shoot("response")
        window.response.at_level.entered.emit(2.0)
        window.presenter.set_beside(window.session.shelf[2].id)
        window.response.band.setChecked(True)
        _press(window.response.page_choice.button(1), window.response.support.choice.button(2))
        while window.presenter.previews.jobs.busy:
            app.processEvents()
        bar = window.response.circuit_page.verticalScrollBar()
        assert bar is not None
        shoot("circuit")
        bar.setValue(bar.maximum())
        shoot("components")
        window.choose_circuit()
        app.processEvents()
        window._chooser.grab().save(str(folder / "chooser.png"))
        window._chooser.close()
        bar.setValue(0)
        window.response.band.setChecked(False)
        window.response.at_level.entered.emit(0.0)
        window.presenter.set_beside(None)
        _press(window.response.page_choice.button(0), window.response.support.choice.button(0))
        window.session.take(1)
        shoot("response-out-of-tolerance")
        window.session.take(3)
        shoot("response-out-of-date")
        window.session.take(0)
        window.go("Logbook")
        shoot("logbook")
        _steps_before_and_after(window, app, shoot)
        window.go("Response")
        THEME.apply("night")
        shoot("response-night")
        window.go("Resonance")
        _wait(window, app)
        shoot("resonance-night")
        window.close()


def _steps_before_and_after(window: Any, app: Any, shoot: Callable[[str], None]) -> None:
    """Setup with an envelope that holds the filter open; its plan; Resonance of a measured unit."""
    window.go("Setup")
    window.session.change_setup(
        cvs=[{"amount_percent": 80, "now_v": 5.0}, {"amount_percent": -40, "low_v": -5.0}, {"low_v": -5.0}],
        key_follow_percent=100,
    )
    window.setup_presenter.measure()
    _wait(window, app)
    shoot("setup")
    window.undo()
    window.session.take(1)
    window.go("Resonance")
    window.resonance_presenter.measure()
    _wait(window, app)
    shoot("resonance")
    window.session.take(2)
    window.go("Self-oscillation")
    _wait(window, app)
    window.oscillation_presenter.measure()
    _wait(window, app)
    window.response.level.setFocus()
    shoot("self-oscillation")
    window.go("Tracking")
    window.tracking_presenter.measure()
    _wait(window, app)
    shoot("tracking")
    window.tracking_presenter.turn_as_advised()
    _wait(window, app)
    shoot("tracking-trimmed")
    window.session.take(1)
    window.go("Setup")
    _press(window.setup.page_choice.button(3))
    shoot("plan")
    _press(window.setup.page_choice.button(0))
    window.session.take(0)


def _wait(window: Any, app: Any) -> None:
    """Until nothing is computed any more; a study waits a moment before it begins."""
    until = time.monotonic() + 0.3
    while time.monotonic() < until or any(jobs.busy for jobs in window.workers()):
        app.processEvents()


def _press(*buttons: Any) -> None:
    for button in buttons:
        button.click()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
