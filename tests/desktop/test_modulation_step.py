"""The Modulation step: what moves is chosen, bounded by hand, written on the staff, looked at, measured and heard."""

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.heard import HEARD_RATE_HZ, Heard, heard_record
from jiyuu.bench.live import Mixer
from jiyuu.bench.moving_voice import moving_voice
from jiyuu.bench.starting_points import STARTING_POINTS
from jiyuu.prediction.audio_rate import sidebands
from jiyuu.prediction.response import GRID_HZ
from jiyuu.rig.sound_output import StandInOutput
from jiyuu.signals.pings import ping_stimulus
from tests.desktop.using import measured, settled, typed
from tests.measurement.test_ping import RATE, system
from tests.measurement.test_ping import stepped as stepped_exactly
from tests.measurement.test_settling import lag
from tests.measurement.test_settling import stepped as stepped_whistle
from tests.trials import some
from tests.truths import FORMS

OPENS_AT = "modulation"


@pytest.fixture
def step(window, qtbot):
    window.session.take_letter("A")
    window.go("modulation")
    settled(window, qtbot)
    window.shown.presenter.set_knob(200.0)
    window.shown.presenter.start_from("swing")
    settled(window, qtbot)
    return window.shown


def drag(line, value):
    line.setValue(value)
    line.sigPositionChangeFinished.emit(line)


@pytest.mark.long
def test_nothing_moves_until_a_starting_point_is_chosen(window, qtbot):
    window.session.take_letter("B")
    window.go("modulation")
    settled(window, qtbot)
    step = window.shown
    assert "Nothing moves yet" in step.heading.text()
    assert "Nothing moves the cutoff" in step.sound.captions.note
    assert not step.staff.isVisible()
    step.moves_page.start.setCurrentIndex(1)
    step.moves_page.start.activated.emit(1)
    settled(window, qtbot)
    assert step.staff.isVisible()
    assert window.session.standing().setup.figure is not None
    assert "Undone" in window.session.undo()
    assert window.session.standing().setup.routes == ()


@pytest.mark.long
def test_bounds_are_dragged_and_typed_and_met_exactly(step, window, qtbot):
    drag(step.sound.bound_lines[1], np.log2(2000 / 261.6255653))
    span = step.presenter.moves.span(step.presenter.cutoff_target)
    assert span.greatest == pytest.approx(2000.0, rel=1e-4)
    before = span.least
    typed(step.moves_page.low, "100 Hz")
    span = step.presenter.moves.span(step.presenter.cutoff_target)
    # The knob is kept to a thousandth of a hertz.
    assert 1200 * abs(np.log2(span.least / 100.0)) < 0.1
    assert 1200 * abs(np.log2(span.greatest / 2000.0)) < 0.1
    assert before != pytest.approx(100.0)
    assert window.session.standing().cutoff_hz == pytest.approx(np.sqrt(100 * 2000), rel=1e-4)  # a triangle's middle
    said = []
    step.presenter.message.connect(lambda text, error: said.append(text))
    typed(step.moves_page.low, "5 kHz")
    assert "lies under the lower one" in said[-1]


@pytest.mark.long
def test_what_is_cut_off_is_said_and_drawn(step, window, qtbot):
    step.presenter.change_route(0, amount=8.0)
    assert "its routes ask for more" in step.sound.captions.note
    assert {"asked for", "cutoff"} <= set(step.sound.shown_names())
    settled(window, qtbot)
    said = [finding for finding in step.presenter.predicted_findings() if "cutoff" in finding.context.target]
    # A triangle of ±8 octaves about 200 Hz, 1.6 rounds of it: two upper turns and one lower one lie beyond the stops.
    upper, lower = 0.5 * (1 - np.log2(22_000 / 200) / 8), 0.5 * (1 - np.log2(200 / 16) / 8)
    assert said[0].context.stopped_percent == pytest.approx(100 * (2 * upper + lower) / 1.6, abs=0.1)


