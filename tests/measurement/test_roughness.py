"""Roughness is what a library's loops over every line and band find, and says nothing of silence."""

import warnings

import numpy as np
import pytest

from jiyuu.measurement.roughness import roughness_of_frame
from jiyuu.measurement.timbre import EAR_RATE_HZ, roughness_asper
from tests.trials import some

T = np.arange(round(0.4 * EAR_RATE_HZ)) / EAR_RATE_HZ
SOUNDS = {
    "a tone whose level moves": 0.02 * (1 + np.sin(2 * np.pi * 70 * T)) * np.sin(2 * np.pi * 1000 * T),
    "high up": 0.5 * (1 + np.sin(2 * np.pi * 50 * T)) * np.sin(2 * np.pi * 9000 * T),
    "low down": 0.1 * np.sin(2 * np.pi * 40 * T),
    "noise": 3e-4 * np.random.default_rng(1).standard_normal(T.size),
    "loud and full of lines": 2 * (110 * T % 1) - 1,
}


@pytest.mark.parametrize("name", some(SOUNDS, 4, long=5))
def test_it_is_what_loops_over_lines_and_bands_find(name):
    from mosqito import roughness_dw

    with warnings.catch_warnings(), np.errstate(divide="ignore", invalid="ignore"):
        warnings.simplefilter("ignore")
        frames, *_ = roughness_dw(SOUNDS[name], int(EAR_RATE_HZ), overlap=0.5)
    assert len(frames) == 3
    assert roughness_asper(SOUNDS[name], EAR_RATE_HZ) == pytest.approx(np.mean(frames), rel=1e-9)


def test_silence_is_not_rough():
    assert roughness_of_frame(np.zeros(9600), EAR_RATE_HZ) == 0.0


def test_above_the_last_band_nothing_goes_wrong():
    assert 0.0 <= roughness_of_frame(5.0 * np.sin(2 * np.pi * 17_000 * T[:9600]), EAR_RATE_HZ) < 1.0
