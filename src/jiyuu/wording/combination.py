"""What several filters make together, in words."""

from __future__ import annotations

from jiyuu.measurement.contexts_moving import (
    BandEdges,
    DrivenRing,
    HiddenBy,
    ImageAt,
    LoopRings,
    NotchAt,
    PartOfIt,
    SidesApart,
    VowelNear,
)
from jiyuu.measurement.finding import Finding
from jiyuu.quantities import note_and_cents, shown_hz, signed
from jiyuu.wording.numbers import three_digits
from jiyuu.wording.quantity import Quantity, context

NO_BEND_DB = 0.05  # said as one with nothing


def _band(finding: Finding) -> str:
    band = context(finding, BandEdges)
    return (f"Band from {shown_hz(band.low_hz)} to {shown_hz(band.high_hz)}, {finding.value:.2f} octaves wide, peak at "
            f"{shown_hz(band.peak_hz)}.")


def _sides(finding: Finding) -> str:
    apart = context(finding, SidesApart)
    return f"{apart.louder.capitalize()} is louder by up to {finding.value:.1f} dB, at {shown_hz(apart.at_hz)}."


def _adds(finding: Finding) -> str:
    part = context(finding, PartOfIt).part
    if finding.value >= 0:
        return f"{part} adds {finding.value:.1f} dB."
    return f"{part} takes {-finding.value:.1f} dB away: it cancels more than it adds."


def _vowel(finding: Finding) -> str:
    near = context(finding, VowelNear)
    formants = ", ".join(f"{hertz:.0f}" for hertz in near.formants_hz)
    return f"Nearest vowel /{near.vowel}/, {finding.value:.1f} semitones off; formants at {formants} Hz."


def _rings(finding: Finding) -> str:
    loop = context(finding, LoopRings)
    note, cents = note_and_cents(loop.rings_at_hz)
    at = f"{shown_hz(loop.rings_at_hz)} ({note} {signed(cents, 0)} cents)"
    what = loop.loop.capitalize()
    now, least = three_digits(loop.amount), three_digits(finding.value)
    if loop.amount >= finding.value:
        return f"{what} rings by itself at {at}: its feedback {now} is past {least}."
    return f"{what} would ring at {at} from a feedback of {least}, it stands at {now}."


def _image(finding: Finding) -> str:
    image = context(finding, ImageAt)
    return (f"Read {image.rate_hz:.0f} times a second, the loudest image lies at {shown_hz(image.image_hz)}, "
            f"{signed(finding.value)} dB re the loudest line: of {shown_hz(image.of_hz)}.")


def _hidden(finding: Finding) -> str:
    beside = context(finding, HiddenBy)
    said = (f"{beside.other[:1].upper()}{beside.other[1:]} hides {finding.value:.0f} % of {beside.wanted}: of "
            f"{beside.alone_sone:.2g} sone {beside.audible_sone:.2g} are heard")
    if beside.cut_hz is None or beside.cut_db is None or beside.frees_sone is None:
        return f"{said}; no cut is worth taking."
    return (f"{said}. {signed(beside.cut_db, 0)} dB at {shown_hz(beside.cut_hz)} (Q {beside.cut_q:.1f}) frees "
            f"{beside.frees_sone:.2g} sone; a cut in another band frees less.")


def _driven_ring(finding: Finding) -> str:
    ring = context(finding, DrivenRing)
    behind, loud, soft = abs(finding.value), three_digits(ring.level_v), three_digits(ring.soft_v)
    louder = "in proportion to" if behind < NO_BEND_DB else (
        f"{behind:.1f} dB {'softer' if finding.value > 0 else 'louder'} than in proportion to")
    return (f"Driven by {loud} V its ring is {louder} {soft} V, {_lasts(ring.ring_s)} long ({_lasts(ring.soft_ring_s)} "
            f"softly), centred on {shown_hz(ring.centre_hz)} ({shown_hz(ring.soft_centre_hz)}).")


def _lasts(ring_s: float | None) -> str:
    return "endlessly" if ring_s is None else f"{three_digits(ring_s)} s"


QUANTITIES: dict[str, Quantity] = {
    "band_width_octaves": Quantity(
        "Band", _band, "What is let through between two edges.", "Both sides of the highest point, 3.01 dB under it.",
        formula="log₂(upper edge / lower edge).",
    ),
    "meeting_notch_db": Quantity(
        "Notch", lambda f: f"Notch at {shown_hz(context(f, NotchAt).notch_hz)}, {f.value:.1f} dB deep.",
        "Where parts meet in opposite phase and take each other away.",
        "Every dip of 6 dB or more, re the lower of its two shoulders.",
    ),
    "sides_apart_db": Quantity(
        "Left and right", _sides, "Where a sound stands to one side.", "Level of left over right, where it is largest.",
    ),
    "part_adds_db": Quantity(
        "What a branch adds", _adds, "Whether a branch is worth having.",
        "Level of pink noise through all branches, re without that one.",
    ),
    "vowel_semitones": Quantity(
        "Nearest vowel", _vowel, "Which vowel the response resembles; the distance says how far that goes.",
        "Its two or three lowest peaks between 150 Hz and 4 kHz against averages of men's voices (Peterson and Barney "
        "1952, JASA).", formula="12·√mean((log₂ peak − log₂ formant)²).",
        schools="Averages hide persons: two speakers of one vowel lie further apart than some vowels.",
    ),
    "image_db": Quantity(
        "Images", _image, "What is read too seldom comes back where nothing was played, out of tune with it.",
        "Lines of the source as set up, at every multiple of the rate plus and minus each, as holding leaves them.",
        formula="|m·rate ± f|, |sinc(f/rate)| of the line.",
    ),
    "hidden_percent": Quantity(
        "Masking", _hidden, "How much of a sound is lost beside another, and which cut in the other brings it back.",
        "Specific loudness (ISO 532-1) of both together less that of the other alone, in frames of 85 ms, both "
        "together at 70 dB; every band of the ear (Zwicker 1961, JASA) is cut by 6 dB once; the one that frees most is "
        "named.",
        formula="1 − Σ max(N′(both) − N′(other), 0) / Σ N′(wanted).",
        schools="Loudness models differ in how far masking reaches upwards; the order of bands hardly changes.",
    ),
    "ring_behind_db": Quantity(
        "Ring when driven", _driven_ring, "Whether what rings keeps up with a louder note, how long and how brightly.",
        "Half a second of the sources through the path at rising levels; level, energy still to come (Schroeder 1965, "
        "JASA) and power spectrum of what is left behind its end.",
        formula="20·log₁₀ of (ring per volt, softly) / (ring per volt); T60 from −5 to −35 dB.",
        schools="What bends ahead of a ring leaves its length alone; in a loop with it, it shortens it.",
    ),
    "loop_rings_from": Quantity(
        "Rings from", _rings, "The feedback at which a group of bands begins to sound by itself.",
        "The poles of the group with its feedback, at the least amount that takes one to the axis.",
    ),
}
