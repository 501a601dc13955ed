"""Which filter fits a wish: every circuit and mode, at the cutoff, loop gain and compensation that come nearest to what
is asked, built of preferred parts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cache
from itertools import combinations

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.character.builds import Yield, yield_of
from jiyuu.character.families import Family, shapes
from jiyuu.character.subject import Subject
from jiyuu.character.wish import MORE, OF_CURVE, Wish, Wishes, values_of
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.components import Components, preferred, usual_components
from jiyuu.circuits.components import cutoff_hz as cutoff_of
from jiyuu.circuits.filter_file import Filter
from jiyuu.stopping import checkpoint

TABLE_HZ = 1000.0
SHARES = np.concatenate([np.linspace(0.0, 0.9, 13), [0.93, 0.96, 0.98, 0.99, 0.995]])  # of the onset
COMPENSATIONS = (0.0, 0.5, 1.0)
CLOSER_LOOKS = 8  # families at most
HOPELESS = 30.0  # a rough cost that far over the least, and a wish's own, is not looked at
TRIES = 60  # of one look
MISSED = 30.0  # tolerances, that a quantity counts as off by where a filter has none of it
PROPOSED = 5
LOOKS_OF_TWO = 3  # families that two wishes alone are tried with
LEAST_A, MOST_A = 2e-6, 4e-4  # control current that a capacitor is chosen for
HEADROOM_OVER = 1.05  # of the control's end over the onset and over the gain wanted


@dataclass(frozen=True, slots=True, eq=False)
class Proposal:
    """A filter that meets every wish as drawn. predicted: the wished quantities; worst: the largest part of a
    tolerance that one of them is off by; components as a filter file holds them."""

    subject: Subject
    predicted: dict[str, float]
    worst: float
    cost: float
    components: Components
    built: Yield


@dataclass(frozen=True, slots=True)
class Fight:
    """Two wishes (or one alone) that no circuit meets together: how far off the nearest is, in tolerances, and
    which."""

    first: str
    second: str | None
    off: float
    circuit: str
    mode: str


@dataclass(frozen=True, slots=True, eq=False)
class Designed:
    """Proposals, best yield first; fight: why there is none."""

    proposals: tuple[Proposal, ...]
    fight: Fight | None


def design(wishes: Wishes) -> Designed:
    """Everything; see design_steps."""
    *_, last = design_steps(wishes)
    return last


def design_steps(wishes: Wishes) -> Iterator[Designed]:
    """Yields what is found as it grows."""
    names = tuple(wish.quantity for wish in wishes.wishes)
    rough = sorted(_table_costs(wishes.wishes), key=lambda one: one[0])
    found: list[Proposal] = []
    nearest: list[tuple[float, Subject]] = []
    seen: set[Group] = set()
    least = rough[0][0]
    for rough_cost, group, start in rough:
        if group in seen:
            continue
        if len(seen) >= CLOSER_LOOKS or len(found) >= PROPOSED or rough_cost > HOPELESS * (least + len(names)):
            break
        checkpoint()
        seen.add(group)
        # What is one filter as long as nothing bends is looked for once, and built alike.
        subject, values = _closer(group[0], start, wishes.wishes)
        cost, worst = _cost(values, wishes.wishes)
        nearest.append((worst, subject))
        if worst > 1:
            continue
        built = yield_of(subject, wishes.wishes, wishes.parts.capacitor_percent)
        for family in group:
            own = _as_built(_subject(family, subject.cutoff_hz, subject.gain,
                                     subject.filter.parameters.get("compensation", 0.0)), wishes.parts.series)
            assert own.filter.components is not None
            again = dict(zip(names, values_of(own, names).tolist(), strict=True))
            found.append(Proposal(own, again, worst, cost, own.filter.components, built))
        found.sort(key=lambda one: (-round(one.built.value, 2), one.cost))
        yield Designed(tuple(found[:PROPOSED]), None)
    yield Designed(tuple(found[:PROPOSED]), None if found else _fight(wishes.wishes, nearest))


def _subject(family: Family, cutoff_hz: float, gain: float, compensation: float) -> Subject:
    parameters = {"compensation": compensation} if compensation else {}
    document = Filter(name=f"{family.entry.title}, {family.mode}", circuit=family.entry.id, mode=family.mode,
                      parameters=parameters, cutoff_hz=cutoff_hz)
    return Subject(document, family.mode, cutoff_hz, gain)


def _compensates(family: Family) -> bool:
    return any(free.name == "compensation" for free in family.free)


Group = tuple[Family, ...]


@cache
def _table(family: Family) -> FloatArray:
    """(s, q) all quantities of a response at SHARES of the onset and TABLE_HZ, not compensated."""
    rows = [_subject(family, TABLE_HZ, float(share) * family.onset_gain, 0.0) for share in SHARES]
    return np.stack([values_of(row, OF_CURVE, roughly=True) for row in rows])


def _table_costs(wishes: Sequence[Wish]) -> list[tuple[float, Group, tuple[float, float, float]]]:
    """(cost, families, (cutoff, share, compensation)) of every row, its cutoff where the wishes in hertz want it."""
    bends = any(wish.quantity == "grit" for wish in wishes)
    groups: list[Group] = [(family,) for shape in shapes() for family in shape] if bends else [*shapes()]
    asked = [wish for wish in wishes if wish.quantity in OF_CURVE]
    places = [OF_CURVE.index(wish.quantity) for wish in asked]
    hertz = [i for i, wish in enumerate(asked) if wish.quantity.endswith("_hz")]
    passband = OF_CURVE.index("passband_db")
    found = []
    for shape in shapes():
        table = _table(shape[0])
        members = [group for group in groups if group[0] in shape]
        for share, row in zip(SHARES, table, strict=True):
            for compensation in COMPENSATIONS if _compensates(shape[0]) else (0.0,):
                raised = row.copy()
                # Compensation is level alone: the input grows with the loop gain.
                raised[passband] += 20 * np.log10(1 + compensation * share * shape[0].onset_gain)
                values = raised[places]
                cutoff_hz = _cutoff_for(asked, hertz, values)
                values[hertz] *= cutoff_hz / TABLE_HZ
                cost = _cost(values, asked)[0]
                found += [(cost, group, (cutoff_hz, float(share), compensation)) for group in members
                          if not compensation or _compensates(group[0])]
    return found


def _cutoff_for(asked: Sequence[Wish], hertz: Sequence[int], values: FloatArray) -> float:
    """Where the poles must stand for the wishes in hertz, the surest most."""
    known = [i for i in hertz if np.isfinite(values[i])]
    if not known:
        return TABLE_HZ
    weights = np.array([asked[i].weight * (asked[i].target / asked[i].tolerance) ** 2 for i in known])
    wanted = np.array([np.log2(asked[i].target / values[i]) for i in known])
    octaves = float(np.sum(weights * wanted) / np.sum(weights))
    return float(np.clip(TABLE_HZ * 2.0**octaves, CUTOFF_MINIMUM_HZ, CUTOFF_MAXIMUM_HZ))


def _cost(values: FloatArray, wishes: Sequence[Wish]) -> tuple[float, float]:
    """(weighted sum of squares, the largest) of what values are off by, in tolerances."""
    off = np.array([(value - wish.target) / wish.tolerance for value, wish in zip(values, wishes, strict=True)])
    off = np.nan_to_num(off, nan=MISSED)
    return float(np.sum([wish.weight for wish in wishes] * off**2)), float(np.abs(off).max(initial=0.0))


def _closer(family: Family, start: tuple[float, float, float], wishes: Sequence[Wish]) -> tuple[Subject, FloatArray]:
    """The simplex search (Nelder and Mead 1965, Computer Journal) from a row of the table."""
    names = tuple(wish.quantity for wish in wishes)
    free = _compensates(family) and any(wish.quantity in ("passband_db", *MORE) for wish in wishes)

    def at(x: FloatArray) -> Subject:
        cutoff_hz = float(np.clip(start[0] * 2.0 ** x[0], CUTOFF_MINIMUM_HZ, CUTOFF_MAXIMUM_HZ))
        share = float(np.clip(x[1], 0.0, 0.9995))
        return _subject(family, cutoff_hz, share * family.onset_gain,
                        float(np.clip(x[2], 0.0, 1.0)) if free else start[2])

    def cost(x: FloatArray) -> float:
        checkpoint()
        outside = max(0.0, -x[1], x[1] - 0.9995) + (max(0.0, -x[2], x[2] - 1.0) if free else 0.0)
        return _cost(values_of(at(x), names), wishes)[0] + 1e3 * outside

    begun = np.array([0.0, start[1], *((start[2],) if free else ())])
    step = np.array([0.03, 0.03, *((0.1,) if free else ())])
    step[1] = min(step[1], 0.7 * (1 - begun[1])) if begun[1] < 0.97 else -0.02
    simplex = np.vstack([begun, *(begun + step * unit for unit in np.eye(begun.size))])
    found = scipy.optimize.minimize(cost, begun, method="Nelder-Mead",
                     options={"initial_simplex": simplex, "maxfev": TRIES, "xatol": 1e-4, "fatol": 1e-4})
    subject = at(found.x)
    return subject, values_of(subject, names)


def _as_built(subject: Subject, series: str) -> Subject:
    """With components: capacitors and resistors of the series, the current trimmed to the cutoff."""
    entry = subject.filter.entry
    headroom = entry.values(subject.filter.parameters).get("stage_headroom_v", 1.0)
    usual = usual_components(entry.id, headroom, subject.cutoff_hz)
    capacitor = usual.capacitor_f
    while usual.current_a * capacitor / usual.capacitor_f > MOST_A:
        capacitor /= 10
    while usual.current_a * capacitor / usual.capacitor_f < LEAST_A:
        capacitor *= 10
    capacitor = preferred(capacitor, series)
    end = HEADROOM_OVER * max(subject.gain, entry.onset_gain or 0.0, 0.1)
    loop_ohm = preferred(usual.loop_ohm, series)
    resonance_ohm = preferred(loop_ohm / end, series)
    while loop_ohm / resonance_ohm < end / HEADROOM_OVER * 1.001:
        resonance_ohm = preferred(resonance_ohm / 1.09, series) if series != "E96" else preferred(
            resonance_ohm / 1.02, series)
        if series == "E6":
            resonance_ohm = preferred(resonance_ohm / 1.3, series)
    bare = usual.model_copy(update={"capacitor_f": capacitor, "loop_ohm": loop_ohm, "resonance_ohm": resonance_ohm})
    components = bare.model_copy(update={
        "current_a": bare.current_a * subject.cutoff_hz / cutoff_of(entry.id, bare)})
    full = loop_ohm / resonance_ohm
    document = Filter(
        name=subject.filter.name, circuit=entry.id, mode=subject.mode, parameters=subject.filter.parameters,
        cutoff_hz=cutoff_of(entry.id, components), resonance_percent=100 * subject.gain / full, components=components)
    return replace(subject, filter=document)


def _fight(wishes: Sequence[Wish], nearest: Sequence[tuple[float, Subject]]) -> Fight:
    """The two wishes that come least near together; one alone where it cannot be met."""

    def off(*some: Wish) -> tuple[float, Subject]:
        best: list[tuple[float, Subject]] = []
        seen: set[Group] = set()
        for _, group, start in sorted(_table_costs(some), key=lambda one: one[0]):
            if group not in seen:
                seen.add(group)
                subject, values = _closer(group[0], start, some)
                best.append((_cost(values, some)[1], subject))
            if len(seen) >= LOOKS_OF_TWO or best[-1][0] <= 1:
                break
        return min(best, key=lambda one: one[0])

    for wish in wishes:
        far, subject = off(wish)
        if far > 1:
            return Fight(wish.quantity, None, far, subject.filter.circuit, subject.mode)
    pairs = list(combinations(wishes, 2))
    if not pairs:
        far, subject = min(nearest, key=lambda one: one[0])
        return Fight(wishes[0].quantity, None, far, subject.filter.circuit, subject.mode)
    worst = [(*off(*pair), pair) for pair in pairs]
    far, subject, (first, second) = max(worst, key=lambda one: one[0])
    return Fight(first.quantity, second.quantity, far, subject.filter.circuit, subject.mode)
