"""What the drawing's whistle does over resonance, over pitch, beside a source, and patched into its own cutoff."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.compose import modulated
from jiyuu.circuits.linear import onset
from jiyuu.circuits.network import Network
from jiyuu.circuits.reach import EAR_HIGH_HZ, EAR_LOW_HZ
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.tone import measure_tone
from jiyuu.signals.stimuli import impulse
from jiyuu.simulation.oscillation import Oscillation, oscillation
from jiyuu.simulation.render import oversampling_for, render, render_each

RATE_HZ = 48_000.0
SETTLING_S, HEARD_S = 0.25, 0.4
KICK_V = 0.2


@dataclass(frozen=True, slots=True, eq=False)
class WhistleCurve:
    """Over loop gains (m,), all above the onset: hertz, volts peak and THD of the settled tone; cents re the pitch at
    the onset. NaN where no settled tone was found."""

    gain: FloatArray
    frequency_hz: FloatArray
    cents: FloatArray
    amplitude_peak_v: FloatArray
    thd_percent: FloatArray


def whistle_over_gain(network: Network, mode: str, *, cutoff_hz: float, gains: FloatArray) -> WhistleCurve:
    """Raises CircuitError for a circuit without an onset."""
    start = onset(network, cutoff_hz=cutoff_hz)
    if start is None:
        raise CircuitError("This circuit has no onset of self-oscillation.")
    tones = [_tone(network, mode, cutoff_hz, float(gain)) for gain in gains]
    hertz = np.array([np.nan if t is None else t.frequency_hz for t in tones])
    return WhistleCurve(
        gains, hertz, np.asarray(1200 * np.log2(hertz / start.frequency_hz)),
        np.array([np.nan if t is None else t.amplitude_peak_v for t in tones]),
        np.array([np.nan if t is None else t.thd_percent for t in tones]),
    )


def _tone(network: Network, mode: str, cutoff_hz: float, gain: float) -> Oscillation | None:
    try:
        return oscillation(network, mode, cutoff_hz=cutoff_hz, gain=gain)
    except CircuitError:
        return None


def beside_source(
    network: Network, source_v: FloatArray, mode: str, *, cutoff_hz: float, gains: FloatArray,
    sample_rate_hz: float = RATE_HZ,
) -> FloatArray:
    """(p, m) the settled part of the output at gains (p,) with a source (n,) playing, for whistle_level: the last
    HEARD_S."""
    output = render_each(
        network, source_v, sample_rate_hz=sample_rate_hz, cutoff_hz=np.full(gains.size, cutoff_hz), gain=gains,
        modes=[mode], oversampling=oversampling_for(cutoff_hz),
    )[:, 0]
    return np.asarray(output[:, -round(HEARD_S * sample_rate_hz) :])


@dataclass(frozen=True, slots=True, eq=False)
class SelfModulated:
    """The whistle patched into its own cutoff: octaves of swing each way asked for, the tone's hertz, harmonics_db
    (1 … 20) re the first, and one period of it."""

    octaves: float
    octaves_per_v: float
    frequency_hz: float
    harmonics_db: tuple[float, ...]
    thd_percent: float
    waveform_v: FloatArray


def patched_into_cutoff(
    network: Network, mode: str, patched: str, *, cutoff_hz: float, gain: float, swings: FloatArray
) -> Iterator[SelfModulated]:
    """mode heard while the output `patched` moves the cutoff by ±swing octaves for every swing (m,): the sine leans
    over into a saw. Raises CircuitError where the rest state is stable or the output cannot be patched."""
    bare = oscillation(network, patched, cutoff_hz=cutoff_hz, gain=gain)
    if bare is None:
        raise CircuitError("The filter does not whistle at this resonance; turn it up past its onset.")
    kick = impulse(sample_rate_hz=RATE_HZ, level_v=KICK_V, burst_s=0.01, duration_s=SETTLING_S + HEARD_S)
    for swing in swings:
        per_v = float(swing) / bare.fundamental_v
        bent = modulated(network, patched, octaves_per_v=per_v) if swing else network
        output = render(bent, kick, sample_rate_hz=RATE_HZ, cutoff_hz=cutoff_hz, gain=gain, modes=[mode],
                        oversampling=8).output_v[0][-round(HEARD_S * RATE_HZ) :]
        try:
            tone = measure_tone(output, RATE_HZ)
        except MeasurementError:
            continue  # it has stopped, or runs wild: no tone to speak of
        period = RATE_HZ / tone.frequency_hz.value
        at = np.arange(128) / 128 * period + output.size / 2
        yield SelfModulated(float(swing), per_v, tone.frequency_hz.value, tone.harmonics_db, tone.thd_percent,
                            np.interp(at, np.arange(output.size), output))


def nearest_saw(found: Sequence[SelfModulated]) -> SelfModulated:
    """The one whose harmonics 2 to 5 differ least, in dB, from those of a saw."""
    saw_db = -20 * np.log10(np.arange(2, 6))
    return min(found, key=lambda one: float(np.sum((np.array(one.harmonics_db[1:5]) - saw_db) ** 2)))


def within_hearing_octaves(cutoff_hz: float) -> float:
    """Swing each way up to which a cutoff stays within hearing. A filter whose capacitors all follow one cutoff goes
    round the same orbit however far it swings, only slower and faster, so that it breaks nowhere by itself: what ends
    it is the reach of a unit's cutoff."""
    return float(min(np.log2(EAR_HIGH_HZ / cutoff_hz), np.log2(cutoff_hz / EAR_LOW_HZ)))


@dataclass(frozen=True, slots=True)
class LoopVariant:
    """What another limiter or coupling in the loop does: cents re the drawing as it stands, volts, THD."""

    title: str
    cents: float
    amplitude_peak_v: float
    thd_percent: float


def loop_variants(
    make: dict[str, Network], standing: Network, mode: str, *, cutoff_hz: float, gain: float
) -> tuple[LoopVariant, ...]:
    """make: networks by title, variants of `standing`, all at the same loop gain. Those that do not whistle are left
    out; nothing where `standing` does not."""
    own = _tone(standing, mode, cutoff_hz, gain)
    if own is None:
        return ()
    found = [LoopVariant("as it stands", 0.0, own.amplitude_peak_v, own.thd_percent)]
    for title, network in make.items():
        tone = _tone(network, mode, cutoff_hz, gain)
        if tone is not None:
            cents = 1200 * float(np.log2(tone.frequency_hz / own.frequency_hz))
            found.append(LoopVariant(title, cents, tone.amplitude_peak_v, tone.thd_percent))
    return tuple(found)
