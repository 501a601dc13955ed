"""Values on a stepwise integrator's grid: where they run they are as asked for, where they jump the jump is counted
where it is."""

import numpy as np
import pytest

from jiyuu.signals.controls.instants import at_instants

STEP_S = 1 / 384_000


@pytest.mark.parametrize("hertz", [0.3, 40.0, 5000.0])
def test_what_runs_however_steeply_is_as_it_is(hertz):
    """Neither a steep flank nor the turn at its top is taken for a jump."""
    def sine(t):
        return 3.0 * np.sin(2 * np.pi * hertz * t + 0.3)

    found = at_instants(sine, 100, 4000, STEP_S)
    assert np.array_equal(found, sine(np.arange(100, 4100) * STEP_S))


def test_an_envelope_is_asked_for_once_where_it_only_falls():
    asked = []

    def falls(t):
        asked.append(t.size)
        return 2.5 * np.exp(-t / 0.05)

    at_instants(falls, 0, 8000, STEP_S)
    assert sum(asked) < 1.02 * 8004


@pytest.mark.parametrize("slope_per_s", [0.0, 50.0, -400.0])
@pytest.mark.parametrize("share", [0.0, 0.13, 0.5, 0.87])
def test_a_jump_is_integrated_where_it_is(share, slope_per_s):
    """By Simpson's rule over two steps, whichever of both the jump lies in; on a slope too."""
    for begins in (1000, 1001):
        at_s = (begins + share) * STEP_S

        def jumps(t, at_s=at_s):
            return slope_per_s * t + 0.7 * (t >= at_s)

        found = at_instants(jumps, 0, 2001, STEP_S)
        weights = np.ones(2001)
        weights[1:-1:2], weights[2:-1:2] = 4, 2
        whole = float(weights @ found) * STEP_S / 3
        end_s = 2000 * STEP_S
        near = 1e-4 * STEP_S + 0.6 * abs(slope_per_s) * STEP_S**2  # what the slope does within the step of the jump
        assert whole == pytest.approx(0.5 * slope_per_s * end_s**2 + 0.7 * (end_s - at_s), abs=near)


def test_a_part_of_the_grid_is_as_the_whole_has_it():
    def steps(t):
        return np.floor(t * 3000.0) * 0.1 + np.sin(900 * t)

    whole = at_instants(steps, 0, 3000, STEP_S)
    for first in (1, 127, 128, 129, 1000):
        assert at_instants(steps, first, 500, STEP_S) == pytest.approx(whole[first : first + 500], abs=1e-12)
