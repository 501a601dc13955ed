"""What the filter in hand hides of a sound beside it, and both together as they are and with the cut that frees it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import HEARD_RATE_HZ, Heard, equally_loud, heard_record
from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.combination import CombinationSetting
from jiyuu.character.masking import Masking, masking_steps
from jiyuu.errors import MeasurementError
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.levels import loudness_lufs
from jiyuu.progress import Progress
from jiyuu.signals.sources import STEP_S
from jiyuu.signals.transforms import irfft, rfft

LOOP_S = 16 * STEP_S  # two bars


@dataclass(frozen=True, slots=True, eq=False)
class Masked:
    """found, as a finding too; sounds: both together, without the cut and with it, (n,) re full scale, equally loud;
    one where no cut is worth taking."""

    found: Masking
    finding: Finding
    sounds: tuple[FloatArray, ...]

    @property
    def findings(self) -> tuple[Finding, ...]:
        return (self.finding,)


def masked_steps(standing: Standing, setting: CombinationSetting) -> Iterator[Progress | Masked]:
    """Raises JiyuuError for sounds that cannot be made or heard."""
    yield Progress("Playing the filter in hand", 0.0)
    other = heard_record(standing, Heard.FILTER, duration_s=LOOP_S)
    wanted = setting.wanted_source.record(duration_s=LOOP_S, sample_rate_hz=HEARD_RATE_HZ)
    wanted = wanted * 10 ** ((_loudness(other) - _loudness(wanted) + setting.wanted_db) / 20)
    found: Masking | None = None
    for step in masking_steps(wanted, other, HEARD_RATE_HZ):
        if isinstance(step, Masking):
            found = step
        else:
            yield step
    assert found is not None
    mixes = [wanted + other]
    if found.cut is not None:
        gain = found.cut.section.gain(np.fft.rfftfreq(other.size, 1 / HEARD_RATE_HZ).astype(float))
        mixes.append(np.asarray(wanted + irfft(rfft(other) * gain, other.size)))
    yield Masked(found, found.finding(f"the {setting.wanted}", f"filter in hand at {standing.standing_hz:.4g} Hz"),
                 tuple(equally_loud(mixes)))


def _loudness(sound: FloatArray) -> float:
    """LUFS. Raises MeasurementError for one that is too soft to have a loudness."""
    found = loudness_lufs(sound, HEARD_RATE_HZ)
    if found is None:
        raise MeasurementError("A sound is too soft to be compared; raise its level, or open the filter.")
    return found
