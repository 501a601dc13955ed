"""Lines beside a tone: sums of cosines written out here, through noise and another clock; and a unit without faults
against the drawing's own balance of lines, and an integrator's."""

import json
import tracemalloc
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from scipy.integrate import solve_ivp
from typer.testing import CliRunner

from jiyuu.bench.standing import Standing
from jiyuu.bench.starting_points import STARTING_POINTS
from jiyuu.bench.steps.modulation import ModulationSetting, made
from jiyuu.bench.walk import step_named
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.cli.commands import app
from jiyuu.errors import MeasurementError
from jiyuu.measurement.sideband_lines import sideband_lines
from jiyuu.rig.modulation_run import run_modulation
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.wording.findings import sentence
from tests.trials import some

RATE = 48_000
TONE, RATE_HZ = 440.0, 130.0
LEVELS = {-4: 3e-5, -3: 3e-4, -2: 2e-3, -1: 1e-2, 0: 0.1, 1: 8e-3, 2: 1e-3, 3: 2e-4, 4: 2e-5}


def record(*, seconds=1.0, ppm=0.0, noise_v=0.0, dc_v=0.0, coupled_v=0.0, seed=1):
    """Lines of known levels with phases of their own."""
    draw = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE / (1 + 1e-6 * ppm)
    out = sum(level * np.cos(2 * np.pi * (TONE + order * RATE_HZ) * t + draw.uniform(0, 2 * np.pi))
              for order, level in LEVELS.items())
    out = out + dc_v + coupled_v * np.cos(2 * np.pi * RATE_HZ * t + 1.0)
    return out + draw.normal(0, noise_v, out.size) if noise_v else out


def true_db(order):
    return 20 * np.log10(LEVELS[order] / LEVELS[0])


@pytest.mark.parametrize(("ppm", "noise_v", "coupled_v"), [(0.0, 0.0, 0.0), (80.0, 1e-5, 0.0), (-150.0, 1e-4, 0.03)])
def test_every_line_has_its_level_and_its_doubt(ppm, noise_v, coupled_v):
    found = sideband_lines(record(ppm=ppm, noise_v=noise_v, coupled_v=coupled_v, dc_v=0.2), RATE, tone_hz=TONE,
                           rate_hz=RATE_HZ)
    assert found.order.tolist() == list(range(-4, 5))
    assert found.frequency_hz == pytest.approx(np.abs(TONE + RATE_HZ * np.arange(-4, 5)))
    assert found.clock_ppm == pytest.approx(ppm, abs=0.5)
    for order, level, doubt in zip(found.order, found.level_db, found.uncertainty_db, strict=True):
        assert abs(level - true_db(int(order))) <= 2 * doubt + 1e-3
    assert found.uncertainty_db[found.order == 1][0] < (0.2 if noise_v else 1e-6)


def test_silence_ahead_and_behind_moves_no_line():
    sounds = record(seconds=2.0, noise_v=1e-5, dc_v=0.02)
    plain, ringed = (sideband_lines(one, RATE, tone_hz=TONE, rate_hz=RATE_HZ)
                     for one in (sounds, np.pad(sounds, (RATE, 2 * RATE))))
    assert ringed.level_db == pytest.approx(plain.level_db, abs=0.05)
    assert ringed.deviation_v == pytest.approx(plain.deviation_v, rel=0.1)


def test_intervals_hold_as_often_as_they_say():
    held = []
    for seed in some(range(80), 30):
        found = sideband_lines(record(seconds=0.15, noise_v=2e-4, seed=seed), RATE, tone_hz=TONE, rate_hz=RATE_HZ)
        held += [abs(found.level_db[i] - true_db(order)) <= found.uncertainty_db[i]
                 for i, order in enumerate(found.order.astype(int)) if abs(order) <= 2]
    assert 0.9 <= np.mean(held) <= 0.99


@pytest.mark.parametrize(("how", "words"), [
    ({"tone_hz": 780.0}, "falls onto a multiple of 130 Hz"),
    ({"tone_hz": 65.0}, "fall onto each other"),
    ({"tone_hz": 1.0}, "A tone of 1 Hz is out of range"), ({"rate_hz": 40_000.0}, "A rate of 40000 Hz is out of range"),
    ({"orders": 0}, "0 lines on either side are out of range"),
    ({"tone_hz": 3141.0, "rate_hz": 31.0}, "No tone of 3141 Hz"),
])
def test_what_cannot_be_told_says_what_to_do(how, words):
    with pytest.raises(MeasurementError, match=words):
        sideband_lines(record(noise_v=1e-4), RATE, **{"tone_hz": TONE, "rate_hz": RATE_HZ, **how})
    with pytest.raises(MeasurementError, match="silent"):
        sideband_lines(np.full(RATE, 0.3), RATE, tone_hz=TONE, rate_hz=RATE_HZ)


def test_the_command_prints_and_refuses(tmp_path):
    soundfile.write(tmp_path / "moved.wav", record(noise_v=1e-5) / 10, RATE, "FLOAT")
    asked = ["measure", "sidebands", str(tmp_path / "moved.wav"), "--tone", "440", "--rate", "130", "--orders", "2"]
    told = json.loads(CliRunner().invoke(app, [*asked, "--json"]).stdout)
    assert [line["order"] for line in told["lines"]] == [-2, -1, 0, 1, 2]
    assert told["lines"][1]["level_db"]["value"] == pytest.approx(true_db(-1), abs=0.01)
    assert told["warnings"] == []
    said = CliRunner().invoke(app, asked).stdout.splitlines()
    assert said[3].split()[:3] == ["+1", "570.00", "Hz"]


