"""Blocks: the same samples wherever they end, from the state that the block before left."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.simulation.render import render
from jiyuu.simulation.renderer import LATENCY, Renderer

RATE = 48_000.0


@pytest.mark.parametrize("block", [1, 64, 1000, 5000])
def test_blocks_of_any_size_are_one_block(block):
    generator = np.random.default_rng(4)
    size = 6000 if block > 1 else 700
    played, cv, gain = (generator.normal(0, scale, size) for scale in (1.0, 0.3, 0.2))
    network = circuit("transistor-ladder").network()
    asked = {"sample_rate_hz": RATE, "cutoff_hz": 900.0, "gain": 3.0, "modes": ["lowpass-24", "highpass-12"],
             "cutoff_cv_v": cv, "gain_cv": gain, "oversampling": 4}
    whole = render(network, played, **asked, block=size).output_v
    apart = render(network, played, **asked, block=block).output_v
    assert np.abs(apart - whole).max() < 1e-9 * np.abs(whole).max()


def test_what_went_in_comes_out_and_only_so_much_later():
    renderer = Renderer(circuit("state-variable").network(), sample_rate_hz=RATE, cutoff_hz=np.array([500.0]),
                        gain=np.array([0.5]), modes=["lowpass"], factor=4)
    ready = [renderer.push(np.zeros(256)).shape[-1] for _ in range(8)]
    assert sum(ready) == 8 * 256 - LATENCY
    assert renderer.finish().shape[-1] == LATENCY
