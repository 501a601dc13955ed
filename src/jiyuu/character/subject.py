"""What is judged: a filter as its file describes it, at one setting."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import growth_rate
from jiyuu.circuits.network import Network


@dataclass(frozen=True)
class Subject:
    """filter: its file with all that was set; mode; cutoff_hz of the poles; gain of its loop; drive: what is ahead of
    it, as a factor."""

    filter: Filter
    mode: str
    cutoff_hz: float
    gain: float
    drive: float = 1.0

    @cached_property
    def network(self) -> Network:
        return self.filter.network()

    @cached_property
    def whistles(self) -> bool:
        """Whether its state of rest is unstable."""
        return growth_rate(self.network, cutoff_hz=self.cutoff_hz, gain=self.gain) >= 0

    def at(self, cutoff_hz: float) -> Subject:
        """With its knob elsewhere."""
        return replace(self, cutoff_hz=cutoff_hz)
