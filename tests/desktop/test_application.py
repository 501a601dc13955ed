"""Starting: errors that end nothing, a real window on a virtual screen, Qt kept to its room."""

import os
import shutil
import subprocess
import sys
import time

import pytest
from PyQt6.QtCore import QTimer

from jiyuu.desktop.application import _excepthook
from jiyuu.errors import JiyuuError


def test_a_slot_that_raises_is_said_and_the_window_lives_on(window, qtbot, monkeypatch, capsys):
    monkeypatch.setattr(sys, "excepthook", _excepthook(window))

    def fail(error):
        raise error

    with qtbot.captureExceptions() as caught:
        QTimer.singleShot(0, lambda: fail(RuntimeError("a wire came loose")))
        qtbot.wait(50)
    for kind, error, trace in caught:
        sys.excepthook(kind, error, trace)
    assert "a wire came loose" in window.notice.text()
    assert window.notice.property("role") == "error"
    assert "Traceback" in capsys.readouterr().err
    sys.excepthook(JiyuuError, JiyuuError("turn it down"), None)
    assert window.notice.text() == "turn it down"
    assert window.isVisible()


BELOW = """
import importlib, pkgutil, sys
import jiyuu
for room in ("circuits", "simulation", "signals", "measurement", "rig", "book", "cli"):
    package = importlib.import_module(f"jiyuu.{room}")
    for module in pkgutil.walk_packages(package.__path__, f"jiyuu.{room}."):
        importlib.import_module(module.name)
print([name for name in sys.modules if name.split(".")[0] in ("PyQt6", "pyqtgraph")])
"""


def test_nothing_below_the_desktop_loads_qt():
    found = subprocess.run([sys.executable, "-c", BELOW], capture_output=True, text=True, check=True)
    assert found.stdout.strip() == "[]"


SCRIPT = """
import sys
from pathlib import Path
from PyQt6.QtCore import QSettings, Qt, QTimer
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[2])
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
import jiyuu.desktop.application as application
import jiyuu.desktop.window as window_module

def use():
    window = next(w for w in QApplication.topLevelWidgets() if isinstance(w, window_module.MainWindow))
    assert QApplication.platformName() == "xcb", QApplication.platformName()
    window.presenter.jobs.finished.connect(lambda: finish(window))
    window.activateWindow()
    assert QTest.qWaitForWindowActive(window)
    QTest.keyClick(window, Qt.Key.Key_M)

def finish(window):
    QTest.keyClick(window, Qt.Key.Key_K)
    kept = window.session.book.logbook()
    print("kept", len(kept), kept[0].finding.quantity, window.width(), window.height(), flush=True)
    window.close()

shown = window_module.keep_focus_on_figure
window_module.keep_focus_on_figure = lambda window: (shown(window), QTimer.singleShot(500, use))
sys.exit(application.run([sys.argv[1]]))
"""


def test_a_real_window_on_a_virtual_screen(book_path, tmp_path):
    xvfb = shutil.which("xvfb-run")
    assert xvfb, "xvfb is among the packages that ./run installs"
    environment = {name: value for name, value in os.environ.items() if not name.startswith("QT_QPA")}
    found = subprocess.run(
        [xvfb, "-a", "-s", "-screen 0 1400x900x24", sys.executable, "-c", SCRIPT, str(book_path), str(tmp_path)],
        env=environment, capture_output=True, text=True, timeout=120, check=False,
    )
    assert found.returncode == 0, found.stderr
    assert found.stdout.startswith("kept 1 cutoff_3db_hz 1280"), found.stdout


DRIVER = """
import sys
from pathlib import Path
from PyQt6.QtCore import QSettings, Qt, QTimer
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[2])
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
import jiyuu.desktop.application as application
import jiyuu.desktop.window as window_module

step = 0

def act():
    global step
    window = next(w for w in QApplication.topLevelWidgets() if isinstance(w, window_module.MainWindow))
    step += 1
    if not window.presenter.jobs.busy and step % 12 == 1:
        QTest.keyClick(window, Qt.Key.Key_M)
    findings = window.response.findings
    if findings.count():
        findings.setCurrentRow(step % findings.count())
        before = {entry.id for entry in window.session.book.logbook()}
        QTest.keyClick(window, Qt.Key.Key_K)
        for entry in window.session.book.logbook():
            if entry.id not in before:
                print("kept", entry.id, flush=True)
        for gone in before - {entry.id for entry in window.session.book.logbook()}:
            print("out", gone, flush=True)
    QTest.keyClick(window.response.level, Qt.Key.Key_Right)

def begin(window):
    shown(window)
    window.driver = QTimer()
    window.driver.timeout.connect(act)
    window.driver.start(15)

shown = window_module.keep_focus_on_figure
window_module.keep_focus_on_figure = begin
sys.exit(application.run([sys.argv[1]]))
"""


@pytest.mark.parametrize("seed", range(2))
def test_a_killed_application_keeps_what_it_said_it_kept(book_path, tmp_path, seed):
    """A script measures, keeps and turns; the process is killed at random moments (all twenty in the benchmarks)."""
    import random

    from jiyuu.book.store import Book

    moments = random.Random(seed)
    kept: set[int] = set()
    for _ in range(2):
        writer = subprocess.Popen([sys.executable, "-c", DRIVER, str(book_path), str(tmp_path)],
                                  stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert writer.stdout is not None
        first = writer.stdout.readline()
        time.sleep(moments.uniform(0.0, 1.5))
        writer.kill()
        for line in [first, *writer.stdout.read().splitlines()]:
            what, number = line.split()
            (kept.add if what == "kept" else kept.discard)(int(number))
        writer.wait()
        writer.stdout.close()
        book = Book.open(book_path)
        standing = {entry.id for entry in book.logbook()}
        # The act after the last line read may have been written and not yet said.
        assert len(kept ^ standing) <= 1
        kept = standing
        book.close()
    assert kept
