"""Modulation: what moves, between which bounds, and what becomes of it: struck, stepped, played."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from pydantic import Field, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.errors import JiyuuError
from jiyuu.field_words import asked
from jiyuu.progress import Progress
from jiyuu.quantities import parse_scale, volts_between
from jiyuu.rig.protocol import Rig
from jiyuu.signals.recordings import FULL_SCALE_V
from jiyuu.wording.modulation import QUANTITIES
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.measurement.uncertain import Uncertain
    from jiyuu.rig.modulation_run import ModulationRequest, ModulationRun, MovedCutoff

RING_LOOK_S, RING_SHOWN_DB = 0.001, 66.0
BEFORE_NEXT_S = 0.005  # the next pulse is heard a little before what is known of its beginning
MOST_NOTES = 48
LONE_HZ = 440.0  # any will do where only the words are checked
RINGS = 0.03  # of a pole's size, from which its imaginary part makes a ring that has a pitch


class ModulationSetting(Setting):
    """How much is looked at, where, and with what it is struck."""

    seconds: Annotated[float, asked("Length", unit="s", step=0.5, low=0.5, high=16,
                                    tip="How much of what moves is shown and played.")] = 4.0
    moment_s: Annotated[float, asked("Moment", unit="s", step=0.05, low=0, high=16,
                                     tip="The moment at which the response is looked at.")] = 0.5
    pulse_ms: Annotated[float, asked("Pulse", unit="ms", step=0.5, low=0.05, high=50,
                                     tip="Length of the pulse that strikes it.")] = 1.0
    strike_v: Annotated[float, asked("Strike", unit="V", step=0.5, low=-10, high=10,
                                     tip="Volts of that pulse.")] = 1.0
    scale: Annotated[str, Field(max_length=2000, title="Struck on", description="Notes that it is struck on too, by "
                                "its volts per octave, to tune it as percussion: names, hertz, ratios and cents over "
                                "the first (its ring as it stands where there is no other). Enter; empty for none.")
                     ] = ""

    @model_validator(mode="after")
    def _is_a_scale(self) -> ModulationSetting:
        self.notes_hz(LONE_HZ)
        return self

    def notes_hz(self, ring_hz: float) -> tuple[float, ...]:
        """Raises ValueError for notes that are no scale."""
        try:
            found = tuple(parse_scale(self.scale, one_hz=ring_hz)) if self.scale.strip() else ()
        except JiyuuError as error:
            raise ValueError(str(error).rstrip(".")) from error
        if len(found) > MOST_NOTES:
            raise ValueError(f"{len(found)} notes are more than {MOST_NOTES}; type fewer")
        return found


class ModulationStep(Step[ModulationSetting, "ModulationRequest"]):
    """What moves is part of the filter as it stands; here it is set, looked at and measured."""

    number, key, name = 7, "modulation", "Modulation"
    purpose = "what moves the cutoff and how far, how it rings when struck, how it follows a step"
    tip = "Strikes the simulated unit where it stands, and steps its whistle: ring, settling, overshoot, feedthrough."
    setting = ModulationSetting
    quantities = QUANTITIES
    hears_all = True
    takes = 4.0
    depends_on = ("standing_hz", "resonance_percent", "path", "parameters", "control", "trims", "setting.pulse_ms",
                  "setting.strike_v")

    def refuse(self, standing: Standing, setting: ModulationSetting) -> str | None:
        if standing.self_oscillates and not self._can_whistle(standing):
            return "It oscillates by itself and cannot be struck; turn resonance down."
        if setting.scale.strip() and not standing.self_oscillates and _ring_hz(standing) is None:
            return ("At this resonance its ring has no pitch, so it cannot be struck on a scale; raise resonance, or "
                    "empty 'Struck on'.")
        return None

    @staticmethod
    def _can_whistle(standing: Standing) -> bool:
        return standing.onset is not None and standing.onset.gain < 0.97 * standing.full_gain

    def request(self, standing: Standing, setting: ModulationSetting) -> ModulationRequest:
        from jiyuu.rig.modulation_run import ModulationRequest

        ring_hz = _ring_hz(standing) or standing.standing_hz
        notes_hz = setting.notes_hz(ring_hz)
        return ModulationRequest(
            standing.panel, standing.mode, setting.pulse_ms / 1000, setting.strike_v or 1.0,
            not standing.self_oscillates, self._can_whistle(standing), notes_hz,
            tuple(volts_between(ring_hz, note_hz) for note_hz in notes_hz), self._moved(standing))

    @staticmethod
    def _moved(standing: Standing) -> MovedCutoff | None:
        """What moves the cutoff within hearing, and under which tone; None where nothing does, or there is none."""
        from jiyuu.bench.audio_rate import moved_within_hearing, pitches_of
        from jiyuu.rig.modulation_run import MovedCutoff

        moved, pitches = moved_within_hearing(standing), pitches_of(standing)
        return MovedCutoff(*moved, pitches[0]) if moved is not None and pitches else None

    def run(
        self, standing: Standing, setting: ModulationSetting, request: ModulationRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.modulation_run import run_modulation

        for step in run_modulation(request, rig):
            yield step if isinstance(step, Progress) else made(standing, setting, step, request.pulse_s,
                                                               request.level_v)

    def predict(self, standing: Standing, setting: ModulationSetting) -> Iterator[object]:
        from jiyuu.bench.patched import patch_of
        from jiyuu.prediction.moving import moves_of, spectrogram_of

        patch = patch_of(standing, standing.document.name)
        yield moves_of(patch, setting.seconds)
        yield spectrogram_of(patch, setting.seconds)


def _ring_hz(standing: Standing) -> float | None:
    """Where the drawing rings; None where it only settles."""
    import numpy as np

    from jiyuu.circuits.linear import poles

    found = poles(standing.network, cutoff_hz=standing.standing_hz, gain=standing.gain)
    pairs = found[np.abs(found.imag) > RINGS * np.abs(found)]
    return float(abs(pairs[np.argmin(np.abs(pairs.real))].imag)) / (2 * np.pi) if pairs.size else None


def made(
    standing: Standing, setting: ModulationSetting, run: ModulationRun, pulse_s: float, level_v: float
) -> Run:
    """What was struck and stepped, with its findings."""
    from jiyuu.measurement.contexts_moving import Struck
    from jiyuu.measurement.modulation_findings import ping_findings, settling_findings
    from jiyuu.measurement.sideband_lines import sideband_finding
    from jiyuu.measurement.struck_scale import scale_finding

    struck = Struck(float(f"{1000 * pulse_s:.4g}"), float(f"{level_v:.4g}"), standing.resonance_percent)
    findings = [] if run.pings is None else ping_findings(run.pings.pings, struck)
    findings += [] if run.scale is None else [scale_finding(run.scale)]
    if run.lines is not None and (moved := STEP.request(standing, setting).moved) is not None:
        findings.append(sideband_finding(run.lines, tone_hz=moved.tone_hz, rate_hz=moved.rate_hz,
                                         octaves=moved.octaves))
    findings += [] if run.steps is None else settling_findings(run.steps)
    return Run(
        "modulation", standing, setting, tuple(findings), _tables(run),
        {name: (record, run.sample_rate_hz) for name, record in run.records.items()},
        {"warnings": notices_json(run.notices), **({"not_told": list(run.not_told)} if run.not_told else {})})


def from_files(
    standing: Standing, setting: ModulationSetting, first: Path, second: Path, *, channel: str | None = None,
    full_scale_v: float = FULL_SCALE_V,
) -> Iterator[Progress | Run]:
    """Pulses and what rang behind them, in whichever order the files were given; what was played is read from the file
    that was. channel: left or right, told by the stimulus when not given. Raises JiyuuError where they are no pair."""
    from jiyuu.measurement.ping import measure_pings
    from jiyuu.rig.files import read_pair, tell_apart
    from jiyuu.rig.modulation_run import ModulationRun
    from jiyuu.signals.pings import pings_in

    yield Progress("Reading the files", 0.1)
    stimulus, recording = tell_apart(first, second)
    pair = read_pair(stimulus, recording, channel=channel, full_scale_v=full_scale_v)
    pings = pings_in(pair.stimulus_v, pair.sample_rate_hz)
    yield Progress("Measuring how it rings", 0.3)
    found = measure_pings(pair.recording_v, pair.sample_rate_hz, pings, full_scale_v=full_scale_v)
    run = ModulationRun({"stimulus": pair.stimulus_v, "pings": pair.recording_v}, pair.sample_rate_hz, found, None,
                        pair.of_whole(found.notices))
    yield made(standing, setting, run, pings.length_s, pings.level_v).taken_from(
        f"{stimulus.name}, {recording.name}{pair.which}")


def from_recording(
    standing: Standing, setting: ModulationSetting, path: Path, *, channel: str | None = None,
    full_scale_v: float = FULL_SCALE_V,
) -> Iterator[Progress | Run]:
    """A whistle whose control was stepped by hand. Raises JiyuuError where no two pitches follow each other."""
    from jiyuu.measurement.settling import measure_settling
    from jiyuu.rig.channels import channel_of
    from jiyuu.rig.modulation_run import ModulationRun
    from jiyuu.signals.recordings import read_to_measure

    yield Progress("Measuring how it settles", 0.2)
    read = read_to_measure(path, full_scale_v=full_scale_v)
    record_v, chosen = channel_of(read, None, channel)
    rate = float(read.sample_rate_hz)
    run = ModulationRun({"steps": record_v}, rate, None, measure_settling(record_v, rate),
                        () if chosen is None else (chosen,))
    yield made(standing, setting, run, setting.pulse_ms / 1000, setting.strike_v).taken_from(path.name)


def _tables(found: ModulationRun) -> tuple[Table, ...]:
    """Pings and steps, a row each."""
    import numpy as np

    tables = []
    if found.pings is not None:
        pings = found.pings.pings

        def column(name: str) -> FloatArray:
            return np.array([np.nan if getattr(ping, name) is None else getattr(ping, name).value for ping in pings])

        tables.append(Table.of(
            "pings", ("at_s", "s", np.array([ping.at_s for ping in pings])), ("frequency_hz", "Hz",
                                                                              column("frequency_hz")),
            ("t60_s", "s", column("t60_s")), ("q", "", column("q")), ("first_peak_v", "V", column("first_peak_v"))))
        ends_s = pings[1].at_s if len(pings) > 1 else None
        tables += _ring(found.records["pings"], found.sample_rate_hz, pings[0].at_s, ends_s)
    if found.scale is not None:
        notes = found.scale.notes

        def of(values: Iterable[Uncertain | float | None]) -> FloatArray:
            return np.array([np.nan if one is None else one if isinstance(one, float) else one.value for one in values])

        tables.append(Table.of(
            "struck", ("note_hz", "Hz", of(note.note_hz for note in notes)),
            ("ring_hz", "Hz", of(note.ring_hz for note in notes)),
            ("off_cents", "cents", of(note.off_cents for note in notes)),
            ("uncertainty_cents", "cents", of(None if note.off_cents is None else note.off_cents.uncertainty
                                              for note in notes)),
            ("left_cents", "cents", of(note.left_cents for note in notes)),
            ("t60_s", "s", of(ping.t60_s for ping in found.on_notes))))
    if found.lines is not None:
        lines = found.lines
        tables.append(Table.of(
            "sidebands", ("order", "", lines.order), ("frequency_hz", "Hz", lines.frequency_hz),
            ("level_db", "dB", lines.level_db), ("uncertainty_db", "dB", lines.uncertainty_db)))
    if found.steps:
        tables.append(Table.of("settling", *(
            (name, unit, np.array([getattr(step, name) for step in found.steps])) for name, unit in (
                ("at_s", "s"), ("from_hz", "Hz"), ("to_hz", "Hz"), ("settling_s", "s"), ("resolution_s", "s"),
                ("overshoot_cents", "cents"), ("feedthrough_v", "V")))))
    return tuple(tables)


def _ring(record_v: FloatArray, rate_hz: float, begin_s: float, end_s: float | None) -> list[Table]:
    """How the first ring dies away until the next begins at end_s: the largest of every millisecond, re the largest of
    all."""
    import numpy as np

    first = round(begin_s * rate_hz)
    last = record_v.size if end_s is None else round((end_s - BEFORE_NEXT_S) * rate_hz)
    piece, own = record_v[first:last] - np.median(record_v[first:last]), max(round(RING_LOOK_S * rate_hz), 1)
    looks = piece[: piece.size // own * own].reshape(-1, own)
    peaks = np.abs(looks).max(axis=1, initial=0.0)
    if not peaks.max(initial=0.0) > 0:
        return []
    level_db = 20 * np.log10(np.maximum(peaks / peaks.max(), 1e-6))
    heard = int(np.flatnonzero(level_db > -RING_SHOWN_DB)[-1]) + 1
    return [Table.of("ring", ("time_s", "s", (np.arange(heard) + 0.5) * own / rate_hz), ("level_db", "dB",
                                                                                       level_db[:heard]))]


STEP = ModulationStep()
