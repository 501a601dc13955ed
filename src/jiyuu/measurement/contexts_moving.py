"""What sentences about what moves and about several filters together need besides their number."""

from __future__ import annotations

from dataclasses import dataclass

from jiyuu.measurement.context import Context


@dataclass(frozen=True, slots=True)
class Struck(Context):
    """What a filter was struck with, and at which resonance."""

    pulse_ms: float
    level_v: float
    resonance_percent: float


@dataclass(frozen=True, slots=True)
class StruckOn(Context):
    """How many notes, by how much the cutoff is to be turned, and which note is missed most then."""

    notes: int
    turn_cents: float
    worst_hz: float


@dataclass(frozen=True, slots=True)
class CutoffStepped(Context):
    """A step of the cutoff, as its whistle sang it; resolution_s: how finely a time is told."""

    from_hz: float
    to_hz: float
    resolution_s: float


@dataclass(frozen=True, slots=True)
class TargetMoves(Context):
    """What a target's routes ask for, in its unit, and what share of the time it stands at a stop."""

    target: str
    unit: str
    least: float
    wanted_least: float
    wanted_greatest: float
    stopped_percent: float


@dataclass(frozen=True, slots=True)
class SidebandsOf(Context):
    """A tone under a cutoff moved by ±octaves at a rate: its two nearest lines, levels re the tone's own."""

    tone_hz: float
    rate_hz: float
    octaves: float
    lower_hz: float
    lower_db: float
    upper_hz: float
    upper_db: float


@dataclass(frozen=True, slots=True)
class WhistleMoved(Context):
    """By ±octaves at a rate, and the volts (1 V/octave) that bring its mean pitch back."""

    octaves: float
    rate_hz: float
    back_v: float


@dataclass(frozen=True, slots=True)
class Beating(Context):
    """Two sources, which harmonic of each; moved: whether something moves the filter beside it."""

    first_hz: float
    second_hz: float
    first_harmonic: int
    second_harmonic: int
    moved: bool


@dataclass(frozen=True, slots=True)
class ImageAt(Context):
    """Where the loudest image of a crusher lies, what it is the image of, how often is read."""

    image_hz: float
    of_hz: float
    rate_hz: float


@dataclass(frozen=True, slots=True)
class BandEdges(Context):
    """Where a band is 3 dB down on either side of its peak."""

    low_hz: float
    high_hz: float
    peak_hz: float


@dataclass(frozen=True, slots=True)
class NotchAt(Context):
    """Where a notch lies."""

    notch_hz: float


@dataclass(frozen=True, slots=True)
class SidesApart(Context):
    """Where left and right differ most, and which is louder there."""

    at_hz: float
    louder: str


@dataclass(frozen=True, slots=True)
class PartOfIt(Context):
    """Which part is meant."""

    part: str


@dataclass(frozen=True, slots=True)
class VowelNear(Context):
    """Which vowel, and where the formants of the response lie."""

    vowel: str
    formants_hz: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class LoopRings(Context):
    """A loop by its name, where it would ring, and how much is fed back now."""

    loop: str
    rings_at_hz: float
    amount: float


@dataclass(frozen=True, slots=True)
class HiddenBy(Context):
    """What is to be heard beside what; of so much loudness what is left; the cut in the other that frees most of it
    (None: none is worth taking)."""

    wanted: str
    other: str
    alone_sone: float
    audible_sone: float
    cut_hz: float | None = None
    cut_db: float | None = None
    cut_q: float | None = None
    frees_sone: float | None = None


@dataclass(frozen=True, slots=True)
class DrivenRing(Context):
    """A note of level_v and one of soft_v: how long what it woke rings (T60, None where it does not die), and where the
    middle of its power lies."""

    level_v: float
    soft_v: float
    ring_s: float | None
    soft_ring_s: float | None
    centre_hz: float
    soft_centre_hz: float


MOVING: tuple[type[Context], ...] = (
    Struck, CutoffStepped, TargetMoves, SidebandsOf, WhistleMoved, Beating, ImageAt, BandEdges,
    NotchAt, SidesApart, PartOfIt, VowelNear, LoopRings, HiddenBy, DrivenRing,
)
