"""The window, offscreen: redraw while the cutoff is dragged, and start to the first painted figure."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

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
        from jiyuu.book.demo import write_demo_book

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
    from jiyuu.desktop.theme.style import THEME, load_faces
    from jiyuu.desktop.window import MainWindow

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
        app.processEvents()
        times = []
        for step in range(200):
            start = time.perf_counter()
            window.presenter.try_cutoff(300.0 * 2 ** (2 * np.sin(step / 15)))
            app.processEvents()
            times.append(1e3 * (time.perf_counter() - start))
        modes = len(shelved.document.entry.modes)
        print(f"{shelved.letter}, {modes:2} modes: redraw median {np.median(times):5.1f} ms, "
              f"95 % {np.percentile(times, 95):5.1f} ms (wanted ≤ 16)")
        window.presenter.refresh()
    window.close()
