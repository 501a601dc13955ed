"""The drive × resonance map and the levels that stop a whistle, against closed forms and plain simulation."""

from __future__ import annotations

import numpy as np
import pytest

from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.linear import onset
from jiyuu.prediction.drive_map import drive_map, stopping_levels
from jiyuu.simulation.level_response import level_response
from jiyuu.simulation.render import render
from tests.trials import some

FC = 1000.0


def test_small_levels_show_the_ladder_s_own_peak() -> None:
    gains = np.array([1.0, 2.0, 3.0, 3.9])
    found = drive_map(neutral_filter("transistor-ladder").network(), "lowpass-24", cutoff_hz=FC, gains=gains,
                      level_v=np.array([1e-5, 1e-4]), body_hz=FC / 8)
    hertz = np.geomspace(300, 2000, 400_001)
    for i, k in enumerate(gains):
        level = -20 * np.log10(np.abs((1 + 1j * hertz / FC) ** 4 + k))
        body = -20 * np.log10(abs((1 + 1j / 8) ** 4 + k))
        top = int(level.argmax())
        inside = np.flatnonzero(level >= level[top] - 20 * np.log10(np.sqrt(2)))
        assert found.peak_db[i, 0] == pytest.approx(level[top], abs=0.01)
        assert found.peak_hz[i, 0] == pytest.approx(hertz[top], rel=3e-3)
        assert found.body_db[i, 0] == pytest.approx(body, abs=0.002)
        if k >= 3:
            octaves = np.log2(hertz[inside[-1]] / hertz[inside[0]])
            assert found.bandwidth_octaves[i, 0] == pytest.approx(octaves, rel=0.02)


@pytest.mark.parametrize(("circuit", "share"), [("ota-cascade", 0.9), ("diode-ladder", 0.8), ("state-variable", 0.95)])
def test_a_driven_peak_is_that_of_a_fine_response_at_its_level(circuit: str, share: float) -> None:
    document = neutral_filter(circuit)
    network, mode = document.network(), document.chosen_mode
    edge = onset(network, cutoff_hz=FC)
    assert edge is not None
    gain, levels = share * edge.gain, np.array([0.3, 1.0])
    found = drive_map(network, mode, cutoff_hz=FC, gains=np.array([gain]), level_v=levels, body_hz=FC / 8)
    for j, level in enumerate(levels):
        hertz = found.peak_hz[0, j] * 2 ** np.linspace(-0.15, 0.15, 31)
        there = level_response(network, hertz, cutoff_hz=FC, gain=gain, level_v=float(level), modes=[mode])
        assert there.settled.all()
        fine = 20 * np.log10(np.abs(there.gain[0]))
        assert found.peak_db[0, j] == pytest.approx(fine.max(), abs=0.03)


def test_drive_eats_the_peak() -> None:
    found = drive_map(neutral_filter("transistor-ladder").network(), "lowpass-24", cutoff_hz=FC, gains=np.array([3.6]),
                      level_v=10 ** (np.arange(-40, 11, 10) / 20), body_hz=FC / 8)
    assert (np.diff(found.over_body_db[0]) < 0).all()
    assert (np.diff(found.peak_hz[0]) < 0).all()


@pytest.mark.parametrize(("circuit", "hertz"), some([("transistor-ladder", 250.0), ("ota-cascade", 180.0),
                                                     ("state-variable", 400.0)], 1, long=3))
def test_a_whistle_stops_where_it_is_said_to(circuit: str, hertz: float) -> None:
    """Simulated from both sides: a little below the level the whistle grows from a trace, above it dies away."""
    document = neutral_filter(circuit)
    network, mode = document.network(), document.chosen_mode
    edge = onset(network, cutoff_hz=FC)
    assert edge is not None
    gain = 1.1 * edge.gain
    stops = stopping_levels(network, cutoff_hz=FC, gains=np.array([gain]), frequency_hz=np.array([hertz])).level_v[0]
    rate, seconds = 96_000.0, 1.6
    t = np.arange(round(rate * seconds)) / rate
    left = []
    for level in (0.93 * stops, 1.07 * stops):
        played = level * np.sin(2 * np.pi * hertz * t)
        out = render(network, played, sample_rate_hz=rate, cutoff_hz=FC, gain=gain, modes=[mode]).output_v[0]
        part = out[-round(rate * 0.8) :]
        spectrum = np.abs(np.fft.rfft(part * np.hanning(part.size)))
        bins = np.fft.rfftfreq(part.size, 1 / rate)
        between = np.abs(bins / hertz - np.round(bins / hertz)) * hertz > 6
        left.append(spectrum[between].max() / spectrum.max())
    assert left[0] > 0.01
    assert left[1] < 0.001
