"""What the filter in hand sounds like, as a file to be listened to: simulated, set to a level, under the ceiling."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.heard import HEARD_RATE_HZ, WARNING, Heard, heard_record
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import EMPTY_SHELF
from jiyuu.desktop.session import Session

SOUND_S = 4.0
LEVEL_DB = -24.0  # soft enough to start with


class SoundFile(QObject):
    """Writes off the interface thread; one at a time."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.jobs = Jobs(session.crew, "making the sound", self)
        self.jobs.stepped.connect(lambda text: self.message.emit(text, False))
        self.jobs.failed.connect(lambda text: self.message.emit(text, True))

    def write(self, path: Path, what: Heard) -> None:
        """Whole or not at all."""
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        standing = self._session.standing()

        played = [Path(source.path) for source in standing.setup.inputs if source.path is not None]

        def steps() -> Iterator[object]:
            from jiyuu.signals.ceiling import under_ceiling
            from jiyuu.signals.recordings import write_recording

            record = heard_record(standing, what, duration_s=SOUND_S)
            heard = under_ceiling(record * 10 ** (LEVEL_DB / 20), HEARD_RATE_HZ)
            write_recording(path, heard, HEARD_RATE_HZ, full_scale_v=1.0, inputs=played)
            yield f"{path.name}: {SOUND_S:.0f} s at {LEVEL_DB:.0f} dB. {WARNING}"

        self.jobs.start(steps)
