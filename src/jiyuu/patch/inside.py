"""Outputs of filters patched into controls of the same patch at audio rate: without a sample of delay they are part of
the network itself."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.circuits.control import Taper
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError
from jiyuu.patch.controls import AnyControl, Route, SignalControl
from jiyuu.patch.document import (
    LEFT,
    RIGHT,
    AnyStage,
    Feedback,
    FilterStage,
    Gain,
    Pair,
    Patch,
    Stereo,
    all_stages,
    inner_paths,
)
from jiyuu.patch.linear_stages import AllPass
from jiyuu.patch.stretches import Stretch, stretches


@dataclass(frozen=True, slots=True)
class Tap:
    """A filter's output as weights of its capacitors, by their names; empty where it is no such sum. tuned: those that
    follow its cutoff."""

    weights: Mapping[str, float]
    tuned: tuple[str, ...]


def tap_of(own: Network, called: str) -> Tap:
    """Of a filter with one output, before its capacitors were given their prefix."""
    plain = not (own.D.parts.any() or own.E.parts.any() or own.C.parts[1:].any())
    names = [f"{called} {name}" for name in own.capacitors]
    weights = {name: float(w) for name, w in zip(names, own.C.parts[0, 0], strict=True) if w} if plain else {}
    return Tap(weights, tuple(name for name, tuned in zip(names, own.is_tuned, strict=True) if tuned))


def is_inner(control: AnyControl | None) -> bool:
    """Whether a control is a stage's own output, known only while it sounds."""
    return isinstance(control, SignalControl) and not control.of.startswith("source ")


def inner_routes(patch: Patch) -> Iterator[tuple[Route, SignalControl]]:
    """Routes from a stage's own output."""
    for route in patch.routes:
        control = patch.controls.get(route.source)
        if isinstance(control, SignalControl) and is_inner(control):
            yield route, control


def patched_in(patch: Patch, network: Network, taps: Mapping[str, Tap]) -> Network:
    """The network of a side with those routes in it. Raises CircuitError naming a route that cannot be."""
    routes = list(inner_routes(patch))
    if not routes:
        return network
    cutoff_by, gain_by = np.array(network.cutoff_by), np.array(network.gain_by)
    for route, control in routes:
        tap = taps.get(control.of)
        if tap is None:
            continue  # not on this side
        if not tap.weights:
            raise CircuitError(f"controls.{route.source}: of: the output of '{control.of}' is not a sum of capacitor "
                               "voltages, so it cannot move a control at the same instant; take a mode behind a "
                               "capacitor, such as a lowpass or bandpass.")
        row = np.zeros(len(network.capacitors))
        for name, weight in tap.weights.items():
            row[_places(network, (name,))] = weight
        own, _, what = route.target.rpartition(".")
        amount = route.amount * control.per_v
        if what == "cutoff":  # of a filter, or of both filters of a pair
            for there in (taps.get(name) for name in (own, f"{own}.first", f"{own}.second")):
                for place in _places(network, () if there is None else there.tuned):
                    cutoff_by[place] += amount * row
        elif route.target in network.gains:
            gain_by[network.gains.index(route.target)] += amount * _gain_per_unit(patch, own, what) * row
    return replace(network, cutoff_by=cutoff_by, gain_by=gain_by, written=())


def check_inside(patch: Patch) -> None:
    """Raises CircuitError naming a route from a stage's own output that cannot be part of a network."""
    stages = {stage.id: stage for stage in all_stages(patch.path) if stage.id}
    for route, control in inner_routes(patch):
        if route.amount_by is not None or route.accent_percent or route.unit == "dB":
            raise CircuitError(f"routes: from: '{route.source}' is a stage's own output: give it a plain amount, "
                               "without amount_by, accent_percent or dB.")
        own, _, what = route.target.rpartition(".")
        stage = stages.get(own)
        can = {"cutoff": isinstance(stage, FilterStage | Pair), "resonance": isinstance(stage, FilterStage),
               "level": own == "output" or isinstance(stage, Gain), "feedback": isinstance(stage, Feedback),
               "mix": isinstance(stage, AllPass)}
        if not can.get(what, False):
            raise CircuitError(f"routes: to: '{route.target}' cannot be moved by a stage's own output; the cutoff or "
                               "resonance of a filter, a level, the amount of a feedback or a mix of all-passes can.")
        if not any({control.of, own} <= ids for side in (LEFT, RIGHT)
                   for ids in _together(patch.path, side, outermost=True)):
            raise CircuitError(f"routes: to: '{route.target}' and '{control.of}' are not in one network: a comb, a "
                               "crusher, a branch of its own or the other side lies between; move one of them.")


def _together(path: Sequence[AnyStage], side: str, *, outermost: bool) -> Iterator[set[str]]:
    """Ids of the stages that are one network each."""
    for part in stretches(path, side, outermost=outermost):
        if isinstance(part, Stretch):
            yield {stage.id for stage in all_stages(part.path) if stage.id} | ({"output"} if part.is_last else set())
            continue
        inner = [getattr(part.stage, side)] if isinstance(part.stage, Stereo) else inner_paths(part.stage)
        for one in inner:
            yield from _together(one, side, outermost=False)


def _places(network: Network, names: tuple[str, ...]) -> list[int]:
    """Joining may have put more in front of a name."""
    return [i for i, name in enumerate(network.capacitors)
            if any(name == own or name.endswith(f" {own}") for own in names)]


def _gain_per_unit(patch: Patch, own: str, what: str) -> float:
    """Loop gain for each per cent where the stage states a position. Raises CircuitError for a curved control."""
    stage = next((one for one in all_stages(patch.path) if one.id == own), None)
    if what != "resonance" or not isinstance(stage, FilterStage) or stage.resonance_gain is not None:
        return 1.0
    if stage.document.resonance_taper is not Taper.LINEAR:
        raise CircuitError(f"{own}: its resonance control is not linear, so per cent cannot be moved by a sound; state "
                           "resonance_gain instead.")
    return stage.document.gain_at(100.0) / 100
