"""Stages that are only their transfer function against the formulas, written out here; loops of a bank against roots of
polynomials; what is rendered against what responds."""

import json

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from jiyuu.errors import CircuitError
from jiyuu.patch.playing import play_patch
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import judged_loops, respond_patch
from tests.patch.making import gain_of, patch, random_filter
from tests.trials import some

HZ = np.geomspace(15, 20_000, 120)


def made(*path):
    return parse_patch(json.dumps(patch(list(path))), source="made up")


def close(found, expected, db=1e-3):
    off = np.abs(found - expected) / np.maximum(np.abs(expected), 1e-3 * np.abs(expected).max())
    assert 20 * np.log10(1 + off.max()) < db


def band(s, q):
    return s / q / (s * s + s / q + 1)


def shape(kind, s, gain_db, q):
    a = 10 ** (gain_db / 40)
    root = np.sqrt(a) / q
    return {"peak": (s * s + s * a / q + 1) / (s * s + s / (a * q) + 1),
            "low_shelf": a * (s * s + s * root + a) / (a * s * s + s * root + 1),
            "high_shelf": a * (a * s * s + s * root + 1) / (s * s + s * root + a)}[kind]


@pytest.mark.parametrize("seed", range(12))
def test_shapes_are_their_formulas_one_behind_the_other(seed):
    generator = np.random.default_rng(seed)
    bands = [{"kind": str(generator.choice(["low_shelf", "peak", "high_shelf"])),
              "frequency_hz": float(np.exp(generator.uniform(np.log(30), np.log(15_000)))),
              "gain_db": float(generator.uniform(-24, 24)), "q": float(generator.uniform(0.3, 12))}
             for _ in range(generator.integers(0, 13))]
    (found,) = respond_patch(
        made({"stage": "shapes", "bands": bands, "trim_db": -3.0}), HZ)
    expected = 10 ** (-3 / 20) * np.prod([shape(b["kind"], 1j * HZ / b["frequency_hz"], b["gain_db"], b["q"])
                                          for b in bands] + [np.ones(HZ.size)], axis=0)
    close(found.gain, expected)
    (past,) = respond_patch(made({"stage": "shapes", "bands": bands, "trim_db": -3.0, "bypass": True}), HZ)
    assert past.gain == pytest.approx(1.0)


@pytest.mark.parametrize("seed", range(10))
def test_a_bank_is_the_sum_of_its_groups(seed):
    generator = np.random.default_rng(seed)
    count, groups = int(generator.integers(2, 20)), int(generator.integers(1, 4))
    stage = {"stage": "bank", "bands": count, "spacing_semitones": float(generator.uniform(2, 5)),
             "lowest_hz": float(generator.uniform(30, 200)), "q": float(generator.uniform(1, 20)),
             "levels_db": generator.uniform(-12, 6, count).tolist(),
             "groups": [{"polarity": int(generator.choice([1, -1])), "level_db": float(generator.uniform(-6, 6)),
                         "feedback": float(generator.uniform(-0.4, 0.4))} for _ in range(groups)]}
    if seed % 3 == 0:
        stage["decay_s"] = float(generator.uniform(0.05, 0.5))
    hertz = stage["lowest_hz"] * 2 ** (stage["spacing_semitones"] * np.arange(count) / 12)
    q = np.maximum(stage["q"], np.pi * hertz * stage.get("decay_s", 0) / np.log(1000))
    total = np.zeros(HZ.size, dtype=complex)
    for g, group in enumerate(stage["groups"]):
        sum_ = sum(10 ** (stage["levels_db"][i] / 20) * band(1j * HZ / hertz[i], q[i])
                   for i in range(g, count, groups)) + np.zeros(HZ.size)
        total += 10 ** (group["level_db"] / 20) * group["polarity"] * sum_ / (
            1 - group["feedback"] * group["polarity"] * sum_)
    (found,) = respond_patch(made(stage), HZ)
    close(found.gain, total)


