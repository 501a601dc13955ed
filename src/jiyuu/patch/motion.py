"""What moves in a patch: its controls at every instant, what their routes ask of each target, and what it gets."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from typing import Any

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
    Timed,
    references,
)
from jiyuu.patch.document import Feedback, FilterStage, Gain, Patch, stages_in
from jiyuu.patch.heard import HeardRecord, listening
from jiyuu.patch.inside import inner_routes
from jiyuu.patch.lowering import OUTPUT_LEVEL
from jiyuu.signals.controls import stepped
from jiyuu.signals.controls.envelope import Envelope
from jiyuu.signals.controls.figure import Figure, Note, Played
from jiyuu.signals.controls.gates import Gates, above_half, clock
from jiyuu.signals.controls.lfo import Lfo

BEAT_STEPS = 4  # of the figure
AMOUNT_EDGE = 1000.0  # of a feedback
PITCH_HZ = (1.0, 20_000.0)
Values = Callable[[FloatArray], FloatArray]


@dataclass(frozen=True, slots=True)
class Target:
    """What a route can move: unit and value where it stands, its stops (None: none), whether amounts are octaves on it,
    decibels, or plain."""

    name: str
    unit: str
    stands_at: float
    low: float | None = None
    high: float | None = None
    octaves: bool = False
    decibels: bool = False

    def wanted(self, added: FloatArray) -> FloatArray:
        """In its own unit, before the stop."""
        return np.asarray(self.stands_at * 2.0**added if self.octaves else self.stands_at + added)

    def stopped(self, wanted: FloatArray) -> FloatArray:
        """After the stop."""
        return np.asarray(np.clip(wanted, -np.inf if self.low is None else self.low,
                                  np.inf if self.high is None else self.high))


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
    """A patch's controls and routes up to until_s. heard: what sounds in place of its own sources, by 'source N'."""

    def __init__(self, patch: Patch, until_s: float, heard: Mapping[str, HeardRecord] | None = None) -> None:
        self.patch, self._until_s, self._heard = patch, until_s, dict(heard or {})
        self._inside = [route for route, _ in inner_routes(patch)]
        self._targets = {target.name: target for target in targets_of(patch)}
        self._values: dict[str, Values] = {}

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
        return Figure(notes, figure.step_s, figure.slide_s, figure.direction, figure.repeat, figure.seed).played(
            self._until_s)

    # Controls

    def control(self, name: str, times_s: FloatArray) -> FloatArray:
        """A control's value at times (n,)."""
        if name not in self._values:
            self._values[name] = self._made(self.patch.controls[name])
        return self._values[name](times_s)

    def _made(self, control: AnyControl) -> Values:
        if isinstance(control, EnvelopeControl):
            own = control.model_dump(exclude={"kind", "gate"})
            free = control.loop == "always"
            gates = clock(1.0, 0.0) if free else self._gates(control.gate)
            return Envelope(**own).segments(gates, self._until_s).at
        if isinstance(control, LfoControl):
            return Lfo(control.shape, self._rate_hz(control), control.phase, control.width, control.unipolar).at
        if isinstance(control, HoldControl):
            of = None if control.of == NOISE else self._of(control.of)
            return stepped.held(of, self._gates(control.clock), control.seed, control.smooth_s).at
        if isinstance(control, RandomControl):
            return lambda t: stepped.random_walk(control.rate_hz, control.smooth, control.seed, t)
        if isinstance(control, FollowerControl | SignalControl):
            return listening(control, self._source(control.of))
        if isinstance(control, FigureControl):
            return lambda t: self._played.at(control.of, t)
        if isinstance(control, ConstantControl):
            return lambda t: np.full(np.shape(t), control.value)
        return stepped.sequence(control.values, self._rate_hz(control), control.direction, control.seed,
                                control.smooth_s, self._until_s).at

    def _source(self, name: str) -> HeardRecord:
        """What a source sounds like. Raises CircuitError for a stage: that is known only while it sounds."""
        if not name.startswith("source "):
            raise CircuitError(f"controls: of: what the stage '{name}' puts out is known only while it sounds; render "
                               "the patch to hear it, or take a source.")
        if name not in self._heard:
            from jiyuu.patch.sounding import OWN_RATE_HZ, source_record

            record = source_record(self, int(name.removeprefix("source ")), self._until_s, OWN_RATE_HZ)
            self._heard[name] = HeardRecord(record, OWN_RATE_HZ)
        return self._heard[name]

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
        # What a stage's own output adds is part of the network.
        routes = [route for route in self.patch.routes if route.target == target.name and route not in self._inside]
        added = sum((self._share(route, times_s) for route in routes), np.zeros(np.size(times_s)))
        return target.wanted(np.asarray(added))

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

    def moves(self) -> dict[str, Values]:
        """Of every named control of the patch's network that a route moves: octaves on top of a cutoff, what is added
        to a gain."""
        return {target.name: self._move(target) for target in self.targets if not target.name.startswith("source ")}

    def _move(self, target: Target) -> Values:
        base = self.in_network(target, np.array([target.stands_at]))[0]
        if target.octaves:
            return lambda t: np.log2(self.value(target, t) / target.stands_at)
        return lambda t: self.in_network(target, self.value(target, t)) - base

    def in_network(self, target: Target, value: FloatArray) -> FloatArray:
        """A target's value as the network takes it: loop gain, factor."""
        if target.decibels:
            return np.asarray(_sign(self.patch, target.name) * 10 ** (value / 20))
        if target.unit == "%":
            return _filter(self.patch, target.name).document.gains_at(value)
        return value


