"""A tone played at rising levels, recorded: gain, harmonics and the levels from which a unit bends.

Where the tones stand is found by their own rhythm, the pitch by how their phases go on from one to the next; every tone
is then taken apart by least squares into its harmonics. What the noise adds to a sum of squares is taken off again.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.mains_hum import hum_in
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.two_tones import Products, products_of
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.measurement.waveform_faults import NEARLY, at_full_scale
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.running import running_mean
from jiyuu.signals.transforms import convolved, rfft

HIGHEST_HARMONIC = 20
OF_A_LINE = 3.0  # bins to either side that belong to a line, by Hann's window
EDGE_S = 0.12  # of either end of a tone: until a filter has settled, and where its beginning is not quite known
MOST_PPM = 500.0
AUDIO_HZ = (20.0, 20_000.0)
SMALL_DB = 0.3  # a level bent by less tells of the small-signal gain
HOP_S = 0.005  # between looks at whether the tone sounds
NOTHING = 1e-6  # of the loudest tone
FOUND = 6.0  # how much louder than a gap the loudest tone must be
BETWEEN = 0.003  # share by which interpolation between levels 2 dB apart may be off; it grows as their square
ROUNDED = 1e-6  # of a line, by which arithmetic and clocks may move it


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredLevel:
    """One level: harmonics_db (20,) re the first. Volts are peak, except where a name says otherwise."""

    input_peak_v: float
    fundamental_peak_v: Uncertain
    output_peak_v: Uncertain
    gain_db: Uncertain
    thd_percent: Uncertain
    even_percent: Uncertain
    odd_percent: Uncertain
    thd_n_percent: Uncertain
    harmonics_db: tuple[Uncertain, ...]


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredDrive:
    """levels rising; the input peak volts from which 1 dB is missing, and from which THD passes 1 % and the lamp's,
    None where they are not reached; products: of two tones, None where none were played; why_no_products: where
    they were asked for and are not stated."""

    frequency_hz: float
    levels: tuple[MeasuredLevel, ...]
    compression_1db_v: Uncertain | None
    thd_1_percent_v: Uncertain | None
    lamp_v: Uncertain | None
    notices: tuple[Notice, ...]
    products: Products | None = None
    why_no_products: str = ""


def measure_drive(
    recording_v: FloatArray, sample_rate_hz: float, steps: DriveSteps, *, full_scale_v: float | None = None,
    lamp_percent: float = 3.0,
) -> MeasuredDrive:
    """recording_v (n,) of what `steps` plays; its levels are taken to be the stated volts. full_scale_v: of the
    recorder; levels at which it clipped are left out, since nothing tells that from the unit's own bending. Raises
    MeasurementError with what to do where the tones are not in it."""
    record = recording_v - np.median(recording_v)
    place = _place(record, sample_rate_hz, steps)
    _refuse_other_ladder(record, place, sample_rate_hz, steps)
    notices: list[Notice] = []
    hum = hum_in(record, _gaps(place, record.size, sample_rate_hz, steps), sample_rate_hz)
    if hum is not None and not _is_harmonic(hum.mains_hz, steps.frequency_hz):
        record = record - hum.wave_v(record.size, sample_rate_hz)
        db = 20 * np.log10(hum.peak_v / max(float(np.abs(record).max()), 1e-12))
        notices.append(Notice(Fault.HUM, None, {"mains_hz": hum.mains_hz, "db": float(db)}))
    middles = steps.middles(place, sample_rate_hz, EDGE_S)
    pieces = [record[part] for part in middles]
    if any(piece.size < 4 * sample_rate_hz / steps.frequency_hz for piece in pieces):
        raise MeasurementError("The recording ends before the last level; record until a second after it.")
    hertz = _pitch_hz(pieces, sample_rate_hz, steps.frequency_hz)
    if steps.pair is not None:
        middles.append(steps.pair_middle(place, sample_rate_hz, EDGE_S))
        pieces.append(record[middles[-1]])
        if pieces[-1].size < middles[-1].stop - middles[-1].start:
            raise MeasurementError("The recording ends before the two tones do; record until a second after them.")
    clipped = [full_scale_v is not None and at_full_scale(recording_v[part], full_scale_v) is not None
               for part in middles]
    if any(clipped):
        flat = np.concatenate([np.abs(recording_v[part]) >= NEARLY * (full_scale_v or np.inf) for part in middles])
        first_s = middles[clipped.index(True)].start / sample_rate_hz
        notices.append(Notice(Fault.CLIPPED, first_s, {"share_percent": 100 * float(flat.mean())}))
    two, why = None, ""
    if steps.pair is not None:
        both, gone = pieces.pop(), clipped.pop()
        two = products_of(both, sample_rate_hz, steps.pair, clock=hertz / steps.frequency_hz)
        if gone:
            two, why = None, "The recorder clipped at the two tones; turn its input down and record again."
        elif not two.there:
            two, why = None, (f"Two tones of {steps.pair.low_hz:g} and {steps.pair.high_hz:g} Hz do not stand out of "
                              "what follows the levels; play them louder, or check that they are those of the "
                              "stimulus.")
    pieces = [piece for piece, gone in zip(pieces, clipped, strict=True) if not gone]
    heard_v = [level for level, gone in zip(steps.levels_v, clipped, strict=True) if not gone]
    if len(heard_v) < 2:
        raise MeasurementError("The recorder clipped at nearly every level; turn its input down and record again.")
    levels = tuple(_level(piece, hertz, sample_rate_hz, level) for piece, level in zip(pieces, heard_v, strict=True))
    return MeasuredDrive(hertz, levels, _compression(levels), _reaches(levels, 1.0), _reaches(levels, lamp_percent),
                         tuple(notices), two, why)


def _place(record: FloatArray, sample_rate_hz: float, steps: DriveSteps) -> int:
    """Sample at which the stimulus begins, found by when the tones sound and when they do not."""
    hop = max(round(HOP_S * sample_rate_hz), 1)
    turn = 2 * np.pi * steps.frequency_hz / sample_rate_hz * np.arange(record.size)
    width = max(round(seen_s(steps) * sample_rate_hz), 1)
    real, imaginary = (running_mean(record * wave(turn), width)[::hop] for wave in (np.cos, np.sin))
    found, _ = ladder_in(np.hypot(real, imaginary), sample_rate_hz, steps)
    return found * hop


def seen_s(steps: DriveSteps) -> float:
    """Over how long a tone is looked at to know whether it sounds."""
    return max(0.02, 2 / steps.frequency_hz)


def ladder_in(envelope: FloatArray, sample_rate_hz: float, steps: DriveSteps) -> tuple[int, float]:
    """(which value of an envelope (n,) of one in every HOP_S the stimulus begins at, how well it fits there). Raises
    MeasurementError where no tone stands out of it, or where it is shorter than the stimulus."""
    # Where a recorder wrote nothing at all there is no noise to stand out of, and noise itself would stand out.
    quiet = max(float(np.percentile(envelope, 5)), NOTHING * float(envelope.max())) + 1e-12
    loud = np.log(np.maximum(envelope, quiet) / quiet)
    if loud.max() < np.log(FOUND):
        raise MeasurementError("No tone stands out of the recording; raise the level, and check that it is the "
                               "recording of this stimulus.")
    sounding = steps.sounding(sample_rate_hz)[:: max(round(HOP_S * sample_rate_hz), 1)].astype(float)
    sounding -= sounding.mean()
    if loud.size < 0.98 * sounding.size:
        raise MeasurementError("The recording is shorter than the stimulus; record all of it, and give the levels that "
                               "were played.")
    short = min(sounding.size, loud.size)
    fits = convolved(loud, sounding[:short][::-1])[short - 1 : loud.size]
    place = int(np.argmax(fits))
    return place, float(fits[place])


def _refuse_other_ladder(record: FloatArray, place: int, sample_rate_hz: float, steps: DriveSteps) -> None:
    """Tones before the first or behind the last level, or none where the last should be: other levels were played."""
    middles = steps.middles(place, sample_rate_hz, EDGE_S)
    parts = [part for part in middles if part.stop <= record.size and part.start >= 0]
    length = parts[-1].stop - parts[-1].start if parts else 1
    pitch = np.round(steps.tone_s * sample_rate_hz) + round(steps.gap_s * sample_rate_hz)

    def tone(start: float) -> float:
        piece = record[max(round(start), 0) : max(round(start), 0) + length]
        if piece.size < length or start < 0:
            return 0.0
        turn = np.exp(-2j * np.pi * steps.frequency_hz / sample_rate_hz * np.arange(length))
        return float(abs(np.mean(piece * np.hanning(length) * turn)))

    if not parts:
        return
    levels = [tone(part.start) for part in parts]
    behind, before = tone(parts[-1].start + pitch), tone(parts[0].start - pitch)
    if max(behind, before) > max(0.3 * min(levels), 0.02 * max(levels)) or levels[-1] < 0.02 * max(levels):
        raise MeasurementError(
            f"The recording does not hold {len(steps.levels_v)} tones: other levels were played; give --levels and "
            "--frequency as they were for the stimulus."
        )


def _gaps(place: int, size: int, sample_rate_hz: float, steps: DriveSteps) -> list[slice]:
    before = slice(0, max(place + round((steps.silence_s - 0.05) * sample_rate_hz), 0))
    end = place + round((steps.duration_s - steps.silence_s + 0.15) * sample_rate_hz)
    return [before, slice(min(end, size), size)]


def _is_harmonic(mains_hz: float, frequency_hz: float) -> bool:
    """Whether the tone's own harmonics would be taken for mains."""
    ratio = frequency_hz / mains_hz
    return abs(ratio - round(ratio)) < 0.02


