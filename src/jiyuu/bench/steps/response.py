"""Response: each mode swept; cutoffs, slope, peak, phase, polarity."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import numpy as np
from pydantic import Field

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.signals.recordings import FULL_SCALE_V
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.rig.response_run import ResponseRequest, ResponseRun
    from jiyuu.signals.table_layout import Layout

TABLE_PER_OCTAVE = 48
POLE_CENTS = 50.0  # what a well-trimmed build keeps
SILENT_INSTRUMENT_DB = 120.0  # an instrument that states no noise is taken at its word


class ResponseSetting(Setting):
    """What else is drawn beside the curves, and how much is measured."""

    curve_level_v: Annotated[float | None, asked("At level", unit="V", step=0.5, above=0, high=100,
                                                 tip="First harmonic at this drive, volts peak; 'off' for none.")
                             ] = None
    beside: Annotated[int | None, Field(title="Beside")] = None
    cutoff_named: Annotated[Literal["pole", "−3 dB", "peak", "oscillation"], Field(
        title="Cutoff shown as", description="Which of the four cutoffs the figure names: the pole the knob sets, the "
        "half-power point of data sheets, the peak the ear follows, or the pitch at which it would whistle.")] = "pole"
    every_mode: bool = False
    sweep_s: Annotated[float, asked("Sweep", unit="s", step=1, low=0.5, high=30, tip="How long each of the two sweeps "
                                    "lasts: a longer one is heard deeper under the noise, a short one is over sooner.")
                       ] = 5.0


class ResponseStep(Step[ResponseSetting, "ResponseRequest"]):
    """Small sweeps, so that the curve is that of the circuit and not of its saturation."""

    number, key, name = 2, "response", "Response"
    purpose = "slope, cutoff, polarity of every mode below self-oscillation"
    tip = "Plays two sweeps through the simulated unit and measures the recording."
    setting = ResponseSetting
    takes = 3.0
    depends_on = ("standing_hz", "resonance_percent", "path", "parameters", "control", "trims")

    def refuse(self, standing: Standing, setting: ResponseSetting) -> str | None:
        if standing.self_oscillates:
            return ("At this resonance the filter oscillates by itself, and a sweep would measure the whistle: turn "
                    "resonance down first.")
        return None

    def thorough(self, setting: ResponseSetting) -> ResponseSetting:
        return setting.changed(every_mode=True)

    def modes(self, standing: Standing, setting: ResponseSetting) -> tuple[str, ...]:
        others = tuple(mode for mode in standing.outputs if mode != standing.mode) if setting.every_mode else ()
        return (*others, standing.mode)

    def request(self, standing: Standing, setting: ResponseSetting) -> ResponseRequest:
        from jiyuu.rig.response_run import ResponseRequest

        return ResponseRequest(standing.panel, standing.network, standing.gain, self.modes(standing, setting),
                               sweep_s=setting.sweep_s)

    def run(
        self, standing: Standing, setting: ResponseSetting, request: ResponseRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.response_run import run_response

        for step in run_response(request, rig):
            yield step if isinstance(step, Progress) else made(standing, setting, step)


def made(standing: Standing, setting: Setting, run: ResponseRun) -> Run:
    """A measured mode with its findings, judged where a tolerance is known."""
    from jiyuu.measurement.findings import response_findings

    found = list(response_findings(run.response, run.read, cutoff_hz=standing.standing_hz))
    if run.fit is not None:
        found.insert(1, Finding("pole_hz", run.fit.pole_hz.value, "Hz", run.fit.pole_hz.uncertainty,
                                pole_tolerance(standing.standing_hz)))
    response, every = run.response, slice(None, None, 4)
    table = Table.of(
        "response", ("frequency_hz", "Hz", response.frequency_hz[every]),
        ("magnitude_db", "dB", response.level_db[every]), ("phase_deg", "°", response.phase_deg[every]),
        ("uncertainty_db", "dB", response.level_uncertainty_db[every]), ("snr_db", "dB", response.snr_db[every]),
    )
    records = {"stimulus": (run.stimulus_v, run.sample_rate_hz), "recording": (run.recording_v, run.sample_rate_hz)}
    facts = {"kind": run.read.reading.kind.value, "level_v": run.level_v, "warnings": notices_json(run.read.notices)}
    return Run("response", replace(standing, mode=run.mode), setting, tuple(found), (table,), records, facts)


def pole_tolerance(cutoff_hz: float) -> Tolerance:
    span = 2 ** (POLE_CENTS / 1200)
    return Tolerance(round(cutoff_hz / span, 1), round(cutoff_hz * span, 1))


def from_files(
    standing: Standing, setting: Setting, first: Path, second: Path, *, interface: Path | None = None,
    channel: str | None = None, full_scale_v: float = FULL_SCALE_V,
) -> Iterator[Progress | Run]:
    """A stimulus and its recording, in whichever order they were given. interface: the stimulus recorded without the
    unit, divided out; channel: left or right, told by the stimulus when not given. Raises JiyuuError where they are no
    pair."""
    from jiyuu.rig.files import read_pair, tell_apart
    from jiyuu.rig.response_run import ResponseRequest, evaluate

    yield Progress("Reading the files", 0.1)
    stimulus, recording = tell_apart(first, second)
    pair = read_pair(stimulus, recording, channel=channel, full_scale_v=full_scale_v)
    alone = None if interface is None else read_pair(stimulus, interface, full_scale_v=full_scale_v)
    yield Progress("Measuring", 0.3)
    request = ResponseRequest(standing.panel, standing.network, standing.gain, (standing.mode,))
    found = evaluate(request, standing.mode, pair.stimulus_v, pair.recording_v, pair.sample_rate_hz,
                     interface_v=None if alone is None else alone.recording_v)
    late, began_s = found.response.latency_s, pair.begins_s - (0.0 if alone is None else alone.begins_s)
    found = replace(found, read=replace(found.read, notices=pair.of_whole(found.read.notices)), response=replace(
        found.response, latency_s=replace(late, value=late.value + began_s)))
    without = "" if interface is None else f", less {interface.name}"
    yield made(standing, setting, found).taken_from(f"{stimulus.name}, {recording.name}{pair.which}{without}")


def from_table(standing: Standing, setting: Setting, path: Path, layout: Layout | None = None) -> Run:
    """Another instrument's curve, read as layout says or as it seems to be written. Raises JiyuuError where the file is
    no curve."""
    from jiyuu.measurement.curve_reading import read_curve
    from jiyuu.measurement.findings import READ_FROM_CURVE
    from jiyuu.signals.response_table import on_even_grid, read_response_table

    curve = on_even_grid(read_response_table(path, layout), per_octave=TABLE_PER_OCTAVE)
    doubt = np.zeros(curve.level_db.size) if curve.uncertainty_db is None else curve.uncertainty_db
    reading = read_curve(curve.frequency_hz, curve.level_db, level_uncertainty_db=doubt)
    findings = tuple(Finding(name, value, unit) for name, unit in READ_FROM_CURVE
                     if (value := getattr(reading, name)) is not None)
    phase = np.zeros(doubt.size) if curve.phase_deg is None else np.rad2deg(np.unwrap(np.deg2rad(curve.phase_deg)))
    table = Table.of(
        "response", ("frequency_hz", "Hz", curve.frequency_hz), ("magnitude_db", "dB", curve.level_db),
        ("phase_deg", "°", phase), ("uncertainty_db", "dB", doubt),
        ("snr_db", "dB", np.full(doubt.size, SILENT_INSTRUMENT_DB)),
    )
    return Run("response", standing, setting, findings, (table,), facts={"kind": reading.kind.value},
               source=path.name)


STEP = ResponseStep()