def targets_of(patch: Patch) -> Iterator[Target]:
    """Everything that routes may move, where it stands."""
    decibels = {route.target for route in patch.routes if route.unit == "dB"}
    for stage in stages_in(patch.path):
        if not stage.id:
            continue
        if isinstance(stage, FilterStage):
            document = stage.document
            yield Target(f"{stage.id}.cutoff", "Hz", document.cutoff_hz, stage.lowest_hz, stage.highest_hz,
                         octaves=True)
            name = f"{stage.id}.resonance"
            if stage.resonance_gain is None:
                yield Target(name, "%", document.resonance_percent, 0.0, 100.0)
            else:
                yield Target(name, "", stage.resonance_gain, 0.0, max(document.gain_at(100.0), stage.resonance_gain))
        elif isinstance(stage, Gain):
            yield _level(f"{stage.id}.level", stage.factor, decibels)
        elif isinstance(stage, Feedback):
            yield Target(f"{stage.id}.feedback", "", stage.amount, -AMOUNT_EDGE, AMOUNT_EDGE)
    yield _level(OUTPUT_LEVEL, 1.0, decibels)
    for i, source in enumerate(patch.sources, start=1):
        yield Target(f"source {i}.pitch", "Hz", source.pitch_hz, *PITCH_HZ, octaves=True)
        yield _level(f"source {i}.level", source.level_v, decibels, unit="V")


def _level(name: str, factor: float, decibels: set[str], *, unit: str = "") -> Target:
    if name in decibels and factor:
        return Target(name, "dB", float(20 * np.log10(abs(factor))), decibels=True)
    return Target(name, unit, factor)


def _filter(patch: Patch, target: str) -> FilterStage:
    own = target.rpartition(".")[0]
    return next(stage for stage in stages_in(patch.path) if isinstance(stage, FilterStage) and stage.id == own)


def _sign(patch: Patch, target: str) -> float:
    """Of the factor that a level in dB stands for."""
    own = target.rpartition(".")[0]
    stage = next((one for one in stages_in(patch.path) if isinstance(one, Gain) and one.id == own), None)
    return 1.0 if stage is None else float(stage.polarity)


def check_motion(patch: Patch) -> None:
    """Raises CircuitError naming the place of a control or route that cannot be played."""
    known = set(patch.controls)
    for name, control in patch.controls.items():
        if name in (FIGURE, NOISE):
            raise CircuitError(f"controls.{name}: a control cannot be called '{name}', which means something else; "
                               "rename it.")
        for field, wanted in references(control):
            if wanted not in known:
                raise CircuitError(f"controls.{name}: {field}: there is no control '{wanted}'; there are: "
                                   f"{', '.join(known)}.")
        if patch.figure is None and _needs_figure(control):
            raise CircuitError(f"controls.{name}: it plays from a figure and there is none; add a figure to the "
                               "patch.")
    _check_heard(patch)
    _refuse_circles(patch.controls)
    targets = {target.name: target for target in targets_of(patch)}
    for i, route in enumerate(patch.routes):
        place = f"routes[{i}]"
        for field, wanted_by in (("from", route.source), ("amount_by", route.amount_by)):
            if wanted_by is not None and wanted_by not in known:
                raise CircuitError(f"{place}: {field}: there is no control '{wanted_by}'; there are: "
                                   f"{', '.join(sorted(known)) or 'none'}.")
        if route.target not in targets:
            raise CircuitError(f"{place}: to: there is no target '{route.target}'; there are: {', '.join(targets)}.")
        if route.unit == "dB" and not route.target.endswith(".level"):
            raise CircuitError(f"{place}: unit: only a level is moved in dB; leave it out.")
        if route.accent_percent and patch.figure is None:
            raise CircuitError(f"{place}: accent_percent: accents are the figure's and there is none; add one.")
        if sum(other.target == route.target and other.unit != route.unit for other in patch.routes):
            raise CircuitError(f"{place}: unit: '{route.target}' is moved in dB by one route and plainly by another; "
                               "give them the same unit.")


