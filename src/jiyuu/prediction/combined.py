"""What several filters make together: every part by itself, the whole, both sides; what stands out of it; which bands
of a bank a melody wakes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import level_db
from jiyuu.measurement.contexts_moving import BandEdges, LoopRings, NotchAt, PartOfIt, SidesApart, VowelNear
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.vowel import nearest_vowel
from jiyuu.patch.between_stages import Comb
from jiyuu.patch.document import LEFT, RIGHT, AnyStage, Chord, Gain, Pair, Parallel, Stereo, stages_in
from jiyuu.patch.editing import Path, Place, stage_at
from jiyuu.patch.linear_stages import LN_1000, AllPass, Bank, Formants
from jiyuu.patch.lowering import splits
from jiyuu.patch.response import judged_group, path_gain
from jiyuu.patch.shapes import Shapes
from jiyuu.signals.source import Source

COMBINED_HZ = np.asarray(20.0 * 2.0 ** (np.arange(10 * 48 + 1) / 48))
DOWN_DB = 3.0103  # half the power
NOTCH_DB = 6.0  # that a dip lies under both its shoulders to be called a notch
APART_DB = 0.5  # that sides differ by to be worth a word
WOKEN_DB = -24.0  # of a band re the loudest one that a note wakes
MOST_BANDS = 12  # drawn one by one
MOST_TEETH = 400  # of a comb, that are drawn each
BY_KIND = {"low_shelf": "low shelf", "peak": "peak", "high_shelf": "high shelf"}


@dataclass(frozen=True, slots=True, eq=False)
class Piece:
    """One of the parts: its name and gain (n,) V/V; apart: from a source of its own, so that it adds to the others by
    its power."""

    name: str
    gain: ComplexArray
    apart: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Combined:
    """Over hertz (n,): parts, the whole (left, where sides differ; of branches with sources of their own as if they
    played the same spectrum), the right side or None."""

    hertz: FloatArray
    parts: tuple[Piece, ...]
    whole: ComplexArray
    right: ComplexArray | None

    @property
    def difference_db(self) -> FloatArray | None:
        """Left over right."""
        return None if self.right is None else level_db(self.whole) - level_db(self.right)


def combined(path: Path, place: Place | None, *, names: tuple[str, ...] = ()) -> Combined:
    """The stage at a place, or all of the path where None; names: of the stages of the path, for its parts. Raises
    CircuitError where it cannot be played."""
    stages, octaves = (path, 0.0) if place is None else ((stage_at(path, place),), _octaves_at(path, place))
    side, hertz = _side_at(path, place), grid_of(stages, octaves)
    whole = _whole(stages, hertz, side, octaves)
    right = _whole(stages, hertz, RIGHT, octaves) if splits(stages) else None
    heard = [(i, stage) for i, stage in enumerate(stages) if not stage.off and not isinstance(stage, Gain)]
    if len(heard) == 1:
        parts = tuple(_parts(heard[0][1], side, octaves, hertz))
    else:
        parts = tuple(Piece(names[i] if i < len(names) else stage.stage, _whole((stage,), hertz, side, 0.0))
                      for i, stage in heard)
    return Combined(hertz, parts if len(parts) > 1 else (), whole, right)


def _whole(stages: Sequence[AnyStage], hertz: FloatArray, side: str, octaves: float) -> ComplexArray:
    """What comes out of some stages in a row. Sources apart from each other know nothing of each other's phase."""
    if not any(isinstance(stage, Parallel) and not stage.off and any(limb.sources for limb in stage.branches)
               for stage in stages):
        return path_gain(stages, hertz, side=side, octaves=octaves)
    gain = np.ones(hertz.size, dtype=complex)
    for stage in stages:
        own = path_gain((stage,), hertz, side=side, octaves=octaves)
        power = np.abs(own) ** 2
        for part in _parts(stage, side, octaves, hertz) if isinstance(stage, Parallel) and not stage.off else ():
            power += np.abs(part.gain) ** 2 if part.apart else 0.0
        gain *= np.sqrt(power) * np.exp(1j * np.angle(own))
    return gain


def grid_of(stages: Sequence[AnyStage], octaves: float = 0.0) -> FloatArray:
    """(n,) hertz: COMBINED_HZ, and every tooth of a comb with the gap beside it, so that none is cut off."""
    teeth = [COMBINED_HZ]
    for stage in stages_in(stages):
        notes: tuple[float, ...] = (stage.frequency_hz,) if isinstance(stage, Comb) else ()
        for note in stage.notes_hz() if isinstance(stage, Chord) else notes:
            half = 0.5 * note * 2.0**octaves
            teeth.append(half * np.arange(1, min(int(COMBINED_HZ[-1] / half), MOST_TEETH) + 1))
    return np.unique(np.concatenate(teeth))


