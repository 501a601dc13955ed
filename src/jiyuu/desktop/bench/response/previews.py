"""Curves that take a moment: the response at level and the band of a thousand builds, computed beside the window."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import FloatArray
from jiyuu.desktop.jobs import Jobs

if TYPE_CHECKING:
    from jiyuu.simulation.level_response import LevelResponse

POINTS = (61, 241)  # of the curve at level: a first look, then the whole


@dataclass(frozen=True, slots=True, eq=False)
class Beside:
    """Another filter's curve in the same figure: at the same cutoff, as far from its own onset."""

    letter: str
    document: Filter
    mode: str
    gain: float

    @property
    def name(self) -> str:
        return f"{self.letter} {self.mode}"


@dataclass(frozen=True, slots=True, eq=False)
class AtLevel:
    """A response at level and whose it is: the letter of the filter beside, None for the one in hand."""

    letter: str | None
    response: LevelResponse


@dataclass(frozen=True, slots=True, eq=False)
class PreviewRequest:
    """What is wanted, frozen when it is asked for; level_v None and band False ask for nothing."""

    document: Filter
    mode: str
    cutoff_hz: float
    resonance_percent: float
    level_v: float | None
    band: bool
    grid_hz: FloatArray
    beside: Beside | None = None


class Previews(QObject):
    """`ready` carries AtLevel, ToleranceStudy or Progress; `gone` says that nothing shown holds any more."""

    ready = pyqtSignal(object)
    gone = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(self._on_step)
        self.jobs.failed.connect(self.failed)
        self._shown = False

    def drop(self) -> None:
        """The settings have moved on: what was computed for the old ones must not stand beside the new curve."""
        if self.jobs.busy or self._shown:
            self.jobs.cancel()
            self._shown = False
            self.gone.emit()

    def ask(self, request: PreviewRequest) -> None:
        """Drop what is shown and compute what is wanted now."""
        self.drop()
        if request.level_v is not None or request.band:
            self.jobs.start(lambda: _steps(request))

    def _on_step(self, step: object) -> None:
        self._shown = True
        self.ready.emit(step)


def _steps(request: PreviewRequest) -> Iterator[Any]:
    from jiyuu.rig.tolerance_study import study
    from jiyuu.simulation.kernels import compile_apart, is_compiled
    from jiyuu.simulation.level_response import LevelResponse, level_response_steps

    document, beside = request.document, request.beside
    if request.level_v is not None:
        wanted: list[tuple[str | None, Filter, str, float]] = [
            (None, document, request.mode, document.gain_at(request.resonance_percent))
        ]
        if beside is not None:
            wanted.append((beside.letter, beside.document, beside.mode, beside.gain))
        for points in POINTS:
            for letter, filter_, mode, gain in wanted:
                network = filter_.network()
                if not is_compiled(network):
                    compile_apart(filter_.circuit, filter_.parameters)
                for step in level_response_steps(
                    network, np.geomspace(16.0, 21_000.0, points), cutoff_hz=request.cutoff_hz, gain=gain,
                    level_v=request.level_v, modes=[mode],
                ):
                    # A share of the work is told as None, so that a cancel is heard between two batches.
                    yield AtLevel(letter, step) if isinstance(step, LevelResponse) else None
    if request.band:
        yield from study(document, request.mode, request.grid_hz, cutoff_hz=request.cutoff_hz,
                         resonance_percent=request.resonance_percent)