def _check_heard(patch: Patch) -> None:
    """Raises CircuitError naming a follower or signal that listens to what is not there, or cannot be listened to."""
    stages = {stage.id for stage in stages_in(patch.path) if stage.id}
    sources = [f"source {i}" for i in range(1, max(len(patch.sources), 1) + 1)]
    for name, control in patch.controls.items():
        if not isinstance(control, FollowerControl | SignalControl):
            continue
        if control.of not in sources and control.of not in stages:
            raise CircuitError(f"controls.{name}: of: there is no source or stage '{control.of}'; there are: "
                               f"{', '.join([*sources, *sorted(stages)])}.")
        if control.of in stages and isinstance(control, FollowerControl):
            raise CircuitError(f"controls.{name}: of: a stage cannot be followed yet, only a source can: "
                               f"{', '.join(sources)}.")
    for route, _ in inner_routes(patch):
        if route.amount_by is not None or route.accent_percent or route.unit == "dB":
            raise CircuitError(f"routes: from: '{route.source}' is a stage's own output: give it a plain amount, "
                               "without amount_by, accent_percent or dB.")
        if route.target.startswith("source "):
            raise CircuitError(f"routes: to: '{route.target}' cannot be moved by a stage's own output.")
    for name, control in patch.controls.items():
        for field, wanted in references(control):
            other = patch.controls.get(wanted)
            if isinstance(other, SignalControl) and other.of in stages:
                raise CircuitError(f"controls.{name}: {field}: '{wanted}' is a stage's own output, which no other "
                                   "control can wait for; take a source.")


def _needs_figure(control: AnyControl) -> bool:
    if isinstance(control, EnvelopeControl):
        return control.gate == FIGURE and control.loop != "always"
    if isinstance(control, HoldControl):
        return FIGURE in (control.clock, control.of)
    return isinstance(control, FigureControl) or (isinstance(control, Timed) and control.rate_hz is None)


def _refuse_circles(controls: Mapping[str, Any]) -> None:
    needed = {name: [wanted for _, wanted in references(control)] for name, control in controls.items()}
    try:
        TopologicalSorter(needed).prepare()
    except CycleError as error:
        around = list(reversed(error.args[1]))
        raise CircuitError(f"controls.{around[0]}: controls that refer to each other in a circle: "
                           f"{' → '.join(around)}; break it.") from error


def frozen_at(patch: Patch, time_s: float) -> Patch:
    """The patch as it stands at a moment, nothing in it moving any more."""
    motion, at = Motion(patch, time_s), np.array([time_s])
    document = patch.model_dump(mode="json", exclude_none=True, by_alias=True)
    stages = {stage["id"]: stage for stage in _inner(document["path"]) if stage.get("id")}
    for target in motion.targets:
        own, _, what = target.name.rpartition(".")
        value = motion.value(target, at)
        if own == "output":
            factor = float(motion.in_network(target, value)[0])
            document["path"].append({"stage": "gain", **_as_gain(factor)})
        elif own in stages:
            stage = stages[own]
            if what == "level":
                stage |= _as_gain(float(motion.in_network(target, value)[0]))
            elif what == "feedback":
                stage["amount"] = float(value[0])
            elif what == "cutoff":
                stage["cutoff_hz"] = float(value[0])
            else:
                stage["resonance_percent" if target.unit == "%" else "resonance_gain"] = float(value[0])
        else:
            source = document["sources"][int(own.removeprefix("source ")) - 1]
            source["pitch_hz" if what == "pitch" else "level_v"] = float(motion.in_network(target, value)[0])
    return Patch.model_validate({**document, "controls": {}, "routes": []})


def _as_gain(factor: float) -> dict[str, Any]:
    return {"db": max(20 * float(np.log10(max(abs(factor), 1e-12))), -200.0), "polarity": 1 if factor >= 0 else -1}


def _inner(path: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for stage in path:
        yield stage
        for inner in (stage.get("path"), stage.get("left"), stage.get("right"),
                      *(limb.get("path") for limb in stage.get("branches", ()))):
            yield from _inner(inner or [])
