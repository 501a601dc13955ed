"""Listening to the filter in hand: played on the machine's output, following what is turned, under the ceiling."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import HEARD_RATE_HZ, WARNING, Heard, heard_record
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import EMPTY_SHELF, compiled
from jiyuu.desktop.session import Session
from jiyuu.desktop.sound_file import LEVEL_DB, SOUND_S
from jiyuu.errors import JiyuuError
from jiyuu.rig.sound_output import DeviceOutput, SoundOutput
from jiyuu.signals.looped import LoopPlayer, seamless

QUIETEST_DB = -60.0
FOLLOW_MS, LOOK_MS, LAST_MS = 150, 50, 150


class Listening(QObject):
    """One sound at a time. The level begins soft in every window and is not remembered."""

    message = pyqtSignal(str, bool)
    changed = pyqtSignal()  # what, loop, level, playing

    def __init__(self, session: Session, output: Callable[[], SoundOutput] = DeviceOutput) -> None:
        super().__init__(session)
        self._session = session
        self.output = output
        self.what, self.loop, self.level_db = Heard.FILTER, True, LEVEL_DB
        self._open: SoundOutput | None = None
        self._player = LoopPlayer(HEARD_RATE_HZ)
        self._record: FloatArray | None = None  # before level and ceiling
        self._wanted = self._warned = False
        self.jobs = Jobs(session.crew, "making the sound", self)
        self.jobs.stepped.connect(self._sound)
        self.jobs.failed.connect(self._refused)
        self._follow, self._look = QTimer(self), QTimer(self)
        self._follow.setSingleShot(True)
        self._follow.setInterval(FOLLOW_MS)
        self._follow.timeout.connect(self._render)
        self._look.setInterval(LOOK_MS)
        self._look.timeout.connect(self._close_when_silent)
        for signal in (session.settings_changed, session.filter_changed):
            signal.connect(self._turned)

    @property
    def playing(self) -> bool:
        return self._wanted

    @property
    def output_open(self) -> bool:
        """Something still reaches the output, if only the end of a fade."""
        return self._open is not None

    def toggle(self) -> None:
        """Play, or fade out."""
        if self._wanted:
            self.stop()
        else:
            self.play()

    def play(self) -> None:
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        self._wanted = True
        self.changed.emit()
        self._render()

    def stop(self) -> None:
        """Fade out; the output is closed when the last of it has sounded."""
        self._wanted = False
        self._follow.stop()
        if self.jobs.busy:
            self.jobs.cancel()
        self._player.fade_out()
        self.changed.emit()

    def silence(self) -> None:
        """At once, for closing."""
        self._wanted = False
        self._follow.stop()
        self._look.stop()
        self._close()
        self.jobs.drop()
        self.changed.emit()

    def choose(self, what: Heard) -> None:
        self.what = what
        self._turned()
        self.changed.emit()

    def set_loop(self, on: bool) -> None:
        self.loop = on
        self._turned()
        self.changed.emit()

    def set_level(self, level_db: float) -> None:
        """Re FULL_SCALE_V at full scale; the ceiling stays where it is."""
        self.level_db = min(max(level_db, QUIETEST_DB), 0.0)
        self._turned()
        self.changed.emit()

    def _turned(self) -> None:
        if self._wanted:
            self._follow.start()

    def _render(self) -> None:
        if self._session.in_hand is None:
            self.stop()
            return
        standing = self._session.standing()
        what, level_db, loop = self.what, self.level_db, self.loop

        def steps() -> Iterator[Any]:
            from jiyuu.signals.ceiling import under_ceiling

            for _ in compiled(standing):
                pass
            record = heard_record(standing, what, duration_s=SOUND_S)
            heard = under_ceiling(record * 10 ** (level_db / 20), HEARD_RATE_HZ, fades=False)
            yield seamless(heard, HEARD_RATE_HZ) if loop else heard, loop, standing.self_oscillates

        self.jobs.start(steps)

    def _sound(self, ready: tuple[FloatArray, bool, bool]) -> None:
        record, loop, whistling = ready
        if self._open is None:
            output = self.output()
            try:
                output.start(self._player.fill)
            except JiyuuError as error:
                self._refused(str(error))
                return
            self._open = output
        self._player.play(record, loop=loop)
        self._look.start()
        if whistling and not self._warned and self.what is not Heard.SOURCE:
            self._warned = True
            self.message.emit(WARNING, False)

    def _refused(self, text: str) -> None:
        self.stop()
        self.message.emit(text, True)

    def _close_when_silent(self) -> None:
        if self._player.sounding:
            return
        self._look.stop()
        if self._wanted and not self.jobs.busy:  # it came to its end
            self._wanted = False
            self.changed.emit()
        # What has been handed over is still on its way through the output's buffer.
        QTimer.singleShot(LAST_MS, self._close_if_unused)

    def _close_if_unused(self) -> None:
        if not self._wanted and not self._player.sounding:
            self._close()

    def _close(self) -> None:
        output, self._open = self._open, None
        if output is not None:
            output.stop()
