"""Random patches, and what they answer by arithmetic of closed forms: no code of the product takes part."""

import numpy as np

from tests.truths import FORMS

FILTERS = [key for key in FORMS if key[0] != "diode-ladder"]
BEHIND_CAPACITORS = [("transistor-ladder", "lowpass-24"), ("transistor-ladder", "lowpass-12"),
                     ("transistor-ladder", "bandpass-24"), ("state-variable", "lowpass"),
                     ("state-variable", "bandpass"), ("diode-ladder", "lowpass-24")]
HIGHEST = {"transistor-ladder": 3.6, "state-variable": 1.8, "diode-ladder": 12.0}


def patch(path, **more):
    return {"format": "jiyuu-patch", "version": 1, "name": "Made up", "path": path, **more}


def slope(curve):
    x = curve.get("bias_v", 0.0) / curve["headroom_v"]
    return {"tanh": 1 - np.tanh(x) ** 2, "asinh": 1 / np.sqrt(1 + x * x), "clip": float(abs(x) < 1),
            "fold": np.cos(x)}[curve["kind"]]


def gain_of(path, hertz, shift=0.0):
    total = np.ones(hertz.size, dtype=complex)
    for stage in path:
        total = total * _one(stage, hertz, shift)
    return total


def _one(stage, hertz, shift):
    kind = stage["stage"]
    if kind == "gain":
        return stage.get("polarity", 1) * 10 ** (stage.get("db", 0) / 20)
    if kind == "shape":
        return slope(stage)
    if kind == "filter":
        s = 1j * hertz / (stage["cutoff_hz"] * 2**shift)
        return FORMS[stage["filter"], stage["mode"]](s, stage["resonance_gain"])
    if kind == "parallel":
        return sum(b.get("polarity", 1) * 10 ** (b.get("level_db", 0) / 20) * gain_of(b["path"], hertz, shift)
                   for b in stage["branches"])
    if kind == "feedback":
        inside = gain_of(stage["path"], hertz, shift)
        return inside / (1 - stage["amount"] * (slope(stage["through"]) if "through" in stage else 1) * inside)
    raise AssertionError(kind)


def random_filter(generator, among=FILTERS):
    circuit, mode = among[generator.integers(len(among))]
    return {"stage": "filter", "filter": circuit, "mode": mode,
            "cutoff_hz": float(np.exp(generator.uniform(np.log(60), np.log(9000)))),
            "resonance_gain": float(generator.uniform(0, HIGHEST[circuit]))}


def random_curve(generator):
    return {"kind": str(generator.choice(["tanh", "asinh", "clip", "fold"])),
            "headroom_v": float(generator.uniform(0.5, 4)), "bias_v": float(generator.uniform(-0.4, 0.4))}


def random_path(generator, depth=0, longest=4):
    return [_random_stage(generator, depth) for _ in range(generator.integers(1, longest))]


def _random_stage(generator, depth):
    kinds = ["gain", "shape", "filter", "filter"] + (["parallel", "feedback"] if depth < 2 else [])
    kind = generator.choice(kinds)
    if kind == "gain":
        return {"stage": "gain", "db": float(generator.uniform(-12, 12)), "polarity": int(generator.choice([1, -1]))}
    if kind == "shape":
        return {"stage": "shape", **random_curve(generator)}
    if kind == "filter":
        return random_filter(generator)
    if kind == "parallel":
        return {"stage": "parallel", "branches": [
            {"path": random_path(generator, depth + 1, 3) if generator.random() < 0.7 else [],
             "level_db": float(generator.uniform(-12, 6)), "polarity": int(generator.choice([1, -1]))}
            for _ in range(generator.integers(1, 4))]}
    return random_feedback(generator, depth)


def random_feedback(generator, depth=1):
    found = {"stage": "feedback", "amount": float(generator.uniform(-6, 6)), "path": [
        random_filter(generator, BEHIND_CAPACITORS), *random_path(generator, depth + 1, 2)]}
    if generator.random() < 0.4:
        found["through"] = random_curve(generator)
    return found