def _octaves_at(path: Path, place: Place) -> float:
    """By which stereo stages round a place move its cutoffs."""
    total = 0.0
    for depth in range(1, len(place), 2):
        holder = stage_at(path, place[:depth])
        if isinstance(holder, Stereo):
            total += (-0.5, 0.5)[place[depth]] * holder.spacing_octaves
    return total


def _side_at(path: Path, place: Place | None) -> str:
    if place is not None:
        for depth in range(1, len(place), 2):
            if isinstance(stage_at(path, place[:depth]), Stereo) and place[depth] == 1:
                return RIGHT
    return LEFT


def _parts(stage: AnyStage, side: str, octaves: float, hertz: FloatArray) -> Iterator[Piece]:
    """What a stage is put together from."""
    def of(*inner: AnyStage) -> ComplexArray:
        return path_gain(inner, hertz, side=side, octaves=octaves)

    if isinstance(stage, Parallel):
        for k, limb in enumerate(stage.branches):
            name = limb.path[0].id or f"branch {k + 1}" if limb.path else "dry"
            yield Piece(name, np.asarray(limb.factor(side) * of(*limb.path)), apart=bool(limb.sources))
    elif isinstance(stage, Pair):
        inner = stage.path()
        both = [one for one in (*inner, *(limb.path[0] for one in inner if isinstance(one, Parallel)
                                          for limb in one.branches)) if not isinstance(one, Parallel | Stereo)]
        for name, one in zip(("first", "second"), both, strict=False):
            yield Piece(name, of(one))
    elif isinstance(stage, Formants):
        for k, section in enumerate(stage.sections(), start=1):
            yield Piece(f"F{k}", section.gain(hertz / 2.0**octaves))
    elif isinstance(stage, Shapes):
        for setting in stage.settings if stage.ways else ():  # what it stands between
            yield Piece(setting.name, of(stage.model_copy(update={
                "bands": setting.bands, "trim_db": setting.trim_db, "morph": None, "morph_2": None, "morph_3": None})))
        for band in () if stage.ways else stage.bands:
            yield Piece(f"{BY_KIND[band.kind]} {band.frequency_hz:.0f}",
                        band.section().gain(hertz / 2.0**octaves))
    elif isinstance(stage, Chord):
        for note, limb in zip(stage.notes_hz(), stage.path()[0].branches, strict=True):
            yield Piece(f"{note:.0f}", np.asarray(limb.factor(side) * of(*limb.path)))
    elif isinstance(stage, Comb):
        yield Piece("dry", np.full(hertz.size, 1 - stage.mix, dtype=np.complex128))
        yield Piece("comb", stage.mix * of(stage.model_copy(update={"mix": 1.0})))
    elif isinstance(stage, AllPass):
        yield Piece("dry", np.full(hertz.size, 1 - stage.mix, dtype=np.complex128))
        yield Piece("all-passed", stage.mix * of(stage.model_copy(update={"mix": 1.0})))
    elif isinstance(stage, Bank):
        yield from _bands(stage, octaves, hertz)


def _bands(bank: Bank, octaves: float, hertz: FloatArray) -> Iterator[Piece]:
    """Every band of a small bank, every group of a large one."""
    for k, group in enumerate(bank.groups):
        factor = group.polarity * 10 ** (group.level_db / 20)
        members = [(section, factor * weight * section.gain(hertz / 2.0**octaves))
                   for section, weight in bank.members(k)]
        if bank.bands <= MOST_BANDS:
            yield from (Piece(f"{section.frequency_hz:.0f}", np.asarray(gain)) for section, gain in members)
        elif members:
            back = group.feedback * group.polarity
            total = np.sum([gain for _, gain in members], axis=0)
            yield Piece(f"group {k + 1}", np.asarray(total / (1 - back * total / factor)))


def findings_of(found: Combined, path: Path, place: Place | None) -> list[Finding]:
    """Edges and width of a band, notches, how far the sides are apart, what each branch adds, the nearest vowel, loops
    that would ring."""
    whole_db = level_db(found.whole)
    stage = None if place is None else stage_at(path, place)
    findings: list[Finding] = []
    if not isinstance(stage, Bank | Formants):
        findings += _band(found.hertz, whole_db) + _notches(found.hertz, whole_db)
    findings += _sides(found)
    if isinstance(stage, Parallel):
        findings += _adds(found)
    vowel = nearest_vowel(found.hertz, whole_db)
    if vowel is not None and (isinstance(stage, Formants) or vowel.semitones < 1.0):
        findings.append(Finding("vowel_semitones", vowel.semitones, "semitones", measured=False,
                                context=VowelNear(vowel.vowel, vowel.formants_hz)))
    if isinstance(stage, Bank):
        findings += _rings(stage)
    return findings


