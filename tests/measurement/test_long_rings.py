"""Filters that ring for as long as a passage lasts, or are heard in a narrow band only: nothing is wrong with their
recordings, and what is read of them holds within what is stated."""

import numpy as np
import pytest

from benchmarks.trust import DELAY_S, HUM, NOISE, PINK, RATE, SHORT, TONES, USUAL, WHITE, noise_of, stimulus_of
from jiyuu.measurement.alignment import find_passages
from jiyuu.measurement.clock_offset import clock_offset
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.response import measure_response
from tests.trials import some
from tests.truths import Made, exact, recorded

LADDER, PAIR = "transistor-ladder", "state-variable"


@pytest.mark.parametrize(("made", "kind", "ppm", "colour", "share"), some([
    # It rings for a second, and is loudest long after it begins.
    (Made(LADDER, "lowpass-24", 29.3, 3.83), USUAL, 26.7, WHITE, 1.5e-3),
    # It rings for ten times as long as a tone lasts, and most is noise; or beats so that some seem to break off.
    (Made(LADDER, "lowpass-12", 51.7, 3.9372), TONES, 0.0, WHITE, 8.1e-3),
    (Made(LADDER, "lowpass-24", 39.8, 3.8525), TONES, -18.6, WHITE, 5.4e-4),
    # All that it does is done at the band's end: what it is shows an octave beyond.
    (Made(PAIR, "bandpass", 27.2, 1.8712), TONES, 74.6, WHITE, 3.6e-4),
    (Made(LADDER, "highpass-12", 26.9, 3.8424), USUAL, -33.8, HUM, 1.3e-4),
    (Made(PAIR, "notch", 25.2, 0.3069), NOISE, 0.0, WHITE, 1.2e-3),
    (Made(PAIR, "lowpass", 15000.0, 1.9), USUAL, 0.0, WHITE, 1e-3),
    (Made(LADDER, "bandpass-24", 10422.8, 3.8184), NOISE, 34.0, HUM, 7.3e-5),
    # Of four poles two stand beyond the band.
    (Made("diode-ladder", "lowpass-24", 10360.2, 0.0692), TONES, 0.0, WHITE, 3.4e-4),
    # What the pitch of tones tells of the clocks is pulled by it; the tones together tell them.
    (Made(LADDER, "lowpass-24", 207.5, 3.877), TONES, 0.0, WHITE, 3.5e-3),
    (Made(LADDER, "lowpass-24", 41.8, 3.8765), USUAL, 89.7, PINK, 5e-4),
    # Hum that is heard clearly ahead of the first sweep only; tones that seem to be those of three poles.
    (Made(LADDER, "bandpass-24", 101.7, 3.9336), SHORT, 28.5, HUM, 8.9e-5),
    (Made(LADDER, "highpass-12", 31.9, 3.8879), TONES, -48.4, WHITE, 4.8e-3),
    # A peak that hides what tells the clocks; a ring that goes on until the second passage begins.
    (Made(LADDER, "highpass-12", 41.8, 3.9341), USUAL, -35.5, WHITE, 4.9e-3),
    (Made(LADDER, "bandpass-24", 45.6, 3.958), USUAL, 0.0, WHITE, 8e-4),
    # It rings at the mains' own pitch, on into the silences by which that is told.
    (Made(LADDER, "lowpass-12", 50.4, 3.8878), USUAL, 0.0, HUM, 5.4e-4),
    # A ring that its gate cuts turns once from bin to bin; one that is far louder than hum hides it.
    (Made(LADDER, "lowpass-24", 118.1, 3.8471), SHORT, 0.0, WHITE, 2.6e-4),
    (Made("diode-ladder", "lowpass-24", 34.5, 16.7902), SHORT, 0.0, HUM, 7.3e-4),
    # It still rings, louder than anything else, when the sweep comes again: where, only what is faint tells.
    (Made(LADDER, "highpass-12", 41.8, 3.9478), SHORT, 0.0, PINK, 5.5e-4),
    # Noise that looks like a zero beyond the band.
    (Made(LADDER, "lowpass-12", 155.8, 2.0726), TONES, 0.0, PINK, 7.9e-3),
    # It rings on for longer than a passage of noise and all that is looked at behind it; is found 13 ms late; is level.
    (Made(LADDER, "highpass-24", 33.3, 3.7715), NOISE, 0.0, WHITE, 1.3e-4),
    (Made(PAIR, "bandpass", 36.0, 1.8791), NOISE, 0.0, WHITE, 2.2e-4),
    (Made("diode-ladder", "lowpass-24", 10912.2, 0.3277), NOISE, 0.0, HUM, 5.9e-3),
    # Of noise in a narrow band few moments tell something of their own.
    (Made(PAIR, "lowpass", 28.6, 1.9609), NOISE, 7.7, PINK, 2.1e-4),
    # It grows so fast as a sweep comes near that one passage is most like a later part of the other.
    (Made(PAIR, "highpass", 514.9, 1.8314), SHORT, 68.4, WHITE, 1.7e-4),
    # It still rings when noise begins again.
    (Made("diode-ladder", "lowpass-24", 26.0, 15.14), NOISE, 0.0, WHITE, 4e-4),
    (Made(LADDER, "lowpass-24", 80.3, 3.8896), NOISE, 0.0, HUM, 6.7e-3),
    (Made(LADDER, "lowpass-12", 244.7, 3.3541), TONES, 13.0, WHITE, 2e-3),
    # Two zeros in one place between four poles.
    (Made(LADDER, "lowpass-12", 9788.6, 2.4835), USUAL, 3.7, WHITE, 5e-3),
    # Tones that beat with it are not broken off.
    (Made(PAIR, "notch", 282.1, 1.966), TONES, -6.4, WHITE, 5e-4),
    (Made(PAIR, "bandpass", 89.3, 1.922), TONES, 70.9, WHITE, 1.1e-4),
    (Made(LADDER, "highpass-12", 8295.7, 2.5672), SHORT, 21.9, PINK, 5e-3),
    (Made(LADDER, "lowpass-12", 12215.8, 3.5625), NOISE, -57.6, PINK, 6e-5),
    # A period later it is as like itself as where it belongs.
    (Made(PAIR, "bandpass", 13818.8, 1.9632), USUAL, -70.1, WHITE, 2.3e-4),
    # What hum leaves of a mean is no offset.
    (Made(LADDER, "bandpass-24", 78.8, 1.6403), USUAL, 0.0, HUM, 3e-4),
    # Tones to which a rational fit finds no way, or finds one with poles that are a delay.
    (Made("diode-ladder", "lowpass-24", 11179.5, 7.7756), TONES, 84.7, WHITE, 9.5e-5),
    (Made("diode-ladder", "lowpass-24", 31.6, 3.8471), TONES, 0.0, WHITE, 7.6e-3),
    (Made(PAIR, "bandpass", 29.8, 1.8261), TONES, -62.8, WHITE, 5.4e-5),
    # Far under its peak a passband is no slope towards zeros at 0.
    (Made(LADDER, "lowpass-12", 11558.8, 3.8949), TONES, -19.5, PINK, 7.1e-3),
    # The third harmonic of a tone is not where mains hums, nor a ring mains because it beats like it.
    (Made("diode-ladder", "lowpass-24", 55.4, 6.7357), TONES, 0.0, HUM, 6.6e-3),
    (Made(LADDER, "highpass-12", 432.4, 3.7365), TONES, 68.0, HUM, 1.6e-4),
    # What is loudest comes long after it was played.
    (Made(LADDER, "bandpass-24", 49.2, 1.7065), NOISE, 0.0, WHITE, 6.3e-4),
    # Noise explains a ring that no window can follow; peaks that are played twice are as high both times.
    (Made(LADDER, "bandpass-24", 167.8, 3.9527), NOISE, 58.4, HUM, 8.6e-4),
    (Made(LADDER, "highpass-24", 13918.4, 3.7738), NOISE, 0.0, HUM, 6.6e-3),
    # Forty steps towards it are too few.
    (Made(LADDER, "highpass-12", 13305.2, 1.3497), USUAL, -65.0, WHITE, 7.9e-3),
], 0, long=45))
def test_nothing_is_wrong_with_it_and_what_is_read_holds(made, kind, ppm, colour, share):
    stimulus = stimulus_of(kind)
    clean = recorded(made, stimulus, RATE, delay_s=DELAY_S, ppm=ppm, rings_s=20)
    level_v = share * float(np.sqrt(np.mean(clean[: stimulus.size][stimulus != 0] ** 2)))
    found = measure_response(stimulus, clean + noise_of(colour, clean.size, level_v, np.random.default_rng(3)), RATE)
    read = read_response(found)
    assert {notice.fault for notice in read.notices} <= ({Fault.HUM} if colour == HUM else set())
    assert found.network is not None
    assert read.reading.kind.value == made.mode.split("-")[0]
    truth = exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    errors = {name: (getattr(read.reading, name) - truth[name], read.uncertainty[name]) for name, _ in READ_FROM_CURVE
              if name in read.uncertainty and name in truth}
    errors["latency"] = found.latency_s.value - DELAY_S, found.latency_s.uncertainty
    assert len(errors) > 3
    assert all(abs(error) < 2 * stated for error, stated in errors.values()), errors


@pytest.mark.parametrize("share", some([1e-5, 1e-3], 1, long=2))
def test_two_sweeps_tell_the_clocks_where_a_ring_goes_on_from_one_into_the_other(share):
    made, ppm = Made(LADDER, "highpass-24", 32.8, 3.9321), 41.1
    stimulus = stimulus_of(SHORT)
    clean = recorded(made, stimulus, RATE, delay_s=DELAY_S, ppm=ppm, rings_s=20)
    passages, place = find_passages(stimulus), round((0.5 + DELAY_S) * RATE)
    off = []
    for seed in range(4):
        noise = np.random.default_rng(seed).normal(0.0, share * clean.std(), clean.size)
        found = clock_offset(clean + noise, passages, place, RATE)
        assert found.standard_ppm < 1e-4
        off.append((found.ppm - ppm) / found.standard_ppm)
    assert np.sqrt(np.mean(np.square(off))) < 1.9  # by chance in one of two hundred
