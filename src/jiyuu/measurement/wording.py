"""How every quantity is named, said and measured: the one place where a finding becomes words."""

from __future__ import annotations

import math

from jiyuu.measurement.finding import Finding, Quantity, Verdict
from jiyuu.quantities import note_and_cents, shown_hz, signed


def doubt_text(finding: Finding, digits: int) -> str:
    if finding.uncertainty is None:
        return ""
    # One significant digit more than the number would promise too much; never print ± 0.
    shown = max(finding.uncertainty, 10.0**-digits / 2)
    places = max(digits, 0)
    text = f"{shown:.{places}f}"
    return f" ± {text if float(text) > 0 else 10.0**-digits:.{places}f}" if float(text) == 0 else f" ± {text}"


def one_digit(number: float) -> str:
    """One significant digit, rounded up, never with an exponent."""
    if not number > 0.001:
        return "0.001"
    place = math.floor(math.log10(number))
    rounded = math.ceil(number / 10.0**place - 1e-9) * 10.0**place
    place = math.floor(math.log10(rounded) + 1e-9)  # 0.0096 becomes 0.01, not 0.010
    return f"{rounded:.{max(-place, 0)}f}"


def three_digits(number: float) -> str:
    return f"{number:.0f}" if number >= 100 else f"{number:.3g}"


def level_text(finding: Finding) -> str:
    return f"{signed(finding.value)}{doubt_text(finding, 1 if (finding.uncertainty or 0) >= 0.05 else 2)} dB"


def hertz_text(finding: Finding) -> str:
    note, cents = note_and_cents(finding.value)
    doubt = ""
    if finding.uncertainty is not None:
        doubt = f" ± {one_digit(100 * finding.uncertainty / finding.value)} %"
    return f"{shown_hz(finding.value)}{doubt} ({note} {signed(cents, 0)} cents)"


def slope_text(finding: Finding) -> str:
    return f"{signed(finding.value)}{doubt_text(finding, 1 if (finding.uncertainty or 0) >= 0.05 else 2)} dB per octave"


