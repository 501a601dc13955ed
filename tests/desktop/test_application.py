"""Starting: errors that end nothing, a real window on a virtual screen, Qt kept to its room."""

import os
import shutil
import subprocess
import sys

import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest

from jiyuu.bench.walk import walk
from jiyuu.desktop.application import _excepthook
from jiyuu.desktop.memory import give_back, tidy
from jiyuu.desktop.steps import reading
from jiyuu.errors import JiyuuError
from tests.desktop.driving import killed_while_driven
from tests.trials import some


def test_a_slot_that_raises_is_said_and_the_window_lives_on(window, qtbot, monkeypatch, capsys):
    monkeypatch.setattr(sys, "excepthook", _excepthook(window))

    def fail(error):
        raise error

    with qtbot.captureExceptions() as caught:
        QTimer.singleShot(0, lambda: fail(RuntimeError("a wire came loose")))
        qtbot.wait(50)
    for kind, error, trace in caught:
        sys.excepthook(kind, error, trace)
    assert "a wire came loose" in window.tidings.text()
    assert window.tidings.is_error
    assert "Traceback" in capsys.readouterr().err
    sys.excepthook(JiyuuError, JiyuuError("turn it down"), None)
    assert window.tidings.text() == "turn it down"
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


@pytest.mark.long
def test_nothing_below_the_desktop_loads_qt():
    found = subprocess.run([sys.executable, "-c", BELOW], capture_output=True, text=True, check=True)
    assert found.stdout.strip() == "[]"


AHEAD = """
import sys
import threading
from pathlib import Path
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[2])
from jiyuu.bench.walk import walk
from jiyuu.book.store import Book
from jiyuu.desktop.steps.reading import unread
from jiyuu.desktop.window import MainWindow

app = QApplication([])
window = MainWindow(Book.open(Path(sys.argv[1])))
window.show()
assert unread(), "all was read before the first figure"
while unread():
    app.processEvents()
read = []

class Noted:
    def find_spec(self, name, path=None, target=None):
        if threading.current_thread() is threading.main_thread():
            read.append(name)

sys.meta_path.insert(0, Noted())
for step in walk():
    window.go(step.key)
    app.processEvents()
    window.shown.presenter.sleep()
print(read)
window.close()
"""


@pytest.mark.long
def test_the_code_of_all_steps_is_read_while_nobody_waits(book_path, tmp_path):
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    found = subprocess.run([sys.executable, "-c", AHEAD, str(book_path), str(tmp_path)], capture_output=True, text=True,
                           env=environment, timeout=120, check=False)
    assert found.stdout.strip() == "[]", found.stderr


def test_views_are_made_while_the_hand_rests(window, qtbot, monkeypatch):
    held = [Qt.MouseButton.LeftButton]
    monkeypatch.setattr(reading, "CALM_MS", 1)
    monkeypatch.setattr(reading.QGuiApplication, "mouseButtons", lambda: held[0])
    qtbot.waitUntil(lambda: not reading.unread() and not window.session.crew.busy)
    ahead = reading.MakeAhead(window)
    qtbot.wait(30)
    assert window.figures.count() == 1
    held[0] = Qt.MouseButton.NoButton
    ahead.stop()  # its turns come when they are called
    ahead.timeout.emit()  # which finds the one that is shown
    QTest.keyClick(window.windowHandle(), Qt.Key.Key_Shift)
    ahead.timeout.emit()
    assert window.figures.count() == 1  # whoever types does not wait
    ahead.timeout.emit()
    assert window.figures.count() == 2
    ahead.start()
    qtbot.waitUntil(lambda: not ahead.isActive(), timeout=60_000)
    assert window.figures.count() == len(walk())
    assert window.figures.currentWidget() is window.shown.figures
    assert window.step == "response"


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
    window.measuring.jobs.finished.connect(lambda: finish(window))
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


@pytest.mark.long
def test_a_killed_application_keeps_what_it_said_it_kept(book_path, tmp_path):
    """Twenty kills in the benchmarks."""
    kept: set[int] = set()
    for after_s in some((0.7, 0.1), 1):
        said, standing = killed_while_driven(book_path, tmp_path, kept, after_s=after_s)
        assert said <= standing
        kept = standing
    assert kept


def test_memory_that_is_freed_goes_back_to_the_system():
    """In a process of its own: 200 MB in pieces of 4 MB, freed in the wrong order by another thread."""
    script = (
        "import threading, numpy as np\n"
        "from pathlib import Path\n"
        "from jiyuu.desktop.memory import give_back, tidy\n"
        "assert give_back()\n"
        "def resident():\n"
        "    return int(Path('/proc/self/statm').read_text().split()[1]) * 4096 / 2**20\n"
        "before, kept = resident(), []\n"
        "def work():\n"
        "    held = [np.ones(1 << 19) for _ in range(50)]\n"
        "    kept.append(bytes(1000))\n"  # behind them all
        "    held.clear()\n"
        "for _ in range(4):\n"
        "    one = threading.Thread(target=work); one.start(); one.join()\n"
        "assert tidy()\n"
        "print(resident() - before)\n")
    ran = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert float(ran.stdout) < 20


def test_where_the_c_library_is_another_one_nothing_is_changed(monkeypatch):
    monkeypatch.setattr("ctypes.CDLL", lambda name: object())
    assert give_back() is False
    assert tidy() is False
