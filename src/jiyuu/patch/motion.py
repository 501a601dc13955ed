"""What moves in a patch: its controls at every instant, what their routes ask of each target, and what it gets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import CircuitError
from jiyuu.patch.controls import (
    FIGURE,
    NOISE,
    AnyControl,
    ConstantControl,
    EnvelopeControl,
    FigureControl,
    FollowerControl,
    HoldControl,
    LfoControl,
    RandomControl,
    Route,
    SignalControl,
    StepsControl,
    Timed,
)
from jiyuu.patch.document import Patch
from jiyuu.patch.heard import HeardRecord, listening
from jiyuu.patch.inside import inner_routes
from jiyuu.patch.targets import ENVELOPE_TIMES, Target, filter_of, sign_of, targets_of
from jiyuu.signals.controls import stepped
from jiyuu.signals.controls.envelope import Envelope
from jiyuu.signals.controls.figure import Figure, Note, Played
from jiyuu.signals.controls.gates import Gates, above_half, clock
from jiyuu.signals.controls.lfo import lfo
from jiyuu.signals.long_record import Record

BEAT_STEPS = 4  # of the figure
TURNS_HZ = 48_000.0  # at which a rate that moves is summed
Values = Callable[[FloatArray], FloatArray]


@dataclass(frozen=True, slots=True)
class Span:
    """What a target's routes ask for and what it gets, over some instants; stopped_share: of them, at a stop."""

    target: Target
    least: float
    greatest: float
    wanted_least: float
    wanted_greatest: float
    stopped_share: float


