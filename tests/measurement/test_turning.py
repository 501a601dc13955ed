"""Which way a filter turns: sign, delay and phase of mixes whose stages are not alike, and of filters that bend a
little; and that nobody is said to compress who does not."""

from dataclasses import dataclass

import numpy as np
import pytest

from jiyuu.measurement.findings import read_response, response_findings
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.response import measure_response
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.trials import some
from tests.truths import Made, recorded

RATE, LATE_S = 48_000, 0.0123
STIMULUS = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE)
MIXES = {"highpass-24": (1, -4, 6, -4, 1), "highpass-12": (1, -2, 1, 0, 0), "bandpass-24": (0, 0, 4, -8, 4)}


@dataclass(frozen=True)
class Mixed:
    """Four stages in a loop, each off by its share, and a mix of what stands between them."""

    mode: str
    cutoff_hz: float
    gain: float
    off: tuple[float, float, float, float]
    sign: int = 1

    def at(self, hertz):
        s = 1j * np.asarray(hertz) / self.cutoff_hz
        along = np.cumprod([np.ones_like(s), *(1 / (1 + s * (1 + off)) for off in self.off)], axis=0)
        mix = np.tensordot(MIXES[self.mode], along, axes=1)
        return self.sign * mix / (1 + self.gain * along[-1])


CASES = [
    Mixed("highpass-12", 415.0, 2.7, (0.013, -0.021, 0.04, 0.008)),
    Mixed("highpass-24", 121.4, 1.6, (-0.031, 0.012, 0.024, -0.04), sign=-1),
    Mixed("bandpass-24", 60.2, 1.69, (0.02, -0.035, 0.017, 0.002)),
    Mixed("highpass-24", 1800.0, 0.4, (0.05, -0.03, 0.01, 0.02)),
    Mixed("highpass-12", 90.0, 0.2, (-0.04, 0.03, 0.0, -0.02), sign=-1),
    Mixed("bandpass-24", 900.0, 3.0, (-0.01, 0.03, -0.04, 0.01), sign=-1),
]


def heard(made, stimulus, share=3e-5, more=0.0, seed=3):
    clean = recorded(made, stimulus, RATE, delay_s=LATE_S) + more
    return clean + share * clean.std() * np.random.default_rng(seed).standard_normal(clean.size)


def phase_of(response, hertz):
    read = read_response(response)
    (phase,) = (one for one in response_findings(response, read, cutoff_hz=hertz) if one.quantity == "phase_deg")
    return phase


@pytest.mark.parametrize("made", some(CASES, 2, long=6), ids=str)
def test_a_mix_of_stages_that_are_not_alike_is_a_network_and_turns_as_it_should(made):
    """What is left of the mix where it should cancel puts zeros beside 0, on either side of the axis."""
    response = measure_response(STIMULUS, heard(made, STIMULUS), RATE)
    assert response.network is not None
    assert response.polarity == made.sign
    assert abs(response.latency_s.value - LATE_S) < 1e-7
    asked_hz = 1.0013 * made.cutoff_hz  # between two points of the curve
    phase = phase_of(response, asked_hz)
    true = float(np.rad2deg(np.angle(made.at(asked_hz))))
    assert abs((phase.value - true + 180) % 360 - 180) < max(2 * phase.uncertainty, 1e-3)
    assert phase.uncertainty < 0.1


@pytest.mark.parametrize("made", some(CASES, 2, long=6), ids=str)
def test_what_bends_a_little_still_turns_as_it_should(made):
    """No network explains it then, and the level alone would not tell sign and delay of zeros on the right."""
    bent = STIMULUS - 0.01 * STIMULUS**3
    response = measure_response(STIMULUS, heard(made, bent), RATE)
    assert response.network is None
    assert response.polarity == made.sign
    assert abs(response.latency_s.value - LATE_S) < min(max(response.latency_s.uncertainty, 1e-8), 2e-5)
    phase = phase_of(response, made.cutoff_hz)
    true = float(np.rad2deg(np.angle(made.at(made.cutoff_hz))))
    assert abs((phase.value - true + 180) % 360 - 180) < phase.uncertainty < 45


