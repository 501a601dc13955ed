"""Which band of one sound hides another, and the cut that frees it.

What is heard of a sound beside another is what both together are louder than the other alone, band by band: specific
loudness after ISO 532-1 (Zwicker), in frames. Every band of the ear is cut once, and what that frees is compared."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.character.sound import LISTENING_DB, REFERENCE_PA
from jiyuu.circuits.sections import Section, peak
from jiyuu.errors import MeasurementError
from jiyuu.measurement.contexts_moving import HiddenBy
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.levels import loudness_lufs
from jiyuu.measurement.timbre import EAR_RATE_HZ
from jiyuu.progress import Progress
from jiyuu.signals.transforms import rfft
from jiyuu.stopping import checkpoint

# Middles and widths of the ear's bands (Zwicker 1961, Journal of the Acoustical Society of America).
BAND_HZ = np.array([50, 150, 250, 350, 450, 570, 700, 840, 1000, 1170, 1370, 1600, 1850, 2150, 2500, 2900, 3400, 4000,
                    4800, 5800, 7000, 8500, 10500, 13500], dtype=float)
WIDTH_HZ = np.array([100, 100, 100, 100, 110, 120, 140, 150, 160, 190, 210, 240, 280, 320, 380, 450, 550, 700, 900,
                     1100, 1300, 1800, 2500, 3500], dtype=float)
FRAME, HOP = 4096, 2048  # samples
MOST_FRAMES = 64  # the loudest of the wanted sound
AT_ONCE = 256  # frames through the ear, of several cuts together
HEARD_SHARE = 0.02  # of its loudest frame's loudness, under which a frame does not count
TRIED_DB = -6.0  # what every band is cut by to be compared
DEPTHS_DB, ALL_DB = (-3.0, -6.0, -9.0, -12.0), -18.0  # cuts that are proposed, and one that frees what a cut can
ENOUGH = 0.7  # of that, which the proposed cut frees
HARDLY = 0.1  # of the wanted sound's loudness: hidden by less it is not hidden
SHORTEST_S = 0.1


@dataclass(frozen=True, slots=True)
class Cut:
    """A peak turned down in the sound that hides: frees gained_sone of the wanted one's loudness."""

    band: int
    frequency_hz: float
    gain_db: float
    q: float
    gained_sone: float

    @property
    def section(self) -> Section:
        return peak(self.frequency_hz, self.gain_db, self.q)


@dataclass(frozen=True, slots=True, eq=False)
class Masking:
    """Means over the frames in which the wanted sound is heard. alone_sone and audible_sone: its loudness by itself and
    what is left of it beside the other; alone and audible (b,) the same of each of the ear's bands, sone; gained_sone
    (b,): what the trial cut in each band frees; cut: the one to take, None where hardly anything is hidden or no cut
    frees it."""

    alone_sone: float
    audible_sone: float
    alone: FloatArray
    audible: FloatArray
    gained_sone: FloatArray
    cut: Cut | None

    @property
    def hidden_share(self) -> float:
        """Of the wanted sound's loudness."""
        return max(1 - self.audible_sone / self.alone_sone, 0.0)

    def finding(self, wanted: str, other: str) -> Finding:
        """wanted, other: what they are, in words."""
        cut = self.cut
        found = (None,) * 4 if cut is None else (cut.frequency_hz, cut.gain_db, cut.q, cut.gained_sone)
        return Finding("hidden_percent", 100 * self.hidden_share, "%", measured=False,
                       context=HiddenBy(wanted, other, self.alone_sone, self.audible_sone, *found))


def masking(wanted: FloatArray, other: FloatArray, sample_rate_hz: float) -> Masking:
    """As masking_steps ends with."""
    result: Masking | None = None
    for step in masking_steps(wanted, other, sample_rate_hz):
        if isinstance(step, Masking):
            result = step
    assert result is not None
    return result