def latency_text(finding: Finding) -> str:
    return f"{1e3 * finding.value:.3f} ms"


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
    ),
    "pole_hz": Quantity(
        "Cutoff, pole", lambda f: f"Pole frequency {hertz_text(f)}.",
        "Rate of the tuned stages: what the cutoff control really sets.",
        "The circuit's own response fitted to the measured curve over cutoff, resonance and gain.",
    ),
    "peak_hz": Quantity(
        "Cutoff, peak", lambda f: f"Resonant peak at {hertz_text(f)}.",
        "Where the response is highest; what the ear follows in a sweep.",
        "Parabola through the highest point and its neighbours.",
    ),
    "peak_db": Quantity(
        "Peak level", lambda f: f"Peak {level_text(f)} re the passband.",
        "How far resonance stands out.", "Highest point less passband.",
    ),
    "q": Quantity(
        "Q", lambda f: f"Q {three_digits(f.value)}{doubt_text(f, 2)} by bandwidth.",
        "Sharpness of the resonance.", "Peak frequency over the distance of its −3 dB points.",
    ),
    "slope_db_per_octave": Quantity(
        "Slope", lambda f: f"Slope {slope_text(f)} from 1 to 3 octaves past the cutoff.",
        "How steeply the stopband falls once the knee is over.",
        "Least squares of dB on octaves, equal weight per octave, points with more than 10 dB of SNR.",
    ),
    "low_slope_db_per_octave": Quantity(
        "Slope below", lambda f: f"Lower slope {slope_text(f)} from 3 to 1 octaves under the lower cutoff.",
        "How steeply a bandpass falls towards the bass.", "As the slope, on the lower side.",
    ),
    "first_octave_drop_db": Quantity(
        "First octave", lambda f: f"First octave past the cutoff drops {level_text(f).lstrip('+')}.",
        "What the ear hears of the slope: the knee, not the asymptote.",
        "Level at the −3 dB point less level one octave on.",
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
        "Polarity", lambda f: "Polarity kept." if f.value > 0 else "Polarity inverted.",
        "Whether the output follows the input or its mirror image; decides how two outputs add.",
        "Sign of the gain beside its minimum phase.",
    ),
    "phase_deg": Quantity(
        "Phase at cutoff", lambda f: f"Phase {signed(f.value, 0)}°{doubt_text(f, 1)} at the cutoff set.",
        "How far the output lags (−) or leads (+) there.", "Angle of the measured gain, latency taken out.",
    ),
    "latency_s": Quantity(
        "Latency", lambda f: f"Latency of the rig {latency_text(f)}.",
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

QUANTITIES |= {
    "body_db": Quantity(
        "Body kept", lambda f: f"Body {level_text(f)} at {shown_hz(f.settings['body_hz'])} re no resonance.",
        "What turning up resonance does to the part of the sound that the filter lets through.",
        "Level three octaves into the passband, less the same at no resonance.",
    ),
    "output_change_db": Quantity(
        "Output", lambda f: f"Output {level_text(f)} re no resonance, for {f.settings['source']}.",
        "How much louder or softer the source comes out.",
        "Power of the source's harmonics or bands behind the response, against the same at no resonance.",
    ),
    "onset_percent": Quantity(
        "Onset", lambda f: f"Self-oscillates from {f.value:.1f}{doubt_text(f, 1)} % of the travel.",
        "Where the filter begins to whistle by itself.",
        "Predicted: a pole pair reaches the axis. Measured: between the last position at which the sound dies away "
        "and the first at which it does not.",
    ),
    "taper_evenness_percent": Quantity(
        "Evenness", lambda f: f"{f.value:.0f} % of the change lies in the tenth of the travel that ends at "
        f"{f.settings['ends_at_percent']:.0f} % (10 % is even).",
        "Whether the control does its work evenly or all at once.",
        "Largest share of the whole change of the peak, in dB, in any tenth of the travel below the onset.",
    ),
    "dead_travel_percent": Quantity(
        "Dead travel", lambda f: f"{f.value:.0f} % of the travel does next to nothing: {f.settings['where']}.",
        "Turning the control there is not heard.",
        "Stretches of at least 3 % in which the peak moves by less than a twentieth of the average per cent.",
    ),
    "last_stretch_percent": Quantity(
        "Last stretch", lambda f: f"The last {f.value:.1f} % lead from a peak of 12 dB to self-oscillation.",
        "How much room there is between a strong peak and the howl.", "Onset less the position of a 12 dB peak.",
    ),
    "suddenness_db_per_percent": Quantity(
        "Suddenness", lambda f: f"{f.value:.1f} dB per per cent over the last 5 % before the onset.",
        "How fast the peak grows under the hand just before it whistles.",
        "Peak half a per cent before the onset less that 5 % earlier, per per cent.",
    ),
    "proposed_evenness_percent": Quantity(
        "Proposed taper", lambda f: f"A {f.settings['taper']} would bring that to {f.value:.0f} %.",
        "What could be built to make the control even.",
        "The same reading with every law of control one can buy and with resistors from the wiper, predicted.",
    ),
    "overload_from_percent": Quantity(
        "Overload", lambda f: f"Next module (±{f.settings['limit_v']:g} V) over "
        + ("at every position" if f.value <= 0 else f"from {f.value:.0f} % on")
        + f", up to {f.settings['highest_v']:.1f} V; trim −{abs(f.settings['trim_db']):.1f} dB.",
        "From where on the next module is driven over its limit.",
        "Peak volts of the source chosen at each position, simulated with saturation where that has been done.",
    ),
    "headroom_db": Quantity(
        "Headroom", lambda f: f"Next module (±{f.settings['limit_v']:g} V) never over; {f.value:.1f} dB left at "
        f"{f.settings['highest_percent']:.0f} %.",
        "What is left to the limit of the next module at the loudest position.",
        "Limit over the highest peak volts of the source chosen.",
    ),
    "output_peak_v": Quantity(
        "Output peak", lambda f: f"Output peak {f.value:.2f}{doubt_text(f, 2)} V for {f.settings['source']}.",
        "The highest voltage that leaves the filter.", "Peak between the samples, four times oversampled.",
    ),
    "output_loudness_lufs": Quantity(
        "Loudness", lambda f: f"Loudness {signed(f.value)} LUFS re {f.settings['full_scale_v']:g} V full scale.",
        "How loud that is to the ear.", "Integrated loudness of ITU-R BS.1770.",
    ),
    "output_margin_db": Quantity(
        "Margin", lambda f: f"{abs(f.value):.1f} dB " + ("under" if f.value >= 0 else "over")
        + f" the limit of the next module (±{f.settings['limit_v']:g} V).",
        "What is left to the limit of what comes next.", "Limit over output peak.",
    ),
    "hump_db": Quantity(
        "Extra hump", lambda f: f"Extra hump {level_text(f)} at {shown_hz(f.settings['hump_hz'])}, "
        f"{signed(f.settings['octaves'])} octaves from the cutoff.",
        "A second rise beside the resonant peak; colours the sound like a second, weaker filter.",
        "Every local maximum that stands out by 1 dB or more.",
    ),
}

def _turned(title: str, meaning: str) -> Quantity:
    return Quantity(title, lambda f: str(f.settings["said"]), meaning,
                    "From the converter model fitted to the readings: scale, bulk resistance and leakage told apart.")


def _note(finding: Finding) -> str:
    note, cents = note_and_cents(finding.value, concert_a_hz=finding.settings.get("concert_a_hz", 440.0))
    return f"{note} {signed(cents)} cents"


def _digits(number: float) -> str:
    """Two significant digits, never with an exponent."""
    if number < 0.001:
        return "under 0.001"
    return f"{number:.0f}" if number >= 99.5 else f"{float(f'{number:.2g}'):g}" if number >= 0.01 else f"{number:.3f}"


def _cusp(finding: Finding) -> str:
    told = finding.settings
    if told["jumps"]:  # torn loose from the source, or caught by it
        return f"At {finding.value:.1f} % the whistle jumps across {signed(told['target_db'], 0)} dB against the " \
               f"{told['source']}, to {signed(told['at_db'])} dB."
    held = ", held by one of its harmonics" if told["caught"] else ""
    return f"At {finding.value:.1f} % the tone sits {signed(told['at_db'])} dB against the {told['source']}{held}; " \
           f"{_digits(told['percent_per_db'])} % of the travel move it by 1 dB."


def _whistle_at_end(finding: Finding) -> str:
    caught = finding.settings["caught_percent"]
    verb = "takes over" if finding.value > 0 else "only colours"
    text = f"The whistle {verb}: {signed(finding.value)} dB against the {finding.settings['source']} at the end"
    if caught:
        text += f"; from {caught[0]:.0f} to {caught[1]:.0f} % the source holds it on a harmonic"
    return f"{text}."


QUANTITIES |= {
    "tracking_error_cents": Quantity(
        "Largest error", lambda f: f"Largest tracking error {signed(f.value)}{doubt_text(f, 2)} cents, "
        f"at {f.settings['at_v']:g} V.",
        "How far the filter is out of tune where it is worst.",
        "Pitch against exact 1 V/octave through the reference step.",
    ),
    "usable_span_v": Quantity(
        "Usable span", lambda f: f"In tune within ±{f.settings['tolerance_cents']:g} cents: {f.settings['where']}.",
        "Where one can play it.", "Longest run of neighbouring steps inside the tolerance.",
    ),
    "scale_v_per_octave": Quantity(
        "Scale", lambda f: f"An octave takes {f.value:.4f}{doubt_text(f, 4)} V ("
        + ("true" if abs(f.value - 1) < 5e-5 else "flat" if f.value > 1 else "sharp") + ").",
        "Volts for an octave; 1 is true.", "Straight line through the octaves over the volts, by least squares.",
    ),
    "key_follow_percent": Quantity(
        "Key follow", lambda f: f"The cutoff follows the keys by {f.value:.2f}{doubt_text(f, 2)} %.",
        "Whether the tone keeps its colour, or the whistle its pitch, over the keyboard.",
        "Octaves of pitch for an octave of keys, straight line by least squares.",
    ),
    "droop_cents": Quantity(
        "Droop", lambda f: f"The converter droops by {signed(f.value)}{doubt_text(f, 1)} cents at 10 kHz.",
        "Bulk resistance flattens the top; the high-frequency trim adds it back.",
        "Fitted with scale and leakage to the readings.",
    ),
    "leak_cents": Quantity(
        "Leakage", lambda f: f"Leakage adds {signed(f.value)}{doubt_text(f, 1)} cents at 20 Hz.",
        "Current that flows whatever the control says holds up the bottom.",
        "Fitted with scale and droop to the readings.",
    ),
    "tone_flatness_db": Quantity(
        "Flatness", lambda f: f"The tone's level moves by {f.value:.1f} dB over the range.",
        "Whether the whistle is as loud everywhere.", "Highest less lowest level of the steps.",
    ),
    "drift_cents_per_min": Quantity(
        "Drift", lambda f: f"Drifts by {signed(f.value, 2)}{doubt_text(f, 2)} cents a minute.",
        "How the pitch wanders while nothing is touched.", "Line through the pitch of a held tone.",
    ),
    "tone_hz": Quantity(
        "Tone", lambda f: f"Whistles at {shown_hz(f.value)} ({_note(f)}).",
        "The pitch of the filter by itself.", "DC and twenty harmonics fitted to the settled tone at once.",
    ),
    "tone_v": Quantity(
        "Tone level", lambda f: f"The tone is {three_digits(f.value)} V peak.", "How loud it is.",
        "Amplitude of the fundamental.",
    ),
    "tone_thd_percent": Quantity(
        "Purity", lambda f: f"THD {_digits(f.value)} %: " + (
            "a sine to the ear" if f.value < 1 else "a sine with an edge" if f.value < 5 else "far from a sine") + ".",
        "How pure the tone is.", "Harmonics 2 to 20 re the first.",
    ),
    "start_up_s": Quantity(
        "Start-up", lambda f: f"Grows up within {1e3 * f.value:.0f} ms of a knock.",
        "How soon it speaks.", "From the end of the knock until the level stays within a tenth of its settled one.",
    ),
    "pitch_pull_cents": Quantity(
        "Pitch pull", lambda f: f"More resonance pulls the pitch by {signed(f.value)} cents up to the end of the "
        "control.",
        "Whether the whistle stays in tune while resonance is turned.",
        "Pitch at the end of the control re that just past the onset.",
    ),
    "cusp_percent": Quantity(
        "Cusp", lambda f: _cusp(f),
        "The spot at which whistle and sound stand side by side, and how narrow it is.",
        "The filter played with the source: the line that is no harmonic of it against the rest, by halving.",
    ),
    "whistle_at_end_db": Quantity(
        "Whistle", lambda f: _whistle_at_end(f), "Whether the whistle takes over or only colours.",
        "Level of the whistle re the rest at the end of the control.",
    ),
    "scale_turn": _turned("Scale trim", "Sets how many volts an octave takes."),
    "hf_turn": _turned("High-frequency trim", "Adds back what the top lacks."),
    "resonance_turn": _turned("Resonance trim", "Sets where on the control the whistle begins."),
    "offset_turn": _turned("Offset trim", "Moves every note alike."),
}


def sentence(finding: Finding) -> str:
    """The one place where a finding becomes words."""
    text = QUANTITIES[finding.quantity].says(finding)
    if finding.tolerance is None or finding.verdict is Verdict.UNJUDGED:
        return text
    low, high = finding.tolerance.low, finding.tolerance.high
    limits = f"{low:g} to {high:g}".replace("-", "−")
    return f"{text[:-1]}: {finding.verdict.value} ({limits} {finding.unit})."
