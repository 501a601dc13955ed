"""What is wrong with a recording, in a sentence that says what to do."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from jiyuu.measurement.notice import Fault, Notice
from jiyuu.quantities import signed


def notice_sentence(notice: Notice) -> str:
    """One sentence or two, whole."""
    facts = notice.facts
    where = "" if notice.at_s is None else f" at {notice.at_s:.2f} s"

    def number(name: str) -> float:
        return float(facts.get(name, 0.0))

    match notice.fault:
        case Fault.CLIPPED:
            return (f"The recording is clipped ({number('share_percent'):.2g} % of its samples are flat); turn the "
                    "input down and record again. If the input's meter stayed below its top, the unit itself is flat "
                    "there: play it softer.")
        case Fault.GAIN_CHANGED if "wandered" in facts:
            return (f"The gain differs by up to {abs(number('db')):.2f} dB from one passage to the other, and what is "
                    "stated is that much wider. Let the unit warm up, leave level and cables alone and record again.")
        case Fault.GAIN_CHANGED:
            rest = "what follows was brought to what came before it" if "brought" in facts else (
                "there is no other passage to read instead" if "alone" in facts else
                "what follows or comes before it was left out")
            return (f"The gain changes by {signed(number('db'), 2)} dB{where}; {rest}. Leave level and cables alone "
                    "and record again.")
        case Fault.DROPOUT:
            return (f"The sound drops out{where} for about {number('ms'):.0f} ms; check cable and buffer and record "
                    "again.")
        case Fault.SAMPLES_LOST:
            many = f"about {number('samples'):.0f} samples" if "samples" in facts else "samples"
            return f"The recording has lost {many}{where}; use a larger buffer and record again."
        case Fault.STARTED_LATE:
            late = f" {number('late_s'):.2f} s" if "late_s" in facts else ""
            return (f"The recording began{late} after the stimulus; its first passage is cut and was left out. Start "
                    "recording first.")
        case Fault.ENDED_EARLY:
            return "The recording ends before the stimulus does; what is cut was left out. Record until a second after."
        case Fault.RATE_MISMATCH:
            return "The sample rate in the header is not the one it was recorded at; set both alike and record again."
        case Fault.CHANNEL_CHOSEN:
            return (f"Of two channels the {facts.get('taken', 'left')} one was taken: {facts.get('why', '')}. Choose "
                    "the other if that is wrong.")
        case Fault.HUM:
            level = f", {signed(number('db'), 0)} dB re the loudest" if "db" in facts else ""
            return (f"Mains hum at {number('mains_hz'):.2f} Hz{level} is in the recording; look for a ground "
                    "loop.")
        case Fault.INTERFACE_HIGHPASS:
            kind = f", without which this is a {facts['kind']}" if "kind" in facts else ""
            if "among" in facts:
                return (f"One of the poles lies at {number('hz'):.1f} Hz, as of a coupling capacitor{kind}; the lowest "
                        "octave cannot tell whether it is the filter's. Record the interface alone and give that as "
                        "loopback.")
            return (f"The lowest octave falls as behind a highpass at {number('hz'):.1f} Hz{kind}; if that is the "
                    "interface's own, record it alone and give that as loopback.")
        case Fault.COMPRESSED:
            amount = number("db")
            if amount != amount and "tones" in facts:
                return ("No circuit of poles and zeros has the curve of these tones: samples may be lost, the gain may "
                        "have changed more than once, or the unit compresses them. Leave level and cables alone and "
                        "measure again, at a tenth of the level or with a sweep.")
            if amount != amount:
                where = "" if "no_peak" in facts else " near its peak"
                return (f"No circuit of poles and zeros has this curve{where}: the unit may compress it, or be "
                        "digital. Measure again at a tenth of the level; what stays as it is was not compressed.")
            where = "where it is loudest" if "no_peak" in facts else "at the peak"
            return f"Compressed by about {amount:.2g} dB {where}; measure at {number('measure_at_v'):.2g} V."
        case Fault.QUANTISED:
            return (f"The recording is hardly more than {number('steps'):.0f} steps of its word length; turn the input "
                    "up, or record with 24 bits.")
        case Fault.PASSBAND_OUTSIDE:
            return (f"The passband lies beyond the {facts.get('end', '')} end of the stimulus' band, so what is re the "
                    "passband cannot be told; use a wider stimulus or another cutoff.")
        case Fault.SWAPPED_FILES:
            return "Stimulus and recording look swapped; give the file that was played first."
        case Fault.OCTAVE_UNCERTAIN:
            return (f"A harmonic is louder than the fundamental, or the fundamental is missing{where}; the octave is "
                    "uncertain. Choose the harmonic if you know it.")
        case Fault.VIBRATO:
            return (f"The pitch{where} has vibrato: {number('rate_hz'):.2f} Hz, ±{number('depth_cents'):.1f} cents; "
                    "its centre is given.")
        case Fault.OCTAVE_JUMP:
            return f"The pitch jumps by an octave{where}; the longer part was taken. Look at the unit before trimming."
        case Fault.PITCH_UNSTEADY:
            return _unsteady(facts, where)
        case Fault.FEWER_PASSAGES:
            if "blurred_hz" in facts:
                return ("One passage of noise tells the recorder's clock too roughly for what lies above "
                        f"{number('blurred_hz'):.0f} Hz, which is not stated; record two whole passages.")
            if "unexplained" in facts:
                return ("No network explains the curve, and with a single passage nothing tells whether the recording "
                        "was disturbed, so nothing is read from it. Play the stimulus twice in one recording.")
            return (f"{number('used'):.0f} of {number('played'):.0f} passages could be used; intervals are wider for "
                    "it.")


def notices_json(notices: tuple[Notice, ...]) -> list[dict[str, object]]:
    """As scripts read them; one entry for each code and place."""
    found: list[dict[str, Any]] = []
    for notice in notices:
        entry = {"code": notice.fault.value, "sentence": notice_sentence(notice),
                 "at_s": None if notice.at_s is None else float(notice.at_s)}
        if entry not in found:
            found.append(entry)
    return found


def notices_head(notices: tuple[Notice, ...]) -> list[str]:
    """Lines for the head of a CSV file."""
    return [f"# {notice_sentence(notice)}" for notice in notices]


def _unsteady(facts: Mapping[str, float | str], where: str) -> str:
    """A pitch that is not one."""
    if "left" in facts:
        return f"The tone gives way to something else{where}; the longer part was taken. Record it by itself."
    if "jump_cents" in facts:
        return (f"The pitch jumps by {signed(float(facts['jump_cents']), 1)} cents{where}; the longer part was taken. "
                "Leave the controls alone while it sounds.")
    cents = f"the interval holds the ±{float(facts.get('cents', 0.0)):.2g} cents that it comes to on the way"
    if "cents_per_s" in facts:
        per_s = signed(float(facts["cents_per_s"]), 2)
        return (f"The pitch drifts by {per_s} cents a second{where}; its mean is given, and {cents}. Let the unit warm "
                "up.")
    return f"The pitch wanders; its mean is given, and {cents}. Look for a loose contact or a noisy control voltage."
