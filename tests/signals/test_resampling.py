"""Interpolation and decimation against functions known between their samples."""

import numpy as np
import pytest

from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, at_positions, decimated, interpolated, taken_at

COUNT = 4000


def tone(positions, turns):
    return np.sin(2 * np.pi * turns * positions)


@pytest.mark.parametrize("turns", [0.01, 0.2, 0.45, 0.48])
@pytest.mark.parametrize("factor", [1, 2, 8])
def test_interpolation_finds_the_tone_between_its_samples(turns, factor):
    found = interpolated(tone(np.arange(COUNT), turns), factor, 1000, 3000)
    assert found.size == 2000 * factor + 1
    assert np.abs(found - tone(1000 + np.arange(found.size) / factor, turns)).max() < 2e-6


def test_outside_the_record_is_silence_or_its_last_value():
    record = np.full(2000, 3.0)
    assert np.abs(interpolated(record, 2, 2600, 2700)).max() == 0
    held = interpolated(record, 2, 2600, 2700, hold_end=True)
    assert held == pytest.approx(np.full(201, 3.0), abs=1e-7)


@pytest.mark.parametrize("factor", [2, 4, 16])
def test_decimation_keeps_the_band_and_stops_what_would_fold(factor):
    half = DECIMATION_HALF_LENGTH
    positions = np.arange((600 + 2 * half) * factor) / factor
    inside, outside = tone(positions, 0.4), tone(positions, 0.62)
    kept = decimated(np.stack([inside, outside]), factor)
    assert kept.shape == (2, 600)
    assert np.abs(kept[0] - tone(half + np.arange(600), 0.4)).max() < 2e-6
    if factor > 1:
        assert np.abs(kept[1]).max() < 2e-6


def test_values_at_any_position():
    fine = interpolated(tone(np.arange(COUNT), 0.31), 8, 0, COUNT)
    positions = np.linspace(800.3, 3000.7, 999)
    assert np.abs(at_positions(fine, positions * 8) - tone(positions, 0.31)).max() < 2e-5
    assert at_positions(fine, np.array([-50.0, 1e9])).tolist() == [0, 0]


@pytest.mark.parametrize("turns", [0.003, 0.2, 0.42, 0.48])
@pytest.mark.parametrize("ratio", [1 + 80e-6, 1 - 950e-6, 44_100 / 48_000])
def test_another_clock_takes_what_lies_between_the_samples(turns, ratio):
    positions = 400.37 + np.arange(2900) * ratio
    assert np.abs(taken_at(tone(np.arange(COUNT), turns), positions) - tone(positions, turns)).max() < 3e-6


def test_a_sample_taken_where_it_stands_is_itself_and_outside_a_record_is_silence():
    record = np.random.default_rng(3).standard_normal(700)
    assert taken_at(record, np.arange(700.0)) == pytest.approx(record, abs=1e-12)
    assert taken_at(record, np.array([-300.0, -128.5, 828.0, 1e9, -1e9])).tolist() == [0] * 5


def test_a_long_record_is_taken_in_pieces_without_a_seam():
    turns, positions = 0.11, 500.5 + np.arange(600_000) * (1 + 1e-5)
    found = taken_at(tone(np.arange(601_100), turns), positions)
    assert np.abs(found - tone(positions, turns)).max() < 3e-6