def test_harmonics_that_go_round_a_notch_are_not_taken_for_ten_times_as_strong():
    made = Made("state-variable", "notch", 900.0, 0.5)
    beside = np.concatenate([3e-4 * STIMULUS**3, np.zeros(RATE)])  # takes 0.002 dB off what it is a part of
    beside = np.roll(beside, round(LATE_S * RATE))
    read = read_response(measure_response(STIMULUS, heard(made, STIMULUS, more=beside), RATE))
    assert not [notice for notice in read.notices if notice.fault is Fault.COMPRESSED]


@pytest.mark.parametrize("made", some([
    Mixed("highpass-12", 487.9, 0.39, (0.0, 0.0, 0.0, 0.0)), Made("transistor-ladder", "lowpass-12", 1552.0, 0.17),
    Made("state-variable", "highpass", 166.0, 0.7)], 2, long=3), ids=str)
@pytest.mark.parametrize("share", some([3e-3, 1e-3], 1, long=2))
def test_faint_bending_is_not_said_to_be_strong(made, share):
    """Of a cubic term a quarter and a half of it is missing at the top."""
    bent = STIMULUS - share * STIMULUS**3
    read = read_response(measure_response(STIMULUS, heard(made, bent, share=1e-6), RATE))
    true_db = -20 * np.log10(1 - 0.75 * share)
    said = [notice.facts["db"] for notice in read.notices if notice.fault is Fault.COMPRESSED]
    assert all(db < 0.05 + 10 * true_db for db in said)


@pytest.mark.parametrize("share", [0.3, 1.0])
def test_a_clock_is_told_where_every_bin_lies_under_noise(share):
    """What noise turns any way used to be left out where it was turned far, and what was left leaned towards none."""
    made = Made("state-variable", "highpass", 120.0, 0.5)
    clean = recorded(made, STIMULUS, RATE, delay_s=LATE_S, ppm=14.0)
    for seed in range(2):
        noise = share * clean.std() * np.random.default_rng(seed).standard_normal(clean.size)
        offset = measure_response(STIMULUS, clean + noise, RATE).clock_offset_ppm
        assert abs(offset.value - 14.0) < 1.7 * offset.uncertainty < 0.3


@pytest.mark.parametrize(("cutoff_hz", "gain"), some([(1307.5, 4.25), (752.5, 10.2)], 1, long=2))
def test_poles_far_up_are_not_taken_for_a_delay(cutoff_hz, gain):
    """A pole less and two zeros where nothing is heard explained as much, by groups of bins of their own."""
    made = Made("diode-ladder", "lowpass-24", cutoff_hz, gain)
    for seed in range(2):
        response = measure_response(STIMULUS, heard(made, STIMULUS, share=0.06, seed=seed), RATE)
        assert response.network.fit.order.poles == 4
        assert abs(response.latency_s.value - LATE_S) < 1.5 * response.latency_s.uncertainty < 2e-5


@pytest.mark.parametrize("cutoff_hz", some([3000.0, 1800.0], 1, long=2))
def test_a_plateau_reckoned_from_its_shoulder_is_not_stated_too_well(cutoff_hz):
    """Bent by its own output, so that no network explains it; the plateau lies beyond the band."""
    made = Mixed("highpass-12", cutoff_hz, 2.9, (0.01, -0.02, 0.03, 0.0))
    clean = recorded(made, STIMULUS, RATE, delay_s=LATE_S)
    bent = -2e-3 * clean**3 / np.abs(clean).max() ** 2
    read = read_response(measure_response(STIMULUS, heard(made, STIMULUS, share=1e-4, more=bent), RATE))
    middle_db = 10 * np.log10(1 - 0.75 * 2e-3)  # of all that may be taken off
    assert abs(read.reading.passband_db - middle_db) < read.uncertainty["passband_db"] < 0.15
