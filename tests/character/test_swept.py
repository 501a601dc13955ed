"""What a sweep shows of a filter that bends, against the same sweep recorded and measured as a whole."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.character.families import families
from jiyuu.character.family_fit import Bent, Fit, less_where_none_fits, score_of, what_bends
from jiyuu.character.identify import identify
from jiyuu.character.level_curves import LevelCurve, Samples, sampled, turning_hz
from jiyuu.character.swept import Sweep
from jiyuu.circuits.catalogue import circuit
from jiyuu.measurement.response import measure_response
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.simulation.render import render
from tests.trials import some

RATE = 48_000
SHARP = ("diode-ladder", "lowpass-24", 656.0, 12.5)  # three quarters of the way to its onset


def measured(unit, level_v, sweep_s=2.5):
    name, mode, cutoff_hz, gain = unit
    stimulus = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=sweep_s), sample_rate_hz=RATE)
    heard = render(circuit(name).network({}), stimulus, sample_rate_hz=RATE, cutoff_hz=cutoff_hz, gain=gain,
                   modes=[mode], oversampling=8).output_v[0]
    heard = heard + np.random.default_rng(3).normal(0, 1e-4 * np.std(heard), heard.size)
    return measure_response(stimulus, heard, RATE, quickly=True)


def of_family(unit):
    """(family, its numbers at a unit without faults)."""
    name, mode, cutoff_hz, gain = unit
    family = next(one for one in families() if (one.entry.id, one.mode) == (name, mode))
    values = np.array([free.start for free in family.free])
    values[0], values[1], values[2] = np.log2(cutoff_hz / 1000), gain, 0.0
    return family, values


@pytest.mark.parametrize(("unit", "sweep_s", "late_db"), some([
    (SHARP, 2.5, 0.08), (SHARP, 1.0, 0.2), (("ota-cascade", "lowpass-24", 520.0, 3.0), 2.5, 0.08)], 1, long=2))
def test_what_it_shows_is_what_is_measured(unit, sweep_s, late_db):
    """Where settled tones are off by a tenth of a decibel and more."""
    curve = LevelCurve.of(measured(unit, 0.1, sweep_s))
    assert curve.efold_s == pytest.approx(sweep_s / np.log(21_500 / 10), rel=1e-3)
    (family, values), samples = of_family(unit), sampled(curve, turning_hz(curve))
    settled, built = what_bends(family, values, samples), family.built(values)
    sweep = Sweep.of(samples, settled)
    (seen,) = sweep.seen([built])
    linear_db = built.linear_db(samples.hertz)
    left = {name: np.abs(linear_db + db - samples.level_db)[sweep.known & (samples.hertz < 2000)]
            for name, db in (("settled", settled.db), ("swept", seen.db))}
    assert left["settled"].max() > late_db
    assert left["swept"].max() < 0.004
    assert np.sqrt(np.mean(left["swept"] ** 2)) < 0.001


@pytest.mark.long
def test_what_is_swept_slowly_or_not_at_all_is_left_to_settled_tones():
    curve = LevelCurve.of(measured(SHARP, 0.1))
    (family, values), samples = of_family(SHARP), sampled(curve, turning_hz(curve))
    settled = what_bends(family, values, samples)
    assert Sweep.of(samples, settled) is not None
    for efold_s in (None, 3.0):
        assert Sweep.of(replace(samples, efold_s=efold_s), settled) is None
    straight = replace(settled, db=np.zeros(samples.hertz.size), rad=np.zeros(samples.hertz.size))
    sweep = Sweep.of(samples, straight)  # where nothing bends there is nothing to play
    assert not sweep.known.any()
    (seen,) = sweep.seen([family.built(values)])
    assert not seen.db.any()
    assert np.array_equal(sweep.bent(straight, seen, 0.01).db, straight.db)


@pytest.mark.long
def test_side_by_side_each_is_what_it_is_alone():
    curve = LevelCurve.of(measured(SHARP, 0.1))
    (family, values), samples = of_family(SHARP), sampled(curve, turning_hz(curve))
    sweep = Sweep.of(samples, what_bends(family, values, samples))
    others = [values + 0.01 * np.eye(values.size)[i] for i in (0, 1, 3, 7, 8)]
    together = sweep.seen([family.built(one) for one in (values, *others)])
    for one, seen in zip((values, *others), together, strict=True):
        (alone,) = sweep.seen([family.built(one)])
        assert seen.db == pytest.approx(alone.db, abs=1e-9)
        assert seen.rad == pytest.approx(alone.rad, abs=1e-9)


@pytest.mark.long
def test_a_sharp_filter_that_bends_is_told_to_half_a_cent():
    """By settled tones alone it was four cents off."""
    found = identify([LevelCurve.of(measured(SHARP, level_v)) for level_v in (0.1, 2.0)]).chosen
    assert (found.family.entry.id, found.family.mode) == SHARP[:2]
    assert 1200 * np.log2(found.cutoff_hz.value / SHARP[2]) == pytest.approx(0.0, abs=1.0)
    assert found.loop_gain.value == pytest.approx(SHARP[3], rel=3e-3)
    assert abs(found.cutoff_hz.value - SHARP[2]) < 1.5 * found.cutoff_hz.uncertainty
    assert found.cutoff_hz.uncertainty < 3e-3 * SHARP[2]


@pytest.mark.long
def test_what_is_no_steady_sweep_has_no_rate():
    t = np.arange(2 * RATE) / RATE
    straight = np.concatenate([np.zeros(RATE // 2), np.sin(np.pi * 10_000 * t**2 / t[-1]), np.zeros(RATE // 2)])
    for stimulus in (straight, noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0, pink=True),
                     tones_stimulus(level_v=1.0, sample_rate_hz=RATE)):
        assert measure_response(stimulus, 0.5 * stimulus, RATE, quickly=True).efold_s is None


def left_alone(family, values, samples):
    """Nothing bends."""
    none = np.zeros(samples.hertz.size)
    bent = Bent(none, none, None, none, none, swept=True)
    return Fit(family, values, score_of(family, values, [samples], [bent]), bent=(bent,))


def test_what_none_explains_speaks_for_none_of_them():
    """Two fits that leave the same in a stretch, and that differ elsewhere."""
    family, values = of_family(("state-variable", "lowpass", 700.0, 1.2))
    hertz = np.geomspace(50, 5000, 200)
    other = values.copy()
    other[0] += 2e-4
    ripple = np.where((hertz > 1100) & (hertz < 1400), 0.05 * (-1.0) ** np.arange(hertz.size), 0.0)
    samples = [Samples(hertz, family.built(values).linear_db(hertz) + faulty, np.full(hertz.size, 1e-3), 0.1,
                       np.arange(200), np.zeros(200), np.ones(200), 700.0, 0.3) for faulty in (0 * ripple, ripple)]
    clean, spoilt = ([left_alone(family, one, curve) for one in (values, other)] for curve in samples)
    assert [fit.score for fit in less_where_none_fits(clean, samples[:1])] == [fit.score for fit in clean]
    after = less_where_none_fits(spoilt, samples[1:])
    inside = np.isin(np.floor(2 * np.log2(hertz)), np.floor(2 * np.log2(hertz[ripple != 0]))).sum()
    assert spoilt[0].score > clean[0].score + 2000
    assert after[0].score - clean[0].score == pytest.approx(inside, rel=1e-6)  # as if only noise were there
    apart = clean[1].score - clean[0].score
    assert 0.6 * apart < after[1].score - after[0].score < apart  # what the stretch itself would have told is gone