@pytest.mark.parametrize("seed", range(8))
def test_a_group_rings_where_the_sum_of_its_bands_is_one_over_the_amount(seed):
    """Bands alone peak at 1, so that one by itself rings at exactly 1; several by the roots of their polynomial."""
    generator = np.random.default_rng(seed)
    count, q = int(generator.integers(1, 6)), float(generator.uniform(2, 12))
    amount = float(generator.uniform(0.2, 1.6))
    stage = {"stage": "bank", "id": "b", "bands": count, "spacing_semitones": 3.5, "lowest_hz": 110.0, "q": q,
             "groups": [{"feedback": amount}]}
    hertz = 110.0 * 2 ** (3.5 * np.arange(count) / 12)
    under = [np.array([1 / f**2, 1 / (f * q), 1.0]) for f in hertz]
    whole = under[0]
    for one in under[1:]:
        whole = np.polymul(whole, one)
    over = np.zeros(1)
    for i, f in enumerate(hertz):
        others = np.array([1 / (f * q), 0.0])
        for j, one in enumerate(under):
            others = np.polymul(others, one) if j != i else others
        over = np.polyadd(over, others)
    (loop,) = judged_loops(made(stage))
    assert loop.called == "b.1"
    assert loop.stable == bool((np.roots(np.polysub(whole, amount * over)).real < 0).all())
    fine = np.geomspace(50, 2000, 400_001)
    sum_ = sum(band(1j * fine / f, q) for f in hertz)
    turns = np.flatnonzero(np.diff(np.sign(sum_.imag)) != 0)
    strongest = max(turns, key=lambda i: sum_[i].real)
    assert loop.amount_to_ring == pytest.approx(1 / sum_[strongest].real, rel=1e-4)
    assert loop.rings_at_hz == pytest.approx(fine[strongest], rel=1e-4)


def test_formants_lie_where_they_were_measured_and_between():
    for morph, f1 in ((0.0, 730.0), (1.0, 270.0), (0.5, np.sqrt(730.0 * 270.0))):
        (found,) = respond_patch(made({"stage": "formants", "from": "ɑ", "to": "i", "morph": morph,
                                       "shift_octaves": 0.25, "q": 20.0}), fine := np.geomspace(150, 1500, 20_001))
        assert fine[np.abs(found.gain)[fine < 1000 * 2**0.25].argmax()] == pytest.approx(f1 * 2**0.25, rel=0.01)
    (plain,) = respond_patch(made({"stage": "formants", "from": "u", "to": "u"}), HZ)
    close(plain.gain, sum(band(1j * HZ / f, f / w) for f, w in ((300, 60), (870, 90), (2240, 120))))


@pytest.mark.parametrize(("stages", "feedback", "mix"), [(1, 0.0, 1.0), (4, 0.0, 0.5), (6, 0.6, 0.5), (5, -0.8, 0.3)])
def test_an_all_pass_chain(stages, feedback, mix):
    s = 1j * HZ / 700.0
    chain = ((1 - s) / (1 + s)) ** stages
    expected = 1 - mix + mix * chain / (1 - feedback * chain)
    (found,) = respond_patch(made({"stage": "allpass", "stages": stages, "cutoff_hz": 700.0, "feedback": feedback,
                                   "mix": mix}), HZ)
    close(found.gain, expected, db=0.005)


@pytest.mark.parametrize("seed", range(6))
def test_a_pair_is_its_two_filters(seed):
    generator = np.random.default_rng(seed)
    first, second = random_filter(generator), random_filter(generator)
    own = [{key: one[key] for key in ("filter", "mode", "resonance_gain")} for one in (first, second)]
    common = {"stage": "pair", "first": own[0], "second": own[1], "cutoff_hz": 900.0, "spacing_octaves": 1.6,
              "separate": [0.2, -0.1]}
    moved = [{**first, "cutoff_hz": 900.0 * 2 ** (-0.8 + 0.2)}, {**second, "cutoff_hz": 900.0 * 2 ** (0.8 - 0.1)}]
    (row,) = respond_patch(made(common), HZ)
    close(row.gain, gain_of(moved, HZ))
    (beside,) = respond_patch(made({**common, "arrangement": "parallel"}), HZ)
    close(beside.gain, gain_of(moved[:1], HZ) + gain_of(moved[1:], HZ))
    left, right = respond_patch(made({**common, "arrangement": "stereo"}), HZ)
    close(left.gain, gain_of(moved[:1], HZ))
    close(right.gain, gain_of(moved[1:], HZ))


