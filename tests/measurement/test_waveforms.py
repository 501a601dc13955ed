"""What a waveform says of its own recording, and rings taken apart, each on waves whose truth is written down."""

import numpy as np
import pytest

from jiyuu.measurement.mains_hum import hum_in
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.ring_fit import basis, block_for, fit_ring, guessed, in_blocks
from jiyuu.measurement.tones_between import GainStep
from jiyuu.measurement.waveform_faults import (
    at_full_scale,
    clipping,
    noise_beside_v,
    quantisation,
    recorded_part,
    rounded_v,
    sounding_part,
    step_of,
)
from jiyuu.wording.notices import notice_sentence, notices_head, notices_json
from tests.trials import some

RATE = 48_000
T = np.arange(2 * RATE) / RATE
TONE = np.sin(2 * np.pi * 441.3 * T)
NOISE = np.random.default_rng(1).normal(0, 1e-4, T.size)


# Flat tops and steps


@pytest.mark.parametrize(("share", "noise_v"), [(0.99, 0.0), (0.9, 0.0), (0.6, 0.0), (0.9, 1e-4)])
def test_flat_tops_are_found_with_or_without_noise_on_them(share, noise_v):
    wave = np.clip(TONE, -share, share) + noise_v * np.random.default_rng(2).standard_normal(T.size)
    notice, flat = clipping(wave, noise_v)
    assert notice is not None
    assert notice.fault is Fault.CLIPPED
    stands = np.abs(TONE) >= share
    found = notice.facts["share_percent"] / (100 * stands.mean())
    assert (0.5 if noise_v else 0.8) < found < 1.1  # noise lifts some of a flat top above the rest
    assert (flat & ~stands).mean() < 0.02


@pytest.mark.parametrize("made", [lambda: TONE, lambda: TONE + NOISE, lambda: np.tanh(3 * TONE),
                                  lambda: np.round(TONE * 2**15) / 2**15, lambda: np.round(TONE * 200) / 200])
def test_rounded_tops_and_coarse_ones_are_none(made):
    assert clipping(made())[0] is None


def test_clipped_on_one_side_alone_is_clipped():
    notice, flat = clipping(np.minimum(TONE + 0.2, 0.9))
    assert notice is not None
    assert not (flat & (TONE < 0.5)).any()


@pytest.mark.parametrize("bits", [12, 16, 24])
def test_the_step_of_a_record_is_that_it_was_rounded_to(bits):
    step = 2.0**-bits
    rounded = np.round((TONE + NOISE) / step) * step
    assert step_of(rounded) == pytest.approx(step, rel=1e-6)
    assert step_of(TONE + NOISE) is None
    assert step_of(np.zeros(10)) is None


def test_only_what_is_of_few_steps_is_called_coarse():
    whole = slice(0, T.size)
    fine, coarse = np.round(TONE * 1000) / 1000, np.round(TONE * 20) / 20
    assert quantisation(fine, whole)[1] is None
    step, notice = quantisation(coarse, whole)
    assert step == pytest.approx(0.05)
    assert notice is not None
    assert notice.facts["steps"] == pytest.approx(np.sqrt(0.5) * 20, rel=0.01)


@pytest.mark.parametrize("steps", [0.3, 2.0, 30.0])
def test_rounding_moves_a_line_by_no_more_than_is_said(steps):
    """Of sines of any phase, whose line is read again behind a rounding without noise."""
    moved = []
    for phase in np.linspace(0, 2 * np.pi, 40):
        sine = steps * np.sin(2 * np.pi * 1000.03 * T + phase)
        line = 2 * np.mean(np.round(sine) * np.exp(-1j * (2 * np.pi * 1000.03 * T + phase))) * 1j
        moved.append(abs(abs(line) - steps))
    assert max(moved) < 1.1 * rounded_v(steps, np.sqrt(1 / 12), 1.0) + 1e-3
    assert rounded_v(steps, 2.0, 1.0) < 1e-20 + 0.5 * np.exp(-60)  # noise of two steps takes it away
    assert rounded_v(steps, 0.0, 0.0) == 0.0


def test_where_a_recorder_is_full_is_found_and_what_is_flat_below_it_is_not():
    full = np.clip(2 * TONE, -1, 1)
    first = at_full_scale(full, 1.0)
    assert first is not None
    assert abs(full[first : first + 3]).min() == 1.0
    assert at_full_scale(0.8 * full, 1.0) is None
    assert at_full_scale(3 * TONE, 1.0) is None  # this one goes past its end


# Ends and silences


