"""Filters side by side: cutoffs brought together, verdicts, shares of causes that add up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.character.comparison import Same, Verdict, aligned, compare, place_hz, weighed
from jiyuu.character.descriptors import Descriptor, describe
from jiyuu.character.scales import SCALE
from jiyuu.character.subject import Subject
from jiyuu.character.why import Cause, cause_of, why
from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.control import Taper
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import CircuitError
from jiyuu.signals.source import Source, SourceKind
from jiyuu.wording.character import difference_sentence
from tests.trials import some

SOURCE = Source(SourceKind.SAW, 110.0, 5.0)
QUICK = ["brightness", "body", "peak", "bass_kept", "grit"]


def subject(
    circuit: str = "transistor-ladder", *, gain: float | None = None, cutoff_hz: float = 1000.0, drive: float = 1.0,
    percent: float = 0.0, taper: Taper = Taper.LINEAR, **parameters: float,
) -> Subject:
    document = Filter(name=circuit, circuit=circuit, parameters=parameters, resonance_percent=percent,
                      resonance_taper=taper)
    at = document.gain_at(percent) if gain is None else gain
    return Subject(document, document.chosen_mode, cutoff_hz, at, drive)


def test_every_parameter_of_the_catalogue_has_a_cause() -> None:
    odd = {"mix_0", "mix_1", "mix_2", "mix_3", "mix_4", "morph", "highpass_gain", "opening_ms", "closing_ms",
           "closing_dark_ms"}
    for entry in circuits().values():
        for name in entry.values({}):
            assert (cause_of(name) is Cause.CIRCUIT_FAMILY) == (name in odd), name


@pytest.mark.parametrize("same", [Same.DB3, Same.PEAK, Same.PITCH])
def test_cutoffs_lie_together_by_the_definition(same: Same) -> None:
    first, second = aligned([subject(gain=3.0), subject("diode-ladder", gain=12.0, cutoff_hz=333.0)], same)
    assert place_hz(second, same) == pytest.approx(place_hz(first, same), rel=1e-6)
    assert first.cutoff_hz == 1000.0
    assert second.cutoff_hz != pytest.approx(1000.0, rel=0.01)
    if same is Same.DB3:
        dc = np.abs(complex_gain(second.network, np.array([0.01]), cutoff_hz=second.cutoff_hz, gain=12.0))[0, 0]
        there = np.abs(complex_gain(second.network, np.array([place_hz(first, same)]), cutoff_hz=second.cutoff_hz,
                                    gain=12.0))[0, 0]
        assert 20 * np.log10(there / dc) == pytest.approx(-3.0103, abs=0.01)


def test_a_filter_without_such_a_place_is_named() -> None:
    with pytest.raises(CircuitError, match="no peak"):
        aligned([subject(gain=3.0), subject("state-variable")], Same.PEAK)
    with pytest.raises(CircuitError, match="at least two"):
        compare([subject()], SOURCE)


def test_verdicts_weigh_a_difference_against_doubt_and_against_what_is_noticed() -> None:
    peak = SCALE["peak"]

    def verdict(a: float, b: float, doubt: float) -> Verdict:
        return weighed(peak, [Descriptor(peak, a, doubt), Descriptor(peak, b, doubt)]).verdict

    assert verdict(10.0, 10.1, 0.2) is Verdict.NOT_MEASURED
    assert verdict(10.0, 10.5, 0.2) is Verdict.HARDLY
    assert verdict(10.0, 11.5, 0.2) is Verdict.HEARD
    assert weighed(peak, [Descriptor(peak, 1.0, 0.1), Descriptor(peak, None, None, "it whistles")]).verdict \
        is Verdict.NOT_COMPARABLE


def test_shares_in_per_cent_are_apart_in_percentage_points() -> None:
    assert difference_sentence("grit", "%", -3.59, 0.775, "heard", ("C", "B")) == (
        "B is 3.59 percentage points cleaner than C: heard (0.775 are noticed).")
    assert difference_sentence("peak", "dB", 2.0, 1.0, "heard", ("A", "B")) == (
        "B peaks 2 dB higher than A: heard (1 dB is noticed).")


def test_a_filter_beside_itself_is_not_measured_to_differ() -> None:
    found = compare([subject(gain=2.0), subject(gain=2.0)], SOURCE)
    assert {one.verdict for one in found.quantities} == {Verdict.NOT_MEASURED}


PLANTED = [
    (Cause.LOOP_GAIN, {"gain": 2.0}, {"gain": 3.0}),
    (Cause.COMPENSATION, {"gain": 3.0}, {"gain": 3.0, "compensation": 0.5}),
    (Cause.HEADROOMS, {"gain": 2.0}, {"gain": 2.0, "stage_headroom_v": 3.0}),
    (Cause.MISMATCH, {"gain": 2.0}, {"gain": 2.0, "stage_2_mismatch_percent": 20.0}),
    (Cause.SOURCE_LEVEL, {"gain": 2.0}, {"gain": 2.0, "drive": 2.0}),
    (Cause.TAPER, {"percent": 60.0}, {"percent": 60.0, "taper": Taper.LOG}),
    (Cause.POLE_PLACEMENT, {"gain": 3.0}, {"gain": 3.0, "feedback_coupling_hz": 100.0}),
]


@pytest.mark.parametrize(("cause", "first", "second"), some(PLANTED, 3, long=7), ids=str)
def test_a_single_planted_cause_gets_it_all(cause: Cause, first: dict[str, float], second: dict[str, float]) -> None:
    a, b = subject(**first), subject(**second)  # type: ignore[arg-type]
    found = why(a, b, SOURCE, names=["brightness", "body"])
    whole = {name: one.value for name, one in describe(b, SOURCE, names=["brightness", "body"]).items()}
    base = {name: one.value for name, one in describe(a, SOURCE, names=["brightness", "body"]).items()}
    for name in ("brightness", "body"):
        difference = whole[name] - base[name]
        assert abs(difference) > 1e-4
        assert found.of(name)[cause] == pytest.approx(difference, rel=1e-9)
        assert all(share == 0 for other, share in found.of(name).items() if other is not cause)


@pytest.mark.long
def test_shares_add_up_and_are_what_steps_between_make() -> None:
    a = subject(gain=3.0)
    b = subject("ota-cascade", gain=2.0, stage_headroom_v=2.0)
    found = why(a, b, SOURCE, names=QUICK)
    first, second = (describe(one, SOURCE, names=QUICK) for one in (a, b))
    assert found.explained == pytest.approx(1.0, abs=1e-9)
    assert not found.left_out
    for name in QUICK:
        assert sum(found.of(name).values()) == pytest.approx(second[name].value - first[name].value, rel=1e-9)
    # Small-signal, ladder and cascade are one network: family and headroom cannot be why their peaks differ.
    assert found.of("peak")[Cause.LOOP_GAIN] == pytest.approx(second["peak"].value - first["peak"].value)
    # Both causes' shares of what only they make, from the four filters themselves.
    louder = replace(a, filter=a.filter.model_copy(update={"parameters": {"stage_headroom_v": 2.0}}))
    moved = why(a, replace(louder, gain=2.0), SOURCE, names=["grit"])
    (low, high), (low_less, high_less) = (
        [describe(replace(one, gain=k), SOURCE, names=["grit"])["grit"].value for one in (a, louder)]
        for k in (3.0, 2.0))
    expected = (high - low + high_less - low_less) / 2
    assert moved.of("grit")[Cause.HEADROOMS] == pytest.approx(expected, rel=1e-9)


def test_a_step_between_that_whistles_is_said() -> None:
    """A much compensated loop on the way makes nothing finite: the quantity is left out, not guessed."""
    a, b = subject(gain=3.9), subject(gain=3.9, stage_1_mismatch_percent=-30.0, stage_2_mismatch_percent=40.0)
    found = why(a, replace(b, gain=4.2), SOURCE, names=["peak"])
    assert not found.shares
    assert found.left_out[0][0] == "peak"
