"""Two sounds beside each other for an ear, one of them heard at a time, through the same ceiling as everything else."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import HEARD_RATE_HZ
from jiyuu.bench.live import Looped, Mixer
from jiyuu.desktop.jobs import Jobs, Steps
from jiyuu.desktop.session import Session
from jiyuu.desktop.sound_file import LEVEL_DB
from jiyuu.errors import JiyuuError
from jiyuu.rig.sound_output import DeviceOutput, SoundingOutput, SoundOutput
from jiyuu.signals.ceiling import heard_band

SILENT_MS = 300  # until what has been faded out has left the output


class EarPair(QObject):
    """Sounds are made off the interface thread; whoever else begins to sound makes this one silent."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(
        self, session: Session, what: str, parent: QObject, output: Callable[[], SoundOutput] = DeviceOutput
    ) -> None:
        super().__init__(parent)
        self._session, self.output = session, SoundingOutput(output)
        self.ready = False
        self.heard: int | None = None  # button that plays
        self.seen: set[int] = set()  # buttons that have played since they were last forgotten
        self._mixer = Mixer()
        self.making = Jobs(session.crew, what, self)
        self.making.failed.connect(self._refused)
        self._closing = QTimer(self)
        self._closing.setSingleShot(True)
        self._closing.setInterval(SILENT_MS)
        self._closing.timeout.connect(self.output.close)
        session.sounding.connect(self._other_sounds)

    def make(self, steps: Steps) -> None:
        """Have sounds made; nothing can be heard until `take` is given them."""
        def heard() -> Iterator[object]:
            heard_band(HEARD_RATE_HZ)
            yield from steps()

        self.ready = False
        self.pause()
        self.making.start(heard)

    def take(self, sounds: Sequence[FloatArray]) -> None:
        """(n,) re full scale each: what can be heard from now on."""
        for name in range(len(sounds)):
            self._mixer.drop(str(name))
        self._mixer.set_level(LEVEL_DB)
        for name, sound in enumerate(sounds):
            self._mixer.play(str(name), Looped(sound), heard=False)
        self.ready, self.seen = True, set()
        self.changed.emit()

    def hear(self, button: int, sound: int) -> None:
        """One of the sounds, in place of what sounds."""
        if not self.ready:
            return
        if not self.output.is_open:
            self._session.sounding.emit(self)
        try:
            self.output.open(self._mixer.fill)
        except JiyuuError as error:
            self._refused(str(error))
            return
        self._closing.stop()
        self._mixer.listen_to(str(sound))
        self.heard = button
        self.seen.add(button)
        self.changed.emit()

    def pause(self) -> None:
        """Silence, until something is heard again."""
        self.heard = None
        self._mixer.listen_to("")
        self._closing.start()
        self.changed.emit()

    def leave(self) -> None:
        """Nobody looks at it any more."""
        self.making.drop()
        self._mixer.fade_out()
        self.ready, self.heard = False, None
        self._closing.stop()
        self.output.close()

    def _other_sounds(self, who: object) -> None:
        if who is not self and self.heard is not None:
            self.pause()

    def _refused(self, text: str) -> None:
        self.pause()
        self.message.emit(text, True)
