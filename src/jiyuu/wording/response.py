"""What is read from a response: passband, cutoffs, peak, slope, notch, polarity, and the rig's own part in it."""

from __future__ import annotations

from jiyuu.measurement.finding import Finding
from jiyuu.quantities import signed
from jiyuu.wording.numbers import doubt_text, hertz_text, level_text, stated, three_digits, with_doubt
from jiyuu.wording.quantity import Quantity

FINEST_Q = 0.01  # that an uncertainty is said to be


def _q(finding: Finding) -> str:
    if finding.uncertainty is None:
        return three_digits(finding.value)
    return stated(finding.value, max(finding.uncertainty, FINEST_Q))


QUANTITIES: dict[str, Quantity] = {
    "passband_db": Quantity(
        "Passband", lambda f: f"Passband level {level_text(f)} re the input.",
        "Level where the filter lets the signal through.",
        "Plateau at the low end (lowpass), the high end (highpass), or the peak (bandpass).",
    ),
    "cutoff_3db_hz": Quantity(
        "Cutoff, −3 dB", lambda f: f"−3 dB cutoff at {hertz_text(f)}.",
        "Where half the power is gone; the number on most data sheets.",
        "Last crossing of passband − 3.01 dB on the smoothed curve.",
        formula="|H(f)|² = ½·|H(passband)|².",
        schools="Data sheets name this point; panels and this bench set the pole, players follow the peak.",
    ),
    "pole_hz": Quantity(
        "Cutoff, pole", lambda f: f"Pole frequency {hertz_text(f)}.",
        "Rate of the tuned stages: what the cutoff control really sets.",
        "The circuit's own response fitted to the measured curve over cutoff, resonance and gain.",
        formula="ω = 2π·fc of the tuned stages; four equal stages are 12 dB down there, two are 6 dB down.",
        schools="Designers count from here, since it is what the control voltage moves.",
    ),
    "peak_hz": Quantity(
        "Cutoff, peak", lambda f: f"Resonant peak at {hertz_text(f)}.",
        "Where the response is highest; what the ear follows in a sweep.",
        "Parabola through the highest point and its neighbours.",
        schools="For the ear the peak is the cutoff as soon as there is resonance.",
    ),
    "peak_db": Quantity(
        "Peak level", lambda f: f"Peak {level_text(f)} re the passband.",
        "How far resonance stands out.", "Highest point less passband.",
        formula="20·log₁₀ |H(peak)/H(passband)|.",
    ),
    "q": Quantity(
        "Q", lambda f: f"Q {_q(f)} by bandwidth.",
        "Sharpness of the resonance.", "Peak frequency over the distance of its −3 dB points.",
        formula="Q = f(peak) / (f(high) − f(low)), both 3 dB under the peak; 1/Q = 2 − k in a state variable.",
    ),
    "slope_db_per_octave": Quantity(
        "Slope", lambda f: f"Slope {level_text(f)} per octave from 1 to 3 octaves past the cutoff.",
        "How steeply the stopband falls once the knee is over.",
        "Least squares of dB on octaves, equal weight per octave, points with more than 10 dB of SNR.",
        formula="6.02 dB for each pole once far from the cutoff.",
        schools="Some count poles, some dB per octave, some the first octave only; all three stand here.",
    ),
    "low_slope_db_per_octave": Quantity(
        "Slope below", lambda f: f"Lower slope {level_text(f)} per octave from 3 to 1 octaves under the lower cutoff.",
        "How steeply a bandpass falls towards the bass.", "As the slope, on the lower side.",
    ),
    "first_octave_drop_db": Quantity(
        "First octave", lambda f: f"First octave past the cutoff drops {level_text(f).lstrip('+')}.",
        "What the ear hears of the slope: the knee, not the asymptote.",
        "Level at the −3 dB point less level one octave on.",
        schools="Two filters of equal slope can differ by several dB here, which is what is heard.",
    ),
    "low_3db_hz": Quantity(
        "Lower −3 dB", lambda f: f"Lower −3 dB point at {hertz_text(f)}.",
        "Where half the power is gone on the low side.", "Crossing of the reference level − 3.01 dB.",
    ),
    "high_3db_hz": Quantity(
        "Upper −3 dB", lambda f: f"Upper −3 dB point at {hertz_text(f)}.",
        "Where half the power is gone on the high side.", "Crossing of the reference level − 3.01 dB.",
    ),
    "notch_hz": Quantity(
        "Notch", lambda f: f"Notch at {hertz_text(f)}.", "Where the response is deepest.",
        "Both flanks continued to where they meet.",
    ),
    "notch_depth_db": Quantity(
        "Notch depth", lambda f: f"Notch {level_text(f).lstrip('+')} deep.", "How much is taken out at the notch.",
        "Plateau less the lowest point; a noisy record makes it look shallower.",
    ),
    "polarity": Quantity(
        "Polarity", lambda f: "Non-inverting." if f.value > 0 else "Inverting.",
        "Whether the output follows the input or its mirror image; decides how two outputs add.",
        "Sign of the gain beside its minimum phase.",
    ),
    "phase_deg": Quantity(
        "Phase at cutoff", lambda f: f"Phase {with_doubt(f.value, f.uncertainty, 0)}° at the cutoff set.",
        "How far the output lags (−) or leads (+) there.", "Angle of the measured gain, latency taken out.",
    ),
    "latency_s": Quantity(
        "Latency", lambda f: f"Latency of the rig {1e3 * f.value:.3f}{doubt_text(f, 3, 1e3)} ms.",
        "Pure delay of converters and cables, taken out of the phase.",
        "Delay beside the minimum phase of the measured level.",
    ),
    "clock_offset_ppm": Quantity(
        "Clock offset", lambda f: f"Recorder clock {signed(f.value, 1)} ppm against the player, corrected.",
        "Player and recorder never run at quite the same rate.", "Distance between two equal sweeps in the recording.",
    ),
    "noise_floor_db": Quantity(
        "Noise floor", lambda f: f"Noise {signed(f.value, 0)} dB re the recording.",
        "How far down the recording can be trusted before averaging.", "Difference of two equal passages.",
    ),
}