def test_what_is_rendered_is_what_responds_up_to_18_khz():
    """A high shelf and a peak at the top of the band: no frequency is bent."""
    rate = 48_000
    path = made({"stage": "shapes", "bands": [{"kind": "high_shelf", "frequency_hz": 12_000.0, "gain_db": 9.0},
                                              {"kind": "peak", "frequency_hz": 16_000.0, "gain_db": -12.0, "q": 3.0}]})
    hertz = np.array([500.0, 8000.0, 12_000.0, 15_900.0, 18_000.0])
    n = 9600
    t = np.arange(n) / rate
    fade = np.sin(np.clip(t / 0.05, 0, 1) * np.pi / 2) ** 2
    for f, expected in zip(hertz, np.abs(respond_patch(path, hertz)[0].gain), strict=True):
        out = play_patch(path, (0.1 * fade * np.sin(2 * np.pi * f * t))[np.newaxis], float(rate))[0][4800:-200]
        turn = 2 * np.pi * f * t[4800:-200]
        found = np.linalg.lstsq(np.stack([np.cos(turn), np.sin(turn)], axis=1), out, rcond=None)[0]
        assert 20 * np.log10(np.hypot(*found) / (0.1 * expected)) == pytest.approx(0.0, abs=0.03)


@pytest.mark.parametrize(("stage", "said"), [
    ({"stage": "shapes", "bands": [{"kind": "tilt"}]}, "kind"), ({"stage": "bank", "bands": 0}, "bands"),
    ({"stage": "bank", "bands": 3, "levels_db": [0, 0]}, "2 levels for 3 bands"),
    ({"stage": "bank", "bands": 60, "spacing_semitones": 12}, "beyond what can be played"),
    ({"stage": "formants", "from": "x"}, "from"), ({"stage": "allpass", "feedback": 1.0}, "feedback"),
    ({"stage": "pair", "first": {"filter": "state-variable"}}, "second"),
    ({"stage": "resonator", "q": 31.0}, "q"), ({"stage": "chord", "inversion": 3}, "more notes than the chord's 3"),
    ({"stage": "pair", "first": {"filter": "nothing"}, "second": {"filter": "state-variable"}}, "no circuit 'nothing'"),
])
def test_what_cannot_be_is_refused_by_its_place(stage, said):
    with pytest.raises(CircuitError, match=said):
        made({**stage, "id": "here"})


@pytest.mark.parametrize("stage", [
    {"stage": "bank", "bands": 9, "groups": [{"feedback": 0.3}, {"feedback": -0.3, "polarity": -1}], "decay_s": 0.05},
    {"stage": "allpass", "stages": 4, "feedback": 0.5}, {"stage": "gain", "db": -6.0},
    {"stage": "shapes", "bands": [{"gain_db": 9.0, "q": 2.0}, {"gain_db": 9.0, "q": 2.0}]},  # two poles in one place
])
def test_what_is_straight_is_played_as_it_is_integrated(stage):
    """The same stage beside a curve so wide that it does not bend, and has to be integrated."""
    t = np.arange(9600) / 48_000
    played = (np.sin(np.clip(t / 0.01, 0, 1) * np.pi / 2) ** 4 * (np.sin(2 * np.pi * 310 * t) + np.sin(
        2 * np.pi * 2900 * t)))[np.newaxis]
    plain = play_patch(made(stage), played, 48_000.0)[0]
    integrated = play_patch(made(stage, {"stage": "shape", "headroom_v": 1e5}), played, 48_000.0)[0]
    kept = slice(0, -480)  # the end of a record that is cut off is a jump, which rings before it
    assert 20 * np.log10(np.std((plain - integrated)[kept]) / np.std(integrated[kept])) < -85


@pytest.mark.long
def test_a_bank_that_rings_by_itself_is_integrated_and_grows():
    loud = {"stage": "bank", "id": "b", "bands": 2, "groups": [{"feedback": 3.0}]}
    kick = np.zeros((1, 9600))
    kick[0, :40] = 1e-3
    out = play_patch(made(loud), kick, 48_000.0)[0]
    assert np.abs(out[-2400:]).max() > 3 * np.abs(out[2400:4800]).max()


def comb(f, hertz, g, damping=None, mix=1.0):
    s = 2j * np.pi * f
    back = g * np.exp(-s / hertz) / (1 if damping is None else 1 + s / (2 * np.pi * damping))
    return 1 - mix + mix / (1 - back)


