"""Why two filters differ: what each cause adds to a difference, shared out over all orders in which the causes can be
changed one after the other (Shapley 1953, Contributions to the Theory of Games). The shares add up to the whole."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import permutations
from math import factorial

import numpy as np

from jiyuu.character.comparison import Same, brought_to, place_hz
from jiyuu.character.descriptors import describe
from jiyuu.character.scales import SCALE
from jiyuu.character.sound import Listening
from jiyuu.character.subject import Subject
from jiyuu.circuits.control import taper_share
from jiyuu.errors import CircuitError
from jiyuu.progress import Progress
from jiyuu.signals.source import Source
from jiyuu.stopping import side_by_side

EXACTLY = 6  # causes, up to which all orders are walked
ORDERS, SEED = 60, 7  # walked where there are more
NOTHING = 1e-9  # relative: a difference that is none


class Cause(StrEnum):
    """What a filter can differ by. POLE_PLACEMENT: the knob where it is left as set, ratios of capacitors, coupling;
    LOOP_GAIN: position and full gain; SOURCE_LEVEL: what is ahead of the filter."""

    CIRCUIT_FAMILY = "circuit_family"
    POLE_PLACEMENT = "pole_placement"
    LOOP_GAIN = "loop_gain"
    COMPENSATION = "compensation"
    HEADROOMS = "headrooms"
    MISMATCH = "mismatch"
    TAPER = "taper"
    SOURCE_LEVEL = "source_level"


def cause_of(parameter: str) -> Cause:
    """The cause that a circuit's parameter belongs to."""
    if parameter.endswith("_headroom_v"):
        return Cause.HEADROOMS
    if parameter.endswith("_mismatch_percent"):
        return Cause.MISMATCH
    if parameter == "compensation":
        return Cause.COMPENSATION
    if parameter == "input_gain":
        return Cause.SOURCE_LEVEL
    if parameter.startswith("capacitor_ratio") or parameter in ("feedback_coupling_hz", "spacing_octaves", "open_hz"):
        return Cause.POLE_PLACEMENT
    return Cause.CIRCUIT_FAMILY


@dataclass(frozen=True, slots=True)
class Share:
    """What a cause adds to the difference of a quantity, in its unit; alone: what it changes when it alone is moved."""

    quantity: str
    cause: Cause
    share: float
    alone: float


@dataclass(frozen=True, slots=True)
class Why:
    """shares of every quantity that could be shared out; explained: the least part of a difference that its shares add
    up to; left_out: quantities that could not, with the reason; orders: walked, None for all of them."""

    shares: tuple[Share, ...]
    explained: float
    left_out: tuple[tuple[str, str], ...]
    orders: int | None

    def of(self, quantity: str) -> dict[Cause, float]:
        return {one.cause: one.share for one in self.shares if one.quantity == quantity}


@dataclass(frozen=True)
class _Pair:
    """Two filters and everything between them."""

    first: Subject
    second: Subject
    same: Same
    goal_hz: float

    def causes(self) -> list[Cause]:
        """In which they differ."""
        return [cause for cause in Cause if self._of(self.first, cause) != self._of(self.second, cause)]

    def _of(self, subject: Subject, cause: Cause) -> object:
        own = subject.filter
        values = {name: value for name, value in own.entry.values(own.parameters).items() if cause_of(name) is cause}
        match cause:
            case Cause.CIRCUIT_FAMILY:
                path = [getattr(own, name, None) for name in ("path", "in_hand", "side", "tied")]
                return own.circuit, subject.mode, values, path
            case Cause.POLE_PLACEMENT:
                return values, subject.cutoff_hz if self.same is Same.KNOB else None
            case Cause.LOOP_GAIN:
                return _position(subject)
            case Cause.TAPER:
                return own.resonance_taper if _by_control(subject) else None
            case Cause.SOURCE_LEVEL:
                return values, subject.drive
        # A parameter that one of the circuits does not have belongs to the circuit.
        shared = {name for one in (self.first, self.second) for name in one.filter.entry.values({})}
        for one in (self.first, self.second):
            shared &= {*one.filter.entry.values({})}
        return {name: value for name, value in values.items() if name in shared}

    def between(self, taken: frozenset[Cause]) -> Subject:
        """The first filter with some causes taken from the second. Raises CircuitError where that cannot be brought to
        the same cutoff."""

        def owner(cause: Cause) -> Subject:
            return self.second if cause in taken else self.first

        base = owner(Cause.CIRCUIT_FAMILY)
        parameters = dict(base.filter.entry.values(base.filter.parameters))
        for name in parameters:
            giver = owner(cause_of(name)).filter
            parameters[name] = giver.entry.values(giver.parameters).get(name, parameters[name])
        taper = owner(Cause.TAPER).filter.resonance_taper
        position, by_control = _position(owner(Cause.LOOP_GAIN)), _by_control(owner(Cause.LOOP_GAIN))
        # Gains of two circuits are alike where they are alike near to whistling: the usual control ends there.
        gain = position[1] * base.filter.entry.full_gain
        if by_control:
            gain *= float(taper_share(position[0] / 100, taper))
        document = base.filter.model_copy(update={
            "parameters": parameters, "resonance_taper": taper, "resonance_percent": position[0],
            "full_gain": None if not by_control else position[1] * base.filter.entry.full_gain})
        hybrid = Subject(document, base.mode, owner(Cause.POLE_PLACEMENT).cutoff_hz, gain,
                         owner(Cause.SOURCE_LEVEL).drive)
        try:
            return brought_to(hybrid, self.goal_hz, self.same)
        except CircuitError as error:
            raise CircuitError(f"On the way from the first filter to the second: {error}") from error


