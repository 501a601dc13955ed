"""What rings add to tones, and what of a recording they are, against all of it sent through at once."""

import numpy as np
import pytest
from scipy.fft import next_fast_len

from jiyuu.measurement.tones_found import tones_of
from jiyuu.measurement.tones_heard import heard_tone, steady_part
from jiyuu.measurement.tones_ringing import Rings
from jiyuu.signals.stimuli import tones_stimulus

RATE = 24_000.0
STIMULUS = tones_stimulus(level_v=0.7, sample_rate_hz=RATE, from_hz=50.0, to_hz=9000.0, per_octave=3)
PLACES = tones_of(STIMULUS, RATE)
PITCHES = 50.0 * 2 ** (np.arange(len(PLACES)) / 3)
FOLLOWED = 28.0  # until no ring is left that could come round


def through(pole, residue, delay_s):
    """(what is recorded of the stimulus behind a pair of poles and a delay, its gains at the pitches)."""
    size = next_fast_len(STIMULUS.size + round(FOLLOWED / -pole.real * RATE))

    def gain(hertz):
        s = 2j * np.pi * hertz
        return (residue / (s - pole) + np.conj(residue) / (s - np.conj(pole))) * np.exp(-s * delay_s)

    spectrum = np.fft.rfft(STIMULUS, size) * gain(np.fft.rfftfreq(size, 1 / RATE))
    return np.fft.irfft(spectrum, size)[: STIMULUS.size], gain(PITCHES)


def heard(record):
    return [heard_tone(STIMULUS, record, place, 0, hertz, RATE) for place, hertz in zip(PLACES, PITCHES, strict=True)]


@pytest.mark.parametrize(("hertz", "dies_per_s", "delay_s"), [
    (160.0, 2.0, 0.0), (51.3, 9.0, 2.3e-4), (1268.0, 1.0, -1.7e-3), (8053.0, 2.0, 0.0),
])
def test_rings_add_to_every_tone_what_a_recording_of_all_of_it_shows(hertz, dies_per_s, delay_s):
    pole, residue = complex(-dies_per_s, 2 * np.pi * hertz), complex(300.0, 120.0)
    record, steady = through(pole, residue, delay_s)
    tones = heard(record)
    rings = Rings.of(STIMULUS, PLACES, tones, RATE)
    poles, residues = np.array([pole, np.conj(pole)]), np.array([residue, np.conj(residue)])
    assert rings.last(poles)
    added = np.array([tone.gain for tone in tones]) - steady
    assert np.abs(added).max() > 0.05 * np.abs(steady).max()
    assert np.abs(rings.added(poles, residues, delay_s, 0.0) - added).max() < 1e-7 * np.abs(added).max()
    # Less their own waves nothing is left but tones.
    delays_s = np.full(len(tones), delay_s)
    for tone, wave_v, gain in zip(tones, rings.waves_v(poles, residues, delays_s), steady, strict=True):
        alone = tone.less(wave_v, RATE)
        assert abs(alone.gain - gain) < 1e-8 * np.abs(steady).max()
        assert alone.noise_v < 1e-8 * max(tone.noise_v, np.abs(record).max())


def test_rings_of_a_recording_that_was_turned_back_and_is_fast_are_heard_where_they_came():
    pole, residue, fast, ahead_s = complex(-9.0, 2 * np.pi * 300.0), complex(200.0, -50.0), 30e-6, 1.1e-3
    middle_s = np.array([0.5 * (steady_part(place).start + steady_part(place).stop) / RATE for place in PLACES])
    sounds_s = middle_s - middle_s.mean()
    gains, some = [], np.arange(0, len(PLACES), 4)
    for which in some:  # each as late as the clock had it by then
        record, steady = through(pole, residue, ahead_s + fast * sounds_s[which])
        turn = np.exp(2j * np.pi * PITCHES[which] * ahead_s)
        gains.append((heard(record)[which].gain - steady[which]) * turn)
    rings = Rings.of(STIMULUS, PLACES, heard(record), RATE).turned(np.full(len(PLACES), ahead_s), sounds_s)
    added = rings.added(np.array([pole, np.conj(pole)]), np.array([residue, np.conj(residue)]), 0.0, fast)
    assert np.abs(added[some] - gains).max() < 1e-7 * np.abs(gains).max()
