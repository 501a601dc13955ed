"""A filter with the path round it, as one filter: whoever asks it for its network gets the whole of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import CUTOFF, RESONANCE, Network
from jiyuu.errors import CircuitError
from jiyuu.patch.document import LEFT, AnyStage, FilterStage
from jiyuu.patch.editing import place_of, replaced
from jiyuu.patch.lowering import UNIT_HZ, lowered
from jiyuu.patch.stretches import Stretch


class Surrounded(Filter):
    """path: stages, that of the id `in_hand` standing for this filter itself; side: which of two is looked at."""

    path: tuple[AnyStage, ...]
    in_hand: str
    side: str = LEFT

    def network(self) -> Network:
        """The whole path. Cutoff and resonance are those of the filter in hand, all other filters stay where they are;
        the one output bears the name of its mode. Raises CircuitError where the path cannot be played."""
        place = place_of(self.path, self.in_hand)
        if place is None:
            raise CircuitError(f"The stage '{self.in_hand}' is not in the path any more.")
        alone = Filter.model_construct(**{name: getattr(self, name) for name in Filter.model_fields})
        own = FilterStage.model_construct(stage="filter", id=self.in_hand, filter=alone, parameters={})
        cutoff, resonance = f"{self.in_hand}.cutoff", f"{self.in_hand}.resonance"
        found = lowered(Stretch(replaced(self.path, place, own)), self.side, (cutoff, resonance))
        if cutoff not in found.network.cutoffs:
            raise CircuitError(f"The filter in hand is not heard on the {self.side} side; look at the other one.")
        network = found.network
        which = network.cutoffs.index(cutoff)
        tuned, hand = network.is_tuned, network.cutoff_of == which
        # A stereo stage round it may have moved it from where its knob stands.
        apart = found.cutoff_hz[which] / self.cutoff_hz
        return replace(
            network, outputs=(self.chosen_mode,), gains=(RESONANCE,), cutoffs=(CUTOFF,),
            cutoff_of=np.zeros(tuned.size, dtype=np.intp),
            rate_ratio=np.where(tuned & hand, network.rate_ratio * apart, 0.0),
            fixed_rate=np.where(tuned & ~hand, 2 * np.pi * UNIT_HZ * network.rate_ratio, network.fixed_rate),
            structure=(),
        )