def _pitch_hz(pieces: list[FloatArray], sample_rate_hz: float, stated_hz: float) -> float:
    """As recorded, by the loudest tones: within each by its phase, then over all of them."""
    hertz = stated_hz
    loudest = pieces[-1]
    for _ in range(3):
        t = np.arange(loudest.size) / sample_rate_hz
        window = np.hanning(loudest.size)
        half = loudest.size // 2
        turned = loudest * window * np.exp(-2j * np.pi * hertz * t)
        first, second = turned[:half].sum(), turned[half:].sum()
        away_s = 0.5 * loudest.size / sample_rate_hz * 0.736  # between the middles of the halves of a Hann window
        hertz += float(np.angle(second * np.conj(first))) / (2 * np.pi * away_s)
    if abs(hertz / stated_hz - 1) > MOST_PPM * 1e-6 + 0.02 / (stated_hz * loudest.size / sample_rate_hz):
        raise MeasurementError(f"The tone in the recording is at {hertz:.2f} Hz and {stated_hz:g} Hz was stated; give "
                               "the frequency that was played.")
    return _refined_hz(pieces, sample_rate_hz, hertz)


def _refined_hz(pieces: list[FloatArray], sample_rate_hz: float, hertz: float) -> float:
    """Least squares of every tone, the frequency that leaves least of the louder half of them."""
    from scipy.optimize import minimize_scalar

    # Those of one length share their harmonics, whatever their levels.
    loud: dict[int, list[FloatArray]] = {}
    for piece in pieces[len(pieces) // 2 :]:
        loud.setdefault(piece.size, []).append(piece / max(float(np.std(piece)), 1e-15))
    together = [np.stack(same, axis=1) for same in loud.values()]

    def left(offset_ppm: float) -> float:
        return sum(float(np.sum(_apart(same, hertz * (1 + 1e-6 * offset_ppm), sample_rate_hz)[1] ** 2))
                   for same in together)

    reach = 1e6 * 0.1 / (hertz * pieces[-1].size / sample_rate_hz)
    best = minimize_scalar(left, bounds=(-reach, reach), method="bounded", options={"xatol": 0.01})
    return hertz * (1 + 1e-6 * float(best.x))


def _apart(piece: FloatArray, hertz: float, sample_rate_hz: float) -> tuple[ComplexArray, FloatArray]:
    """(harmonics (k,) peak volts with their phase, what they leave (n,)); as many as the rate holds, at most 20. piece:
    (n,), or (n, m) for m of one length, of which only what is left is asked."""
    count, size = min(HIGHEST_HARMONIC, int(0.48 * sample_rate_hz / hertz)), piece.shape[0]
    phase = 2 * np.pi * hertz / sample_rate_hz * (np.arange(size) - 0.5 * size)
    once = np.exp(1j * phase)
    turns = np.cumprod(np.broadcast_to(once[:, np.newaxis], (size, count)), axis=1)
    design = np.concatenate([np.ones((size, 1)), turns.view(float)], axis=1)
    found = np.linalg.solve(design.T @ design, design.T @ piece)
    left = piece - design @ found
    return (found[1:].view(complex).conj() if piece.ndim == 1 else np.zeros(0, dtype=complex)), left


def _level(piece: FloatArray, hertz: float, sample_rate_hz: float, level_v: float) -> MeasuredLevel:
    lines, left = _apart(piece, hertz, sample_rate_hz)
    spread = np.hypot(_spread_at(left, hertz * np.arange(1.0, lines.size + 1), sample_rate_hz), ROUNDED * abs(lines[0]))
    size = np.abs(lines)
    first, doubt = float(size[0]), COVERAGE * float(spread[0])
    wave = np.real(lines[:, np.newaxis] * np.exp(2j * np.pi * np.outer(np.arange(1, lines.size + 1),
                                                                       np.arange(2048) / 2048))).sum(axis=0)
    share = doubt / max(first, 1e-20)
    each = [Uncertain(0.0, 0.0)]
    for one, own in zip(size[1:], spread[1:], strict=True):
        db = 20 * np.log10(max(one, 1e-20) / first)
        each.append(Uncertain(float(db), float(20 * np.log10(1 + COVERAGE * own / max(one, 1e-20) + share))))
    each += [Uncertain(-400.0, 400.0)] * (HIGHEST_HARMONIC - lines.size)
    return MeasuredLevel(
        level_v, Uncertain(first, doubt), Uncertain(float(np.abs(wave).max()), COVERAGE * float(
            np.sqrt(np.sum(spread**2)))),
        Uncertain(float(20 * np.log10(max(first, 1e-20) / level_v)), float(20 * np.log10(1 + share))),
        _sum(size, spread, slice(1, None)), _sum(size, spread, slice(1, None, 2)),
        _sum(size, spread, slice(2, None, 2)), _with_noise(lines, left, hertz, sample_rate_hz), tuple(each),
    )


def _spread_at(left: FloatArray, places_hz: FloatArray, sample_rate_hz: float) -> FloatArray:
    """(k,) standard deviation of either part of a line, by the noise around each. Harmonics past those that were taken
    out are no noise."""
    power = np.abs(rfft(left * np.hanning(left.size))) ** 2 / (0.375 * left.size)
    hertz = np.fft.rfftfreq(left.size, 1 / sample_rate_hz)
    order = hertz / places_hz[0]
    between = (np.abs(order - np.round(order)) * places_hz[0] * left.size / sample_rate_hz > OF_A_LINE) | (order < 0.5)
    between |= not between[order >= 0.5].any()
    found = []
    for place in places_hz:
        around = power[(hertz > 0.75 * place) & (hertz < 1.25 * place) & between]
        found.append(float(np.mean(around)) if around.size else float(np.mean(power)))
    return np.sqrt(2 * np.array(found) / left.size)


def _sum(size: FloatArray, spread: FloatArray, which: slice) -> Uncertain:
    """In % of the first: the root of a sum of squares, the noise's own share of it taken off."""
    first = float(size[0])
    squares, noise = size[which] ** 2, spread[which] ** 2
    total = float(np.sum(squares) - 2 * np.sum(noise))
    scatter = COVERAGE * float(np.sqrt(4 * np.sum(np.maximum(squares - 2 * noise, 0) * noise) + 4 * np.sum(noise**2)))
    value = np.sqrt(max(total, 0.0))
    upper, lower = np.sqrt(max(total, 0.0) + scatter), np.sqrt(max(total - scatter, 0.0))
    share = COVERAGE * float(spread[0]) / first
    return Uncertain(100 * float(value) / first,
                     100 * float(max(upper - value, value - lower)) / first + 100 * share * float(value) / first)


def _with_noise(lines: ComplexArray, left: FloatArray, hertz: float, sample_rate_hz: float) -> Uncertain:
    """All that is not the first harmonic, over the audio band, in % of it."""
    spectrum = rfft(left)
    places = np.fft.rfftfreq(left.size, 1 / sample_rate_hz)
    inside = (places >= AUDIO_HZ[0]) & (places <= AUDIO_HZ[1])
    noise_power = 2 * float(np.sum(np.abs(spectrum[inside]) ** 2)) / left.size**2
    heard = hertz * np.arange(1, lines.size + 1) <= AUDIO_HZ[1]
    harmonic_power = float(np.sum(np.abs(lines[1:][heard[1:]]) ** 2)) / 2
    first = float(np.abs(lines[0]))
    percent = 100 * np.sqrt(2 * (noise_power + harmonic_power)) / first
    independent = max(int(inside.sum()), 1)
    share = noise_power / max(noise_power + harmonic_power, 1e-300) / np.sqrt(independent)
    return Uncertain(float(percent), float(percent * (COVERAGE * share + 1e-3)))


def _compression(levels: tuple[MeasuredLevel, ...]) -> Uncertain | None:
    """Against the gain of what is small: that of the lowest levels, run on to nothing by the square of the level."""
    volts = np.array([level.input_peak_v for level in levels])
    gain = np.array([level.gain_db.value for level in levels])
    doubt = np.maximum(np.array([level.gain_db.uncertainty for level in levels]), 1e-6) / COVERAGE
    begin = float(np.average(gain[: max(len(levels) // 4, 1)], weights=doubt[: max(len(levels) // 4, 1)] ** -2))
    bent = np.flatnonzero(np.abs(gain - begin) > np.maximum(SMALL_DB, 4 * doubt))
    count = max(int(bent[0]) if bent.size else len(levels), min(3, len(levels)))
    design = np.stack([np.ones(count), (volts[:count] / volts[count - 1]) ** 2], axis=1) / doubt[:count, np.newaxis]
    covariance = np.linalg.pinv(design.T @ design)
    small = float((covariance @ design.T @ (gain[:count] / doubt[:count]))[0])
    return _crossing(volts, gain - small + 1.0, np.hypot(doubt, float(np.sqrt(covariance[0, 0]))), falling=True)


def _reaches(levels: tuple[MeasuredLevel, ...], percent: float) -> Uncertain | None:
    volts = np.array([level.input_peak_v for level in levels])
    values = np.array([level.thd_percent.value for level in levels])
    doubt = np.array([level.thd_percent.uncertainty for level in levels]) / COVERAGE
    value = np.log(np.maximum(values, 1e-4))
    return _crossing(volts, value - np.log(percent), doubt / np.maximum(values, 1e-4), falling=False)


def _crossing(volts: FloatArray, away: FloatArray, doubt: FloatArray, *, falling: bool) -> Uncertain | None:
    """The lowest volts at which `away` passes 0, between the levels by a curve through all of them."""
    beyond = np.flatnonzero(away <= 0 if falling else away >= 0)
    if not beyond.size:
        return None
    place = int(beyond[0])
    if place == 0:
        return Uncertain(float(volts[0]), 0.0)
    curve = scipy.interpolate.PchipInterpolator(np.log(volts), away)
    low, high = float(np.log(volts[place - 1])), float(np.log(volts[place]))
    for _ in range(60):
        middle = 0.5 * (low + high)
        if (float(curve(middle)) <= 0) == falling:
            high = middle
        else:
            low = middle
    steep = max(abs(float(curve(high, 1))), 1e-9)
    step_db = 20 * np.log10(volts[place] / volts[place - 1])
    off = COVERAGE * max(float(doubt[place - 1]), float(doubt[place])) / steep + BETWEEN * (step_db / 2) ** 2
    return Uncertain(float(np.exp(high)), float(np.exp(high)) * off)
