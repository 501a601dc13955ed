"""What moves in a patch: its controls at every instant, what their routes ask of each target, and what it gets."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
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
)
from jiyuu.patch.document import Patch
from jiyuu.patch.heard import HeardRecord, listening
from jiyuu.patch.inside import inner_routes
from jiyuu.patch.targets import Target, filter_of, sign_of, targets_of
from jiyuu.signals.controls import stepped
from jiyuu.signals.controls.envelope import Envelope
from jiyuu.signals.controls.figure import Figure, Note, Played
from jiyuu.signals.controls.gates import Gates, above_half, clock
from jiyuu.signals.controls.lfo import Lfo

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
    """A patch's controls and routes up to until_s. heard: what sounds in place of its own sources, by 'source N'."""

    def __init__(self, patch: Patch, until_s: float, heard: Mapping[str, HeardRecord] | None = None) -> None:
        self.patch, self._until_s, self._heard = patch, until_s, dict(heard or {})
        self._inside = [route for route, _ in inner_routes(patch)]
        self._moved = {route.target for route in patch.routes}
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
            self._values[name] = self._made(name, self.patch.controls[name])
        return self._values[name](times_s)

    def _made(self, name: str, control: AnyControl) -> Values:
        if isinstance(control, EnvelopeControl):
            own = control.model_dump(exclude={"kind", "gate"})
            free = control.loop == "always"
            gates = clock(1.0, 0.0) if free else self._gates(control.gate)
            return Envelope(**own).segments(gates, self._until_s).at
        if isinstance(control, LfoControl) and f"{name}.rate_hz" in self._moved:
            turns = self._turns(self._targets[f"{name}.rate_hz"])
            shape = Lfo(control.shape, 1.0, control.phase, control.width, control.unipolar)
            return lambda t: shape.at(turns(t))
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

    def _turns(self, target: Target) -> Values:
        """How many turns a rate that moves has made by then."""
        times_s = np.arange(int(self._until_s * TURNS_HZ) + 2) / TURNS_HZ
        rate_hz = self.value(target, times_s)
        turns = np.concatenate([[0.0], np.cumsum(0.5 * (rate_hz[1:] + rate_hz[:-1])) / TURNS_HZ])
        return lambda t: np.interp(t, times_s, turns)

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
        return {target.name: self._move(target) for target in self.targets
                if not target.name.startswith("source ") and target.name.rpartition(".")[0] not in self.patch.controls}

    def _move(self, target: Target) -> Values:
        base = self.in_network(target, np.array([target.stands_at]))[0]
        if target.octaves:
            return lambda t: np.log2(self.value(target, t) / target.stands_at)
        return lambda t: self.in_network(target, self.value(target, t)) - base

    def in_network(self, target: Target, value: FloatArray) -> FloatArray:
        """A target's value as the network takes it: loop gain, factor."""
        if target.decibels:
            return np.asarray(sign_of(self.patch, target.name) * 10 ** (value / 20))
        if target.unit == "%":
            return filter_of(self.patch, target.name).document.gains_at(value)
        return value


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
        elif own in patch.controls:
            continue  # what it moves is frozen itself
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
