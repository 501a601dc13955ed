"""What could be built to make a control more even: laws that can be bought, resistors from the wiper."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.control import Taper, loaded_share, taper_share
from jiyuu.errors import MeasurementError
from jiyuu.measurement.taper import PEAK_CEILING_DB, read_taper
from jiyuu.stopping import checkpoint


@dataclass(frozen=True, slots=True)
class ProposedTaper:
    """A taper that could be built. resistor_share: resistance across the control re the control's own, None for a bare
    control; to_ground: whether it lies between wiper and ground (else wiper and top)."""

    name: str
    evenness: float
    table: tuple[tuple[float, float], ...]
    resistor_share: float | None = None
    to_ground: bool = True


def propose_taper(value_of_share: Callable[[FloatArray], FloatArray], *, onset_share: float | None
                  ) -> tuple[ProposedTaper, ...]:
    """Tapers worth building, the most even first.

    value_of_share: quantity in dB for shares (m,) of the full loop gain. onset_share: where self-oscillation begins,
    None when it never does. What cannot be read (onset at once) is left out."""
    travel = np.linspace(0.0, 1.0, 201)
    candidates: list[tuple[str, FloatArray, float | None, bool]] = [
        (f"{taper.value} control", np.asarray(taper_share(travel, taper)), None, True) for taper in Taper
    ]
    for ratio in (0.1, 0.15, 0.22, 0.33, 0.47, 0.68, 1.0, 1.5):
        for to_ground in (True, False):
            place = "ground" if to_ground else "top"
            name = f"linear control with {ratio:g} of its value from wiper to {place}"
            candidates.append((name, loaded_share(travel, ratio, to_ground=to_ground), ratio, to_ground))
    found = []
    for name, share, resistor, to_ground in candidates:
        checkpoint()
        onset: float | None = None
        if onset_share is not None and onset_share <= 1:
            onset = float(100 * np.interp(onset_share, share, travel))
        try:
            reading = read_taper(100 * travel, value_of_share(share), onset_percent=onset, ceiling_db=PEAK_CEILING_DB)
        except MeasurementError:
            continue
        table = tuple((round(float(t), 6), round(float(s), 6)) for t, s in zip(travel[::10], share[::10], strict=True))
        found.append(ProposedTaper(name, reading.evenness, table, resistor, to_ground))
    return tuple(sorted(found, key=lambda proposal: proposal.evenness))