def _band(hertz: FloatArray, whole_db: FloatArray) -> list[Finding]:
    """A band that falls off by 3 dB to both sides of its peak."""
    top = int(np.argmax(whole_db))
    under = whole_db < whole_db[top] - DOWN_DB
    left, right = np.flatnonzero(under[:top]), np.flatnonzero(under[top:])
    if not left.size or not right.size:
        return []
    if not (under[: left[-1] + 1].all() and under[top + right[0] :].all()):
        return []  # more than one band
    low = _crossing(hertz, whole_db, int(left[-1]), whole_db[top] - DOWN_DB)
    high = _crossing(hertz, whole_db, top + int(right[0]) - 1, whole_db[top] - DOWN_DB)
    return [Finding("band_width_octaves", float(np.log2(high / low)), "octaves", measured=False,
                    context=BandEdges(low, high, float(hertz[top])))]


def _crossing(hertz: FloatArray, level: FloatArray, at: int, wanted: float) -> float:
    share = (wanted - level[at]) / (level[at + 1] - level[at])
    octaves = np.log2(hertz[[at, at + 1]])
    return float(2 ** (octaves[0] + share * (octaves[1] - octaves[0])))


def _notches(hertz: FloatArray, whole_db: FloatArray) -> list[Finding]:
    """Dips that both shoulders stand well over, deepest first, three at most."""
    found = []
    inner = np.arange(1, whole_db.size - 1)
    for i in inner[(whole_db[inner] < whole_db[inner - 1]) & (whole_db[inner] <= whole_db[inner + 1])]:
        deeper = np.flatnonzero(whole_db < whole_db[i])
        left = deeper[deeper < i].max(initial=-1) + 1
        right = deeper[deeper > i].min(initial=whole_db.size)
        depth = min(whole_db[left : i + 1].max(), whole_db[i:right].max()) - whole_db[i]
        if depth >= NOTCH_DB:
            found.append((float(depth), i))
    deepest = sorted(found, reverse=True)[:3]
    return [Finding("meeting_notch_db", depth, "dB", measured=False, context=NotchAt(float(hertz[i])))
            for depth, i in sorted(deepest, key=lambda one: one[1])]


def _sides(found: Combined) -> list[Finding]:
    apart = found.difference_db
    if apart is None:
        return []
    at = int(np.argmax(np.abs(apart)))
    if abs(apart[at]) < APART_DB:
        return []
    louder = LEFT if apart[at] > 0 else RIGHT
    return [Finding("sides_apart_db", float(abs(apart[at])), "dB", measured=False,
                    context=SidesApart(float(found.hertz[at]), louder))]


def _adds(found: Combined) -> list[Finding]:
    """What pink noise gains in level by each branch."""
    pink = np.gradient(np.log(found.hertz))
    total = float(np.average(np.abs(found.whole) ** 2, weights=pink))
    findings = []
    for part in found.parts:
        power = np.abs(found.whole) ** 2 - np.abs(part.gain) ** 2 if part.apart else np.abs(
            found.whole - part.gain) ** 2
        without = float(np.average(power, weights=pink))
        if without > 1e-12 * total:
            findings.append(Finding("part_adds_db", 10 * float(np.log10(total / without)), "dB", measured=False,
                                    context=PartOfIt(part.name)))
    return findings


def _rings(bank: Bank) -> list[Finding]:
    findings = []
    for k, group in enumerate(bank.groups):
        loop = judged_group(bank, k)
        if loop is not None and loop.amount_to_ring is not None and loop.rings_at_hz is not None:
            findings.append(Finding("loop_rings_from", loop.amount_to_ring, "", measured=False,
                                    context=LoopRings(f"group {k + 1}", loop.rings_at_hz, group.feedback)))
    return findings


@dataclass(frozen=True, slots=True)
class Woken:
    """A band that a note wakes: which note (from 0) at note_hz, which band (from 0) at band_hz, its level in dB re 1 V
    peak, how long it rings (T60, s)."""

    note: int
    note_hz: float
    band: int
    band_hz: float
    level_db: float
    ring_s: float


def woken_by(bank: Bank, notes_hz: tuple[float, ...], source: Source) -> list[Woken]:
    """For every note, the bands that its harmonics wake to within 24 dB of the loudest."""
    bands = sorted(((i, section, weight * 10 ** (bank.groups[k].level_db / 20))
                    for k in range(len(bank.groups)) for i, (section, weight) in zip(
                        range(k, bank.bands, len(bank.groups)), bank.members(k), strict=True)), key=lambda one: one[0])
    found: list[Woken] = []
    for n, hertz in enumerate(notes_hz):
        lines_hz, amplitude = Source(source.kind, hertz, source.level_v, source.width).lines()
        levels = [20 * np.log10(max(float(np.max(amplitude * np.abs(weight * section.gain(lines_hz)))), 1e-12))
                  for _, section, weight in bands]
        loudest = max(levels)
        for (i, section, _), level in zip(bands, levels, strict=True):
            if level >= loudest + WOKEN_DB:
                ring_s = LN_1000 / (section.a[0] * np.pi * section.frequency_hz)
                found.append(Woken(n, hertz, i, section.frequency_hz, float(level), float(ring_s)))
    return found

