"""'jiyuu character' and 'jiyuu compare': what filters are like, how they differ and why."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from jiyuu.cli.books import compare_measured
from jiyuu.cli.options import (
    Cutoff,
    DriveDb,
    FilterArgument,
    Json,
    Mode,
    Resonance,
    ResonanceGain,
    Set,
    at_control,
    choose,
    notice,
    print_json,
    typed,
)
from jiyuu.cli.waiting import in_view
from jiyuu.errors import CircuitError
from jiyuu.quantities import parse_frequency

if TYPE_CHECKING:
    from jiyuu.bench.standing import Standing
    from jiyuu.character.comparison import Compared, Comparison
    from jiyuu.character.descriptors import Descriptor
    from jiyuu.character.subject import Subject
    from jiyuu.character.why import Why
    from jiyuu.signals.source import Source

MEASURED_WITH = ("saw", "square", "pulse", "triangle", "sine", "chord")
SHORT = {"noise": "white noise", "white": "white noise", "pink": "pink noise"}
SourceOption = Annotated[str, typer.Option("--source", help="saw, square, pulse, triangle, sine, chord, white, pink.")]
PitchOption = Annotated[str, typer.Option("--pitch", help="Of the source: 110, 1k2, A2.")]
LevelOption = Annotated[str, typer.Option("--level-v", help="Of the source, volts peak.")]


def source_of(kind: str, pitch: str, level_v: str) -> Source:
    """Raises CircuitError for a kind that a character cannot be judged by."""
    from jiyuu.character.sound import STEADY
    from jiyuu.signals.source import Source, SourceKind

    name = SHORT.get(kind, kind)
    if name not in {str(one) for one in STEADY}:
        raise CircuitError(f"--source '{kind}' does not stand still or is not known; give one of: saw, square, pulse, "
                           "triangle, sine, chord, white, pink.")
    hertz = parse_frequency(pitch)
    if not 20 <= hertz <= 10_000:
        raise CircuitError(f"--pitch {hertz:g} Hz is out of range; give 20 Hz to 10 kHz.")
    return Source(SourceKind(name), hertz, typed(level_v, "--level-v", "V", 1e-3, 100))


def subject_of(
    name: str, *, mode: str | None, cutoff: str | None, resonance_gain: float | None, resonance: str | None,
    drive_db: str, settings: list[str] | None,
) -> Subject:
    """A filter of the command line as it is judged."""
    from dataclasses import replace

    from jiyuu.character.subject import Subject

    standing = choose(name, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance,
                      drive_db=drive_db, settings=settings).standing
    document = replace(standing, loop_gain=None).filter
    return Subject(document, standing.mode, standing.standing_hz, standing.gain, standing.drive)


def character(
    filter: FilterArgument,
    source: SourceOption = "saw",
    pitch: PitchOption = "110",
    level_v: LevelOption = "5",
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    seed: Annotated[int | None, typer.Option("--seed", help="Measure this build of the filter on the simulated rig, "
                                             "instead of asking its drawing.")] = None,
    json: Json = False,
) -> None:
    """Character: what a filter is like to listen to, as numbers with the least difference that is noticed."""
    from jiyuu.character.descriptors import describe
    from jiyuu.wording.character import descriptor_sentence

    subject = subject_of(filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance,
                         drive_db=drive_db, settings=set)
    played = source_of(source, pitch, level_v)
    if seed is None:
        with in_view("Listening to the drawing"):
            found = list(describe(subject, played).values())
    else:
        standing = choose(filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance,
                          drive_db=drive_db, settings=set).standing
        with in_view("Measuring"):
            found = _measured(standing, played, seed)
    if json:
        print_json({
            "measured": seed is not None, "cutoff_hz": subject.cutoff_hz, "loop_gain": subject.gain,
            "mode": subject.mode, "source": str(played.kind), "pitch_hz": played.pitch_hz,
            "level_v": played.level_v,
            "descriptors": [_descriptor_json(one) for one in found],
        })
        return
    for one in found:
        typer.echo(f"{one.scale.title:22} {_shown(one):>22}   "
                   f"{descriptor_sentence(one.scale.name, one.value, one.why_none)}")


def _measured(standing: Standing, source: Source, seed: int) -> list[Descriptor]:
    """On the simulated rig; the scales that a drawing is described on. Raises CircuitError for a source or a build
    that cannot be."""
    from jiyuu.bench.steps.comparison import STEP, ComparisonSetting, known_character
    from jiyuu.bench.walk import measured
    from jiyuu.character.scales import SCALES
    from jiyuu.progress import Progress
    from jiyuu.rig.simulated import SimulatedRig

    if not 0 <= seed < 2**63:
        raise CircuitError(f"--seed {seed} is out of range; give 0 or more.")
    if str(source.kind) not in MEASURED_WITH:
        raise CircuitError(f"A unit is measured with one of: {', '.join(MEASURED_WITH)}; give one of them as --source.")
    setting = ComparisonSetting.model_validate(
        {"source": str(source.kind), "pitch_hz": source.pitch_hz, "level_v": source.level_v})
    at_panel = at_control(standing)
    for run in measured(STEP, at_panel, setting, SimulatedRig(at_panel.filter, seed=seed)):
        if not isinstance(run, Progress):
            known = known_character(list(run.findings), dict(run.facts["why_none"]))
            return [known[scale.name] for scale in SCALES]
    raise CircuitError("Nothing was measured; give another --seed.")


def _shown(one: Descriptor) -> str:
    return "–" if one.value is None else f"{one.value:.4g} ± {one.uncertainty or 0:.1g} {one.scale.unit}"


def _descriptor_json(one: Descriptor) -> dict[str, object]:
    from jiyuu.wording.character import descriptor_sentence

    return {
        "name": one.scale.name, "value": one.value, "unit": one.scale.unit, "uncertainty": one.uncertainty,
        "jnd": one.jnd, "jnd_source": one.scale.noticed.source,
        "sentence": descriptor_sentence(one.scale.name, one.value, one.why_none),
    }


def compare(
    filters: Annotated[list[str], typer.Argument(metavar="A B …", help="Catalogue ids, *.filter.json, *.patch.json; "
                                                 "with --book letters of its shelf.")],
    book: Annotated[Path | None, typer.Option("--book", help="Compare what was measured, from the runs of a book.")
                    ] = None,
    same: Annotated[str, typer.Option("--same", help="Same cutoff by: pole, 3db, peak, pitch; knob leaves each as it "
                                      "is set.")] = "pole",
    loudness: Annotated[str, typer.Option("--loudness", help="equal, or as-is.")] = "equal",
    why: Annotated[bool, typer.Option("--why", help="What of each difference comes from which cause.")] = False,
    source: SourceOption = "saw",
    pitch: PitchOption = "110",
    level_v: LevelOption = "5",
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    json: Json = False,
) -> None:
    """Comparison: every quantity of two or more filters, whether they differ, whether that is heard, and why."""
    from jiyuu.character.comparison import Same
    from jiyuu.character.comparison import compare as compared

    if same not in {str(one) for one in Same}:
        raise CircuitError(f"--same '{same}' is not known; give pole, 3db, peak, pitch or knob.")
    if loudness not in ("equal", "as-is"):
        raise CircuitError(f"--loudness '{loudness}' is not known; give equal or as-is.")
    if len(filters) < 2:
        raise CircuitError("a comparison takes at least two filters; give another.")
    if book is not None:
        compare_measured(book, filters, json=json)
        return
    if why and len(filters) != 2:
        raise CircuitError(f"--why is about two filters, and there are {len(filters)}; give two.")
    subjects = [subject_of(name, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance,
                           drive_db=drive_db, settings=set) for name in filters]
    played = source_of(source, pitch, level_v)
    with in_view("Comparing"):
        found = compared(subjects, played, same=Same(same), equal_loudness=loudness == "equal")
    reasons = None if not why else _why(found, played)
    if json:
        print_json(_comparison_json(subjects, found, filters, reasons))
        return
    _say(found, filters, reasons)


def _why(found: Comparison, played: Source) -> Why:
    from jiyuu.character.why import why as asked

    names = [one.scale.name for one in found.quantities if one.difference]
    first, second = found.subjects
    return asked(first, second, played, same=found.same, equal_loudness=found.equal_loudness, names=names)


def _comparison_json(
    subjects: list[Subject], found: Comparison, names: list[str], reasons: Why | None
) -> dict[str, object]:
    from jiyuu.character.comparison import cutoffs_by

    result: dict[str, object] = {
        "filters": names, "same": str(found.same), "loudness": "equal" if found.equal_loudness else "as-is",
        "cutoff_hz": [one.cutoff_hz for one in found.subjects],
        # What the knobs would stand at under each definition.
        "cutoffs_by": {str(same): None if places is None else [*places]
                       for same, places in cutoffs_by(subjects).items()},
        "quantities": [_compared_json(one) for one in found.quantities],
    }
    if reasons is not None:
        unit = {one.scale.name: one.scale.unit for one in found.quantities}
        result["why"] = [{"quantity": one.quantity, "cause": str(one.cause), "share": one.share, "alone": one.alone,
                          "unit": unit[one.quantity]} for one in reasons.shares]
        result["explained"] = reasons.explained
        result["orders"] = reasons.orders
        result["unexplained"] = [{"quantity": name, "sentence": reason} for name, reason in reasons.left_out]
    return result


def _compared_json(one: Compared) -> dict[str, object]:
    from jiyuu.wording.character import difference_sentence

    return {
        "name": one.scale.name, "unit": one.scale.unit, "values": [each.value for each in one.values],
        "uncertainties": [each.uncertainty for each in one.values], "difference": one.difference,
        "differences": [*one.differences], "jnd": one.jnd, "jnd_source": one.scale.noticed.source,
        "verdict": str(one.verdict),
        "sentence": difference_sentence(one.scale.name, one.scale.unit, one.difference, one.jnd, str(one.verdict),
                                        ("A", "B")),
    }


def _say(found: Comparison, names: list[str], reasons: Why | None) -> None:
    from jiyuu.wording.character import why_sentence

    for letter, name, subject in zip("ABCDEFGHIJKLMNOPQRSTUVWXYZ", names, found.subjects, strict=False):
        typer.echo(f"{letter}: {name}, poles at {subject.cutoff_hz:.1f} Hz, loop gain {subject.gain:.4g}")
    for one in found.quantities:
        values = "  ".join("–" if each.value is None else f"{each.value:10.4g}" for each in one.values)
        said = _compared_json(one)["sentence"]
        typer.echo(f"{one.scale.title:24} {values} {one.scale.unit:8} {said}")
        if reasons is not None and one.scale.name in {share.quantity for share in reasons.shares}:
            shares = {str(cause): share for cause, share in reasons.of(one.scale.name).items()}
            typer.echo(f"{'':24} {why_sentence(one.scale.unit, shares)}")
    if reasons is not None:
        for name, reason in reasons.left_out:
            notice(f"{name}: {reason}, so its difference is not shared out.")
