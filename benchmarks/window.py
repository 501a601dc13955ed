"""The window, offscreen: redraw while the cutoff is dragged, and start to the first painted figure."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QEvent

START = """
import time
begun = time.perf_counter()
import sys
import jiyuu.desktop.application as application
from PyQt6.QtWidgets import QApplication
import jiyuu.desktop.window as window_module

original = window_module.keep_focus_on_figure
def timed(window):
    original(window)
    QApplication.processEvents()
    window.grab()
    print(time.perf_counter() - begun, flush=True)
    window.close()
    QApplication.exit()
    sys.exit(0)
window_module.keep_focus_on_figure = timed
application.run([sys.argv[1]])
"""


def main() -> None:
    """Figures at 1280×800 on the demo book."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory() as place:
        os.environ["XDG_CONFIG_HOME"] = place
        path = Path(place) / "demo.jiyuu"
        from jiyuu.bench.demo import write_demo_book

        write_demo_book(path)
        starts = [
            float(subprocess.run([sys.executable, "-c", START, str(path)], capture_output=True, text=True, check=False)
                  .stdout.split()[0])
            for _ in range(5)
        ]
        print(f"start to first painted figure: median {np.median(starts):.2f} s (wanted ≤ 1.5)")
        _redraw(path)


def _redraw(path: Path) -> None:
    from PyQt6.QtWidgets import QApplication

    from jiyuu.book.store import Book
    from jiyuu.desktop.memory import give_back
    from jiyuu.desktop.theme.style import THEME, load_faces
    from jiyuu.desktop.window import MainWindow

    give_back()  # as the application does before anything else
    app = QApplication.instance() or QApplication(["bench"])
    app.setStyle("Fusion")
    load_faces()
    THEME.apply("paper")
    window = MainWindow(Book.open(path))
    window.resize(1280, 800)
    window.show()
    for _ in range(5):
        app.processEvents()
    for index, shelved in enumerate(window.session.shelf):
        window.session.take(index)
        presenter = window.view("response").presenter
        app.processEvents()
        times = []
        for step in range(200):
            start = time.perf_counter()
            presenter.try_cutoff(300.0 * 2 ** (2 * np.sin(step / 15)))
            app.processEvents()
            times.append(1e3 * (time.perf_counter() - start))
        modes = len(shelved.document.entry.modes)
        print(f"{shelved.letter}, {modes:2} modes: redraw median {np.median(times):5.1f} ms, "
              f"95 % {np.percentile(times, 95):5.1f} ms (wanted ≤ 16)")
        presenter.refresh()
        while window.session.crew.busy:
            app.processEvents()
    _used(window, app)
    _awake(window, app)
    _opened_and_closed(path, app)
    window.close()


def _awake(window: Any, app: Any) -> None:
    """The longest the window does not answer while every step measures."""
    from jiyuu.bench.walk import walk

    window.session.take(0)
    for step in walk():
        if not step.measures:
            continue
        window.go(step.key)
        for _ in range(2):  # the first time its figures and kernels are made
            while window.session.crew.busy:
                app.processEvents()
            window.shown.presenter.measure()
            gaps, last = [], time.perf_counter()
            while window.measuring.jobs.busy:
                app.processEvents()
                now = time.perf_counter()
                gaps.append(1e3 * (now - last))
                last = now
                time.sleep(0.002)
        print(f"{step.name}: silent for {np.percentile(gaps, 95):4.0f} ms (95 %), {max(gaps):4.0f} ms at most, while "
              "it measures (wanted ≤ 100)")


def _opened_and_closed(path: Path, app: Any) -> None:
    """What a hundred and twenty windows leave behind."""
    from jiyuu.book.store import Book
    from jiyuu.desktop.window import MainWindow

    def resident_mb() -> float:
        return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGESIZE") / 2**20

    before = len(app.topLevelWidgets())
    for number in range(120):
        window = MainWindow(Book.open(path))
        window.show()
        window.go("response")
        app.processEvents()
        window.close()
        while window.session.crew.busy:
            app.processEvents()
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        app.processEvents()
        if number == 20:
            early = resident_mb()
    print(f"100 windows opened and closed: {resident_mb() - early:+.0f} MB, "
          f"{len(app.topLevelWidgets()) - before} widgets left")


def _used(window: Any, app: Any, acts: int = 2000, warming: int = 1500) -> None:
    """What many acts leave behind: drags, steps, filters, modes, undo, themes. Until every step has shown every filter
    a few times, what is kept to be quick is still filling."""
    from jiyuu.bench.walk import walk
    from jiyuu.desktop.memory import tidy
    from jiyuu.desktop.theme.style import THEME

    generator, steps = np.random.default_rng(11), [step.key for step in walk()]

    def state() -> tuple[float, int]:
        while window.session.crew.busy:
            app.processEvents()
        tidy()  # as the application does after long work
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        return pages * os.sysconf("SC_PAGESIZE") / 2**20, len(os.listdir("/proc/self/fd"))

    warm = state()
    for number in range(warming + acts):
        presenter, kind = window.shown.presenter, generator.integers(8)
        if kind < 3:
            presenter.try_cutoff(float(generator.uniform(200, 4000)))
        elif kind == 3:
            presenter.set_cutoff(float(generator.uniform(200, 4000)))
        elif kind == 4:
            window.go(steps[generator.integers(len(steps))])
        elif kind == 5:
            window.session.take(int(generator.integers(6)))
        elif kind == 6:
            window.undo()
        else:
            modes = window.session.standing().modes
            presenter.set_mode(modes[generator.integers(len(modes))])
        app.processEvents()
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # as the event loop does by itself
        if number % 500 == 499:
            THEME.apply("night" if THEME.palette.name == "paper" else "paper")
        if number == warming:
            warm = state()
    now = state()
    grown, files = now[0] - warm[0], now[1] - warm[1]
    print(f"{acts} acts: {grown:+.0f} MB (wanted < 20), {files:+d} open files, {now[0]:.0f} MB in all")
