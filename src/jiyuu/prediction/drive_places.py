"""Where it is bent: before the filter by driving it, or behind it by a curve, at the same distortion in all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Branch, BranchKind
from jiyuu.prediction.drive import HIGHEST_HARMONIC, DrivenLevel
from jiyuu.signals.transforms import rfft

STEPS = 4096
HEADROOMS = (1e-3, 1e3)  # re the output's peak
FLOOR_DB = -60.0  # re the first harmonic: below it nothing is compared


@dataclass(frozen=True, slots=True, eq=False)
class BentBehind:
    """A curve of that headroom behind the cleanly driven filter makes the same THD as driving it: harmonics (20,) of
    either in dB re the first; where they differ most, by how much, before less behind. headroom_v None where no such
    curve makes as much."""

    kind: str
    thd_percent: float
    headroom_v: float | None
    before_db: FloatArray
    behind_db: FloatArray

    @property
    def widest(self) -> tuple[int, float]:
        """(harmonic, dB) where the two differ most, as far as either is heard."""
        low = np.maximum(self.before_db, FLOOR_DB), np.maximum(self.behind_db, FLOOR_DB)
        apart = low[0] - low[1]
        place = int(np.abs(apart).argmax())
        return place + 1, float(apart[place])


def bent_behind(driven: DrivenLevel, small_gain_db: float, kind: BranchKind) -> BentBehind:
    """driven: the filter driven before it; small_gain_db: of the tone while it is small, so that what comes out
    cleanly is known."""
    clean_v = driven.input_peak_v * 10 ** (small_gain_db / 20)
    wave = clean_v * np.sin(2 * np.pi * np.arange(STEPS) / STEPS)

    def harmonics(headroom_v: float) -> FloatArray:
        bent, _ = Branch("behind", kind, headroom_v).at(wave)
        return np.asarray(np.abs(rfft(bent)[1 : HIGHEST_HARMONIC + 1]))

    def excess(log_share: float) -> float:
        size = harmonics(clean_v * np.exp(log_share))
        return float(100 * np.sqrt(np.sum(size[1:] ** 2)) / max(size[0], 1e-30) - driven.thd_percent)

    shares = np.linspace(np.log(HEADROOMS[1]), np.log(HEADROOMS[0]), 200)
    over = next((i for i, share in enumerate(shares) if excess(float(share)) >= 0), None)
    if over is None or over == 0:
        return BentBehind(kind, driven.thd_percent, None, driven.harmonics_db, np.full(HIGHEST_HARMONIC, FLOOR_DB))
    share = scipy.optimize.brentq(excess, float(shares[over]), float(shares[over - 1]), xtol=1e-12)
    size = np.maximum(harmonics(clean_v * np.exp(share)), 1e-20)
    return BentBehind(kind, driven.thd_percent, float(clean_v * np.exp(share)), driven.harmonics_db,
                      np.asarray(20 * np.log10(size / size[0])))