@pytest.mark.parametrize(("hertz", "g", "damping", "mix"), [
    (110.0, 0.7, None, 1.0), (83.3, -0.9, 3000.0, 0.5), (1234.5, 0.95, 8000.0, 0.8)])
def test_a_comb_between_two_filters(hertz, g, damping, mix):
    """Responds as its formula, group delay by the slope of its phase; is rendered as it responds."""
    generator = np.random.default_rng(3)
    first, second = random_filter(generator), random_filter(generator)
    stage = {"stage": "comb", "frequency_hz": hertz, "feedback": g, "mix": mix}
    stage |= {} if damping is None else {"damping_hz": damping}
    patched = made(first, stage, second)
    (found,) = respond_patch(patched, HZ)
    close(found.gain, gain_of([first], HZ) * comb(HZ, hertz, g, damping, mix) * gain_of([second], HZ))
    alone = made(stage)
    at = np.array([200.0, 777.0, 3001.0])
    step = 1e-3
    phases = [np.deg2rad(respond_patch(alone, at + way * step)[0].phase_deg) for way in (-1, 1)]
    assert respond_patch(alone, at)[0].group_delay_s == pytest.approx(
        -(phases[1] - phases[0]) / (2 * np.pi * 2 * step), rel=1e-3, abs=1e-9)
    t = np.arange(48_000) / 48_000
    played = np.sin(np.clip(t / 0.1, 0, 1) * np.pi / 2) ** 4 * np.sin(2 * np.pi * 777.0 * t)
    out = play_patch(alone, played[np.newaxis], 48_000.0)[0][36_000:-200]
    turn = 2 * np.pi * 777.0 * t[36_000:-200]
    weights = np.linalg.lstsq(np.stack([np.cos(turn), np.sin(turn)], axis=1), out, rcond=None)[0]
    expected = comb(np.array([777.0]), hertz, g, damping, mix)[0]
    assert weights[1] + 1j * weights[0] == pytest.approx(expected, abs=2e-4 * abs(expected))


def test_a_delay_comes_back_when_it_should():
    kick = np.zeros((1, 9600))
    kick[0, 100] = 1.0
    out = play_patch(made({"stage": "comb", "frequency_hz": 100.0, "feedback": 0.5}), kick, 48_000.0)[0]
    assert out[100 + 480 * np.arange(4)] == pytest.approx([1, 0.5, 0.25, 0.125], abs=1e-9)


@pytest.mark.parametrize(("inversion", "semitones"), [(0, (0, 3, 7, 10)), (1, (3, 7, 10, 12)), (3, (10, 12, 15, 19))])
def test_combs_on_a_chord_are_combs_on_its_notes(inversion, semitones):
    """Together as loud as one; rendered as they respond."""
    stage = {"stage": "chord", "root_hz": 98.0, "semitones": [7, 0, 10, 3], "inversion": inversion, "feedback": 0.8,
             "damping_hz": 4000.0, "mix": 0.7}
    chord = made(stage)
    notes = 98.0 * 2 ** (np.array(semitones) / 12)
    expected = sum(comb(HZ, hertz, 0.8, 4000.0, 0.7) for hertz in notes) / 4
    (found,) = respond_patch(chord, HZ)
    close(found.gain, expected)
    kick = np.zeros((1, 48_000))
    kick[0, 4800] = 1.0
    heard = np.fft.rfft(play_patch(chord, kick, 48_000.0)[0])
    hertz = np.fft.rfftfreq(48_000, 1 / 48_000)
    inside = (hertz > 50) & (hertz < 15_000)
    true = np.abs(sum(comb(hertz[inside], note, 0.8, 4000.0, 0.7) for note in notes) / 4)
    assert np.abs(20 * np.log10(np.abs(heard[inside]) / true)).max() < 0.03


@pytest.mark.long
@pytest.mark.parametrize(("kind", "range_", "hertz"), some([("lowpass", "low", 640.0), ("bandpass", "high", 2300.0)],
                                                           1, long=2))
