"""'jiyuu drive', 'stimulus drive' and 'measure drive': how a filter, a patch or a unit bends."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from jiyuu.cli.options import (
    Channel,
    Cutoff,
    DriveDb,
    FilterArgument,
    FullScale,
    Json,
    Mode,
    PatchSettings,
    Resonance,
    ResonanceGain,
    Set,
    choose,
    notice,
    print_json,
    say_notices,
    typed,
    uncertain,
)
from jiyuu.cli.tracking import parse_volts
from jiyuu.cli.waiting import in_view
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.patch.file_kind import is_patch
from jiyuu.quantities import parse_frequency

if TYPE_CHECKING:
    from jiyuu.arrays import FloatArray
    from jiyuu.circuits.network import Network
    from jiyuu.measurement.uncertain import Uncertain
    from jiyuu.patch.document import Patch
    from jiyuu.prediction.drive import DriveLadder
    from jiyuu.signals.two_tones import TwoTones

LEVELS = "-40:30:2"
Frequency = Annotated[str | None, typer.Option("--frequency", help="Of the tone; an eighth of the cutoff when not "
                                               "given, at least 40 Hz.")]
Levels = Annotated[str, typer.Option("--levels", help="dB re 1 V peak, rising: from:to:step, or a list.")]
TwoTone = Annotated[str | None, typer.Option("--two-tone", metavar="F1,F2", help="Products of two tones, each at "
                                             "--level-v.")]
PairLevel = Annotated[str | None, typer.Option("--level-v", help="Peak volts of each of two tones; 1 when not given.")]
PlayedFrequency = Annotated[str, typer.Option("--frequency", help="Of the tone: 100, 1k2, A2.")]


def levels_of(text: str) -> FloatArray:
    """(l,) peak volts. Raises CircuitError for what is no rising ladder."""
    import numpy as np

    try:
        found = np.array(parse_volts(text))
    except JiyuuError as error:
        raise CircuitError(f"--levels '{text}' is no ladder; give for example {LEVELS} (dB re 1 V).") from error
    if not found.size or found.size > 200 or (np.diff(found) <= 0).any() or np.abs(found).max() > 80:
        raise CircuitError(f"--levels '{text}' is out of range; give up to 200 rising levels from -80 to 80 dB re 1 V.")
    return np.asarray(10 ** (found / 20))


def played_pair(two_tone: str | None, level_v: str | None) -> TwoTones | None:
    """As the options ask. Raises CircuitError for a level of two tones without them."""
    if two_tone is None:
        if level_v is not None:
            raise CircuitError("--level-v is that of two tones; give --two-tone F1,F2 with it. The levels of the one "
                               "tone are given by --levels.")
        return None
    return pair_of(two_tone, typed(level_v or "1", "--level-v", "V", 1e-4, 1000))


def pair_of(text: str, level_v: float) -> TwoTones:
    """Raises CircuitError for what is not two frequencies, SignalError for two that cannot be told apart."""
    from jiyuu.signals.two_tones import TwoTones

    low, comma, high = text.partition(",")
    if not comma:
        raise CircuitError(f"--two-tone '{text}' is not F1,F2; give for example 900,970.")
    return TwoTones(parse_frequency(low), parse_frequency(high), level_v)


def drive(
    filter: FilterArgument,
    frequency: Frequency = None,
    levels: Levels = LEVELS,
    level_v: Annotated[str, typer.Option("--level-v", help="Peak volts at which the stages are compared.")] = "1",
    two_tone: TwoTone = None,
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    json: Json = False,
) -> None:
    """Drive: gain and harmonics over a ladder of levels, from where it bends, what bends first, what rings on."""
    from jiyuu.cli.ringing import is_several_networks, ring_of, say_ring
    from jiyuu.prediction.drive import branch_shares, drive_ladder, two_tones_products, usual_frequency_hz
    from jiyuu.prediction.driven_ring import rings

    asked = PatchSettings(mode, cutoff, resonance_gain, resonance, drive_db, tuple(set or ()))
    at_v = typed(level_v, "--level-v", "V", 1e-4, 1000)
    ladder_v, tone_hz = levels_of(levels), None if frequency is None else parse_frequency(frequency)
    patch = _mono_patch(filter, asked)
    ring = [] if patch is None or not rings(patch.path) else ring_of(patch, ladder_v, tone_hz)
    if ring and patch is not None and is_several_networks(patch):
        notice("A tone settles in a circuit, and this patch is several, one behind the other: of its levels only the "
               "ring is told. Take out what rings to have them all.")
        if json:
            print_json({"ring": [asdict(one) for one in ring]})
        else:
            say_ring(ring)
        return
    network, output, cutoff_hz, gain, first_hz = _driven(filter, patch, asked)
    hertz = usual_frequency_hz(first_hz) if tone_hz is None else tone_hz
    ladder = drive_ladder(network, output, cutoff_hz=cutoff_hz, gain=gain, frequency_hz=hertz, levels_v=ladder_v)
    shares = branch_shares(network, output, cutoff_hz=cutoff_hz, gain=gain, frequency_hz=hertz, level_v=at_v)
    result = {"frequency_hz": hertz, **_ladder_json(ladder),
              "stages": [{"branch": one.branch, "share_percent": one.share_percent} for one in shares.shares],
              "stages_remainder_percent": shares.remainder_percent}
    if ring:
        result["ring"] = [asdict(one) for one in ring]
    restless = sum(not level.settled for level in ladder.levels)
    if restless:
        notice(f"{restless} of {len(ladder.levels)} levels did not settle: the filter adds tones of its own there.")
    if two_tone is not None:
        found = two_tones_products(network, output, pair_of(two_tone, at_v), cutoff_hz=cutoff_hz, gain=gain)
        result |= {"difference_2_percent": found.second_percent.value,
                   "difference_3_percent": found.third_percent.value}
    if json:
        print_json(result)
        return
    for level in ladder.levels:
        typer.echo(f"{level.input_peak_v:9.4g} V in, {level.fundamental_peak_v:9.4g} V out, {level.gain_db:+7.2f} dB, "
                   f"THD {level.thd_percent:7.4g} %")
    for name, value in (("1 dB compression", ladder.compression_1db_v), ("1 % THD", ladder.thd_1_percent_v),
                        ("3 % THD", ladder.lamp_v)):
        typer.echo(f"{name}: {'not reached' if value is None else f'{value:.4g} V peak'}")
    typer.echo(f"At {at_v:g} V: " + ", ".join(f"{one.branch} {one.share_percent:.0f} %" for one in shares.shares)
               + f"; together {shares.remainder_percent:.0f} %")
    say_ring(ring)
    if two_tone is not None:
        typer.echo(f"Two tones at {at_v:g} V each: products of second order {result['difference_2_percent']:.4g} %, of "
                   f"third {result['difference_3_percent']:.4g} %")


def _mono_patch(name: str, asked: PatchSettings) -> Patch | None:
    """As asked; None where the name is no patch. Raises CircuitError for one of two sides."""
    if not is_patch(name):
        return None
    from jiyuu.cli.patches import chosen_patch
    from jiyuu.patch.lowering import is_stereo

    patch, _ = chosen_patch(name, asked)
    if is_stereo(patch):
        raise CircuitError(f"{name} is stereo; drive is for one side: take the stereo stage out.")
    return patch


def _driven(name: str, patch: Patch | None, asked: PatchSettings) -> tuple[Network, str, float, float, float]:
    """(network, output, its cutoff and gain, the first filter's cutoff) of a filter or of a mono patch."""
    from jiyuu.circuits.compose import scaled, series, wire

    if patch is not None:
        from jiyuu.patch.document import FilterStage, stages_in
        from jiyuu.patch.lowering import UNIT_HZ, network_of

        first = next((stage for stage in stages_in(patch.path) if isinstance(stage, FilterStage)), None)
        return network_of(patch), "out", UNIT_HZ, 0.0, UNIT_HZ if first is None else first.document.cutoff_hz
    standing = choose(name, mode=asked.mode, cutoff=asked.cutoff, resonance_gain=asked.resonance_gain,
                      resonance=asked.resonance, drive_db=asked.drive_db, settings=asked.settings).standing
    network = standing.network if standing.drive == 1 else series(scaled(wire(), standing.drive), "out",
                                                                  standing.network)
    return network, standing.mode, standing.cutoff_hz, standing.gain, standing.cutoff_hz


def _ladder_json(ladder: DriveLadder) -> dict[str, object]:
    return {
        "levels": [{
            "input_peak_v": level.input_peak_v, "fundamental_peak_v": level.fundamental_peak_v,
            "output_peak_v": level.output_peak_v, "gain_db": level.gain_db, "thd_percent": level.thd_percent,
            "even_percent": level.even_percent, "odd_percent": level.odd_percent,
            "harmonics_db": [float(f"{db:.9g}") for db in level.harmonics_db],
        } for level in ladder.levels],
        "compression_1db_v": ladder.compression_1db_v, "thd_1_percent_v": ladder.thd_1_percent_v,
        "thd_3_percent_v": ladder.lamp_v,
    }


def stimulus_drive(
    out: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    frequency: PlayedFrequency = "100",
    levels: Levels = LEVELS,
    two_tone: TwoTone = None,
    level_v: PairLevel = None,
    rate: Annotated[int, typer.Option("--rate", help="Sample rate, Hz.")] = 48_000,
    full_scale_v: FullScale = 10.0,
) -> None:
    """A tone at rising levels with gaps between, two tones behind them where asked, for 'measure drive'."""
    from jiyuu.errors import SignalError
    from jiyuu.signals.drive_steps import DriveSteps
    from jiyuu.signals.recordings import HIGHEST_RATE_HZ, LOWEST_RATE_HZ, write_recording

    if not LOWEST_RATE_HZ <= rate <= HIGHEST_RATE_HZ:
        raise SignalError(f"--rate {rate} is out of range; give {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz.")
    volts = levels_of(levels)
    pair = played_pair(two_tone, level_v)
    steps = DriveSteps(parse_frequency(frequency), tuple(volts.tolist()), pair=pair)
    write_recording(out, steps.record_v(rate), rate, full_scale_v=full_scale_v)
    if steps.highest_v > full_scale_v:
        notice(f"jiyuu: the loudest level, {steps.highest_v:.3g} V, lies past full scale, {full_scale_v:g} V: an "
               "interface clips it; state the volts that yours plays with --full-scale-v, or give lower --levels.")
    notice(f"{out}: {steps.duration_s:.1f} s; keep the level low at first, it grows to "
           f"{steps.highest_v:.3g} V peak.")


def measure_drive_of(
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    frequency: PlayedFrequency = "100",
    levels: Levels = LEVELS,
    two_tone: TwoTone = None,
    level_v: PairLevel = None,
    channel: Channel = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Gain, harmonics and the levels from which a unit bends, from a recording of what 'stimulus drive' wrote."""
    from jiyuu.measurement.drive import measure_drive
    from jiyuu.rig.channels import channel_of
    from jiyuu.rig.files import read_where
    from jiyuu.signals.drive_steps import DriveSteps
    from jiyuu.wording.notices import notices_json

    pair = played_pair(two_tone, level_v)
    steps = DriveSteps(parse_frequency(frequency), tuple(levels_of(levels).tolist()), pair=pair)
    read, begins_s, told = read_where(recording, steps.record_v, full_scale_v=full_scale_v)
    if told:
        notice(told)
    heard, chosen = channel_of(read, None, channel)
    with in_view("Measuring"):
        found = measure_drive(heard, float(read.sample_rate_hz), steps, full_scale_v=full_scale_v)
    later = (one if one.at_s is None else replace(one, at_s=one.at_s + begins_s) for one in found.notices)
    notices = (*(() if chosen is None else (chosen,)), *later)

    def stated(value: Uncertain | None) -> dict[str, float | None] | None:
        return None if value is None else uncertain(value.value, value.uncertainty)

    if found.why_no_products:
        notice(found.why_no_products)
    two = found.products
    products = (("difference_2_percent", None if two is None else two.second_percent),
                ("difference_3_percent", None if two is None else two.third_percent))
    if json:
        print_json({
            "frequency_hz": found.frequency_hz,
            "levels": [{
                "input_peak_v": level.input_peak_v,
                **{name: stated(getattr(level, name)) for name in (
                    "fundamental_peak_v", "output_peak_v", "gain_db", "thd_percent", "even_percent", "odd_percent",
                    "thd_n_percent")},
                "harmonics_db": [stated(one) for one in level.harmonics_db],
            } for level in found.levels],
            **{key: stated(value) for key, value in (
                ("compression_1db_v", found.compression_1db_v), ("thd_1_percent_v", found.thd_1_percent_v),
                ("thd_3_percent_v", found.lamp_v))},
            **({} if pair is None else {key: stated(value) for key, value in products}),
            "warnings": notices_json(notices),
        })
        return
    say_notices(notices)
    for level in found.levels:
        gain, thd = level.gain_db, level.thd_percent
        typer.echo(f"{level.input_peak_v:9.4g} V in: {gain.value:+7.2f} ± {gain.uncertainty:.2g} dB, "
                   f"THD {thd.value:.4g} ± {thd.uncertainty:.2g} %")
    for name, value in (("1 dB compression", found.compression_1db_v), ("1 % THD", found.thd_1_percent_v),
                        ("3 % THD", found.lamp_v)):
        said = "not reached" if value is None else f"{value.value:.4g} ± {value.uncertainty:.2g} V peak"
        typer.echo(f"{name}: {said}")
    for (_, value), order in zip(products, ("second", "third"), strict=True):
        if value is not None:
            typer.echo(f"Two tones, products of {order} order: {value.value:.4g} ± {value.uncertainty:.2g} %")
