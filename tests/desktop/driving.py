"""A script that drives the whole application in a process of its own, to be killed."""

import subprocess
import sys
import time
from pathlib import Path

from jiyuu.book.store import Book

DRIVER = """
import sys
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
    if not window.measuring.jobs.busy and step % 12 == 1:
        QTest.keyClick(window, Qt.Key.Key_M)
    findings = window.view("response").findings
    if findings.count():
        findings.setCurrentRow(step % findings.count())
        before = {entry.id for entry in window.session.book.logbook()}
        logged = findings.current()
        if logged is not None and (not logged.kept or step % 7 == 0):  # now and then one is taken out again
            window.shown.keep_current()
        after = {entry.id for entry in window.session.book.logbook()}
        for entry in after - before:
            print("kept", entry, flush=True)
        for entry in before - after:
            print("out", entry, flush=True)
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Right)

def begin(window):
    shown(window)
    window.driver = QTimer()
    window.driver.timeout.connect(act)
    window.driver.start(15)

shown = window_module.keep_focus_on_figure
window_module.keep_focus_on_figure = begin
sys.exit(application.run([sys.argv[1]]))
"""


def killed_while_driven(
    book_path: Path, settings_path: Path, kept: set[int], *, after_s: float
) -> tuple[set[int], set[int]]:
    """Drives until the first finding is kept and after_s more, kills, reopens the book.

    Returns what the script said is kept (with the one act that may have been written but not yet said left out), and
    what stands in the logbook."""
    said = set(kept)
    writer = subprocess.Popen(
        [sys.executable, "-c", DRIVER, str(book_path), str(settings_path)], stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL, text=True,
    )
    assert writer.stdout is not None
    first = writer.stdout.readline()
    time.sleep(after_s)
    writer.kill()
    for line in [first, *writer.stdout.read().splitlines()]:
        what, number = line.split()
        (said.add if what == "kept" else said.discard)(int(number))
    writer.wait()
    writer.stdout.close()
    book = Book.open(book_path)
    standing = {entry.id for entry in book.logbook()}
    book.close()
    taken_out = said - standing
    if len(taken_out) == 1 and not standing - said:
        said -= taken_out  # the last act took one out and the kill came before the script could say so
    return said, standing