class Motion:
    """A patch's controls and routes up to until_s. heard: what sounds in place of its own sources, by 'source N';
    from_outside: what a stage's own output moves is counted too, as it sounds, instead of left to the network."""

    def __init__(
        self, patch: Patch, until_s: float, heard: Mapping[str, HeardRecord] | None = None, *,
        from_outside: bool = False,
    ) -> None:
        self.patch, self._until_s, self._heard, self._from_outside = patch, until_s, dict(heard or {}), from_outside
        self._inside = [route for route, _ in inner_routes(patch)]
        self._moved = {route.target for route in patch.routes}
        self._targets = {target.name: target for target in targets_of(patch)}
        self._values: dict[str, Values] = {}

    def target(self, name: str) -> Target | None:
        """One that a route moves; None where none does."""
        return self._targets[name] if name in self._moved else None

    @property
    def targets(self) -> list[Target]:
        """Those that a route moves, in the order of the routes."""
        names = dict.fromkeys(route.target for route in self.patch.routes)
        return [self._targets[name] for name in names]

    @cached_property
    def _played(self) -> Played:
        figure = self.patch.figure
        if figure is None:
            raise CircuitError("figure: a control plays from it and there is none; add a figure to the patch.")
        notes = tuple(Note(**step.model_dump()) for step in figure.steps)
        return Figure(notes, figure.step_s, figure.slide_s, figure.direction, figure.repeat, figure.seed,
                      figure.swing).played(self._until_s)

    # Controls

    def control(self, name: str, times_s: FloatArray) -> FloatArray:
        """A control's value at times (n,)."""
        if name not in self._values:
            self._values[name] = self._made(name, self.patch.controls[name])
        return self._values[name](times_s)

    def _made(self, name: str, control: AnyControl) -> Values:
        if isinstance(control, EnvelopeControl):
            own = control.model_dump(exclude={"kind", "gate"})
            free = control.loop == "always"
            gates = clock(1.0, 0.0) if free else self._gates(control.gate)
            moved = {field: self._at_once(name, field) for field in (*ENVELOPE_TIMES, "sustain")
                     if f"{name}.{field}" in self._moved}
            return Envelope(**own, moved=moved).segments(gates, self._until_s).at
        if isinstance(control, LfoControl):
            return self._lfo(name, control)
        if isinstance(control, HoldControl):
            of = None if control.of == NOISE else self._of(control.of)
            return stepped.held(of, self._gates(control.clock), control.seed, control.smooth_s).at
        if isinstance(control, RandomControl):
            turns = self._turned(name, control.rate_hz)
            return lambda t: stepped.random_walk(1.0, control.smooth, control.seed, turns(t))
        if isinstance(control, FollowerControl | SignalControl):
            return listening(control, self._heard_from(control.of))
        if isinstance(control, FigureControl):
            return lambda t: self._played.at(control.of, t)
        if isinstance(control, ConstantControl):
            return lambda t: np.full(np.shape(t), control.value)
        return self._steps(name, control)

    def _at_once(self, name: str, field: str) -> Callable[[float], float]:
        """A field of a control that a route moves, at one time."""
        target = self._targets[f"{name}.{field}"]
        return lambda time_s: float(self.value(target, np.array([time_s]))[0])

    def _field(self, name: str, stands: float) -> Callable[[FloatArray], FloatArray | float]:
        """A field of a control at any times; one number where nothing moves it."""
        if name not in self._moved:
            return lambda t: stands
        return lambda t: self.value(self._targets[name], t)

    def _lfo(self, name: str, control: LfoControl) -> Values:
        turns = self._turned(name, self._rate_hz(control))
        phase, width = self._field(f"{name}.phase", control.phase), self._field(f"{name}.width", control.width)
        return lambda t: lfo(control.shape, turns(t) + phase(t), width(t), control.unipolar)

    def _steps(self, name: str, control: StepsControl) -> Values:
        if f"{name}.rate_hz" not in self._moved:
            return stepped.sequence(control.values, self._rate_hz(control), control.direction, control.seed,
                                    control.smooth_s, self._until_s).at
        turns, times_s = self._summed(self._targets[f"{name}.rate_hz"])
        starts_s = np.interp(np.arange(int(turns[-1]) + 1), turns, times_s)
        return stepped.stepped_at(starts_s, control.values, control.direction, control.seed, control.smooth_s).at

    def _turned(self, name: str, rate_hz: float) -> Values:
        """How many periods have gone by then."""
        if f"{name}.rate_hz" not in self._moved:
            return lambda t: rate_hz * t
        turns, times_s = self._summed(self._targets[f"{name}.rate_hz"])
        return lambda t: np.interp(t, times_s, turns)

    def _summed(self, target: Target) -> tuple[FloatArray, FloatArray]:
        """(turns, times) of a rate that moves."""
        times_s = np.arange(int(self._until_s * TURNS_HZ) + 2) / TURNS_HZ
        rate_hz = self.value(target, times_s)
        return np.concatenate([[0.0], np.cumsum(0.5 * (rate_hz[1:] + rate_hz[:-1])) / TURNS_HZ]), times_s

    def _heard_from(self, name: str) -> HeardRecord:
        """What a source or a stage sounds like. Raises CircuitError where that is not known beforehand."""
        if name not in self._heard:
            from jiyuu.patch.sounding import OWN_RATE_HZ, source_record
            from jiyuu.patch.stage_sound import stage_record

            if name.startswith("source "):
                record = source_record(self, int(name.removeprefix("source ")), self._until_s, OWN_RATE_HZ)
                self._heard[name] = HeardRecord(Record.of(record), OWN_RATE_HZ)
            else:
                self._heard[name] = stage_record(self.patch, name, self._until_s, self._heard.get("source 1"))
        return self._heard[name]

    def heard(self, name: str) -> HeardRecord:
        """The same for whoever else listens."""
        return self._heard_from(name)

    def _of(self, name: str) -> Values:
        return (lambda t: self._played.at("gate", t)) if name == FIGURE else (lambda t: self.control(name, t))

    def _gates(self, given: str | float) -> Gates:
        if not isinstance(given, str):
            return clock(given, self._until_s)
        return self._played.gates if given == FIGURE else above_half(self._of(given), self._until_s)

    def _rate_hz(self, control: Timed) -> float:
        if control.rate_hz is not None:
            return control.rate_hz
        figure = self.patch.figure
        if figure is None or control.beats is None:
            raise CircuitError("beats: a beat is four steps of the figure and there is none; give rate_hz.")
        return 1 / (control.beats * BEAT_STEPS * figure.step_s)

    def played(self, what: tuple[str, ...], times_s: FloatArray) -> dict[str, FloatArray]:
        """Pitch, gate, accent, velocity or slide of the figure at times (n,). Raises CircuitError where there is none.
        """
        return {name: self._played.at(name, times_s) for name in what}

    # Targets

    def _share(self, route: Route, times_s: FloatArray) -> FloatArray:
        """What a route adds, in the unit of its amount."""
        found = route.amount * self.control(route.source, times_s)
        if route.amount_by is not None:
            found = found * self.control(route.amount_by, times_s)
        if route.accent_percent:
            found = found * (1 + route.accent_percent / 100 * self._played.at("accent", times_s))
        return np.asarray(found)

    def wanted(self, target: Target, times_s: FloatArray) -> FloatArray:
        """What all routes together ask of a target at times (n,), in its own unit."""
        # What a stage's own output adds is part of the network, unless it is looked at from outside.
        routes = [route for route in self.patch.routes if route.target == target.name and (
            self._from_outside or route not in self._inside)]
        added = np.zeros(np.size(times_s))
        for route in routes:
            added += self._share(route, times_s)
        return target.wanted(added)

    def value(self, target: Target, times_s: FloatArray) -> FloatArray:
        """What it gets."""
        return target.stopped(self.wanted(target, times_s))

    def span(self, target: Target, times_s: FloatArray) -> Span:
        """Over those instants."""
        wanted = self.wanted(target, times_s)
        got = target.stopped(wanted)
        return Span(target, float(got.min()), float(got.max()), float(wanted.min()), float(wanted.max()),
                    float(np.mean(got != wanted)))

    # What the network is told

    def in_network(self, target: Target, value: FloatArray) -> FloatArray:
        """A target's value as the network takes it: loop gain, factor."""
        if target.decibels:
            return np.asarray(sign_of(self.patch, target.name) * 10 ** (value / 20))
        if target.unit == "%":
            return filter_of(self.patch, target.name).document.gains_at(value)
        return value
