"""A filter with the path round it, as one filter: whoever asks it for its network gets the whole of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import CUTOFF, RESONANCE, Network
from jiyuu.errors import CircuitError
from jiyuu.patch.document import LEFT, AnyStage, FilterStage
from jiyuu.patch.editing import place_of, replaced, stage_at
from jiyuu.patch.lowering import UNIT_HZ, lowered
from jiyuu.patch.stretches import Stretch


class Surrounded(Filter):
    """path: stages, that of the id `in_hand` standing for this filter itself; side: which of two is looked at; tied:
    filters of the path that go with its cutoff, so many octaves above it."""

    path: tuple[AnyStage, ...]
    in_hand: str
    side: str = LEFT
    tied: dict[str, float] = Field(default_factory=dict)

    def network(self) -> Network:
        """The whole path. Cutoff and resonance are those of the filter in hand, filters that are tied to it go along,
        all others stay where they are; the one output bears the name of its mode. Raises CircuitError where the path
        cannot be played."""
        place = place_of(self.path, self.in_hand)
        if place is None:
            raise CircuitError(f"The stage '{self.in_hand}' is not in the path any more.")
        alone = Filter.model_construct(**{name: getattr(self, name) for name in Filter.model_fields})
        own = FilterStage.model_construct(stage="filter", id=self.in_hand, filter=alone, parameters={})
        cutoff, resonance = f"{self.in_hand}.cutoff", f"{self.in_hand}.resonance"
        goes_along = {f"{name}.cutoff": octaves for name, octaves in self.tied.items()}
        found = lowered(Stretch(replaced(self.path, place, own)), self.side, (cutoff, resonance, *goes_along))
        if cutoff not in found.network.cutoffs:
            raise CircuitError(f"The filter in hand is not heard on the {self.side} side; look at the other one.")
        network = found.network
        # How far each stands from the knob: a stereo stage round it may have moved it from where that stands.
        factors = np.array([
            hertz / self.cutoff_hz if name == cutoff else
            2.0 ** goes_along[name] * self._moved(name.rpartition(".")[0], hertz) if name in goes_along else 0.0
            for name, hertz in zip(network.cutoffs, found.cutoff_hz, strict=True)])
        tuned, hand = network.is_tuned, factors[network.cutoff_of] > 0
        return replace(
            network, outputs=(self.chosen_mode,), gains=(RESONANCE,), cutoffs=(CUTOFF,),
            cutoff_of=np.zeros(tuned.size, dtype=np.intp),
            rate_ratio=np.where(tuned & hand, network.rate_ratio * factors[network.cutoff_of], 0.0),
            fixed_rate=np.where(tuned & ~hand, 2 * np.pi * UNIT_HZ * network.rate_ratio, network.fixed_rate),
            written=(),
        )

    def _moved(self, own: str, hertz: float) -> float:
        """How far a stereo stage round it moved a filter of the path."""
        place = place_of(self.path, own)
        assert place is not None
        stage = stage_at(self.path, place)
        assert isinstance(stage, FilterStage)
        return hertz / stage.document.cutoff_hz