def test_a_resonator_is_a_coil_and_a_capacitor_behind_a_soft_input(kind, range_, hertz):
    """Soft as its formula; loud as an integrator with steps of its own has it."""
    stage = {"stage": "resonator", "kind": kind, "range": range_, "cutoff_hz": hertz, "q": 12.0, "headroom_v": 2.0}
    s = 1j * HZ / hertz
    close(respond_patch(made(stage), HZ)[0].gain, (1 if kind == "lowpass" else s / 12) / (s**2 + s / 12 + 1))
    t = np.arange(2400) / 48_000

    def played(time):
        return 5 * np.sin(np.clip(time / 0.01, 0, 1) * np.pi / 2) ** 4 * np.sin(2 * np.pi * 590.0 * time)

    def slopes(time, x):
        u = 2 * np.tanh(played(time) / 2)
        return [2 * np.pi * hertz * x[1], 2 * np.pi * hertz * (u - x[1] / 12 - x[0])]

    true = solve_ivp(slopes, (0, t[-1]), [0.0, 0.0], t_eval=t, rtol=1e-10, atol=1e-12, method="DOP853").y
    true = true[0] if kind == "lowpass" else true[1] / 12
    heard = play_patch(made(stage), played(t)[np.newaxis], 48_000.0)[0]
    assert np.std(heard[:-100] - true[:-100]) < 1e-4 * np.std(true)


def test_a_range_is_where_a_resonator_stops():
    for fields, hertz in (({"cutoff_hz": 3000.0}, 800.0), ({"cutoff_hz": 3000.0, "range": "high"}, 3000.0),
                          ({"cutoff_hz": 9000.0, "range": "high", "high_hz": 4000.0}, 4000.0)):
        resonator = {"stage": "resonator", "q": 30.0, **fields}
        gain = np.abs(respond_patch(made(resonator), np.array([hertz]))[0].gain)
        assert gain == pytest.approx(30.0)


def test_four_voices_of_one_pitch_each_with_a_setting_of_its_own():
    """Sub-multiples of one pitch, every one in a branch with a resonator: each line is where it belongs."""
    voices = [{"path": [{"stage": "resonator", "range": "high", "cutoff_hz": 400.0 * k, "q": 5.0}],
               "sources": [{"kind": "sine", "pitch_hz": 440.0 / k, "level_v": 0.01}]} for k in (1, 2, 3, 4)]
    patched = made({"stage": "parallel", "branches": voices})
    heard = play_patch(patched, np.zeros((1, 48_000)), 48_000.0)[0][24_000:-240]
    t = np.arange(24_000, 48_000 - 240) / 48_000
    turns = [2 * np.pi * 440.0 / k * t for k in (1, 2, 3, 4)]
    columns = np.stack([f(turn) for turn in turns for f in (np.cos, np.sin)], axis=1)
    amounts = np.hypot(*np.linalg.lstsq(columns, heard, rcond=None)[0].reshape(4, 2).T)
    s = 1j * np.array([440.0 / k / (400.0 * k) for k in (1, 2, 3, 4)])
    assert amounts == pytest.approx(0.01 * np.abs(1 / (s**2 + s / 5 + 1)), rel=1e-3)


@pytest.mark.parametrize(("fields", "ratios"), [
    ({"tuned": "major"}, 2 ** (np.array([0, 2, 4, 5, 7, 9, 11, 12, 14]) / 12)),
    ({"tuned": "harmonics"}, np.arange(1, 10)),
    ({"tuned": "fifths and octaves"}, 2 ** (np.array([0, 7, 12, 19, 24, 31, 36, 43, 48]) / 12)),
    ({"spacing_semitones": 4.5}, 2 ** (4.5 * np.arange(9) / 12)),
])
def test_a_bank_stands_on_the_notes_that_it_is_tuned_to(fields, ratios):
    stage = {"stage": "bank", "bands": 9, "lowest_hz": 110.0, "q": 60.0, "groups": [{}, {"polarity": -1}], **fields}
    s = 1j * HZ[:, np.newaxis] / (110.0 * ratios)
    expected = (s / 60 / (s**2 + s / 60 + 1) * np.where(np.arange(9) % 2, -1, 1)).sum(axis=1)
    close(respond_patch(made(stage), HZ)[0].gain, expected)


def test_a_comb_in_a_loop_is_refused():
    ladder = {"stage": "filter", "filter": "transistor-ladder"}
    with pytest.raises(CircuitError, match="here: a comb stands between networks"):
        respond_patch(made({"stage": "feedback", "amount": 0.5, "path": [ladder, {"stage": "comb", "id": "here"}]}), HZ)
