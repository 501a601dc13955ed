"""Filters as closed forms, what their curves say exactly, and recordings of them: no code of the product takes part."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.fft import next_fast_len
from scipy.optimize import brentq

RINGS_S = 4  # after which nothing is left of a usual ring that would come round
FINER, NODES = 4, range(-7, 9)  # a recorder of another clock reads between samples made so much closer
AT_ONCE = 8192  # samples
BESIDE = 1e-6  # octaves


def _ladder(s, k):
    return 1 / ((1 + s) ** 4 + k)


FORMS = {
    ("transistor-ladder", "lowpass-24"): _ladder,
    ("transistor-ladder", "lowpass-12"): lambda s, k: (1 + s) ** 2 * _ladder(s, k),
    ("transistor-ladder", "highpass-24"): lambda s, k: s**4 * _ladder(s, k),
    ("transistor-ladder", "highpass-12"): lambda s, k: s**2 * (1 + s) ** 2 * _ladder(s, k),
    ("transistor-ladder", "bandpass-24"): lambda s, k: 4 * s**2 * _ladder(s, k),
    ("state-variable", "lowpass"): lambda s, k: 1 / (s * s + (2 - k) * s + 1),
    ("state-variable", "bandpass"): lambda s, k: s / (s * s + (2 - k) * s + 1),
    ("state-variable", "highpass"): lambda s, k: s * s / (s * s + (2 - k) * s + 1),
    ("state-variable", "notch"): lambda s, k: (s * s + 1) / (s * s + (2 - k) * s + 1),
    # x1' = 2(v − x1 + x2), x2' = x1 − 2·x2 + x3, x3' = x2 − 2·x3 + x4, x4' = x3 − x4 − x4, v = u − k·x4
    ("diode-ladder", "lowpass-24"): lambda s, k: 2 / (
        (s + 2) * (s + 2) * ((s + 2) ** 2 - 1) - (s + 2) * (s + 2) - 2 * ((s + 2) ** 2 - 1) + 2 * k),
}


@dataclass(frozen=True)
class Made:
    """A filter: circuit, mode, cutoff in Hz, loop gain."""

    circuit: str
    mode: str
    cutoff_hz: float
    gain: float

    def at(self, hertz):
        return FORMS[self.circuit, self.mode](1j * np.asarray(hertz) / self.cutoff_hz, self.gain)

    def level(self, octave):
        return 20 * np.log10(np.maximum(np.abs(self.at(2.0 ** np.asarray(octave))), 1e-300))


def exact(made, band_hz):
    """Values by the names of a reading; slopes and drops only where they lie within the band."""
    level, low, high = made.level, *np.log2(band_hz)
    fine = np.arange(np.log2(made.cutoff_hz) - 9, np.log2(made.cutoff_hz) + 9, 1 / 2000)
    shown = level(fine)
    found = {}

    def crossing(target, start, way):
        i = int(np.argmin(np.abs(fine - start)))
        while 0 < i < fine.size - 1 and shown[i] >= target:
            i += way
        a, b = sorted((fine[i - way], fine[i]))
        return brentq(lambda o: level(o) - target, a, b, xtol=1e-14)

    def slope(a, b):
        a, b = max(a, low), min(b, high)
        if b - a < 0.5:
            return None
        # In the middles of cells: points on both ends would count for a cell of which half lies outside.
        places = a + (b - a) * (np.arange(20000) + 0.5) / 20000
        return float(np.polyfit(places - a, level(places), 1)[0])

    def peak():
        i = int(np.argmax(shown))
        if not 0 < i < shown.size - 1:
            return float(fine[i]), float(shown[i])
        # Where it neither rises nor falls: a search for the highest value itself ends where rounding hides it.
        place = brentq(lambda o: level(o + BESIDE) - level(o - BESIDE), fine[i - 1], fine[i + 1], xtol=1e-14)
        return float(place), float(level(place))

    half = 10 * np.log10(2)
    family = made.mode.split("-")[0]
    if family == "bandpass":
        place, top = peak()
        down, up = crossing(top - half, place, -1), crossing(top - half, place, 1)
        found.update(peak_hz=2**place, passband_db=top, low_3db_hz=2**down, high_3db_hz=2**up,
                     q=2**place / (2**up - 2**down), slope_db_per_octave=slope(up + 1, up + 3),
                     low_slope_db_per_octave=slope(down - 3, down - 1))
        if up + 1 < high:
            found["first_octave_drop_db"] = float(level(up) - level(up + 1))
    elif family == "notch":
        found.update(passband_db=0.0, notch_hz=made.cutoff_hz)
        found.update(low_3db_hz=2 ** crossing_down(made, fine, -1), high_3db_hz=2 ** crossing_down(made, fine, 1))
    else:
        way = 1 if family == "lowpass" else -1
        passband = float(level(np.log2(made.cutoff_hz) - 20 * way))
        place, top = peak()
        far = np.flatnonzero(shown >= passband - half)
        edge = crossing(passband - half, fine[far[-1] if way > 0 else far[0]], way)
        found.update(passband_db=passband, cutoff_3db_hz=2**edge)
        a, b = sorted((edge + way, edge + 3 * way))
        found["slope_db_per_octave"] = slope(a, b)
        if low < edge + way < high:
            found["first_octave_drop_db"] = float(level(edge) - level(edge + way))
        if top > passband + 0.05:
            found.update(peak_hz=2**place, peak_db=top - passband)
            if top - passband > half + 0.1:
                down, up = crossing(top - half, place, -1), crossing(top - half, place, 1)
                found["q"] = 2**place / (2**up - 2**down)
    return {name: value for name, value in found.items() if value is not None}


def crossing_down(made, fine, way):
    """Octave at which a notch with a level of 0 dB beside it is half a power down."""
    start, end = np.log2(made.cutoff_hz), np.log2(made.cutoff_hz) + 8 * way
    return brentq(lambda o: made.level(o) + 10 * np.log10(2), start + 1e-9 * way, end)


def recorded(made, stimulus, rate, *, delay_s=0.0123, ppm=0.0, tail_s=1.0, rings_s=RINGS_S):
    """The stimulus through the filter, late, by a recorder whose clock is that much fast; no noise yet."""
    room = np.concatenate([stimulus, np.zeros(round(tail_s * rate))])
    size = 2 * next_fast_len((room.size + rings_s * rate) // 2, real=True)
    hertz = np.fft.rfftfreq(size, 1 / rate)  # NumPy keeps nothing of a length, SciPy some megabytes
    spectrum = np.fft.rfft(room, size)
    spectrum[0] = 0
    spectrum[1:] *= made.at(hertz[1:])
    spectrum *= np.exp(-2j * np.pi * hertz * delay_s)
    count = room.size
    del hertz, room
    return sampled_by(spectrum, size, count, ppm)


class Recorded:
    """A stimulus and what a recorder made of it through a filter, once somebody asks for it: every worker knows of all
    tests and runs few of them."""

    def __init__(self, made, stimulus_of, rate, *, ppm=20.0):
        self._made, self._stimulus_of, self._rate, self._ppm = made, stimulus_of, rate, ppm

    @cached_property
    def stimulus(self):
        return self._stimulus_of()

    @cached_property
    def clean(self):
        return recorded(self._made, self.stimulus, self._rate, ppm=self._ppm)

    @cached_property
    def t(self):
        """When each sample was taken, s."""
        return np.arange(self.clean.size) / self._rate

    def forget(self):
        for name in ("stimulus", "clean", "t"):
            vars(self).pop(name, None)

    @cached_property
    def peak(self):
        return float(np.abs(self.clean).max())

    @cached_property
    def rms(self):
        return float(np.std(self.clean))

    def hum(self, hertz, peak, third):
        """A line of mains and its third harmonic, re which it is so strong."""
        return peak * (np.sin(2 * np.pi * hertz * self.t + 1) + third * np.sin(2 * np.pi * 3 * hertz * self.t))


def sampled_by(spectrum, size, count, ppm):
    """(count,) of what has this spectrum of a record (size,), by a recorder whose clock is that much fast: it takes its
    samples at shorter steps."""
    if not ppm:
        return np.fft.irfft(spectrum, size)[:count]
    fine = np.empty((size, FINER))
    turn = np.exp(2j * np.pi / (FINER * size) * np.arange(spectrum.size))
    for phase in range(FINER):  # one after the other: together they would fill hundreds of megabytes
        fine[:, phase] = np.fft.irfft(spectrum, size)
        if phase < FINER - 1:
            spectrum = spectrum * turn
    fine = fine.reshape(-1)
    found = np.empty(count)
    for begin in range(0, count, AT_ONCE):  # what a processor keeps at hand
        places = np.arange(begin, min(begin + AT_ONCE, count)) / (1 + ppm * 1e-6) * FINER
        base = np.floor(places).astype(int)
        found[begin : begin + AT_ONCE] = between(fine, base, places - base)
    return found


def between(fine, base, t):
    """Lagrange through 16 points about each place, base + t: of what is sampled four times too often, to 10⁻⁸."""
    t = np.maximum(t, 1e-12)
    every, found = np.ones(base.size), np.zeros(base.size)
    for j in NODES:
        scale = np.prod([float(j - i) for i in NODES if i != j])
        found += fine[base + j] / ((t - j) * scale)
        every *= t - j
    return found * every