def _by_control(subject: Subject) -> bool:
    """Whether its loop gain follows from its control, not from a number that was given."""
    return bool(np.isclose(subject.filter.gain_at(subject.filter.resonance_percent), subject.gain, rtol=1e-12, atol=0))


def _position(subject: Subject) -> tuple[float, float]:
    """(%, loop gain at the end of the control re its circuit's usual one); without a control (100, the gain re it)."""
    usual = subject.filter.entry.full_gain
    if _by_control(subject):
        return subject.filter.resonance_percent, subject.filter.gain_at(100.0) / usual
    return 100.0, subject.gain / usual


def why(
    first: Subject, second: Subject, source: Source, *, same: Same = Same.POLE, equal_loudness: bool = True,
    names: Iterable[str] | None = None,
) -> Why:
    """first and second as they are compared (already brought together); every step between them is simulated. Raises
    CircuitError where a step between them has no cutoff by the definition."""
    *_, found = why_steps(first, second, source, same=same, equal_loudness=equal_loudness, names=names)
    assert isinstance(found, Why)
    return found


def why_steps(
    first: Subject, second: Subject, source: Source, *, same: Same = Same.POLE, equal_loudness: bool = True,
    names: Iterable[str] | None = None,
) -> Iterator[Progress | Why]:
    """Yields how far it is, at last the answer; see why. Raises CircuitError as it does."""
    pair = _Pair(first, second, same, place_hz(first, same))
    wanted = list(SCALE if names is None else names)
    causes = pair.causes()
    subsets = _subsets(causes)
    listening = Listening(equal_loudness)

    def values(taken: frozenset[Cause]) -> dict[str, float | None]:
        found = describe(pair.between(taken), source, listening=listening, names=wanted)
        return {name: one.value for name, one in found.items()}

    found: dict[frozenset[Cause], dict[str, float | None]] = {}
    yield Progress(f"Listening to {len(subsets)} filters between the two", 0.0)
    for taken, value in zip(subsets, side_by_side(values, subsets), strict=True):
        found[taken] = value
        yield Progress(f"Listening to {len(subsets)} filters between the two", len(found) / len(subsets))
    yield _shared_out(causes, found, wanted)


def _shared_out(
    causes: Sequence[Cause], found: dict[frozenset[Cause], dict[str, float | None]], wanted: Sequence[str]
) -> Why:
    shares: list[Share] = []
    left_out: list[tuple[str, str]] = []
    explained = 1.0
    for name in wanted:
        known = {taken: value[name] for taken, value in found.items() if value[name] is not None}
        if len(known) < len(found):
            left_out.append((name, "one of the filters between the two has no such value"))
            continue
        whole = _number(known[frozenset(causes)]) - _number(known[frozenset()])
        scale = max(abs(_number(known[frozenset()])), 1e-3)
        if abs(whole) <= NOTHING * scale:
            continue
        parts = _shapley(causes, {taken: _number(value) for taken, value in known.items()})
        explained = min(explained, 1 - abs(sum(parts.values()) / whole - 1))
        for cause in Cause:
            alone = 0.0
            if cause in parts:
                alone = _number(known[frozenset({cause})]) - _number(known[frozenset()])
            shares.append(Share(name, cause, parts.get(cause, 0.0), alone))
    return Why(tuple(shares), explained, tuple(left_out), None if len(causes) <= EXACTLY else ORDERS)


def _number(value: float | None) -> float:
    assert value is not None
    return value


def _orders(causes: Sequence[Cause]) -> list[tuple[Cause, ...]]:
    """Some of the ways, each with its reverse, in which the causes may follow each other; seeded."""
    draw, found = np.random.default_rng(SEED), []
    for _ in range(ORDERS // 2):
        order = tuple(causes[i] for i in draw.permutation(len(causes)))
        found += [order, order[::-1]]
    return found


def _subsets(causes: Sequence[Cause]) -> list[frozenset[Cause]]:
    if len(causes) <= EXACTLY:
        return [frozenset(cause for i, cause in enumerate(causes) if bits >> i & 1) for bits in range(2 ** len(causes))]
    found = {frozenset(order[:n]): None for order in _orders(causes) for n in range(len(order) + 1)}
    return [*{**found, **{frozenset({cause}): None for cause in causes}}]


def _shapley(causes: Sequence[Cause], values: dict[frozenset[Cause], float]) -> dict[Cause, float]:
    """Mean of what each cause adds where it comes into its place."""
    orders: Iterable[tuple[Cause, ...]]
    if len(causes) <= EXACTLY:
        orders, count = permutations(causes), factorial(len(causes))
    else:
        orders, count = _orders(causes), ORDERS
    found = dict.fromkeys(causes, 0.0)
    for order in orders:
        taken: frozenset[Cause] = frozenset()
        for cause in order:
            more = taken | {cause}
            found[cause] += (values[more] - values[taken]) / count
            taken = more
    return found
