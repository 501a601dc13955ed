"""Envelopes: delay, attack, hold, decay, sustain, release; linear or exponential, looped, triggered anew."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from jiyuu.signals.controls.gates import Gates
from jiyuu.signals.controls.segments import Segments

OVERSHOOT = 4 / 3  # what an exponential attack goes towards, so that it arrives
ATTACK_CONSTANTS, FALL_CONSTANTS = float(np.log(4)), float(np.log(100))  # in a stated time: within 1 % after it
SHORTEST_LOOP_S = 1e-4


@dataclass(frozen=True, slots=True)
class Envelope:
    """Times in s, sustain 0 to 1. A linear segment takes its time from wherever it begins; an exponential attack goes
    towards 4/3 with τ = T/ln 4 and ends at 1; decay and release go towards their goals with τ = T/ln 100. moved: times
    and sustain that move, by their names; a segment keeps what they are when it begins."""

    delay_s: float = 0.0
    attack_s: float = 0.005
    hold_s: float = 0.0
    decay_s: float = 0.3
    sustain: float = 0.5
    release_s: float = 0.2
    curve: Literal["exponential", "linear"] = "exponential"
    loop: Literal["off", "always", "while_gated"] = "off"
    retrigger: Literal["from_zero", "from_where_it_is"] = "from_zero"
    skip_slides: bool = False
    moved: Mapping[str, Callable[[float], float]] = field(default_factory=dict)

    def now(self, name: str, time_s: float) -> float:
        """A field as it is when a segment begins."""
        moved = self.moved.get(name)
        return float(getattr(self, name)) if moved is None else moved(time_s)

    def segments(self, gates: Gates, until_s: float) -> Segments:
        """The whole curve up to until_s."""
        found = Segments()
        found.add(0.0, 0.0)
        if self.loop == "always":
            self._round(found, 0.0, np.inf, until_s)
            return found
        kept = ~gates.slides.astype(bool) if self.skip_slides else np.ones(gates.rises.size, dtype=bool)
        rises, falls = gates.rises[kept], gates.falls[kept]
        if self.skip_slides:  # a note goes on through what is slid into
            falls = np.array([_end(gates, int(i)) for i in np.flatnonzero(kept)])
        for i, (rise, fall) in enumerate(zip(rises, falls, strict=True)):
            if rise > until_s:
                break
            following = float(rises[i + 1]) if i + 1 < rises.size else np.inf
            self._round(found, float(rise), min(float(fall), following), until_s)
            if fall < following and fall <= until_s:
                self._release(found, float(fall))
        return found

    def _round(self, found: Segments, start_s: float, stop_s: float, until_s: float) -> None:
        """From a trigger on: attack, hold and decay, over and over where it loops; nothing that begins at stop_s or
        later."""
        begins = found.value(start_s) if self.retrigger == "from_where_it_is" else 0.0
        at = start_s + self.now("delay_s", start_s)
        found.add(start_s, begins)
        while at < stop_s and at <= until_s:
            top = self._attack(found, at, begins)
            if top >= stop_s:
                return
            found.add(top, 1.0)
            down = top + self.now("hold_s", top)
            if down >= stop_s:
                return
            decay_s, sustain = self.now("decay_s", down), self.now("sustain", down)
            if decay_s <= 0:
                found.add(down, sustain)
            elif self.curve == "linear":
                found.add(down, 1.0, slope=(sustain - 1.0) / decay_s)
            else:
                found.add(down, 1.0, goal=sustain, tau_s=decay_s / FALL_CONSTANTS)
            ends = down + decay_s
            if self.loop == "off":
                if self.curve == "linear" and decay_s > 0 and ends < stop_s:
                    found.add(ends, sustain)
                return
            begins = found.value(ends) if self.retrigger == "from_where_it_is" else 0.0
            at = max(ends, at + SHORTEST_LOOP_S)

    def _attack(self, found: Segments, at_s: float, begins: float) -> float:
        """When it arrives at 1."""
        attack_s = self.now("attack_s", at_s)
        if attack_s <= 0:
            return at_s
        if self.curve == "linear":
            found.add(at_s, begins, slope=(1.0 - begins) / attack_s)
            return at_s + attack_s
        tau = attack_s / ATTACK_CONSTANTS
        found.add(at_s, begins, goal=OVERSHOOT, tau_s=tau)
        return at_s + tau * float(np.log((OVERSHOOT - begins) / (OVERSHOOT - 1.0)))

    def _release(self, found: Segments, at_s: float) -> None:
        value, release_s = found.value(at_s), self.now("release_s", at_s)
        if release_s <= 0:
            found.add(at_s, 0.0)
        elif self.curve == "linear":
            found.add(at_s, value, slope=-value / release_s)
            found.add(at_s + release_s, 0.0)
        else:
            found.add(at_s, value, goal=0.0, tau_s=release_s / FALL_CONSTANTS)


def _end(gates: Gates, place: int) -> float:
    """When the gate of a note falls, with all that is slid into after it."""
    end = float(gates.falls[place])
    for i in range(place + 1, gates.rises.size):
        if not gates.slides[i] or gates.rises[i] > end:
            break
        end = float(gates.falls[i])
    return end
