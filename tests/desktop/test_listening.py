"""Listening in the real window, into a stand-in for the output: what is heard is what is simulated."""

import numpy as np
import pytest

from jiyuu.bench.heard import Heard
from jiyuu.errors import SignalError
from jiyuu.measurement.levels import measure_levels
from jiyuu.measurement.tone import measure_tone
from jiyuu.rig.sound_output import StandInOutput
from jiyuu.signals.ceiling import CEILING_DB


@pytest.fixture
def output(window):
    stand_in = StandInOutput()
    window.listening.output.make = lambda: stand_in
    yield stand_in
    window.listening.silence()


def heard_for(seconds, output, qtbot):
    """The next so many seconds that reach the output."""
    start = output.heard.size
    qtbot.waitUntil(lambda: output.heard.size >= start + round(48_000 * seconds), timeout=20_000)
    return output.heard[start:]


def sounding(window, output, qtbot):
    qtbot.waitUntil(lambda: bool(np.any(output.heard[-480:])), timeout=60_000)


def test_play_and_stop(window, output, qtbot):
    ear = window.ear
    assert ear.button.text() == "Play"
    ear.button.click()
    assert ear.button.text() == "Stop"
    sounding(window, output, qtbot)
    sound = heard_for(0.6, output, qtbot)
    assert 0.003 < np.abs(sound).max() <= 10 ** (CEILING_DB / 20)
    pitch = window.session.standing().setup.inputs[0].pitch_hz
    assert measure_tone(sound[-24_000:], 48_000).frequency_hz.value == pytest.approx(pitch, rel=2e-3)
    ear.button.click()
    assert ear.button.text() == "Play"
    qtbot.waitUntil(lambda: not window.listening.output_open, timeout=5_000)
    assert np.abs(output.heard[-480:]).max() == 0
    assert np.abs(np.diff(output.heard)).max() < 0.1  # no click at either end


def test_it_follows_what_is_turned(window, output, qtbot):
    window.listening.choose(Heard.SOURCE)
    window.listening.set_level(-30.0)
    window.listening.play()
    sounding(window, output, qtbot)
    soft = np.sqrt(np.mean(heard_for(0.3, output, qtbot)[-9600:] ** 2))
    window.ear.level.entered.emit(-24.0)
    qtbot.waitUntil(lambda: np.sqrt(np.mean(output.heard[-9600:] ** 2)) > 1.5 * soft, timeout=20_000)
    louder = np.sqrt(np.mean(heard_for(0.4, output, qtbot)[-9600:] ** 2))
    assert louder / soft == pytest.approx(10 ** (6 / 20), rel=0.02)
    window.ear.level.entered.emit(12.0)
    assert window.listening.level_db == 0.0
    qtbot.waitUntil(lambda: np.abs(output.heard[-9600:]).max() > 10 ** ((CEILING_DB - 1) / 20), timeout=20_000)
    assert np.abs(output.heard).max() <= 10 ** (CEILING_DB / 20)


def test_what_moves_is_heard_and_follows_what_is_dragged(window, output, qtbot):
    window.session.change_setup(
        inputs=[{"kind": "saw", "pitch_hz": 110.0, "level_v": 3.0}],
        controls={"slow": {"kind": "lfo", "shape": "sine", "rate_hz": 2.0}},
        routes=[{"source": "slow", "target": f"{window.session.standing().setup.in_hand}.cutoff", "amount": 0.5}])
    window.session.change({"cutoff_hz": 250.0})
    window.listening.choose(Heard.MOVING)
    window.listening.play()
    sounding(window, output, qtbot)

    def brightness():
        lines = np.abs(np.fft.rfft(heard_for(0.6, output, qtbot)[-24_000:] * np.hanning(24_000))) ** 2
        return 10 * np.log10(lines[500:].sum() / lines[:500].sum())  # over a kilohertz, re under it

    dark = brightness()
    window.listening.follow(window.session.standing().moved(cutoff_hz=2500.0))
    assert brightness() > dark + 20
    window.session.change({"cutoff_hz": 2500.0})  # let go of: a voice of its own, in step
    bright = brightness()
    assert bright > dark + 20
    assert np.abs(output.heard).max() <= 10 ** (CEILING_DB / 20)


def test_once_through_and_then_silence(window, output, qtbot):
    window.ear.loop.click()
    assert not window.listening.loop
    window.listening.play()
    sounding(window, output, qtbot)
    qtbot.waitUntil(lambda: not window.listening.playing, timeout=10_000)
    assert output.heard.size < 48_000 * 6
    assert window.ear.button.text() == "Play"


def test_its_own_tone_is_warned_of_and_refused_where_there_is_none(window, output, qtbot):
    window.ear.what.textActivated.emit(Heard.WHISTLE.value)
    window.session.change({"resonance_percent": 10.0})
    window.listening.play()
    qtbot.waitUntil(lambda: "does not whistle" in window.tidings.text(), timeout=60_000)
    assert not window.listening.playing
    assert output.heard.size == 0
    window.session.change({"resonance_percent": 100.0})
    window.listening.toggle()
    sounding(window, output, qtbot)
    assert "Start low" in window.tidings.text()


def test_without_an_output_the_file_is_offered(window, qtbot):
    class NoOutput(StandInOutput):
        def start(self, fill):
            raise SignalError("No sound output could be opened on this machine; save the sound as a file.")

    window.listening.output.make = NoOutput
    window.listening.play()
    qtbot.waitUntil(lambda: "No sound output" in window.tidings.text(), timeout=60_000)
    assert not window.listening.playing
    assert window.ear.button.text() == "Play"


def test_what_is_dragged_is_heard_before_it_is_let_go(window, output, qtbot):
    window.listening.set_level(-12.0)
    window.listening.play()
    sounding(window, output, qtbot)
    heard_for(0.4, output, qtbot)

    def brightness():
        part = output.heard[-9600:]
        power = np.abs(np.fft.rfft(part * np.hanning(part.size))) ** 2
        return power[400:].sum() / power.sum()  # above 2 kHz

    dark = brightness()
    window.view("response").presenter.try_cutoff(9000.0)
    assert window.session.standing().cutoff_hz == 820.0  # only tried
    qtbot.waitUntil(lambda: brightness() > 3 * dark, timeout=5_000)


@pytest.mark.long
def test_two_are_switched_by_one_key_at_equal_loudness(window, output, qtbot):
    ear, listening = window.ear, window.listening
    ear.pair.click()
    assert listening.marked.letter == "A"
    assert "A as it stands is marked" in window.tidings.text()
    assert ear.pair.text() == "in hand"
    window.session.change({"cutoff_hz": 250.0})
    listening.set_level(-20.0)
    listening.play()
    sounding(window, output, qtbot)
    qtbot.waitUntil(lambda: not (listening.jobs.busy or listening.match_jobs.busy), timeout=60_000)
    heard_for(0.6, output, qtbot)

    def loudness():
        return measure_levels(heard_for(2.0, output, qtbot)[-86_400:], 48_000, full_scale_v=1.0).loudness_lufs

    in_hand = loudness()
    listening.compare()
    assert ear.pair.text() == "A, marked"
    heard_for(0.3, output, qtbot)
    assert loudness() == pytest.approx(in_hand, abs=0.15)
    listening.forget_marked()
    assert ear.pair.text() == "mark"
