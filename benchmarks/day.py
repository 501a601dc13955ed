"""A day at the bench: thousands of acts by keys, hand and mouse in a real event loop, and what memory grows by."""

from __future__ import annotations

import os
import random
import shutil
import tempfile
import time
from pathlib import Path
from typing import Any

ACTS, WARM, SAID_EVERY = 20_000, 4_000, 4_000
PAUSE_EVERY, LONGEST_PAUSE_S = 50, 0.4  # a hand that rests lets what waits be computed
STEPS = ("setup", "response", "resonance", "self_oscillation", "tracking", "drive", "modulation", "combination",
         "comparison", "logbook")


def resident_mb() -> float:
    """Of this process, after what nobody holds is given back."""
    import ctypes
    import gc

    gc.collect()
    ctypes.CDLL("libc.so.6").malloc_trim(0)
    fields = dict(line.split(":") for line in Path("/proc/self/status").read_text().splitlines() if ":" in line)
    return int(fields["VmRSS"].split()[0]) / 1024


class Day:
    """One window, one person; the same seed does the same day."""

    def __init__(self, window: Any, app: Any, seed: int) -> None:
        self.window, self.app, self.draw = window, app, random.Random(seed)
        self.done: dict[str, int] = {}

    def act(self) -> None:
        """One of everything a hand does, drawn by how often it does it."""
        kinds = ((self.drag, 30), (self.key, 20), (self.turn, 20), (self.go, 8), (self.letter, 8), (self.undo, 8),
                 (self.mode, 3), (self.note, 1), (self.stored, 1), (self.resize, 1))
        (kind,) = self.draw.choices([one for one, _ in kinds], [often for _, often in kinds])
        kind()
        self.done[kind.__name__] = self.done.get(kind.__name__, 0) + 1

    def is_waiting(self) -> bool:
        """For something that is being computed."""
        return bool(self.window.shown.presenter.waiting or self.window.session.crew.busy)

    def drag(self) -> None:
        presenter = self.window.shown.presenter
        standing = self.window.session.standing()
        presenter.try_cutoff(standing.standing_hz * 2 ** self.draw.uniform(-0.2, 0.2))
        if self.draw.random() < 0.2:
            presenter.set_cutoff(min(max(standing.standing_hz * 2 ** self.draw.uniform(-0.2, 0.2), 60.0), 8000.0))

    def key(self) -> None:
        from PyQt6.QtCore import Qt
        from PyQt6.QtTest import QTest

        keys = (Qt.Key.Key_Tab, Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Escape)
        target = self.app.focusWidget() or self.window
        QTest.keyClick(target, self.draw.choice(keys))

    def turn(self) -> None:
        session = self.window.session
        if self.draw.random() < 0.5:
            session.change({"resonance_percent": round(self.draw.uniform(0, 60), 1)}, together=True)
        else:
            session.change({"cutoff_hz": round(100 * 2 ** self.draw.uniform(0, 5), 2)}, together=True)

    def go(self) -> None:
        self.window.go(self.draw.choice(STEPS))

    def letter(self) -> None:
        self.window.session.take_letter(self.draw.choice("ABCDEF"))

    def undo(self) -> None:
        session = self.window.session
        (session.undo if self.draw.random() < 0.6 else session.redo)()

    def mode(self) -> None:
        self.window.session.change({"mode": self.draw.choice(self.window.session.standing().outputs)})

    def note(self) -> None:
        self.window.session.book.add_note(f"half past {self.draw.randrange(12)}")
        self.window.session.runs_changed()

    def stored(self) -> None:
        if self.window.shown.findings is not None and self.window.shown.findings.count():
            self.window.shown.findings.setCurrentRow(0)
            self.window.shown.keep_current()

    def resize(self) -> None:
        self.window.resize(1280 + self.draw.randrange(200), 800 + self.draw.randrange(100))


def main(acts: int = ACTS, warm: int = WARM) -> None:
    """Megabytes before and after."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory() as place:
        os.environ["XDG_CONFIG_HOME"] = os.environ["JIYUU_DATA_DIR"] = place
        from PyQt6.QtWidgets import QApplication

        from jiyuu.bench.demo import write_demo_book
        from jiyuu.book.store import Book
        from jiyuu.desktop.memory import give_back
        from jiyuu.desktop.theme.style import THEME, load_faces
        from jiyuu.desktop.window import MainWindow

        give_back()  # as the application does when it starts
        app = QApplication.instance() or QApplication([])
        app.setStyle("Fusion")
        load_faces()
        THEME.apply("paper")
        book = Path(place) / "day.jiyuu"
        write_demo_book(book)
        window = MainWindow(Book.open(Path(shutil.copy(book, Path(place) / "copy.jiyuu"))))
        window.resize(1280, 800)
        window.show()
        day = Day(window, app, 8)
        clock = Clock(day, app, acts, warm)
        clock.begin()
        app.exec()


class Clock:
    """One act after the other from the event loop itself, a rest now and then until nothing is computed."""

    def __init__(self, day: Day, app: Any, acts: int, warm: int) -> None:
        from PyQt6.QtCore import QTimer

        self.day, self.app, self.acts, self.warm = day, app, acts, warm
        self.count, self.begun, self.before, self.until = 0, time.monotonic(), 0.0, 0.0
        self.timer = QTimer()
        self.timer.timeout.connect(self.tick)

    def begin(self) -> None:
        self.timer.start(0)

    def tick(self) -> None:
        if time.monotonic() < self.until and self.day.is_waiting():
            return
        if self.until:
            self.until = 0.0
            self.say()
        if self.count == self.warm + self.acts:
            self.timer.stop()
            self.app.quit()
            return
        self.day.act()
        self.count += 1
        if self.count % PAUSE_EVERY == 0 or self.count == self.warm + self.acts:
            self.until = time.monotonic() + LONGEST_PAUSE_S

    def say(self) -> None:
        if self.count == self.warm:
            self.before = resident_mb()
            print(f"{self.count:6} acts, {self.before:.1f} MB: warm", flush=True)
        elif self.count > self.warm and (self.count - self.warm) % SAID_EVERY == 0:
            now, seconds = resident_mb(), time.monotonic() - self.begun
            print(f"{self.count - self.warm:6} acts, {now:.1f} MB, {now - self.before:+.1f} MB since (20 asked), "
                  f"{seconds:.0f} s", flush=True)
            if self.count == self.warm + self.acts:
                print(f"       {self.day.done}")
