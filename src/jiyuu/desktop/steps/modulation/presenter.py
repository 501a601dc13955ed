"""State of the Modulation step: what moves and between which bounds, what sounds, the response at a moment."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.audio_rate import audio_rate_findings
from jiyuu.bench.heard import PEAK
from jiyuu.bench.patched import patch_of
from jiyuu.bench.setting import said
from jiyuu.bench.setup import Setup
from jiyuu.bench.starting_points import STARTING_POINTS
from jiyuu.bench.step import Step
from jiyuu.bench.steps.modulation import from_files, from_recording
from jiyuu.book.stored import StoredRun
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.measurement.contexts_moving import TargetMoves
from jiyuu.measurement.finding import Finding
from jiyuu.patch.bounds import Bounded, bounded
from jiyuu.patch.controls import AnyControl, FigureStep, Route
from jiyuu.patch.document import Patch
from jiyuu.patch.frozen import frozen_at
from jiyuu.patch.motion import Motion
from jiyuu.patch.response import gain_of_patch
from jiyuu.patch.targets import targets_of
from jiyuu.prediction.moving import Moves, Spectrogram, between, moves_of
from jiyuu.prediction.response import GRID_HZ
from jiyuu.signals.recordings import FULL_SCALE_V

MAKE: dict[str, Callable[[], dict[str, object]]] = {
    "envelope": lambda: {"kind": "envelope", "sustain": 0.0, "gate": 2.0},
    "lfo": lambda: {"kind": "lfo", "rate_hz": 1.0}, "hold": lambda: {"kind": "hold", "clock": 4.0},
    "random": lambda: {"kind": "random", "rate_hz": 2.0}, "constant": lambda: {"kind": "constant", "value": 0.0},
    "follower": lambda: {"kind": "follower", "of": "source 1"},
    "signal": lambda: {"kind": "signal", "of": "source 1", "per_v": 0.2},
    "steps": lambda: {"kind": "steps", "values": [0.0, 1.0, 0.5, -0.5], "rate_hz": 4.0},
}


@dataclass(frozen=True, slots=True, eq=False)
class AtMoment:
    """Response (f,) over GRID_HZ at the moment, and where nothing moves, both dB; cutoff_hz at the moment."""

    time_s: float
    then_db: FloatArray
    rest_db: FloatArray
    cutoff_hz: float


class ModulationPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    moved = pyqtSignal(object)  # Moves or None
    sounded = pyqtSignal(object)  # Spectrogram or None
    at_moment = pyqtSignal(object)  # AtMoment
    moment_moved = pyqtSignal(float)
    struck = pyqtSignal(object)  # Table of what was struck on a scale, or None

    remembers = True
    moves: Moves | None = None
    _patch: Patch | None = None

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.row = EarPair(session, "playing what was struck", self)
        self.row.message.connect(self.message)
        self.row.making.stepped.connect(self._row_made)

    @property
    def cutoff_target(self) -> str:
        """What routes call the cutoff of the filter in hand."""
        return f"{self._session.standing().setup.in_hand}.cutoff"

    @property
    def resting(self) -> bool:
        """Nothing moves."""
        return not self._session.standing().setup.routes

    def targets(self) -> list[str]:
        """All that routes may move, the cutoff first."""
        if self._patch is None:
            return []
        names = [target.name for target in targets_of(self._patch)]
        own = self.cutoff_target
        return [own, *(name for name in names if name != own)] if own in names else names

    # What is shown

    def show_standing(self) -> None:
        """Milliseconds: what moves, and the response at the moment; what sounds comes when the hand rests."""
        standing, setting = self.now(), self.setting
        try:
            self._patch = patch_of(standing, standing.document.name)
            self.moves = moves_of(self._patch, setting.seconds)
        except JiyuuError as error:
            self._patch = self.moves = None
            self.message.emit(str(error), True)
        self.moved.emit(self.moves)
        self.show_moment(min(setting.moment_s, setting.seconds))

    def show_moment(self, time_s: float) -> None:
        """The response then."""
        if self._patch is None:
            return
        try:
            rest = gain_of_patch(self._patch, GRID_HZ)
            then = gain_of_patch(frozen_at(self._patch, time_s), GRID_HZ) if self._patch.routes else rest
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        cutoff = self.now().standing_hz
        motion = Motion(self._patch, time_s)
        target = motion.target(self.cutoff_target)
        if target is not None:
            cutoff = float(motion.value(target, np.array([time_s]))[0])
        self.at_moment.emit(AtMoment(time_s, level_db(then), level_db(rest), cutoff))

    def begin_computing(self) -> None:
        self.sounded.emit(None)

    def show_run(self, runs: list[StoredRun]) -> None:
        if self.row.ready:
            self.row.leave()
        self.struck.emit(self.tables.get("struck"))

    def sleep(self) -> None:
        super().sleep()
        self.row.leave()

    def on_computed(self, found: object) -> None:
        if isinstance(found, Spectrogram):
            self.sounded.emit(found)
        self.say()

    def predicted_findings(self) -> tuple[Finding, ...]:
        """From where to where every target goes; what a cutoff moved within hearing makes, and what beats."""
        if self.moves is None:
            return ()
        bounds = (Finding("target_moves", span.greatest, span.target.unit, measured=False, context=TargetMoves(
            span.target.name, span.target.unit, span.least, span.wanted_least, span.wanted_greatest,
            100 * span.stopped_share)) for span in self.moves.spans)
        return (*audio_rate_findings(self.now()), *bounds)

    def heading(self) -> str:
        if self.logged:
            return super().heading()
        return "Nothing moves yet: choose a starting point (Moves). M strikes the unit and steps it." if self.resting \
            else "Predicted; M strikes the unit and steps its whistle."

    # What the person does

    def measure_files(
        self, first: Path, second: Path, *, interface: Path | None = None, channel: str | None = None,
        full_scale_v: float = FULL_SCALE_V,
    ) -> None:
        """Pulses and what rang behind them, in whichever order they were dropped. Raises JiyuuError for an interface
        alone: it is not taken out of a ring."""
        if interface is not None:
            raise JiyuuError("An interface is not taken out of a ring yet; leave its recording out.")
        setting = self.setting
        self._measuring.read(f"{first.name} and {second.name}",
                             lambda standing: from_files(standing, setting, first, second, channel=channel,
                                                         full_scale_v=full_scale_v))

    def read_recording(
        self, path: Path, *, channel: str | None = None, harmonic: int | None = None,
        full_scale_v: float = FULL_SCALE_V,
    ) -> None:
        """A whistle whose control was stepped. Raises JiyuuError for a harmonic: its pitch is its own."""
        if harmonic is not None:
            raise JiyuuError("Settling is read from the whistle itself; leave the harmonic out.")
        if self.shelved is not None:
            setting = self.setting
            self._measuring.read(path.name, lambda standing: from_recording(standing, setting, path, channel=channel,
                                                                            full_scale_v=full_scale_v))

    def play_row(self) -> None:
        """What rang on the notes of the scale, one after the other and round again; silence where it sounds already."""
        if self.row.heard is not None:
            self.row.pause()
            return
        if self.run is None or "struck" not in self.tables:
            return
        if self.row.ready:
            self.row.hear(0, 0)
            return
        book, run_id = self._session.book, self.run.id

        def steps() -> Iterator[FloatArray]:
            record_v, _ = book.record(run_id, "notes")
            yield record_v * (PEAK / max(float(np.abs(record_v).max()), 1e-12))

        self.row.make(steps)

    def _row_made(self, sound: FloatArray) -> None:
        self.row.take([sound])
        self.row.hear(0, 0)

    def try_moment(self, time_s: float) -> None:
        """While the line is dragged."""
        self.moment_moved.emit(time_s)
        self.show_moment(time_s)

    def set_moment(self, time_s: float) -> None:
        self.ask(moment_s=round(float(time_s), 4))

    def start_from(self, key: str) -> None:
        """A starting point in place of all that moved before, as one act."""
        if self.shelved is None:
            return
        point, setup = STARTING_POINTS[key], self._session.standing().setup
        values: dict[str, object] = {}
        if point.resonance_percent is not None:
            values["resonance_percent"] = point.resonance_percent
        self._change(point.make(setup.in_hand), **values)
        self.message.emit(f"{point.title}: {point.says}. Ctrl+Z takes it back.", False)

    def try_bounds(self, low_hz: float, high_hz: float) -> None:
        """While a bound is dragged: the cutoff follows, nothing else is computed."""
        if self.moves is not None:
            self.moved.emit(between(self.moves, self.cutoff_target, low_hz, high_hz))

    def set_bounds(self, low_hz: float, high_hz: float) -> None:
        """Knob and amounts so that the cutoff goes exactly from one to the other, as one act."""
        found = self._bounded(low_hz, high_hz)
        if found is None:
            self.refresh()
            return
        standing = self._session.standing()
        amounts = iter(found.amounts)
        routes = [route.model_copy(update={"amount": next(amounts)}) if route.target == self.cutoff_target else route
                  for route in standing.setup.routes]
        self._change({"routes": [route.model_dump() for route in routes]},
                     cutoff_hz=standing.knob_for(found.stands_at))

    def _bounded(self, low_hz: float, high_hz: float) -> Bounded | None:
        if self._patch is None:
            return None
        try:
            return bounded(self._patch, self.cutoff_target, low_hz, high_hz, self.setting.seconds)
        except CircuitError as error:
            self.message.emit(str(error), True)
            return None

    def change_step(self, which: int, step: FigureStep) -> None:
        """One step of the figure."""
        figure = self._session.standing().setup.figure
        if figure is not None:
            steps = list(figure.steps)
            steps[which] = step
            self._change({"figure": figure.model_copy(update={"steps": tuple(steps)}).model_dump()})

    def change_figure(self, **changes: object) -> None:
        """Its root, tempo, slides, direction."""
        figure = self._session.standing().setup.figure
        if figure is not None:
            self._change({"figure": {**figure.model_dump(), **changes}})

    def change_control(self, name: str, **changes: object) -> None:
        """Fields of a control."""
        controls = dict(self._session.standing().setup.controls)
        self._change({"controls": {**_dumped(controls), name: {**controls[name].model_dump(), **changes}}})

    def add_control(self, kind: str) -> None:
        """A new one of that kind, on the cutoff by an octave."""
        setup = self._session.standing().setup
        name = next(f"{kind} {n}" if n > 1 else kind for n in range(1, 99)
                    if (f"{kind} {n}" if n > 1 else kind) not in setup.controls)
        routes = [route.model_dump() for route in setup.routes]
        self._change({"controls": {**_dumped(setup.controls), name: MAKE[kind]()},
                      "routes": [*routes, {"source": name, "target": self.cutoff_target, "amount": 1.0}]})

    def remove_control(self, name: str) -> None:
        """With its routes."""
        setup = self._session.standing().setup
        kept = {other: control for other, control in setup.controls.items() if other != name}
        routes = [route.model_dump() for route in setup.routes if name not in (route.source, route.amount_by)]
        self._change({"controls": _dumped(kept), "routes": routes})

    def change_route(self, which: int, **changes: object) -> None:
        """Amount, target or control of a route."""
        routes = [route.model_dump() for route in self._session.standing().setup.routes]
        routes[which].update(changes)
        self._change({"routes": routes})

    def add_route(self, control: str, target: str) -> None:
        routes = [route.model_dump() for route in self._session.standing().setup.routes]
        self._change({"routes": [*routes, Route(source=control, target=target, amount=1.0).model_dump()]})

    def remove_route(self, which: int) -> None:
        routes = [route.model_dump() for route in self._session.standing().setup.routes]
        del routes[which]
        self._change({"routes": routes})

    def _change(self, changes: dict[str, object], **values: object) -> None:
        """The set-up, with controls of the filter, as one act; what cannot be played is said and not taken."""
        standing = self._session.standing()
        try:
            try:
                setup = Setup.model_validate({**standing.setup.model_dump(), **changes})
            except ValidationError as error:
                raise CircuitError(said(Setup, error)) from error
            moves_of(patch_of(standing.moved(setup=setup), standing.document.name), 0.1)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self.refresh()
            return
        kept = setup.model_dump(mode="json", exclude_defaults=True) or None
        self._session.change({"setup": kept, **values})


def _dumped(controls: Mapping[str, AnyControl]) -> dict[str, object]:
    return {name: control.model_dump() for name, control in controls.items()}