def test_what_was_never_recorded_is_left_out():
    record = TONE + NOISE
    record[:5000] = record[-9000:] = 0.25
    part = recorded_part(record, RATE)
    assert part.start == pytest.approx(5000, abs=1)
    assert part.stop == pytest.approx(T.size - 9000, abs=1)
    assert recorded_part(np.zeros(100), RATE) == slice(0, 100)
    assert recorded_part(TONE + NOISE, RATE) == slice(0, T.size)


def test_a_steady_sound_is_cut_out_of_its_silence():
    record = NOISE + np.where((T > 0.5) & (T < 1.5), TONE, 0.0)
    part = sounding_part(record, RATE)
    assert 0.5 * RATE <= part.start < 0.56 * RATE
    assert 1.44 * RATE < part.stop <= 1.5 * RATE


def test_rings_are_no_noise():
    ring = sum(np.exp(-12 * T) * np.sin(2 * np.pi * hertz * T) for hertz in (300.0, 1711.0))
    assert 0.8e-4 < noise_beside_v(ring[:4800] + NOISE[:4800]) < 3e-4  # what foretells a ring carries noise of its own
    assert noise_beside_v(ring[:4800]) < 1e-9
    assert noise_beside_v(ring[:10]) == 0.0


@pytest.mark.parametrize("mains_hz", [49.96, 60.02])
def test_hum_is_found_with_its_lines(mains_hz):
    hum = 3e-3 * np.cos(2 * np.pi * mains_hz * T) + 1e-3 * np.sin(6 * np.pi * mains_hz * T)
    found = hum_in(hum + NOISE, [slice(0, T.size)], RATE)
    assert found is not None
    assert found.mains_hz == pytest.approx(mains_hz, abs=0.002)
    assert np.std(found.wave_v(T.size, RATE) - hum) < 3e-5
    assert found.peak_v == pytest.approx(np.hypot(3e-3, 1e-3), rel=0.01)
    assert hum_in(NOISE, [slice(0, T.size)], RATE) is None
    assert hum_in(hum, [slice(0, 1000)], RATE) is None  # too short to tell
    # Hum that is known is taken from where noise hides it too.
    loud = 0.02 * np.random.default_rng(3).standard_normal(T.size)
    assert hum_in(0.1 * hum + loud, [slice(0, T.size)], RATE) is None
    again = hum_in(0.1 * hum + loud, [slice(0, T.size)], RATE, found)
    assert again is not None
    assert [harmonic for harmonic, _, _ in again.lines] == [harmonic for harmonic, _, _ in found.lines]


@pytest.mark.parametrize("silences_s", some([
    [(0.0, 0.495), (5.81, 5.995), (11.9, 12.48)], [(0.0, 0.495), (2.81, 2.99), (5.9, 6.48)],
    [(0.0, 0.99), (30.4, 30.99), (61.0, 62.0)],
], 1, long=3))
def test_hum_heard_between_sweeps_has_its_own_pitch_and_not_one_a_turn_beside_it(silences_s):
    """Taken out at the other it would beat with itself, loudest where the sweeps are faint."""
    generator = np.random.default_rng(5)
    t = np.arange(round(silences_s[-1][1] * RATE)) / RATE
    noise = generator.normal(0, 1e-3, t.size)
    for mains_hz in (50.0, 49.93, 60.0, *generator.uniform(49.8, 50.2, 3)):
        hum = sum(2e-3 / n * np.sin(2 * np.pi * n * mains_hz * t + generator.uniform(0, 6)) for n in (1, 2, 3, 5))
        found = hum_in(hum + noise, [slice(round(a * RATE), round(b * RATE)) for a, b in silences_s], RATE)
        assert found is not None
        assert found.mains_hz == pytest.approx(mains_hz, abs=0.003)
        assert np.std(found.wave_v(t.size, RATE) - hum) < 1e-4


def test_hum_says_how_much_of_it_may_be_left():
    """In the passages between silences: of twelve recordings, by its lines and by a pitch that is a little off."""
    generator = np.random.default_rng(9)
    t = np.arange(round(6.5 * RATE)) / RATE
    silences = [slice(round(a * RATE), round(b * RATE)) for a, b in ((0.0, 0.495), (2.81, 2.99), (5.9, 6.48))]
    passages = np.concatenate([np.arange(round(a * RATE), round(b * RATE)) for a, b in ((0.5, 2.7), (3.0, 5.2))])
    left, stated = [], []
    for _ in range(12):
        mains_hz = generator.uniform(49.9, 50.1)
        hum = sum(2e-3 / n * np.sin(2 * np.pi * n * mains_hz * t + generator.uniform(0, 6)) for n in (1, 2, 3, 5))
        found = hum_in(hum + generator.normal(0, 1e-3, t.size), silences, RATE, wholly=True)
        left.append(np.mean((found.wave_v(t.size, RATE) - hum)[passages] ** 2))
        stated.append(sum(np.mean(one[passages] ** 2) for one in found.unsure_v(t.size, RATE)))
    assert 0.85 < np.sqrt(np.mean(left) / np.mean(stated)) < 1.1