def test_the_response_is_that_of_the_moment(step, window):
    shown = []
    step.presenter.at_moment.connect(shown.append)
    step.presenter.set_moment(0.25)
    cutoff = 200.0 * 2 ** (1.5 * 4 * 0.4 * 0.25)  # a triangle that rises from 0 in a quarter of 2.5 s
    assert shown[-1].cutoff_hz == pytest.approx(cutoff, rel=1e-6)
    standing = window.session.standing()
    truth = FORMS["transistor-ladder", "lowpass-24"](1j * GRID_HZ / cutoff, standing.gain)
    assert shown[-1].then_db == pytest.approx(20 * np.log10(np.abs(truth)), abs=0.005)
    assert step.sound.moment_line.value() == pytest.approx(0.25)
    QTest.keyClick(step.sound, Qt.Key.Key_Right)
    assert step.presenter.setting.moment_s == pytest.approx(0.3)


@pytest.mark.long
def test_the_figure_is_written_by_key_and_by_hand(step, window, qtbot):
    step.presenter.start_from("tide")
    staff, session = step.staff, window.session
    staff.setFocus()
    QTest.keyClick(staff, Qt.Key.Key_Up)
    assert session.standing().setup.figure.steps[0].semitones == 1
    QTest.keyClick(staff, Qt.Key.Key_A)
    assert not session.standing().setup.figure.steps[0].accent
    QTest.keyClick(staff, Qt.Key.Key_Right)
    QTest.keyClick(staff, Qt.Key.Key_S)
    assert session.standing().setup.figure.steps[1].slide
    QTest.keyClick(staff, Qt.Key.Key_R)
    assert session.standing().setup.figure.steps[1].rest
    assert "Step 2: a rest." in staff.accessibleDescription()
    x = next(x for x in range(staff.width()) if staff.step_at(x) == 4) + 3
    for _ in range(2):  # the first click chooses, the second places
        QTest.mouseClick(staff, Qt.MouseButton.LeftButton, pos=QPoint(x, staff.height() // 2))
    assert staff.chosen == 4
    assert session.standing().setup.figure.steps[4].semitones != 3
    typed(step.moves_page.figure.numbers["step_s"], "0.25")
    assert session.standing().setup.figure.step_s == 0.25


@pytest.mark.long
def test_controls_are_added_set_routed_and_taken_out(step, window):
    presenter, session = step.presenter, window.session
    presenter.add_control("random")
    assert [route.source for route in session.standing().setup.routes] == ["swing", "random"]
    typed(step.moves_page.controls["random"].numbers["rate_hz"], "5")
    assert session.standing().setup.controls["random"].rate_hz == 5
    typed(step.moves_page.routes[1], "-0.5")
    assert session.standing().setup.routes[1].amount == -0.5
    presenter.add_route("random", "output.level")
    assert session.standing().setup.routes[2].target == "output.level"
    presenter.remove_route(2)
    presenter.add_control("signal")
    presenter.change_control("signal", of="filter")
    assert session.standing().setup.controls["signal"].of == "filter"
    assert "signal" not in presenter.moves.controls  # known only while it sounds
    presenter.remove_control("signal")
    presenter.remove_control("random")
    assert list(session.standing().setup.controls) == ["swing"]
    said = []
    presenter.message.connect(lambda text, error: said.append(text))
    typed(step.moves_page.controls["swing"].numbers["rate_hz"], "99999")
    assert said


@pytest.mark.long
def test_the_unit_is_struck_and_stepped(step, window, qtbot):
    measured(window, qtbot)
    found = {logged.finding.quantity: logged.finding for logged in step.presenter.logged}
    standing = window.session.standing()
    pole = -1 + (standing.gain / 4) ** 0.25 * (1 + 1j)  # of a ladder; the unit's own is some per cent away
    assert found["ring_hz"].value == pytest.approx(200.0 * pole.imag, rel=0.06)
    assert found["ring_q"].value == pytest.approx(abs(pole) / (-2 * pole.real), rel=0.25)
    assert found["first_peak_v"].value > 0
    assert 0 < found["settling_s"].value < 0.1
    slew_s = standing.document.tolerances.slew_ms / 1000
    assert found["settling_s"].value >= slew_s
    assert found["feedthrough_v_per_v"].value == pytest.approx(
        standing.document.tolerances.feedthrough_mv / 1000, rel=0.35)
    assert step.presenter.tables.keys() == {"pings", "ring", "settling"}
    ring = step.presenter.tables["ring"]
    dying = slice(int(np.argmax(ring["level_db"])), int(np.flatnonzero(ring["level_db"] > -50)[-1]) + 1)
    falls = np.polyfit(ring["time_s"][dying], ring["level_db"][dying], 1)[0]
    assert falls == pytest.approx(20 * np.log10(np.e) * 2 * np.pi * 200.0 * pole.real, rel=0.25)
    assert ring["level_db"][-3:].max() < -55  # nothing of the next stroke


@pytest.mark.long
def test_it_is_heard_as_it_moves_and_comes_round_without_a_seam(step, window):
    standing = window.session.standing()
    sound = heard_record(standing, Heard.MOVING, duration_s=1.0)
    assert sound.size == HEARD_RATE_HZ
    assert 0.01 < np.abs(sound).max() <= standing.document.tolerances.rail_v / 10
    voice = moving_voice(standing)
    mixer = Mixer()
    mixer.set_level(0.0)
    mixer.play("now", voice)
    played = mixer.fill(round(5 * HEARD_RATE_HZ))[HEARD_RATE_HZ:]
    steps = np.abs(np.diff(played))
    around = steps[3 * HEARD_RATE_HZ - 5000 : 3 * HEARD_RATE_HZ + 5000]
    assert around.max() <= 1.05 * steps[: 2 * HEARD_RATE_HZ].max()


def test_pings_and_steps_of_a_real_unit_are_dropped(step, window, qtbot, tmp_path):
    played = ping_stimulus(length_s=0.001, level_v=1.0, every_s=0.5, count=2, sample_rate_hz=RATE)
    rang = stepped_exactly(system("bandpass", 440.0, 12.0, 0.0), played, RATE)
    sung, _ = stepped_whistle((0, 1), 300.0, lag(0.001), thump=0.01)
    noise = np.random.default_rng(1)
    for name, record in (("played", played), ("rang", rang + noise.normal(0, 1e-4, rang.size)), ("sung", sung)):
        soundfile.write(tmp_path / f"{name}.wav", record / 10, RATE, "FLOAT")
    for paths, quantity, value in (((tmp_path / "rang.wav", tmp_path / "played.wav"), "ring_hz", 439.6),
                                   ((tmp_path / "sung.wav",), "settling_s", 0.0048)):
        with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
            window.files.open(list(paths))
        settled(window, qtbot)
        found = {logged.finding.quantity: logged.finding for logged in step.presenter.logged}
        assert found[quantity].value == pytest.approx(value, rel=0.02)
        assert step.presenter.run.source == ", ".join(path.name for path in reversed(paths))


@pytest.mark.long
def test_it_is_struck_on_a_scale_and_the_row_is_heard(step, window, qtbot):
    page, output = step.scale_page, StandInOutput()
    step.presenter.row.output.make = lambda: output
    step.page_choice.button(2).click()
    assert not page.play.isEnabled()
    typed(page.scale, "G3 5/4 3/2 2/1")
    assert window.session.setting(step.step).scale == "G3 5/4 3/2 2/1"
    step.page_choice.button(0).click()
    measured(window, qtbot)
    step.page_choice.button(2).click()
    table = step.presenter.tables["struck"]
    assert table["note_hz"] == pytest.approx(196.0 * np.array([1, 1.25, 1.5, 2]), rel=1e-4)
    assert np.abs(table["off_cents"]).max() < 120  # a build somewhat beside its drawing
    rows = [line.split("\t") for line in page.table.as_text().splitlines()[1:]]
    assert [row[0] for row in rows] == ["G3", "B3 −14", "D4 +2", "G4"]
    assert [float(row[2].replace("−", "-")) for row in rows] == pytest.approx(table["off_cents"], abs=0.051)
    assert any(text.startswith("Struck on 4 notes") for text in said(step))
    bar = page.table.horizontalScrollBar()
    assert bar.maximum() == 0, "what was filled in unseen is wider than the table"
    page.play.click()
    qtbot.waitUntil(lambda: output.heard.size > 0.9 * RATE, timeout=10_000)
    assert page.play.text() == "Silence"
    assert np.abs(output.heard).max() > 1e-3
    page.play.click()
    assert page.play.text() == "Play the row"
    window.go("setup")
    assert not step.presenter.row.output.is_open
    window.go("modulation")
    page.scale.setText("C3 nonsense")
    page.scale.returnPressed.emit()
    assert "nonsense" in window.tidings.text()


def said(step):
    return [step.findings.item(i).text() for i in range(step.findings.count())]


@pytest.mark.long
def test_a_tone_in_the_cutoff_names_its_lines(step, window, qtbot):
    step.presenter.start_from("within")
    settled(window, qtbot)
    standing = window.session.standing()
    found = sidebands(standing.network, standing.mode, cutoff_hz=standing.standing_hz, gain=standing.gain, octaves=0.5,
                      rate_hz=130.0, frequency_hz=440.0)
    (line,) = [text for text in said(step) if text.startswith("A tone of 440.0 Hz gets lines at")]
    for hertz, order in (("310.0", -1), ("570.0", 1)):
        assert f"{hertz} Hz ({found.level_db(order):+.1f} dB)".replace("-", "−") in line


def test_what_bounds_say_does_not_cover_each_other(step, qapp):
    for low, high in ((579.8, 1160.0), (790.0, 850.0), (20.0, 26.0), (19_000.0, 21_000.0)):
        step.sound.show_bounds(low, high)
        qapp.processEvents()
        lines = step.sound.bound_lines
        places = [line.label.mapRectToScene(line.label.boundingRect()) for line in lines]
        assert all(line.label.isVisible() for line in lines), low
        assert not places[0].intersects(places[1]), low
        whole = step.sound.view.sceneBoundingRect()
        assert all(whole.contains(place) for place in places), low


@pytest.mark.long
def test_a_whistle_in_motion_is_said_to_be_sharp(step, window, qtbot):
    step.presenter.start_from("within")
    step.presenter.set_resonance(100.0)
    settled(window, qtbot)
    (line,) = [text for text in said(step) if "whistle is" in text]
    assert "51.6 cents sharp on the mean; −43 mV bring it back" in line


def test_sources_that_beat_are_named(step, window, qtbot):
    window.session.change_setup(inputs=[{"kind": "saw", "pitch_hz": 110.0}, {"kind": "square", "pitch_hz": 165.4}],
                                controls={}, routes=[])
    settled(window, qtbot)
    (line,) = [text for text in said(step) if "beat" in text]
    assert line.startswith("Two sources beat 0.80 times a second (110.0 Hz and 165.4 Hz, harmonic 3 against 2)")
    assert line.endswith("nothing moves the filter.")


def test_every_starting_point_moves_the_cutoff_and_is_taken_back(window, qtbot):
    window.session.take_letter("B")
    window.go("modulation")
    settled(window, qtbot)
    before = window.session.standing().setup
    for key in some(STARTING_POINTS, 4):
        window.shown.presenter.start_from(key)
        span = window.shown.presenter.moves.span(window.shown.presenter.cutoff_target)
        assert span.greatest > span.least, key
        assert "Undone" in window.session.undo(), key
        assert window.session.standing().setup == before, key
