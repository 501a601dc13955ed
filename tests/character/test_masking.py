"""Masking against what trying every cut on the sounds themselves says, by a filter and a loudness of their own."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from scipy.signal import bilinear, butter, lfilter, sosfilt

from jiyuu.character.masking import BAND_HZ, TRIED_DB, WIDTH_HZ, masking
from jiyuu.errors import MeasurementError
from jiyuu.measurement.levels import loudness_lufs
from tests.trials import some

RATE = 48_000
PASCALS = 20e-6 * 10 ** (70 / 20)


def knock(hertz: float = 55.0, seconds: float = 0.4) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.sin(2 * np.pi * hertz * (t + 0.075 * (1 - np.exp(-t / 0.025)))) * np.exp(-t / 0.16)


def rush(low_hz: float, high_hz: float, level: float, seconds: float = 0.4) -> np.ndarray:
    noise = np.random.default_rng(4).standard_normal(round(seconds * RATE))
    return level * sosfilt(butter(2, [low_hz, high_hz], "band", fs=RATE, output="sos"), noise)


def tone(hertz: float, level: float, seconds: float = 0.4) -> np.ndarray:
    return level * np.sin(2 * np.pi * hertz * np.arange(round(seconds * RATE)) / RATE)


def specific(sound: np.ndarray) -> np.ndarray:
    """(240, f) by the library's own third-octave filters in time."""
    from mosqito import loudness_zwst_perseg

    with warnings.catch_warnings(), np.errstate(divide="ignore"):
        warnings.simplefilter("ignore")
        return loudness_zwst_perseg(sound, RATE, nperseg=8192, noverlap=4096)[1]


def audible(wanted: np.ndarray, other: np.ndarray) -> float:
    return float(np.clip(specific(wanted + other) - specific(other), 0, None).mean(axis=1).sum())


def cut(sound: np.ndarray, band: int, gain_db: float) -> np.ndarray:
    """The peak (s² + sωA/Q + ω²)/(s² + sω/(AQ) + ω²), brought to time by the bilinear rule."""
    hertz, q, a = BAND_HZ[band], BAND_HZ[band] / WIDTH_HZ[band], 10 ** (gain_db / 40)
    omega = 2 * RATE * np.tan(np.pi * hertz / RATE)
    return lfilter(*bilinear([1, omega * a / q, omega**2], [1, omega / (a * q), omega**2], RATE), sound)


PAIRS = {
    "knock under a low rush": (knock(), rush(120, 300, 1.5)),
    "tone beside a tone": (tone(1100, 0.05), tone(1000, 0.5)),
    "bell under a high rush": (tone(3100, 0.04), rush(2500, 6000, 0.4)),
}


@pytest.mark.long
@pytest.mark.parametrize("pair", some(PAIRS, 1))
def test_the_band_named_is_the_one_whose_cut_frees_most(pair):
    wanted, other = PAIRS[pair]
    found = masking(wanted, other, RATE)
    scale = PASCALS / 10 ** (loudness_lufs(np.tile(wanted + other, 3), RATE) / 20)
    assert found.cut is not None
    every = pair == "knock under a low rush"  # else those that come near it
    tried = range(BAND_HZ.size) if every else range(found.cut.band - 3, found.cut.band + 4)
    freed = [audible(scale * wanted, scale * cut(other, band, TRIED_DB)) for band in tried]
    assert found.cut.band == tried[int(np.argmax(freed))]
    assert found.cut.gained_sone > 0
    assert found.hidden_share == pytest.approx(1 - audible(scale * wanted, scale * other) / (
        specific(scale * wanted).mean(axis=1).sum()), abs=0.1)


@pytest.mark.long
def test_loudness_alone_is_the_standards():
    """1 kHz at 70 dB is 8 sone (ISO 532-1: twice as loud every 10 dB, 1 sone at 40 dB)."""
    found = masking(tone(1000, 1.0, 2.0), tone(12_000, 1e-6, 2.0), RATE)
    assert found.alone_sone == pytest.approx(8.0, rel=0.03)
    assert found.audible_sone == pytest.approx(found.alone_sone, rel=0.01)
    assert found.cut is None


@pytest.mark.long
def test_louder_together_is_scaled_away_and_the_rate_does_not_matter():
    wanted, other = PAIRS["knock under a low rush"]
    found, louder = masking(wanted, other, RATE), masking(30 * wanted, 30 * other, RATE)
    assert louder.alone_sone == pytest.approx(found.alone_sone, rel=1e-6)
    assert louder.gained_sone == pytest.approx(found.gained_sone, abs=1e-6)
    from scipy.signal import resample_poly

    slower = masking(resample_poly(wanted, 147, 160), resample_poly(other, 147, 160), 44_100)
    assert slower.cut == pytest.approx(found.cut) if slower.cut is None else slower.cut.band == found.cut.band
    assert slower.audible_sone == pytest.approx(found.audible_sone, rel=0.05)


def test_the_deeper_cut_is_proposed_only_where_it_frees_more():
    """Of a tone that lies right on the other a shallow cut frees nothing to speak of; far under it one does."""
    near = masking(tone(1000, 0.02), rush(900, 1100, 0.5), RATE)
    assert near.cut is not None
    assert near.cut.gain_db in (-9.0, -12.0)


def test_sounds_that_cannot_be_judged():
    wanted = knock()
    with pytest.raises(MeasurementError, match="other sound is silent"):
        masking(wanted, np.zeros(wanted.size), RATE)
    with pytest.raises(MeasurementError, match=r"wanted sound is only 0.01 s"):
        masking(wanted[:480], wanted, RATE)
    with pytest.raises(MeasurementError, match="not numbers"):
        masking(wanted, np.full(wanted.size, np.nan), RATE)
    with pytest.raises(MeasurementError, match="too soft to be heard beside"):
        masking(1e-9 * wanted, wanted, RATE)
