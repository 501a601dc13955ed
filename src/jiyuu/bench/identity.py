"""Which circuit a unit is: measured on the rig or read from files, told by what fits it, kept as a run."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Field

from jiyuu.arrays import FloatArray
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.errors import MeasurementError
from jiyuu.measurement.contexts import IdentifiedAs
from jiyuu.measurement.finding import Finding
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.wording.identity import identity_sentence, to_tell_sentence
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.character.family_fit import Whistle
    from jiyuu.character.identify import Candidate, Identified
    from jiyuu.measurement.notice import Notice
    from jiyuu.measurement.tone import MeasuredTone
    from jiyuu.rig.identity_run import IdentityRequest, IdentityRun, Swept, Whistled

SOFT_V, LOUD_V = 0.1, 2.0  # hardly bent by stages of a volt; bent by tenths of a decibel and more
SHOWN = 3  # candidates whose residual curves are kept
Level = Annotated[float, Field(gt=0, le=1000)]


class IdentitySetting(Setting):
    """Peaks of the sweeps, volts."""

    levels_v: Annotated[tuple[Level, ...], Field(min_length=1, max_length=6, title="Levels")] = (SOFT_V, LOUD_V)

    def with_level(self, level_v: float) -> IdentitySetting:
        """One more, where it is not among them."""
        return self.changed(levels_v=tuple(sorted({*self.levels_v, level_v})))


class Identity(Step[IdentitySetting, "IdentityRequest"]):
    """One press: sweeps at several levels, the whistle, and every circuit fitted to them."""

    number, key, name = 9, "comparison", "Which circuit"
    purpose = "which circuit a unit is, by what fits what it does"
    setting = IdentitySetting

    def refuse(self, standing: Standing, setting: IdentitySetting) -> str | None:
        if standing.self_oscillates:
            return ("At this resonance the filter oscillates by itself, and a sweep would measure the whistle: turn "
                    "resonance down first.")
        return None

    def request(self, standing: Standing, setting: IdentitySetting) -> IdentityRequest:
        from jiyuu.rig.identity_run import IdentityRequest

        return IdentityRequest(standing.panel, standing.mode, setting.levels_v)

    def run(
        self, standing: Standing, setting: IdentitySetting, request: IdentityRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.identity_run import run_identity

        for step in run_identity(request, rig):
            if isinstance(step, Progress):
                yield step
            else:
                yield Progress("Fitting every circuit", 0.85)
                yield made(standing, step)


IDENTITY = Identity()


def from_files(
    standing: Standing, pairs: Sequence[tuple[Path, Path]], whistle: Path | None = None, *, channel: str | None = None,
) -> Iterator[Progress | Run]:
    """pairs: a sweep and its recording, once for each level, each in whichever order. Raises JiyuuError where they are
    none."""
    from jiyuu.rig.files import read_pair, tell_apart
    from jiyuu.rig.identity_run import IdentityRun, swept_of

    swept = []
    names = []
    for i, (first, second) in enumerate(pairs):
        yield Progress(f"Measuring {second.name}", 0.05 + 0.6 * i / len(pairs))
        stimulus, recording = tell_apart(first, second)
        pair = read_pair(stimulus, recording, channel=channel)
        swept.append(swept_of(pair.stimulus_v, pair.recording_v, pair.sample_rate_hz,
                              *(() if pair.chosen is None else (pair.chosen,))))
        names.append(recording.name)
    heard = None if whistle is None else read_whistle(whistle, channel=channel)
    names += [] if whistle is None else [whistle.name]
    yield Progress("Fitting every circuit", 0.7)
    yield made(standing, IdentityRun(tuple(swept), heard)).taken_from(", ".join(names))


def read_whistle(path: Path, *, channel: str | None = None, full_scale_v: float = 10.0) -> Whistled:
    """A recorded self-oscillation, as Whistled. Raises JiyuuError where there is no tone in it."""
    from jiyuu.measurement.tone import measure_tone
    from jiyuu.rig.channels import channel_of
    from jiyuu.rig.identity_run import Whistled
    from jiyuu.signals.recordings import read_to_measure

    read = read_to_measure(path, full_scale_v=full_scale_v)
    heard, _ = channel_of(read, None, channel)
    return Whistled(heard, float(read.sample_rate_hz), measure_tone(heard, float(read.sample_rate_hz)))


def told_by(run: IdentityRun) -> Identified:
    """What was recorded, identified. Raises MeasurementError where too little of it stands above the noise."""
    from jiyuu.character.identify import identify
    from jiyuu.character.level_curves import LevelCurve

    if not run.swept:
        raise MeasurementError("There is no recording to identify; give a stimulus and its recording.")
    return identify([LevelCurve.of(one.response) for one in run.swept],
                    None if run.whistled is None else _whistle(run.whistled.tone))


def _whistle(tone: MeasuredTone) -> Whistle:
    from jiyuu.character.family_fit import Whistle

    return Whistle(tone.frequency_hz.value, tone.amplitude_peak_v, tone.thd_percent)


def made(standing: Standing, run: IdentityRun) -> Run:
    """A run with the verdict as its first finding, cutoff and loop gain where a circuit was named, what each candidate
    leaves as tables, everything recorded beside it."""
    found = told_by(run)
    best = found.candidates[0]
    findings = [Finding("identity_odds", 100 * best.odds, "%", context=_as_told(found))]
    if found.chosen is not None:
        for name, value, unit in (("identity_cutoff_hz", best.cutoff_hz, "Hz"),
                                  ("identity_loop_gain", best.loop_gain, "")):
            findings.append(Finding(name, value.value, unit, _known(value.uncertainty)))
    rising = sorted(run.swept, key=lambda one: one.response.level_v or 0.0)
    records: dict[str, tuple[FloatArray, float]] = {}
    for i, one in enumerate(rising):
        records |= {f"stimulus {i + 1}": (one.stimulus_v, one.sample_rate_hz),
                    f"recording {i + 1}": (one.recording_v, one.sample_rate_hz)}
    if run.whistled is not None:
        records["whistle"] = (run.whistled.recording_v, run.whistled.sample_rate_hz)
    levels = tuple(float(f"{one.response.level_v or 0.0:.4g}") for one in rising)
    facts = {"identity": identity_json(found, curves=False), "levels_v": list(levels),
             "warnings": notices_json(notices_of(rising))}
    return Run("comparison", standing, IdentitySetting(levels_v=levels), tuple(findings), _residuals(found), records,
               facts)


def _as_told(found: Identified) -> IdentifiedAs:
    best = found.candidates[0].family
    second = found.candidates[1].family.entry.title if len(found.candidates) > 1 else None
    return IdentifiedAs(
        best.entry.title, best.mode, second, found.candidates[0].odds, found.candidates[0].residual_db,
        found.chosen is not None, found.none_fits,
        tuple(f"{circuit} {mode}" for circuit, mode in best.alike))


def notices_of(swept: Sequence[Swept]) -> tuple[Notice, ...]:
    """Each once."""
    return tuple({str(one): one for sweep in swept for one in (*sweep.response.notices, *sweep.notices)}.values())


def _residuals(found: Identified) -> tuple[Table, ...]:
    """One a level, softest first: what each of the first candidates leaves of the curve, dB."""
    tables = []
    for i, (hertz, _) in enumerate(found.candidates[0].curves):
        columns = [("frequency_hz", "Hz", hertz)]
        columns += [(f"candidate_{j + 1}_db", "dB", one.curves[i][1])
                    for j, one in enumerate(found.candidates[:SHOWN])]
        tables.append(Table.of(f"residual {i + 1}", *columns, of_mode=False))
    return tuple(tables)


def _known(uncertainty: float) -> float | None:
    return uncertainty if uncertainty == uncertainty else None  # NaN: not looked for


# As JSON


def identity_json(found: Identified, *, curves: bool = True) -> dict[str, Any]:
    """Verdict, candidates, what would tell; curves: with what each leaves of every recording."""
    best = found.candidates[0]
    return {
        "verdict": None if found.chosen is None else best.family.entry.id,
        "mode": None if found.chosen is None else best.family.mode,
        "sentence": identity_sentence(_as_told(found)),
        "candidates": [_candidate_json(one, curves=curves) for one in found.candidates],
        "to_tell": [{"first": one.first, "second": one.second, "measurement": "response", "level_v": one.level_v,
                     "frequency_hz": one.hertz, "difference_db": one.difference_db,
                     "sentence": to_tell_sentence(one.first, one.second, one.level_v, one.hertz, one.difference_db)}
                    for one in found.to_tell],
    }


def _candidate_json(one: Candidate, *, curves: bool) -> dict[str, Any]:
    def stated(value: float, uncertainty: float) -> dict[str, float | None]:
        return {"value": value, "uncertainty": _known(uncertainty)}

    said = {
        "circuit": one.family.entry.id, "mode": one.family.mode,
        "alike": [{"circuit": circuit, "mode": mode} for circuit, mode in one.family.alike],
        "odds": one.odds, "cutoff_hz": stated(one.cutoff_hz.value, one.cutoff_hz.uncertainty),
        "loop_gain": stated(one.loop_gain.value, one.loop_gain.uncertainty), "level_db": one.level_db,
        "parameters": {name: stated(value.value, value.uncertainty) for name, value in one.parameters.items()},
        "residual_db": one.residual_db,
    }
    if curves:
        said["residuals"] = [{"frequency_hz": hertz.tolist(),
                              "residual_db": [None if x != x else x for x in left.tolist()]}
                             for hertz, left in one.curves]
    return said
