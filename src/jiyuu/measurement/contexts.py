"""What a finding's sentence needs besides its number: one frozen value for each kind, kept as JSON in a book."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields

from jiyuu.measurement.context import Context
from jiyuu.measurement.contexts_moving import MOVING


@dataclass(frozen=True, slots=True)
class BodyPlace(Context):
    """Where the body was read."""

    body_hz: float


@dataclass(frozen=True, slots=True)
class Played(Context):
    """source: what was played, in words; limit_v: what the next module takes; full_scale_v: what loudness is re."""

    source: str
    limit_v: float = 5.0
    full_scale_v: float = 10.0


@dataclass(frozen=True, slots=True)
class NextModule(Context):
    """What the next module sees over the travel of the control."""

    limit_v: float
    highest_v: float
    highest_percent: float
    trim_db: float


@dataclass(frozen=True, slots=True)
class HumpPlace(Context):
    """octaves: from the cutoff."""

    hump_hz: float
    octaves: float


@dataclass(frozen=True, slots=True)
class BusiestTenth(Context):
    """Where on the travel the busiest tenth ends."""

    ends_at_percent: float


@dataclass(frozen=True, slots=True)
class ProposedLaw(Context):
    """taper: the law of control proposed, in words."""

    taper: str


@dataclass(frozen=True, slots=True)
class DeadStretches(Context):
    """Stretches of the travel, from and to in %."""

    stretches: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class ConcertPitch(Context):
    """A4 in Hz."""

    concert_a_hz: float = 440.0


@dataclass(frozen=True, slots=True)
class Beside(Context):
    """A whistle beside a source: the level asked for and found in dB re it, how far one may turn for a decibel, whether
    the level jumps there, whether a harmonic has caught the whistle and from where to where on the travel it does."""

    source: str
    target_db: float
    at_db: float | None = None
    percent_per_db: float | None = None
    jumps: bool = False
    caught: bool = False
    caught_percent: tuple[float, float] | None = None


@dataclass(frozen=True, slots=True)
class StepPlace(Context):
    """The control volts of a step."""

    at_v: float


@dataclass(frozen=True, slots=True)
class UsableRange(Context):
    """From and to in V, None where no step is inside the tolerance."""

    tolerance_cents: float
    from_v: float | None
    to_v: float | None
    octaves: float = 0.0


@dataclass(frozen=True, slots=True)
class TrimTurn(Context):
    """amount in the trim's unit, turns by the drawing, both positive clockwise; scale_v_per_octave: now, for the scale
    trim; aimed_percent: where the whistle then begins, for the resonance trim."""

    trim: str
    amount: float
    turns: float
    scale_v_per_octave: float | None = None
    aimed_percent: float | None = None


@dataclass(frozen=True, slots=True)
class DrivenTone(Context):
    """A tone of that frequency and peak, and what else came of it: even and odd harmonics, gain re the input."""

    level_v: float
    frequency_hz: float
    even_percent: float = 0.0
    odd_percent: float = 0.0
    gain_db: float = 0.0


@dataclass(frozen=True, slots=True)
class LampAt(Context):
    """The THD at which a panel lamp lights."""

    lamp_percent: float


@dataclass(frozen=True, slots=True)
class FirstToBend(Context):
    """A branch of the network; level_v: nominal; thd_1_percent_v as it is and with twice the headroom there, None where
    1 % is not reached."""

    branch: str
    level_v: float
    thd_1_percent_v: float | None = None
    larger_thd_1_percent_v: float | None = None


@dataclass(frozen=True, slots=True)
class TonePair(Context):
    """Two tones of equal peak."""

    low_hz: float
    high_hz: float
    level_v: float


@dataclass(frozen=True, slots=True)
class PeakDriven(Context):
    """What becomes of a peak from level to level: cents by which it moves."""

    from_v: float
    to_v: float
    cents: float


@dataclass(frozen=True, slots=True)
class WhistleStopped(Context):
    """By a tone of that frequency, at that position of the control; the easiest tone, and what it takes."""

    position_percent: float
    frequency_hz: float
    easiest_hz: float
    easiest_v: float


@dataclass(frozen=True, slots=True)
class OutputFedBack(Context):
    """amount: of the output, into the input; it rings from rings_amount (None: from none) at rings_hz; below that THD
    with and without it at level_v, above it the peak volts where it settles, None where nothing holds it."""

    amount: float
    level_v: float
    rings_amount: float | None = None
    rings_hz: float | None = None
    thd_percent: float | None = None
    thd_without: float | None = None
    settles_v: float | None = None


@dataclass(frozen=True, slots=True)
class CurveBehind(Context):
    """A curve behind the filter that bends as much: its kind and headroom; the harmonic at which the two differ
    most."""

    curve: str
    thd_percent: float
    headroom_v: float
    harmonic: int


@dataclass(frozen=True, slots=True)
class BehindTrim(Context):
    """Behind the trim: true peak volts, and what is left to the next module's limit."""

    peak_v: float
    left_db: float
    limit_v: float


@dataclass(frozen=True, slots=True)
class DryMixed(Context):
    """Share of dry signal, and where it takes most away."""

    dry_percent: float
    frequency_hz: float


@dataclass(frozen=True, slots=True)
class Differing(Context):
    """Which quantity of which two filters, by letter; what is just noticed of it (None: not known), and the verdict."""

    scale: str
    first: str
    second: str
    jnd: float | None
    verdict: str
    comparable: bool = True


@dataclass(frozen=True, slots=True)
class HeardBlind(Context):
    """A series of blind listening: what was asked, the two by letter, right answers of the trials; p: of guessed series
    that come so far; missed: of series in which one who is right three times of four is not found."""

    task: str
    first: str
    second: str
    right: int
    trials: int
    p: float
    missed: float
    told_apart: bool


@dataclass(frozen=True, slots=True)
class IdentifiedAs(Context):
    """The likeliest circuit and mode, the next one (None: none comes near), its odds of all, what it leaves; whether
    that is sure, and whether anything fits at all. alike: the same network under other names."""

    circuit: str
    mode: str
    second: str | None
    odds: float
    residual_db: float
    sure: bool
    none_fits: bool
    alike: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class TrainedTo(Context):
    """What an ear was asked for, in which quantity, in how many questions."""

    topic: str
    quantity: str
    questions: int


KINDS: dict[str, type[Context]] = {kind.__name__: kind for kind in (*Context.__subclasses__(), *MOVING)}


def context_of(document: Mapping[str, object] | None) -> Context | None:
    """The context that as_json gave; None for none, and for a kind this version does not know."""
    kind = None if document is None else KINDS.get(str(document.get("kind")))
    if kind is None or document is None:
        return None
    names = {field.name for field in fields(kind)}
    try:
        return kind(**{name: _frozen(value) for name, value in document.items() if name in names})
    except TypeError:
        return None


def _frozen(value: object) -> object:
    return tuple(_frozen(v) for v in value) if isinstance(value, list) else value