def moved_unit(octaves_ms=0.0):
    document = neutral_filter("transistor-ladder")
    none = {name: 0.0 for name in type(document.tolerances).model_fields if name not in ("rail_v", "noise_uv")}
    document = document.model_copy(update={
        "cutoff_hz": 700.0, "resonance_percent": 45.0,
        "tolerances": document.tolerances.model_copy(update={**none, "slew_ms": octaves_ms})})
    standing = Standing.of(document)
    setup = standing.setup.changed(**STARTING_POINTS["within"].make(standing.setup.in_hand))
    return replace(standing, setup=setup)


def integrated(standing, moved):
    """Level of the lines at ±1 re the tone's own, dB, by an integrator that knows nothing of lines."""
    w, k = 2 * np.pi * standing.standing_hz, standing.gain

    def slope(t, x):
        turned = w * 2 ** (moved.octaves * np.sin(2 * np.pi * moved.rate_hz * t))
        given = np.sin(2 * np.pi * moved.tone_hz * t) - k * x[3]
        return turned * np.array([given - x[0], x[0] - x[1], x[1] - x[2], x[2] - x[3]])

    seconds, rate = 0.4, 20_000
    t = np.arange(round(0.1 * rate), round((0.1 + seconds) * rate)) / rate
    x = solve_ivp(slope, (0.0, t[-1]), np.zeros(4), t_eval=t, rtol=1e-8, atol=1e-10, method="DOP853").y[3]
    n = np.arange(-12, 13)
    places = moved.tone_hz + n * moved.rate_hz
    columns = np.concatenate([f(2 * np.pi * np.outer(t, places)) for f in (np.cos, np.sin)], axis=1)
    weights = np.linalg.lstsq(columns, x, rcond=None)[0]
    level = 20 * np.log10(np.hypot(weights[: n.size], weights[n.size :]))
    return [level[n == order][0] - level[n == 0][0] for order in (-1, 1)]


@pytest.mark.long
def test_a_unit_without_faults_has_the_lines_that_an_integrator_makes():
    standing, setting = moved_unit(), ModulationSetting()
    request = replace(step_named("modulation").request(standing, setting), whistles=False)
    assert request.moved is not None
    *_, run = run_modulation(request, SimulatedRig(standing.filter, seed=2))
    expected = integrated(standing, request.moved)
    measured = [run.lines.level_db[run.lines.order == order][0] for order in (-1, 1)]
    assert measured == pytest.approx(expected, abs=0.05)
    kept = made(standing, setting, run, request.pulse_s, request.level_v)
    (finding,) = [one for one in kept.findings if one.quantity == "sideband_db"]
    assert finding.measured
    assert f"{request.moved.tone_hz + request.moved.rate_hz:.1f} Hz" in sentence(finding)
    assert {table.name for table in kept.tables} >= {"sidebands", "pings"}


@pytest.mark.long
def test_lines_that_cannot_be_told_do_not_stop_the_rest():
    standing, setting = moved_unit(), ModulationSetting()
    request = replace(step_named("modulation").request(standing, setting), whistles=False)
    request = replace(request, moved=replace(request.moved, tone_hz=6 * request.moved.rate_hz))
    *_, run = run_modulation(request, SimulatedRig(standing.filter, seed=2))
    assert run.lines is None
    assert run.pings is not None
    kept = made(standing, setting, run, request.pulse_s, request.level_v)
    assert "falls onto a multiple" in kept.facts["not_told"][0]


@pytest.mark.long
def test_a_scale_that_rings_nowhere_does_not_stop_the_rest():
    standing, setting = moved_unit(), ModulationSetting(scale="C3 G3")
    request = replace(step_named("modulation").request(standing, setting), whistles=False, moved=None)

    class Deaf(SimulatedRig):
        """Nothing comes back of what is struck on notes."""

        def play_each(self, *arguments, held_v=None, **named):
            heard = super().play_each(*arguments, held_v=held_v, **named)
            return heard if held_v is None else np.zeros_like(heard)

    *_, run = run_modulation(request, Deaf(standing.filter, seed=2))
    assert run.scale is None
    assert run.pings is not None
    kept = made(standing, setting, run, request.pulse_s, request.level_v)
    assert kept.facts["not_told"][0].startswith("On the scale: ")


@pytest.mark.long
def test_a_long_recording_takes_no_more_memory_than_its_middle():
    long = record(seconds=40.0, noise_v=1e-5)
    long[: RATE * 5] = 0.3  # not yet playing
    tracemalloc.start()
    try:
        found = sideband_lines(long, RATE, tone_hz=TONE, rate_hz=RATE_HZ)
        most_bytes = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    assert most_bytes < 400e6
    for order in (-2, -1, 1, 2):
        assert found.level_db[found.order == order][0] == pytest.approx(true_db(order), abs=0.01)


def test_a_clipped_recording_is_named(tmp_path):
    loud = record(noise_v=1e-5)
    soundfile.write(tmp_path / "clipped.wav", np.clip(loud, -0.09, 0.09) / 0.09, RATE, "PCM_24")
    told = json.loads(CliRunner().invoke(app, ["measure", "sidebands", str(tmp_path / "clipped.wav"), "--tone", "440",
                                               "--rate", "130", "--json"]).stdout)
    assert [warning["code"] for warning in told["warnings"]] == ["clipped"]
