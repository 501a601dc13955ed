"""The filter as it stands: its file with everything that was moved since. The only such thing: panel, network, gain and
what a run records of it all come from here."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from pydantic import ValidationError

from jiyuu.bench.setup import Setup
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.components import Components, full_gain, usual_components
from jiyuu.circuits.control import Taper
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import Onset, growth_rate, onset
from jiyuu.circuits.network import Network
from jiyuu.circuits.reach import Reach, reach
from jiyuu.circuits.trims import Trims
from jiyuu.errors import BookError, JiyuuError
from jiyuu.patch.around import Surrounded
from jiyuu.quantities import C4_HZ
from jiyuu.rig.protocol import PanelSettings


@dataclass(frozen=True)
class Standing:
    """document: the filter's file. mode, cutoff_hz (of the knob), resonance_percent, parameters (all that differ from
    the circuit's own), components and taper (None: as the file has them), trims, setup: as they stand now.
    loop_gain: where it is given as such; else it follows from the control's position."""

    document: Filter
    mode: str
    cutoff_hz: float
    resonance_percent: float
    parameters: Mapping[str, float]
    components: Components | None = None
    taper: Taper | tuple[tuple[float, float], ...] | None = None
    trims: Trims = field(default_factory=Trims)
    setup: Setup = field(default_factory=Setup)
    loop_gain: float | None = None

    @classmethod
    def of(cls, document: Filter, kept: Mapping[str, Any] | None = None) -> Standing:
        """A filter with what a book keeps of its controls. Raises BookError naming a value that cannot be."""
        known = kept or {}
        try:
            taper = known.get("resonance_taper")
            return cls(
                document, document.entry.mode(known.get("mode", document.chosen_mode)),
                float(known.get("cutoff_hz", document.cutoff_hz)),
                float(known.get("resonance_percent", document.resonance_percent)),
                {**document.parameters, **known.get("parameters", {})},
                Components.model_validate(known["components"]) if "components" in known else document.components,
                None if taper is None else Taper(taper) if isinstance(taper, str) else tuple(map(tuple, taper)),
                Trims(**known.get("trims", {})), Setup.model_validate(known.get("setup", {})),
            )
        except (ValidationError, JiyuuError, TypeError, ValueError) as error:
            raise BookError(f"A setting of {document.name} in the book cannot be read: {error}") from error

    # What follows

    @cached_property
    def filter(self) -> Filter:
        """The filter with all that was changed, as a file would hold it, and with the path round it."""
        changed: dict[str, object] = {
            "parameters": dict(self.parameters), "mode": self.mode, "resonance_percent": self.resonance_percent,
            "cutoff_hz": self.cutoff_hz,
        }
        if self.components is not None and self.components.resonance_ohm is not None:
            changed["full_gain"] = full_gain(self.components)
        if self.taper is not None:
            changed["resonance_taper"] = self.taper
        alone = self.document.model_copy(update=changed)
        if not self.setup.joins:
            return alone
        return Surrounded.model_construct(**dict(alone), path=self.setup.joined, in_hand=self.setup.in_hand,
                                          side=self.setup.side, tied=self.setup.tied)

    @cached_property
    def network(self) -> Network:
        return self.filter.network()

    @property
    def modes(self) -> tuple[str, ...]:
        """What can be chosen."""
        return self.document.entry.modes

    @property
    def outputs(self) -> tuple[str, ...]:
        """What can be looked at at once: with a path round it there is only the mode that goes through it."""
        return self.network.outputs

    @property
    def built(self) -> tuple[object, ...]:
        """What its network follows from, to tell whether it is still the same."""
        path = self.setup.path_json
        return (self.document.circuit, dict(self.parameters), path, self.mode if path else None)

    @property
    def gain(self) -> float:
        """Loop gain in force."""
        return self.filter.gain_at(self.resonance_percent) if self.loop_gain is None else self.loop_gain

    @property
    def full_gain(self) -> float:
        """Loop gain at the end of the control."""
        return self.filter.gain_at(100.0)

    @property
    def drive(self) -> float:
        """What is ahead of the filter, as a factor."""
        return float(10 ** (self.setup.drive_db / 20))

    @cached_property
    def reach(self) -> Reach:
        """Where the cutoff stands and can go, with everything that moves it."""
        return reach(self.setup.cutoff_controls(self.cutoff_hz), lowest_hz=self.setup.lowest_hz,
                     highest_hz=self.setup.highest_hz)

    @property
    def standing_hz(self) -> float:
        """Pole frequency in force: the knob with everything that moves the cutoff beside it."""
        return self.reach.now_hz if self.setup.moves_cutoff else self.cutoff_hz

    def knob_for(self, standing_hz: float) -> float:
        """Where the knob must stand for a pole frequency, as far as it goes."""
        return within_cutoffs(standing_hz * self.cutoff_hz / self.standing_hz)

    @cached_property
    def onset(self) -> Onset | None:
        """Where self-oscillation begins; None where it never does."""
        return onset(self.network, cutoff_hz=self.standing_hz)

    @cached_property
    def self_oscillates(self) -> bool:
        """Whether the state of rest is unstable."""
        return growth_rate(self.network, cutoff_hz=self.standing_hz, gain=self.gain) >= 0

    @cached_property
    def component_values(self) -> Components:
        """As changed, as the file gives them, or the usual ones for the circuit."""
        if self.components is not None:
            return self.components
        headroom = self.document.entry.values(self.parameters).get("stage_headroom_v", 1.0)
        usual = usual_components(self.document.circuit, headroom, C4_HZ)
        return usual.model_copy(update={"resonance_ohm": usual.loop_ohm / self.full_gain})

    @property
    def panel(self) -> PanelSettings:
        """How the unit is set."""
        return PanelSettings(self.standing_hz, self.resonance_percent, self.trims)

    def moved(self, **changes: Any) -> Standing:
        """With something moved; what is past the end of a control stands at its end."""
        if "cutoff_hz" in changes:
            changes["cutoff_hz"] = within_cutoffs(changes["cutoff_hz"])
        if "resonance_percent" in changes:
            changes["resonance_percent"] = within_travel(changes["resonance_percent"])
        return replace(self, **changes)

    def as_json(self) -> dict[str, Any]:
        """What a run records of it, and what tells whether the run still holds."""
        return {
            "circuit": self.document.circuit, "mode": self.mode, "cutoff_hz": self.cutoff_hz,
            "standing_hz": self.standing_hz, "resonance_percent": self.resonance_percent,
            "parameters": dict(self.parameters), "control": self.filter.control, "trims": self.trims.as_json(),
            "sources": [setting.model_dump(mode="json") for setting in self.setup.inputs],
            "drive_db": self.setup.drive_db, "path": self.setup.path_json, "next_limit_v": self.setup.output_limit_v,
        }


def within_cutoffs(cutoff_hz: float) -> float:
    """The nearest cutoff a circuit is stated for."""
    return float(min(max(cutoff_hz, CUTOFF_MINIMUM_HZ), CUTOFF_MAXIMUM_HZ))


def within_travel(percent: float) -> float:
    return float(min(max(percent, 0.0), 100.0))
