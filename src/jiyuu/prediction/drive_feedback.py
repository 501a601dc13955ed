"""The output fed back into the input: from which amount on that rings, what it does before, where it settles."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.circuits.compose import held, only, silent
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import state_space
from jiyuu.circuits.loops import least_ringing
from jiyuu.circuits.network import Network
from jiyuu.patch.document import Curve, Feedback, FilterStage
from jiyuu.patch.lowering import closed
from jiyuu.prediction.drive import drive_ladder
from jiyuu.signals.stimuli import impulse
from jiyuu.simulation.render import render

KICK_V, KICK_S, WATCHED_S, RATE_HZ = 0.02, 0.002, 1.5, 48_000.0
SETTLED_SHARE = 0.25  # of what is watched, at its end
BOUNDLESS_V = 1e6


@dataclass(frozen=True, slots=True)
class FedBack:
    """Amounts are signed; rings_amount and rings_hz of the sign asked, None where no amount of it rings (0 Hz: it
    sticks). Where it does not ring at the amount asked, thd_percent with and thd_without at one level; where it does,
    settles_v peak, None where nothing holds it."""

    amount: float
    through: str
    rings_amount: float | None
    rings_hz: float | None
    thd_percent: float | None = None
    thd_without: float | None = None
    settles_v: float | None = None

    @property
    def rings(self) -> bool:
        return self.rings_amount is not None and abs(self.amount) >= abs(self.rings_amount)

    @property
    def runs_away(self) -> bool:
        return self.rings and self.settles_v is None


def looped(document: Filter, mode: str, gain: float, amount: float, through: Curve | None) -> Network:
    """The filter with `amount` times its output, through a curve where one is given, added to its input: the output
    'out', its gain in it. Raises CircuitError where the output follows the input at once."""
    stage = Feedback(stage="feedback", path=(FilterStage(stage="filter", filter=document, mode=mode),), amount=amount,
                     through=through)
    return closed(only(held(document.network(), gain), mode), stage, "feedback")


def fed_back(
    document: Filter, mode: str, *, cutoff_hz: float, gain: float, amount: float, through: Curve | None,
    frequency_hz: float, level_v: float,
) -> FedBack:
    """The filter must not oscillate by itself. Raises CircuitError as looped does."""
    whole = looped(document, mode, gain, amount, through)
    inside = silent(only(held(document.network(), gain), mode))
    system = state_space(inside, cutoff_hz=cutoff_hz, gain=0.0)
    ring = least_ringing(system, 1.0, 1.0 if amount >= 0 else -1.0, unit_hz=cutoff_hz)
    name = "wire" if through is None else through.kind
    rings_amount, rings_hz = ring or (None, None)
    found = FedBack(amount, name, rings_amount, rings_hz)
    if found.rings:
        return replace(found, settles_v=_settles_v(whole, cutoff_hz))
    thd = [
        drive_ladder(network, output, cutoff_hz=cutoff_hz, gain=own, frequency_hz=frequency_hz,
                     levels_v=np.array([level_v])).levels[0].thd_percent
        for network, output, own in ((whole, "out", 0.0), (document.network(), mode, gain))
    ]
    return replace(found, thd_percent=thd[0], thd_without=thd[1])


def _settles_v(network: Network, cutoff_hz: float) -> float | None:
    """Peak volts that an impulse grows to; None where nothing holds it."""
    kick = impulse(sample_rate_hz=RATE_HZ, level_v=KICK_V, burst_s=KICK_S, duration_s=WATCHED_S)
    try:
        output = render(network, kick, sample_rate_hz=RATE_HZ, cutoff_hz=cutoff_hz, gain=0.0, modes=["out"],
                        oversampling=8).output_v[0]
    except OverflowError:
        return None
    peak = float(np.abs(output[-round(SETTLED_SHARE * output.size) :]).max())
    return peak if np.isfinite(peak) and peak < BOUNDLESS_V else None
