"""What is to be said where the cutoff of the filter in hand is moved within hearing, or where sources beat."""

from __future__ import annotations

from collections.abc import Iterator

from jiyuu.bench.standing import Standing
from jiyuu.errors import CircuitError
from jiyuu.measurement.contexts_moving import Beating, SidebandsOf, WhistleMoved
from jiyuu.measurement.finding import Finding
from jiyuu.patch.controls import LfoControl
from jiyuu.prediction.audio_rate import AUDIBLE_RATE_HZ, beats, mean_rise_cents, sidebands
from jiyuu.signals.source import PITCHED, SourceKind

FROM_VOLTS = {SourceKind.FIGURE, SourceKind.KNOCK, SourceKind.KNOCKS, SourceKind.CHORD}  # of no single pitch


def audio_rate_findings(standing: Standing) -> Iterator[Finding]:
    """Sidebands of the first source's pitch, the rise of a whistle, beating sources."""
    setup, pitches = standing.setup, pitches_of(standing)
    moved = moved_within_hearing(standing)
    if moved is not None:
        octaves, rate_hz = moved
        if standing.self_oscillates:
            cents = mean_rise_cents(octaves)
            yield Finding("modulated_pitch_cents", cents, "cents", measured=False,
                          context=WhistleMoved(octaves, rate_hz, -cents / 1200))
        elif pitches:
            try:
                found = sidebands(standing.network, standing.mode, cutoff_hz=standing.standing_hz, gain=standing.gain,
                                  octaves=octaves, rate_hz=rate_hz, frequency_hz=pitches[0])
            except CircuitError:
                return
            lower, upper = found.level_db(-1), found.level_db(1)
            yield Finding("sideband_db", max(lower, upper), "dB", measured=False, context=SidebandsOf(
                pitches[0], rate_hz, octaves, abs(pitches[0] - rate_hz), lower, pitches[0] + rate_hz, upper))
    for beat in beats(pitches):
        yield Finding("beat_hz", beat.beat_hz, "Hz", measured=False, context=Beating(
            beat.first_hz, beat.second_hz, beat.first_harmonic, beat.second_harmonic, bool(setup.routes)))


def pitches_of(standing: Standing) -> list[float]:
    """Hz of every source that has a pitch of its own."""
    return [one.pitch_hz for one in standing.setup.inputs if one.kind in PITCHED and one.kind not in FROM_VOLTS]


def moved_within_hearing(standing: Standing) -> tuple[float, float] | None:
    """(±octaves, Hz) of the one sine that moves the cutoff within hearing; None where there is none, or where more than
    that moves it."""
    setup = standing.setup
    routes = [route for route in setup.routes if route.target == f"{setup.in_hand}.cutoff"]
    if len(routes) != 1 or routes[0].amount_by is not None or routes[0].accent_percent:
        return None
    control = setup.controls.get(routes[0].source)
    if not isinstance(control, LfoControl) or control.shape != "sine" or control.rate_hz is None or (
            control.rate_hz < AUDIBLE_RATE_HZ):
        return None
    return abs(routes[0].amount) * (0.5 if control.unipolar else 1.0), control.rate_hz
