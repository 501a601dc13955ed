"""What a drawing says of a filter at one setting: its response read, its bass, its harmonics."""

from __future__ import annotations

import numpy as np

from jiyuu.character.subject import Subject
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.circuits.many_units import exact_levels
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, read_curve
from jiyuu.prediction.drive import drive_ladder, usual_frequency_hz

NOMINAL_V = 5.0
BASS_OCTAVES = 3.0
BELOW_OCTAVES, ABOVE_OCTAVES = 8, 6  # of the cutoff, that a response is read over
POINTS, FEWER_POINTS = 96, 48  # an octave


def reading_of(subject: Subject, *, roughly: bool = False) -> CurveReading | None:
    """Of the response at rest; None where it has no shape that can be read, or the filter whistles. roughly: on fewer
    points, and nothing between them."""
    if subject.whistles:
        return None
    points = FEWER_POINTS if roughly else POINTS
    hertz = subject.cutoff_hz * 2.0 ** (np.arange(-BELOW_OCTAVES * points, ABOVE_OCTAVES * points + 1) / points)
    gain = complex_gain(subject.network, hertz, cutoff_hz=subject.cutoff_hz, gain=subject.gain, modes=[subject.mode])
    exact = None
    if not roughly:
        (exact,) = exact_levels(subject.network, subject.mode, cutoff_hz=subject.cutoff_hz,
                                gains=np.array([subject.gain]))
    try:
        return read_curve(hertz, level_db(gain)[0], exact=exact)
    except MeasurementError:
        return None


def bass_kept_db(subject: Subject) -> float:
    """Level three octaves under the cutoff re no resonance."""
    hertz = np.array([subject.cutoff_hz * 2**-BASS_OCTAVES])
    here, none = (float(level_db(complex_gain(subject.network, hertz, cutoff_hz=subject.cutoff_hz, gain=gain,
                                              modes=[subject.mode]))[0, 0]) for gain in (subject.gain, 0.0))
    return here - none


def grit_percent(subject: Subject) -> float:
    """THD of a tone of NOMINAL_V at an eighth of the cutoff. Raises CircuitError where the filter whistles."""
    ladder = drive_ladder(subject.network, subject.mode, cutoff_hz=subject.cutoff_hz, gain=subject.gain,
                          frequency_hz=usual_frequency_hz(subject.cutoff_hz),
                          levels_v=np.array([NOMINAL_V * subject.drive]))
    return ladder.levels[0].thd_percent