def masking_steps(
    wanted: FloatArray, other: FloatArray, sample_rate_hz: float, level_db: float = LISTENING_DB
) -> Iterator[Progress | Masking]:
    """wanted (n,) and other (m,) as they are mixed, both beginning at once; together they are listened to at level_db
    (ITU-R BS.1770, re 20 µPa). Raises MeasurementError for a sound that is silent or too short to be heard."""
    for name, sound in (("wanted", wanted), ("other", other)):
        if sound.size < SHORTEST_S * sample_rate_hz:
            raise MeasurementError(f"The {name} sound is only {sound.size / sample_rate_hz:.3g} s long; give at least "
                                   f"{SHORTEST_S:g} s.")
        if not np.isfinite(sound).all():
            raise MeasurementError(f"The {name} sound holds samples that are not numbers; export it again.")
        if not np.abs(sound).max(initial=0.0) > 0:
            raise MeasurementError(f"The {name} sound is silent; choose another, or raise its level.")
    size = max(wanted.size, other.size)
    wanted, other = (np.pad(sound, (0, size - sound.size)) for sound in (wanted, other))
    loudness = loudness_lufs(np.tile(wanted + other, max(1, -(-round(sample_rate_hz) // size))), sample_rate_hz)
    if loudness is None:
        raise MeasurementError("Both sounds together are too soft to be heard; raise their level.")
    # 0 LUFS is what a sine of full scale at 997 Hz has less 3.01 dB, as loud as that in pascals.
    scale = REFERENCE_PA * 10 ** ((level_db - loudness) / 20)
    yield Progress("Listening to the wanted sound alone", 0.02)
    first, second = (_frames(scale * sound, sample_rate_hz) for sound in (wanted, other))
    alone = _specific(first)
    total = alone.sum(axis=0)
    heard = np.flatnonzero(total > HEARD_SHARE * total.max(initial=0.0))
    if not heard.size:
        raise MeasurementError("The wanted sound is too soft to be heard beside the other; raise its level.")
    heard = np.sort(heard[np.argsort(total[heard])[::-1][:MOST_FRAMES]])
    first, second, alone = first[:, heard], second[:, heard], alone[:, heard]

    def audible(cuts: list[Section | None]) -> FloatArray:
        """(cuts, 240, f) a tenth of a Bark each."""
        checkpoint()
        left = [second if cut is None else cut.gain(_HERTZ)[:, np.newaxis] * second for cut in cuts]
        both = _specific(np.concatenate([lines for one in left for lines in (first + one, one)], axis=1))
        together, other_alone = np.moveaxis(both.reshape(240, len(cuts), 2, -1), 0, 2).swapaxes(0, 1)
        return np.asarray(np.clip(together - other_alone, 0.0, None))

    def loud(specific: FloatArray) -> FloatArray:
        """Of (…, 240, f)."""
        return np.asarray(0.1 * specific.sum(axis=-2).mean(axis=-1))

    uncut = audible([None])[0]
    begun = float(loud(uncut))
    gained = np.zeros(BAND_HZ.size)
    at_once = max(AT_ONCE // heard.size, 1)
    for start in range(0, BAND_HZ.size, at_once):
        bands = range(start, min(start + at_once, BAND_HZ.size))
        yield Progress(f"Cutting {BAND_HZ[start]:.0f} Hz", 0.05 + 0.85 * start / BAND_HZ.size)
        gained[bands] = loud(audible([_cut(band, TRIED_DB) for band in bands])) - begun
    best, chosen = int(np.argmax(gained)), None
    if begun < (1 - HARDLY) * loud(alone) and gained[best] > 0:
        yield Progress("How deep", 0.92)
        *frees, most = loud(audible([_cut(best, depth_db) for depth_db in (*DEPTHS_DB, ALL_DB)])) - begun
        which = next((i for i, one in enumerate(frees) if one >= ENOUGH * most), len(DEPTHS_DB) - 1)
        chosen = Cut(best, float(BAND_HZ[best]), DEPTHS_DB[which], _q(best), float(frees[which]))
    yield Masking(float(loud(alone)), begun, _in_bands(alone), _in_bands(uncut), gained, chosen)


_HERTZ: FloatArray = np.asarray(np.fft.rfftfreq(FRAME, 1 / EAR_RATE_HZ), dtype=float)


def _q(band: int) -> float:
    return float(BAND_HZ[band] / WIDTH_HZ[band])


def _cut(band: int, gain_db: float) -> Section:
    return peak(float(BAND_HZ[band]), gain_db, _q(band))


def _frames(pressure_pa: FloatArray, sample_rate_hz: float) -> ComplexArray:
    """(lines, f) by Hann's window, scaled so that the squares of a frame sum to its mean square."""
    if sample_rate_hz != EAR_RATE_HZ:
        common = np.gcd(round(sample_rate_hz), round(EAR_RATE_HZ))
        up, down = round(EAR_RATE_HZ) // common, round(sample_rate_hz) // common
        pressure_pa = scipy.signal.resample_poly(pressure_pa, up, down)
    padded = np.pad(pressure_pa, (FRAME // 2, FRAME))
    pieces = np.lib.stride_tricks.sliding_window_view(padded, FRAME)[::HOP]
    window = np.hanning(FRAME + 1)[:-1]
    return np.asarray(rfft(pieces * window, axis=1).T * np.sqrt(2 / (FRAME * np.sum(window**2))))


def _specific(lines: ComplexArray) -> FloatArray:
    """(240, f) sone a Bark."""
    from mosqito import loudness_zwst_freq

    with warnings.catch_warnings(), np.errstate(divide="ignore"):
        warnings.simplefilter("ignore")
        _, specific, _ = loudness_zwst_freq(np.abs(lines), _HERTZ)
    return np.asarray(specific, dtype=float)


def _in_bands(specific: FloatArray) -> FloatArray:
    """(24,) sone of each of the ear's bands, mean over the frames."""
    return np.asarray(0.1 * specific.mean(axis=1).reshape(BAND_HZ.size, -1).sum(axis=1))