# Rings


POLES = np.array([-40.0 + 1900.0j, -90.0 + 800.0j])
WHEN = np.arange(4000) / 4000.0


def ring(noise_v, seed=1):
    wave = basis(WHEN, POLES, np.array([30.0])) @ np.array([1.0, 0.4, -0.6, 0.2, 0.3, 0.05])
    return wave + np.random.default_rng(seed).normal(0, noise_v, WHEN.size)


def test_a_record_tells_its_own_poles_roughly_and_a_fit_to_the_digit():
    pairs, reals = guessed(WHEN, ring(1e-6), 1e-6)
    assert np.sort(pairs.imag) == pytest.approx([800.0, 1900.0], rel=1e-3)
    found = fit_ring(WHEN, ring(1e-6), 1e-6, pairs, reals)
    assert found is not None
    assert found.poles == pytest.approx(POLES, rel=1e-6)
    assert found.reals == pytest.approx([30.0], rel=1e-4)
    assert 0.9 < found.left < 1.1
    assert found.swinging == 2
    assert found.count == 6


def test_poles_scatter_by_their_covariance():
    apart = []
    for seed in range(24):
        found = fit_ring(WHEN, ring(1e-3, seed), 1e-3, POLES, np.array([30.0]))
        deviation = np.sqrt(np.diag(found.covariance)[:4])
        theta = np.log(np.stack([-found.poles.real, found.poles.imag], axis=1)).ravel()
        apart.append((theta - np.log(np.stack([-POLES.real, POLES.imag], axis=1)).ravel()) / deviation)
    assert np.std(apart) == pytest.approx(1.0, abs=0.2)


def test_too_few_points_are_no_ring():
    assert fit_ring(WHEN[:10], ring(1e-3)[:10], 1e-3, POLES, np.zeros(0)) is None
    assert fit_ring(WHEN, ring(1e-3), 1e-3, np.zeros(0, dtype=complex), np.zeros(0)) is None


def test_blocks_keep_poles_and_are_as_long_as_a_ring_allows():
    t, means = in_blocks(np.exp(-20 * T), RATE, 48)
    assert np.diff(t) == pytest.approx(np.full(t.size - 1, 1e-3))
    assert np.log(means[1:] / means[:-1]) == pytest.approx(np.full(t.size - 1, -0.02))
    assert block_for(100.0, RATE, 10_000) == 24
    assert block_for(5000.0, RATE, 10_000) == 1
    assert block_for(100.0, RATE, 10_000_000) > 24


# What is said


def test_a_step_of_gain_counts_from_its_place_in_the_order_of_playing():
    assert GainStep(2, 0.1, True).behind(5).tolist() == [0, 0, 0, 1, 1]
    assert GainStep(2, 0.1, False).behind(5).tolist() == [1, 1, 0, 0, 0]
    assert GainStep(0, np.log(2), True).raised_db == pytest.approx(6.0206, abs=1e-4)


@pytest.mark.parametrize("fault", Fault)
def test_every_fault_has_a_sentence_that_ends(fault):
    facts = {"db": -1.0, "ms": 12.0, "samples": 40.0, "hz": 12.5, "mains_hz": 50.02, "steps": 30.0}
    notice = Notice(fault, 1.25, facts)
    assert notice_sentence(notice).endswith(".")
    assert notices_head((notice,)) == [f"# {notice_sentence(notice)}"]
    (entry,) = notices_json((notice, notice))  # said once
    assert entry["code"] == fault.value
    assert entry["at_s"] == 1.25


@pytest.mark.parametrize(("facts", "words"), [
    ({"db": float("nan"), "tones": 1.0}, "has the curve of these tones"), ({"db": float("nan")}, "or be digital"),
    ({"db": 0.4, "measure_at_v": 0.1}, "measure at 0.1 V"),
])
def test_compression_says_what_was_seen_of_it(facts, words):
    assert words in notice_sentence(Notice(Fault.COMPRESSED, None, facts))
