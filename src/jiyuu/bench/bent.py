"""The same source bent in other places, for an ear: by driving the filter, by a curve behind it, by its own output fed
back; and as it would be if nothing bent. All of one loudness."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import FULL_SCALE_V, HEARD_RATE_HZ, SETTLING_S, equally_loud
from jiyuu.bench.standing import Standing
from jiyuu.errors import SignalError
from jiyuu.prediction.drive_feedback import looped
from jiyuu.prediction.drive_study import DriveStudy
from jiyuu.progress import Progress
from jiyuu.signals.looped import SEAM_S, seamless

SOUND_S = 4.0
SOFTER = 1e-3  # of the level: a filter bends as the square of it
LOUDEST_V = 1e6  # what a loop that nothing holds grows past


class Way(StrEnum):
    """Where it is bent."""

    CLEAN = "clean"
    DRIVEN = "driven"
    BEHIND = "behind"
    FED_BACK = "fed back"


@dataclass(frozen=True, slots=True, eq=False)
class Bent:
    """sounds: (n,) re full scale each, to be looped, equally loud; why: of those that there are none of."""

    sounds: dict[Way, FloatArray]
    why: dict[Way, str]


def bent_steps(standing: Standing, study: DriveStudy) -> Iterator[Progress | Bent]:
    """study: of the filter as it stands. Its source is brought to the nominal peak level. Raises JiyuuError where it
    cannot be played."""
    asked = study.asked
    yield Progress("Playing it clean and driven", 0.0)
    source_v = _source_v(standing, asked.level_v)
    clean_v = _through(standing, SOFTER * source_v) / SOFTER
    rail_v = standing.document.tolerances.rail_v
    volts = {Way.CLEAN: clean_v, Way.DRIVEN: np.clip(_through(standing, source_v), -rail_v, rail_v)}
    why: dict[Way, str] = {}
    if study.behind is None or study.behind.headroom_v is None:
        why[Way.BEHIND] = ("Choose a curve behind it first." if study.behind is None else
                           "No such curve makes as much distortion as driving it does.")
    else:
        yield Progress("Bending it behind", 0.4)
        volts[Way.BEHIND] = _behind(clean_v, study.behind.kind, study.behind.headroom_v)
    if not asked.feedback:
        why[Way.FED_BACK] = "Say by how much the output goes back first."
    elif study.fed_back is None:
        why[Way.FED_BACK] = " ".join(study.why) or "That loop cannot be closed; choose another output."
    elif study.fed_back.runs_away:
        why[Way.FED_BACK] = "Nothing holds that loop: its amount is too large to be heard."
    else:
        yield Progress("Feeding it back", 0.7)
        try:
            volts[Way.FED_BACK] = _fed_back(standing, study, source_v)
        except (SignalError, OverflowError):
            why[Way.FED_BACK] = ("Nothing holds that loop while the source plays; give a smaller amount, or a curve in "
                                 "it.")
    kept = round(SETTLING_S * HEARD_RATE_HZ)
    sounds = [seamless(sound[kept:] / FULL_SCALE_V, HEARD_RATE_HZ) for sound in volts.values()]
    yield Bent(dict(zip(volts, equally_loud([sound - sound.mean() for sound in sounds]), strict=True)), why)


def _source_v(standing: Standing, level_v: float) -> FloatArray:
    """(n,) of that peak. Raises SignalError for a silent one."""
    from jiyuu.signals.source import mixed_record

    record = mixed_record(standing.setup.sources(), duration_s=SETTLING_S + SOUND_S + SEAM_S)
    peak = float(np.abs(record).max())
    if not peak > 0:
        raise SignalError("The source is silent; raise its level to hear how it is bent.")
    return record * (level_v / peak)


def _through(standing: Standing, played_v: FloatArray) -> FloatArray:
    from jiyuu.circuits.operating_point import operating_point
    from jiyuu.simulation.render import oversampling_for, render

    return np.asarray(render(
        standing.network, played_v, sample_rate_hz=HEARD_RATE_HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
        modes=[standing.mode], oversampling=oversampling_for(standing.standing_hz),
        start_v=operating_point(standing.network, gain=standing.gain).state_v,
    ).output_v[0])


def _behind(clean_v: FloatArray, kind: str, headroom_v: float) -> FloatArray:
    from jiyuu.patch.document import Patch, Shape
    from jiyuu.patch.playing import play_patch

    stage = Shape.model_validate({"stage": "shape", "kind": kind, "headroom_v": headroom_v})
    patch = Patch.model_construct(name="behind", path=(stage,), controls={}, routes=(), sources=(), figure=None)
    return np.asarray(play_patch(patch, clean_v[np.newaxis], HEARD_RATE_HZ)[0])


def _fed_back(standing: Standing, study: DriveStudy, source_v: FloatArray) -> FloatArray:
    from jiyuu.simulation.render import oversampling_for, render

    asked = study.asked
    network = looped(standing.filter, standing.mode, standing.gain, asked.feedback, asked.through)
    output_v = render(network, source_v, sample_rate_hz=HEARD_RATE_HZ, cutoff_hz=standing.standing_hz, gain=0.0,
                      modes=["out"], oversampling=oversampling_for(standing.standing_hz)).output_v[0]
    if not np.isfinite(output_v).all() or float(np.abs(output_v).max()) > LOUDEST_V:
        raise OverflowError("the loop runs away")
    rail_v = standing.document.tolerances.rail_v
    return np.asarray(np.clip(output_v, -rail_v, rail_v))
