"""What is heard over pitch and level: the numbers of the descriptors themselves, and where an order turns round."""

from __future__ import annotations

import numpy as np
import pytest

from jiyuu.bench import over_sound
from jiyuu.bench.over_sound import OF_SOUND, Over, OverSound, over_sound_steps
from jiyuu.character.descriptors import describe
from jiyuu.character.sound import Listening
from jiyuu.character.subject import Subject
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.signals.source import Source, SourceKind
from tests.trials import some

PLACES = np.array([100.0, 200.0, 400.0, 800.0])


def made(apart, doubt=0.0, name="brightness"):
    first = np.full(4, 0.5)
    rows = {"A": first, "B": first + np.asarray(apart)}
    doubts = {letter: np.full(4, doubt) for letter in "AB"}
    return OverSound(Over.PITCH, PLACES, ("A", "B"), {name: rows}, {name: doubts})


def test_an_order_that_turns_round_is_told_with_its_place():
    assert made([0.3, 0.3, -0.3, -0.4]).turns("brightness") == (
        "From 283 Hz up A is brighter than B, below it the other way round.",)  # the middle of an octave
    assert made([0.3, 0.0, 0.0, -0.3]).turns("brightness")[0].startswith("From 283 Hz up A")
    assert made([0.3, 0.3, 0.3, 0.3]).turns("brightness") == (
        "B is brighter than A from 100 Hz to 800 Hz, wherever it was tried.",)
    assert made([0.0, -0.3, 0.0, 0.01]).turns("brightness") == (
        "A is brighter than B at 200 Hz; elsewhere they are not heard to differ in it.",)
    # Less than is noticed, or than is known, is no order.
    assert made([0.02, -0.02, 0.02, -0.02]).turns("brightness") == ()
    assert made([0.3, 0.3, -0.3, -0.3], doubt=0.5).turns("brightness") == ()
    assert made([np.nan, 0.3, np.nan, -0.3]).turns("brightness")[0].startswith("From 400 Hz up A")


def test_peak_and_bass_move_with_the_resonance_control(monkeypatch):
    monkeypatch.setitem(over_sound.NAMES, Over.RESONANCE, ("peak", "bass_kept", "peak_hz"))
    subjects = {letter: Subject(neutral_filter(name), mode, 700.0, 1.0) for letter, name, mode in (
        ("A", "transistor-ladder", "lowpass-24"), ("B", "state-variable", "lowpass"),
        ("C", "ota-cascade", "lowpass-24"))}
    steps = list(over_sound_steps(subjects, Source(), Listening(True), Over.RESONANCE))
    found = steps[-1]
    assert len(steps) == 2 * found.places.size  # the two that are told apart, then the third
    assert np.isnan(steps[found.places.size - 1].values["peak"]["C"]).all()
    ladder = subjects["A"].filter
    for percent, kept in zip(found.places, found.values["bass_kept"]["A"], strict=True):
        stages, gain = (1 + 0.125j) ** 4, ladder.gain_at(percent)
        if gain < 4:
            assert kept == pytest.approx(20 * np.log10(abs(stages / (stages + gain))), abs=1e-6)
        else:
            assert np.isnan(kept)  # it whistles, so it has no response
    assert np.nanmax(np.abs(found.values["bass_kept"]["B"])) < 1.0
    assert found.values["peak"]["C"] == pytest.approx(found.values["peak"]["A"], abs=1e-6, nan_ok=True)  # one network
    assert found.turns("bass_kept")[0].startswith("B keeps more bass than A from ")


@pytest.mark.long
@pytest.mark.parametrize("over", some([Over.PITCH, Over.LEVEL], 1))
def test_every_place_holds_what_the_descriptors_say_there(over, monkeypatch):
    monkeypatch.setitem(over_sound.PLACES, over, np.array([0.5, 4.0]) if over is Over.LEVEL else np.array([220., 880.]))
    subjects = {letter: Subject(neutral_filter(name), mode, 700.0, 1.0) for letter, name, mode in (
        ("A", "transistor-ladder", "lowpass-24"), ("B", "state-variable", "lowpass"))}
    source, listening = Source(SourceKind.SAW, 220.0, 2.0), Listening(True)
    *_, early, last = over_sound_steps(subjects, source, listening, over)
    assert np.isfinite(early.values["body"]["A"]).sum() == 1  # what is known is shown before all is
    at = Source(SourceKind.SAW, 880.0, 2.0) if over is Over.PITCH else Source(SourceKind.SAW, 220.0, 4.0)
    own = describe(subjects["B"], at, listening=listening, names=OF_SOUND)
    for name in OF_SOUND:
        found = last.values[name]["B"][1]
        assert found == pytest.approx(own[name].value) if own[name].value is not None else np.isnan(found)
