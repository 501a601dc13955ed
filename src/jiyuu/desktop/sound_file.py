"""What the filter in hand sounds like, as a file to be listened to: simulated, set to a level, under the ceiling."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.circuits.linear import growth_rate
from jiyuu.desktop.bench.measuring import EMPTY_SHELF, compiled
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError

SOUND_S, RATE_HZ = 4.0, 48_000
LEVEL_DB = -24.0  # of a full scale of FULL_SCALE_V: soft enough to start with
FULL_SCALE_V = 10.0
WARNING = "Start low: self-oscillation can be as loud as the source and sits where ears are sharpest."


class SoundFile(QObject):
    """Writes off the interface thread; one at a time."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(lambda text: self.message.emit(text, False))
        self.jobs.failed.connect(lambda text: self.message.emit(text, True))

    def write(self, path: Path, *, whistle_alone: bool) -> None:
        """The source as set up through the filter as it stands; or, with nothing played, the filter's own tone."""
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        document, now, setup = self._session.document(), self._session.settings(), self._session.setup()

        def steps() -> Iterator[Any]:
            import numpy as np

            from jiyuu.signals.ceiling import under_ceiling
            from jiyuu.signals.recordings import write_recording
            from jiyuu.signals.source import mixed_record
            from jiyuu.simulation.render import render

            network, gain = document.network(), document.gain_at(now["resonance_percent"])
            if whistle_alone and growth_rate(network, cutoff_hz=now["cutoff_hz"], gain=gain) <= 0:
                raise JiyuuError("At this resonance the filter does not whistle; turn it past its onset first.")
            for _ in compiled(document):
                pass
            if whistle_alone:
                played = np.zeros(round(SOUND_S * RATE_HZ))
                played[:480] = 0.05 * np.random.default_rng(5).standard_normal(480)  # a knock
            else:
                played = mixed_record(setup.sources(), duration_s=SOUND_S) * 10 ** (setup.drive_db / 20)
            output = render(network, played, sample_rate_hz=RATE_HZ, cutoff_hz=now["cutoff_hz"], gain=gain,
                            modes=[now["mode"]], oversampling=4 if now["cutoff_hz"] < 5000 else 8).output_v[0]
            rail = document.tolerances.rail_v
            heard = under_ceiling(np.clip(output, -rail, rail) / FULL_SCALE_V * 10 ** (LEVEL_DB / 20), RATE_HZ)
            write_recording(path, heard, RATE_HZ, full_scale_v=1.0)
            yield f"{path.name}: {SOUND_S:.0f} s at {LEVEL_DB:.0f} dB. {WARNING}"

        self.jobs.start(steps)
