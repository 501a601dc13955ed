"""The walk: what is missing is done, what no longer holds is known, and every way of measuring is the same run."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from jiyuu.bench.characterise import characterise
from jiyuu.bench.run import Run, keep
from jiyuu.bench.setup import CutoffInput, Setup, SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import (
    StepState,
    measured,
    missing_steps,
    setting_of,
    states,
    step_named,
    walk,
    walk_on,
    why_out_of_date,
)
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.trims import Trims
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.rig.simulated import SimulatedRig
from tests.benching import listen_briefly, run_of

VOICE = Filter(name="Fog voice", circuit="sallen-key-lowpass", cutoff_hz=700.0, resonance_percent=30.0)
SOON = {"response": {"sweep_s": 1.0}, "resonance": {"positions": 6}}
MEASURED = [step.key for step in walk() if step.measures]


def called(key):
    """What the runs of a step are called."""
    return step_named(key).run_key


@pytest.fixture
def book(tmp_path):
    opened = Book.create(tmp_path / "walk.jiyuu")
    yield opened
    opened.close()


def keys(steps):
    return [step.key for step in steps]


def walked(book, row, standing, kept=None, *, until=None):
    for step in walk_on(book, row, standing, kept or {}, lambda: SimulatedRig(standing.filter, seed=1)):
        if isinstance(step, Run):
            keep(book, row, step)
        elif until is not None and step.text.startswith(until):
            return


def test_ten_steps_in_working_order_each_with_a_purpose():
    assert [step.number for step in walk()] == list(range(1, 11))
    assert len({step.key for step in walk()}) == len({step.name for step in walk()}) == 10
    assert all(step.purpose for step in walk())
    with pytest.raises(JiyuuError, match="there are: setup, response"):
        step_named("dive")


@pytest.mark.long
def test_the_walk_does_what_is_missing_and_only_that_and_asks_what_was_set(book, monkeypatch):
    listen_briefly(monkeypatch)
    kept = {**SOON, "tracking": {"to_v": 2.0, "tolerance_cents": 2.0}, "self_oscillation": {"balance_db": -12.0}}
    row, standing = book.add_filter("A", VOICE, seed=1), Standing.of(VOICE)
    walked(book, row, standing, kept, until="Resonance")
    assert keys(missing_steps(book, row, standing, kept)) == [
        "resonance", "self_oscillation", "tracking", "drive", "modulation", "comparison"]
    walked(book, row, standing, kept)
    assert missing_steps(book, row, standing, kept) == ()
    assert [len(book.runs(row, step, mode=standing.mode)) for step in map(called, MEASURED)] == [
        1] * len(MEASURED)
    louder = replace(standing, resonance_percent=40.0)
    assert states(book, row, louder, kept)["resonance"] is StepState.DONE
    # Tracking stands on volts of its own, wherever the cutoff knob is.
    assert keys(missing_steps(book, row, replace(standing, cutoff_hz=800.0), kept)) == [
        *MEASURED[:4], "drive", "modulation", "comparison"]
    assert keys(missing_steps(book, row, replace(standing, trims=Trims(scale=1.0)), kept)) == MEASURED
    # What it keeps is what each step measures alone.
    for key in ("setup", "tracking"):
        step, stored = step_named(key), book.runs(row, key, mode=standing.mode)[0]
        setting = step.thorough(setting_of(step, kept))
        *_, alone = (run for run in measured(step, standing, setting, SimulatedRig(standing.filter, seed=1))
                     if isinstance(run, Run))
        assert [logged.finding.value for logged in book.findings_of_run(stored.id)] == [
            finding.value for finding in alone.findings]
        assert stored.setting == setting.model_dump(mode="json")
    table = book.tables(book.runs(row, "tracking")[0].id)["tracking"]
    assert table["volts"].tolist() == [0.0, 1.0, 2.0]
    assert book.runs(row, "tracking")[0].facts["tolerance_cents"] == 2.0


@pytest.mark.long
def test_a_step_that_cannot_be_measured_does_not_stop_the_others(book):
    document = VOICE.model_copy(update={"full_gain": 400.0, "resonance_percent": 0.0})
    row, standing = book.add_filter("A", document, seed=1), Standing.of(document)
    for key in ("response", "drive", "comparison"):  # measured before
        keep(book, row, Run(called(key), standing, setting_of(step_named(key), SOON), ()))
    with pytest.raises(JiyuuError, match="Resonance: The filter whistles"):
        walked(book, row, standing, SOON)
    assert keys(missing_steps(book, row, standing, SOON)) == ["resonance", "self_oscillation", "modulation"]
    assert np.isfinite(book.findings_of_run(book.runs(row, "setup")[0].id)[0].finding.value)


class Unplugged(SimulatedRig):
    """Nothing arrives: whoever plays is told."""

    def __init__(self):
        super().__init__(VOICE, seed=1)

    def play(self, *_, **__):
        raise MeasurementError("The cable is out.")

    play_each = play


def test_the_walk_refuses_where_a_key_refuses(book):
    loud = replace(Standing.of(VOICE), resonance_percent=100.0)
    step = step_named("response")
    with pytest.raises(MeasurementError, match="turn resonance down first"):
        list(measured(step, loud, setting_of(step, {}), SimulatedRig(loud.filter, seed=1)))
    row = book.add_filter("A", VOICE, seed=1)
    with pytest.raises(JiyuuError, match="Response: At this resonance the filter oscillates"):
        list(walk_on(book, row, loud, {}, lambda: Unplugged()))
    assert book.runs(row, "response") == []


# What puts a run out of date


@cache
def once(key):
    """A measured run for all who only ask when it no longer holds."""
    return run_of(key, VOICE, seed=1)


@pytest.mark.parametrize(("key", "changes", "words"), [
    ("setup", {"setup": Setup(drive_db=20.0)}, "drive was 0.0 dB, is +20.0 dB"),
    ("setup", {"setup": Setup(inputs=(SourceSetting(level_v=1.0),))}, "another source is played"),
    ("setup", {"setup": Setup(cvs=(CutoffInput(amount_percent=100.0, now_v=2.0), CutoffInput(), CutoffInput()))},
     "cutoff was 700.0 Hz, is 2.800 kHz"),
    ("response", {"setup": Setup(cvs=(CutoffInput(amount_percent=100.0, now_v=2.0), CutoffInput(), CutoffInput()))},
     "cutoff was 700.0 Hz, is 2.800 kHz"),
    ("response", {"resonance_percent": 31.0}, "resonance was 30 %, is 31 %"),
    ("response", {"parameters": {"feedback_headroom_v": 2.0}}, "feedback_headroom_v was the drawing's, is 2"),
    ("response", {"trims": Trims(offset=1.0)}, "offset trim turned since"),
    ("response", {"setup": Setup(drive_db=20.0)}, None),  # its sweeps go in behind the drive
    ("response", {}, None),
])
def test_why_a_run_is_out_of_date(book, key, changes, words):
    row, step = book.add_filter("A", VOICE, seed=1), step_named(key)
    keep(book, row, once(key))
    now = replace(Standing.of(VOICE), **changes)
    assert why_out_of_date(step, now, setting_of(step, {}), book.runs(row, key)[0]) == words


def test_another_mode_is_another_measurement(book):
    ladder = Filter(name="Fog voice A", circuit="transistor-ladder", cutoff_hz=820.0)
    row, standing = book.add_filter("A", ladder, seed=1), Standing.of(ladder)
    keep(book, row, run_of("setup", ladder, seed=1))
    assert states(book, row, standing, {})["setup"] is StepState.DONE
    assert states(book, row, replace(standing, mode="bandpass-12"), {})["setup"] is StepState.OPEN


def test_what_else_is_kept_at_a_step_is_not_what_it_measures(book):
    """A series of blind listening leaves the character unmeasured; a measured one is found by its own name."""
    row, standing = book.add_filter("A", VOICE, seed=1), Standing.of(VOICE)
    keep(book, row, Run("comparison", standing, setting_of(step_named("comparison"), {}), ()))
    assert states(book, row, standing, {})["comparison"] is StepState.OPEN
    keep(book, row, Run("character", standing, setting_of(step_named("comparison"), {}), ()))
    assert states(book, row, standing, {})["comparison"] is StepState.DONE
    assert states(book, row, replace(standing, resonance_percent=1.0), {})["comparison"] is StepState.STALE
    assert step_named("character") is step_named("comparison")


@pytest.mark.parametrize(("only_mode", "first"), [
    (True, ["resonance", "comparison", "modulation"]),
    (False, ["response", "resonance", "comparison"]),  # nine modes of it
])
def test_of_a_characterisation_what_takes_longest_is_begun_first(monkeypatch, tmp_path, only_mode, first):
    begun = []

    def as_they_come(works):
        begun.append([work.args[0] for work in works])
        return iter(())

    monkeypatch.setattr("jiyuu.bench.characterise.as_they_come", as_they_come)
    standing = Standing.of(Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=700.0))
    list(characterise(standing, lambda: SimulatedRig(standing.filter, seed=1), seed=1, folder=tmp_path / "sheet",
                      only_mode=only_mode))
    assert keys(begun[0])[:3] == first
    assert sorted(keys(begun[0])) == sorted(MEASURED)
