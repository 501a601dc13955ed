"""What a sweep's beginning leaves of a filter low down: against recordings of closed forms without noise."""

import numpy as np
import pytest

from benchmarks.trust import RATE, SHORT, USUAL, stimulus_of
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.response import measure_response
from tests.trials import some
from tests.truths import Made, exact, recorded


@pytest.mark.long
@pytest.mark.parametrize(("made", "kind", "ppm", "name", "known"), some([
    (Made("transistor-ladder", "lowpass-24", 20.0, 0.0), USUAL, 0.0, "cutoff_3db_hz", 2e-4),
    (Made("transistor-ladder", "bandpass-24", 21.5, 1.68), SHORT, 20.0, "peak_hz", 1e-5),
    (Made("state-variable", "lowpass", 40.0, 1.9), SHORT, -35.0, "peak_hz", 1e-6),
], 1))
def test_the_lowest_octaves_are_read_to_parts_in_a_million(made, kind, ppm, name, known):
    stimulus = stimulus_of(kind)
    clean = recorded(made, stimulus, RATE, ppm=ppm)
    noise = np.random.default_rng(5).normal(0.0, 1e-7 * clean.std(), clean.size)
    response = measure_response(stimulus, clean + noise, RATE)
    read, truth = read_response(response), exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    assert read.uncertainty[name] < known
    for each in (key for key in truth if key in read.uncertainty and "slope" not in key):
        assert abs(getattr(read.reading, each) - truth[each]) <= read.uncertainty[each]
