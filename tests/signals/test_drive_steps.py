"""A ladder of levels read back from its own record, at any rate and word length."""

import numpy as np
import pytest

from jiyuu.errors import SignalError
from jiyuu.signals.drive_steps import DriveSteps, steps_in


@pytest.mark.parametrize(("rate", "hertz", "bits"), [(44_100, 40.0, 24), (48_000, 123.4, 16), (96_000, 3000.0, None)])
def test_what_is_played_is_read_from_the_record(rate, hertz, bits):
    steps = DriveSteps(hertz, tuple((10 ** (np.arange(-30, 11, 4) / 20)).tolist()), shortest_s=0.5, silence_s=0.3)
    record = np.pad(steps.record_v(rate), (round(0.05 * rate), 0))
    if bits:
        record = np.round(record / 10 * 2 ** (bits - 1)) * 10 / 2 ** (bits - 1)
    found = steps_in(record, rate)
    assert found.frequency_hz == pytest.approx(hertz, rel=1e-5)
    assert found.levels_v == pytest.approx(steps.levels_v, rel=2e-3 if bits == 16 else 1e-5)
    assert (found.tone_s, found.gap_s) == pytest.approx((steps.tone_s, steps.gap_s), abs=0.02)


@pytest.mark.parametrize("record", [
    np.zeros(48_000), np.sin(np.arange(48_000) / 7), np.random.default_rng(1).normal(0, 1, 48_000),
    np.repeat([0.0, 1.0, 0.0, 1.0, 0.0], 24_000),
    np.tile(np.append(np.sin(np.arange(9000) / 7) ** 3, np.zeros(9000)), 4),
])
def test_another_stimulus_is_refused(record):
    with pytest.raises(SignalError, match="no ladder of levels"):
        steps_in(record, 48_000.0)
