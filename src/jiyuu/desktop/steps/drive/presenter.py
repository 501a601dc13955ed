"""State of the Drive step: what the drawing says of being driven, early and then refined, and the newest ladder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import pyqtSignal

from jiyuu.bench.steps.drive import from_files
from jiyuu.book.stored import StoredRun
from jiyuu.book.table import Table
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.prediction.drive_findings import study_findings
from jiyuu.prediction.drive_study import DriveStudy
from jiyuu.quantities import signed
from jiyuu.signals.recordings import FULL_SCALE_V

WHISTLES = "Oscillates by itself here: what it does to a tone is not defined. Turn resonance under its onset."


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredLadder:
    """The newest run's table of levels, and why it is out of date, or None."""

    levels: Table
    stale_why: str | None


class DrivePresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    driven = pyqtSignal(object)  # DriveStudy
    measured = pyqtSignal(object)  # MeasuredLadder or None
    level_moved = pyqtSignal(float)  # nominal V peak, while it is dragged too

    remembers = True
    latest: DriveStudy | None = None

    # What the person does

    def try_level(self, level_v: float) -> None:
        """While the line is dragged: nothing is computed, the slice and the readings follow."""
        self.level_moved.emit(level_v)

    def set_level(self, level_v: float) -> None:
        self.ask(level_v=float(f"{min(max(level_v, 0.01), 31.0):.4g}"))

    def make_good(self) -> None:
        """The trim behind the filter that makes it as loud as its source; one act, Ctrl+Z takes it back."""
        good = None if self.latest is None else self.latest.made_good
        if good is None:
            self.message.emit("How loud it is is still being computed, or its source is silent.", False)
            return
        self._session.change_setup(trim_db=round(min(max(good.trim_db, -60.0), 60.0), 2))
        self.message.emit(f"Trim behind the filter: {signed(good.trim_db)} dB, as loud as its source. Ctrl+Z takes it "
                          "back.", False)

    def measure_files(
        self, first: Path, second: Path, *, interface: Path | None = None, channel: str | None = None,
        full_scale_v: float = FULL_SCALE_V,
    ) -> None:
        """A ladder of levels and its recording, in whichever order they were dropped. Raises JiyuuError for an
        interface alone: nothing is divided out of a distortion."""
        if interface is not None:
            raise JiyuuError("An interface cannot be divided out of what it distorts itself; leave its recording out.")
        setting = self.setting
        self._measuring.read(f"{first.name} and {second.name}",
                             lambda standing: from_files(standing, setting, first, second, channel=channel,
                                                         full_scale_v=full_scale_v))

    # What is shown

    def show_standing(self) -> None:
        self.latest = None  # of what stood before: neither its numbers nor its trim may be taken for what stands now

    def on_computed(self, found: DriveStudy) -> None:
        self.latest = found
        self.driven.emit(found)
        self.say()

    def show_run(self, runs: list[StoredRun]) -> None:
        tables = self.tables
        self.measured.emit(MeasuredLadder(tables["drive"], self.stale_why) if "drive" in tables else None)

    def _current(self) -> DriveStudy | None:
        """The study, while it is of the mode that stands."""
        found = self.latest
        return found if found is not None and found.mode == self.now().mode else None

    def heading(self) -> str:
        found = self._current()
        if found is None:
            return "Driving it …"
        if found.why:
            return " ".join(found.why)
        return WHISTLES if found.oscillates and not self.logged else super().heading()

    def predicted_findings(self) -> tuple[Finding, ...]:
        found = self._current()
        if found is None:
            return ()
        standing = self._session.standing()
        return study_findings(found, position_percent=standing.resonance_percent, limit_v=standing.setup.next_limit_v)
