"""The Combination step: something to begin with, one knob for several filters, parts and whole, vowels, bands and what
wakes them."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.combinations import COMBINATIONS
from jiyuu.bench.heard import FULL_SCALE_V, Heard, heard_record
from jiyuu.bench.patched import patch_of
from jiyuu.patch.document import Patch
from jiyuu.patch.playing import play_patch
from jiyuu.patch.shapes import Band
from jiyuu.patch.targets import targets_of
from jiyuu.prediction.combined import COMBINED_HZ
from jiyuu.quantities import volts_of
from jiyuu.rig.sound_output import StandInOutput
from tests.desktop.using import settled, typed
from tests.trials import some
from tests.truths import FORMS

OPENS_AT = "combination"


@pytest.fixture
def step(window, qtbot):
    window.session.take_letter("B")
    window.go("combination")
    settled(window, qtbot)
    return window.shown


def begun(step, window, qtbot, key):
    index = list(COMBINATIONS).index(key) + 1
    step.stage_page.start.setCurrentIndex(index)
    step.stage_page.start.activated.emit(index)
    settled(window, qtbot)


def test_every_combination_can_be_begun_with_and_taken_back(step, window, qtbot):
    before = window.session.standing().setup
    for key in some(COMBINATIONS, 5):
        begun(step, window, qtbot, key)
        names = step.combined.shown_names()
        assert {"whole", "left"} & set(names), key
        assert len(names) > 1 or step.below.isVisible(), key  # a crusher shows its images
        assert "Undone" in window.session.undo(), key
        assert window.session.standing().setup == before, key


def test_alone_it_says_what_to_do(step):
    assert "stands alone" in step.heading.text()
    assert step.combined.shown_names() == ["whole"]
    assert not step.below.isVisible()


def test_spacing_is_dragged_and_typed_and_goes_with_the_knob(step, window, qtbot):
    begun(step, window, qtbot, "band")
    line = step.combined.tied_lines()["highpass"]
    standing = window.session.standing()
    line.setValue(volts_of(standing.standing_hz) - 1.5)
    line.sigPositionChangeFinished.emit(line)
    settled(window, qtbot)
    assert window.session.standing().setup.tied["highpass"] == pytest.approx(-1.5, abs=1e-4)
    typed(step.stage_page.spacings["highpass"], "-1")
    assert window.session.standing().setup.tied["highpass"] == pytest.approx(-1.0)
    step.presenter.set_knob(1000.0)
    settled(window, qtbot)
    gain = window.session.standing().gain
    expected = FORMS["state-variable", "lowpass"](1j * COMBINED_HZ / 1000.0, gain) * FORMS[
        "state-variable", "highpass"](1j * COMBINED_HZ / 500.0, 0.0)
    shown = step.combined.curve("whole").values
    assert shown == pytest.approx(np.maximum(20 * np.log10(np.abs(expected)), -120), abs=1e-3)
    step.stage_page.ties["highpass"].click()
    settled(window, qtbot)
    assert window.session.standing().setup.tied == {}


def test_both_sides_are_drawn_with_their_difference(step, window, qtbot):
    begun(step, window, qtbot, "wide")
    assert {"left", "right"} <= set(step.combined.shown_names())
    assert step.left_below.currentWidget() is step.apart
    left, right = (step.combined.curve(name).values for name in ("left", "right"))
    assert step.apart.curve("left over right").values == pytest.approx(left - right, abs=1e-6)


def test_a_vowel_is_dragged_along_and_chosen(step, window, qtbot):
    begun(step, window, qtbot, "vowel")
    plane = step.plane
    assert step.left_below.currentWidget() is plane
    plane.resize(500, 300)
    plane.show_way("ɑ", "i", 0.3, (530.0, 1370.0), "#000000")

    def stage():
        return step.presenter.path.stage()

    start, end = plane.place_of_vowel("ɑ"), plane.place_of_vowel("i")
    point = start + (end - start) * 0.6
    QTest.mousePress(plane, Qt.MouseButton.LeftButton, pos=plane.heard_at().toPoint())
    QTest.mouseMove(plane, point.toPoint())
    QTest.mouseRelease(plane, Qt.MouseButton.LeftButton, pos=point.toPoint())
    settled(window, qtbot)
    assert stage().morph == pytest.approx(0.6, abs=0.02)
    QTest.mouseClick(plane, Qt.MouseButton.LeftButton, pos=(plane.place_of_vowel("u") + QPointF(1, 1)).toPoint())
    settled(window, qtbot)
    assert stage().to == "u"
    plane.setFocus()
    QTest.keyClick(plane, Qt.Key.Key_Left)
    settled(window, qtbot)
    assert stage().morph == pytest.approx(0.55, abs=0.02)
    assert "to /u/" in plane.accessibleDescription()


def test_a_bank_says_which_notes_wake_which_bands(step, window, qtbot):
    begun(step, window, qtbot, "bank")
    assert step.woken.isVisible()
    assert step.woken.rowCount() > 12
    assert "A2" in step.woken.as_text()
    assert {"bands", "woken", "notes"} <= set(step.bands.shown_names())
    panel = step.stage_page.panel
    assert panel.forms
    step.presenter.path.set_member("groups", 0, feedback=0.2)
    settled(window, qtbot)
    assert window.session.standing().setup.path[1].groups[0].feedback == 0.2


def test_bands_of_shapes_are_added_and_taken_out(step, window, qtbot):
    begun(step, window, qtbot, "shapes")
    path = step.presenter.path
    path.set_member("bands", 3)
    path.set_member("bands", 3, gain_db=-9.0, frequency_hz=2500.0)
    settled(window, qtbot)
    assert "peak 2500" in step.combined.shown_names()
    path.set_member("bands", 0, gone=True)
    settled(window, qtbot)
    assert [band.frequency_hz for band in window.session.standing().setup.path[1].bands] == [700.0, 6000.0, 2500.0]


def test_a_pair_in_the_path_is_set_filter_by_filter(step, window, qtbot):
    path = step.presenter.path
    path.choose(path.shown.in_hand)
    path.add("pair")
    settled(window, qtbot)
    assert {"first", "second"} <= set(step.combined.shown_names())
    first = dict(path.stage().first.model_dump(exclude_defaults=True))
    path.set_field(first={**first, "resonance_percent": 40.0})
    settled(window, qtbot)
    assert path.stage().first.resonance_percent == 40.0
    assert step.look.currentText().endswith("pair in series 1.000 kHz")
    step.look.setCurrentIndex(0)
    step.look.activated.emit(0)
    assert step.presenter.place is None


@pytest.mark.long
def test_what_hides_a_sound_is_found_heard_and_cut(step, window, qtbot):
    step.page_choice.button(2).click()
    page, masking = step.masking_page, step.masking
    output = StandInOutput()
    masking.ear.output.make = lambda: output
    assert not page.take.isEnabled()
    assert "is then cut once" in page.said.text()
    page.form.choices["wanted"].textActivated.emit("sine")
    typed(page.form.numbers["wanted_hz"], "A4")
    page.find_it.click()
    qtbot.waitUntil(lambda: masking.masked is not None, timeout=60_000)
    found = masking.masked.found
    assert page.said.text().startswith(f"Filter in hand at {window.session.standing().standing_hz:.4g} Hz hides ")
    assert 440 * 2**-0.5 < found.cut.frequency_hz < 440 * 2**0.5
    assert step.masked.shown_names() == ["alone", "beside it", "a cut frees"]
    assert "sone" in step.masked.reading_at(volts_of(440.0), 0.0)
    assert "hidden_percent" in [finding.quantity for finding in step.presenter.predicted_findings()]
    page.hear[1].click()
    assert page.hear[1].isChecked()
    qtbot.waitUntil(lambda: np.abs(output.heard).max(initial=0.0) > 0.001)
    page.hear[1].click()
    assert not page.hear[1].isChecked()
    page.take.click()
    (band,) = window.session.standing().setup.path[-1].bands
    assert (band.kind, band.frequency_hz, band.gain_db) == ("peak", found.cut.frequency_hz, found.cut.gain_db)
    assert masking.masked is None  # the filter stands otherwise now
    assert not page.take.isEnabled()
    assert "Undone" in window.session.undo()
    assert not window.session.standing().setup.path


@pytest.mark.long
def test_what_rings_is_driven_told_and_heard(step, window, qtbot):
    page, ringing = step.stage_page.ringing, step.ringing
    step.page_choice.button(1).click()
    assert not page.isVisible()  # nothing rings in a filter alone
    begun(step, window, qtbot, "combs")
    output = StandInOutput()
    ringing.ear.output.make = lambda: output
    assert page.isVisible()
    assert not page.hear[0].isVisible()
    page.find_it.click()
    assert not page.find_it.isEnabled()
    qtbot.waitUntil(lambda: ringing.found is not None, timeout=60_000)
    as_set_up, louder = (one for one in step.presenter.predicted_findings() if one.quantity == "ring_behind_db")
    assert 0 < as_set_up.value < louder.value  # what is ahead of the combs bends
    assert louder.context.level_v == pytest.approx(10 * as_set_up.context.level_v)
    assert f"{louder.value:.1f} dB softer" in page.said.text()
    page.hear[1].click()
    assert page.hear[1].isChecked()
    qtbot.waitUntil(lambda: np.abs(output.heard).max(initial=0.0) > 0.001)
    page.hear[1].click()
    assert not page.hear[1].isChecked()
    assert "Undone" in window.session.undo()
    assert ringing.found is None
    assert not page.isVisible()


def test_a_second_cut_goes_into_the_bands_that_stand_there(step, window, qtbot):
    begun(step, window, qtbot, "shapes")
    before = len(window.session.standing().setup.path[1].bands)
    step.presenter.path.add_band(Band(kind="peak", frequency_hz=300.0, gain_db=-6.0))
    assert len(window.session.standing().setup.path) == 2
    assert len(window.session.standing().setup.path[1].bands) == before + 1


def test_a_sound_that_has_gone_is_said(step, window, qtbot, tmp_path):
    step.presenter.ask(wanted="file", wanted_path=str(tmp_path / "gone.wav"))
    step.page_choice.button(2).click()
    step.masking_page.find_it.click()
    assert "not there any more" in window.tidings.words.text()


@pytest.fixture
def shaped(step, window, qtbot):
    begun(step, window, qtbot, "shapes")
    step.page_choice.button(1).click()
    return step.stage_page.shapes


def stage_of(window):
    return window.session.standing().setup.path[1]


def test_settings_are_stored_gone_back_to_and_never_overwritten(shaped, step, window, qtbot):
    assert shaped.isVisible()
    assert not shaped.recall.isEnabled()
    first = stage_of(window).bands
    typed(shaped.name, "day")
    step.presenter.set_band(1, 300.0, 9.04)
    assert (stage_of(window).bands[1].frequency_hz, stage_of(window).bands[1].gain_db) == (300.0, 9.0)
    typed(shaped.name, "day")
    assert "is kept as it is" in window.tidings.text()
    assert stage_of(window).settings[0].bands == first
    shaped.name.setText("")
    shaped.store.click()
    assert "Type a name" in window.tidings.text()
    shaped.anew.click()
    assert stage_of(window).bands == ()
    assert len(stage_of(window).settings) == 1
    shaped.recall.click()
    assert stage_of(window).bands == first
    shaped.away.click()
    assert stage_of(window).settings == ()
    assert "Undone" in window.session.undo()
    assert [setting.name for setting in stage_of(window).settings] == ["day"]


def test_the_whole_stands_between_two_settings_and_a_route_may_move_it(shaped, step, window, qtbot):
    typed(shaped.name, "day")
    step.presenter.set_band(1, 300.0, 9.0)
    typed(shaped.name, "dusk")
    assert [shaped.how.itemText(i) for i in range(shaped.how.count())] == ["no morph", "along all of them"]
    shaped.how.textActivated.emit("along all of them")
    typed(shaped.ways[0], "0.25")
    typed(shaped.names[0], "evening")
    settled(window, qtbot)
    stage = stage_of(window)
    assert (stage.morph, stage.axes) == (0.25, ("evening",))
    assert {"day", "dusk", "whole"} <= set(step.combined.shown_names())
    assert not step.combined.handles.points
    peak = stage.standing()[0][1]
    assert peak.gain_db == pytest.approx(-4 + 0.25 * 13)
    assert peak.frequency_hz == pytest.approx(700 * (300 / 700) ** 0.25)
    names = [target.name for target in targets_of(patch_of(window.session.standing(), "as it stands"))]
    assert "shapes.morph" in names
    shaped.how.textActivated.emit("no morph")
    assert stage_of(window).morph is None


def test_four_settings_make_a_sheet(shaped, window, qtbot):
    for name in ("a", "b", "c", "d"):
        typed(shaped.name, name)
    shaped.how.textActivated.emit("sheet of four")
    assert (stage_of(window).morph, stage_of(window).morph_2) == (0.0, 0.0)
    typed(shaped.ways[1], "1")
    assert stage_of(window).morph_2 == 1.0
    typed(shaped.ways[1], "2")
    assert stage_of(window).morph_2 == 1.0  # past the end: refused
    assert window.tidings.is_error


def test_a_band_is_dragged_by_its_point(shaped, step, window, qtbot):
    point = step.combined.handles.points[1]
    assert point.pos().x() == pytest.approx(volts_of(700.0))
    point.setPos(volts_of(1000.0), 6.0)  # as while it is dragged
    assert step.presenter.dragging
    assert stage_of(window).bands[1].frequency_hz == 700.0
    whole = step.combined.curve("whole")
    assert whole.values[int(np.argmin(np.abs(whole.places - 1000.0)))] > 5
    point.sigPositionChangeFinished.emit(point)
    assert stage_of(window).bands[1].frequency_hz == pytest.approx(1000.0)
    assert stage_of(window).bands[1].gain_db == 6.0
    assert "Undone" in window.session.undo()
    assert step.combined.handles.points[1].pos().y() == pytest.approx(-4.0)


def test_sides_have_bands_of_their_own_until_they_are_copied_across(step, window, qtbot):
    begun(step, window, qtbot, "sides")
    step.page_choice.button(1).click()
    assert {"left", "right"} <= set(step.combined.shown_names())
    assert step.apart.curve("left over right").values.max() > 2
    step.presenter.look_at((1, 0, 0))
    shaped = step.stage_page.shapes
    assert shaped.across.isVisible()
    shaped.across.click()
    settled(window, qtbot)
    stereo = window.session.standing().setup.path[1]
    assert stereo.right[0].bands == stereo.left[0].bands
    assert (stereo.left[0].id, stereo.right[0].id) == ("left", "right")
    assert step.presenter.place == (1, 0, 0)
    step.presenter.look_at((1,))
    settled(window, qtbot)
    assert step.presenter.seen.found.difference_db == pytest.approx(0.0, abs=1e-9)
    assert "Undone" in window.session.undo()


def test_combs_behind_it_are_heard_but_not_measured(step, window, qtbot):
    begun(step, window, qtbot, "combs")
    standing = window.session.standing()
    assert {"110", "139", "165", "whole"} <= set(step.combined.shown_names())
    assert [stage.stage for stage in standing.setup.behind] == ["chord"]
    alone = standing.moved(setup=standing.setup.model_copy(update={"path": ()}))
    assert standing.setup.path_json == []  # what is measured is the filter alone
    assert standing.outputs == alone.outputs
    dry, wet = (heard_record(one, Heard.FILTER, duration_s=0.5) for one in (alone, standing))
    expected = play_patch(Patch(format="jiyuu-patch", version=1, name="chord", path=standing.setup.behind),
                          np.concatenate([np.zeros(24_000), dry])[np.newaxis], 48_000.0)[0][24_000:]
    # All but what rang in the half second before it is heard.
    assert np.std(wet[12_000:] - expected[12_000:]) < 0.2 * np.std(wet)
    assert np.std(wet - dry) > 0.1 * np.std(dry)
    window.go("response")
    settled(window, qtbot)
    assert "Behind it and left out here: chord: combs on 3 notes over 110.0 Hz." in window.shown.heading.text()


def test_a_crusher_shows_where_its_images_fall(step, window, qtbot):
    begun(step, window, qtbot, "crush")
    assert step.below.isVisible()
    assert {"lines", "images"} <= set(step.bands.shown_names())
    (finding,) = [one for one in step.presenter.predicted_findings() if one.quantity == "image_db"]
    assert finding.context.rate_hz == 6000.0
    assert f"Read 6000 times a second, the loudest image lies at {finding.context.image_hz / 1000:.3f} kHz" in [
        step.findings.item(i).text().split(",  ")[0] for i in range(step.findings.count())][-1]


@pytest.mark.parametrize("kind", some(["comb", "chord", "crush"], 1))
def test_what_stands_between_networks_stands_behind_or_ahead(step, window, qtbot, kind):
    step.presenter.path.choose(None)
    step.presenter.path.add(kind)
    assert [stage.stage for stage in window.session.standing().setup.path] == ["filter", kind]
    assert "ends ahead of" in step.heading.text()
    measured = window.session.standing().built
    step.presenter.path.move(-1)
    setup = window.session.standing().setup
    assert [stage.stage for stage in setup.path] == [kind, "filter"]
    assert [stage.stage for stage in setup.ahead] == [kind]
    assert window.session.standing().built == measured  # the filter alone
    settled(window, qtbot)
    assert "begins behind" in step.heading.text()
    window.go("response")
    settled(window, qtbot)
    assert "Ahead of it and left out here:" in window.shown.heading.text()


@pytest.mark.long
def test_four_voices_sound_each_at_its_pitch_through_its_own_coils(step, window, qtbot):
    """A line that only one voice has: its saw's, through its coils and the filter in hand."""
    window.session.change_setup(inputs=[{"kind": "saw", "pitch_hz": 120.0, "level_v": 1e-3}])
    begun(step, window, qtbot, "voices")
    assert "sum of powers" in step.combined.captions.note
    assert not step.below.isVisible()  # no phase between sources of their own
    standing = window.session.standing()
    found = FULL_SCALE_V * heard_record(standing, Heard.FILTER, duration_s=3.0)
    voices = standing.setup.path[0].branches
    for n, voice in enumerate(voices, start=1):
        (source,), (coils,) = voice.sources, voice.path
        assert source.pitch_hz == pytest.approx(120.0 / n)
    hertz, coils = 40.0, voices[2].path[0]  # the third alone has it
    s = 1j * hertz / coils.cutoff_hz
    own = (s / coils.q) / (s * s + s / coils.q + 1) * 10 ** (voices[2].level_db / 20)
    after = FORMS["state-variable", "lowpass"](1j * hertz / standing.standing_hz, standing.gain)
    t = np.arange(48_000, 144_000) / 48_000
    line = 2 * abs(np.mean(found[48_000:] * np.exp(-2j * np.pi * hertz * t)))
    assert line == pytest.approx(1e-3 * 2 / np.pi * abs(own * after), rel=2e-3)


@pytest.mark.long
def test_four_voices_are_heard_together(step, window, qtbot):
    """Lines of every voice, live: a pitch of 120 Hz and its half, third and quarter."""
    output = StandInOutput()
    window.listening.output.make = lambda: output
    window.session.change_setup(inputs=[{"kind": "saw", "pitch_hz": 120.0, "level_v": 5.0}])
    begun(step, window, qtbot, "voices")
    window.listening.play()
    qtbot.waitUntil(lambda: bool(np.any(output.heard[-480:])), timeout=60_000)
    start = output.heard.size
    qtbot.waitUntil(lambda: output.heard.size >= start + 72_000, timeout=20_000)
    window.listening.silence()
    sound = output.heard[start + 24_000 : start + 72_000]
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(sound.size)))  # a bin a hertz
    floor = np.median(spectrum[20:400])
    for own in (30, 40, 60, 120, 150, 200):  # 30, 150: the fourth alone; 40, 200: the third
        assert spectrum[own - 1 : own + 2].max() > 30 * floor, own
