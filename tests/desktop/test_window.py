"""The window as a person uses it: look, drag, measure, keep, close, reopen, drop files, undo."""

from pathlib import Path

import numpy as np
import pytest
from PyQt6 import sip
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QSlider

from jiyuu.bench.timeline import Kind
from jiyuu.bench.walk import StepState, walk
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter, write_filter
from jiyuu.circuits.linear import response
from jiyuu.prediction.response import GRID_HZ
from jiyuu.quantities import hz_of_volts
from jiyuu.rig.protocol import PanelSettings
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.wording.findings import sentence
from tests.desktop.using import measured, settled, typed
from tests.trials import some


def pixel_of(figure, frequency_hz, share=0.5):
    """Where a frequency stands in a figure's viewport."""
    view = figure.view
    (_, _), (low, high) = view.viewRange()
    scene = view.mapViewToScene(QPointF(float(np.log2(frequency_hz / 261.6255653)), low + share * (high - low)))
    return figure.mapFromScene(scene)


def drag(figure, from_hz, to_hz):
    start, stop = pixel_of(figure, from_hz), pixel_of(figure, to_hz)
    surface = figure.viewport()
    QTest.mousePress(surface, Qt.MouseButton.LeftButton, pos=start)
    for share in np.linspace(0.1, 1, 12):
        QTest.mouseMove(surface, start + QPoint(round(share * (stop - start).x()), 0), delay=15)
    QTest.mouseRelease(surface, Qt.MouseButton.LeftButton, pos=stop)


def test_it_opens_on_the_response_step_with_six_filters_and_every_mode(window):
    assert [card.shelved.letter for card in window.shelf.findChildren(QAbstractButton)] == list("ABCDEF")
    assert window.step == "response"
    names = window.view("response").level.shown_names()
    assert set(window.session.in_hand.document.entry.modes) <= set(names)
    shown = window.view("response").level.curve("lowpass-24")
    document = window.session.in_hand.document
    true = response(document.network(), GRID_HZ, cutoff_hz=820.0, gain=document.gain_at(45.0), modes=["lowpass-24"])
    assert np.abs(shown.values - true.level_db[0]).max() < 1e-9


@pytest.mark.parametrize("index", some(range(6), 2))
def test_every_filter_of_the_demo_works(window, index, qtbot):
    QTest.keyClick(window, Qt.Key(Qt.Key.Key_1 + index), Qt.KeyboardModifier.AltModifier)
    shelved = window.session.in_hand
    assert shelved.letter == "ABCDEF"[index]
    assert window.view("response").column.circuit.text().startswith(shelved.letter)
    assert set(shelved.document.entry.modes) <= set(window.view("response").level.shown_names())
    settled(window, qtbot)
    assert window.view("response").findings.count() > 3


def test_dragging_the_cutoff_moves_everything_and_is_one_act(window, qtbot):
    before = window.view("response").level.curve("lowpass-24").values.copy()
    seen = []
    window.view("response").presenter.predicted.connect(seen.append)
    drag(window.view("response").level, 820.0, 2000.0)
    assert len(seen) >= 2  # how many moves get through depends on how busy the machine is
    cutoff_hz = window.session.standing().cutoff_hz
    assert cutoff_hz == pytest.approx(2000.0, rel=0.02)
    assert np.abs(window.view("response").level.curve("lowpass-24").values - before).max() > 10
    assert hz_of_volts(window.view("response").level.cutoff_line.value()) == pytest.approx(cutoff_hz, rel=1e-3)
    assert "2.0" in window.view("response").cutoff.text() or "1.9" in window.view("response").cutoff.text()
    qtbot.waitUntil(lambda: any("kHz" in text for text in window.view("response").findings.sentences()))
    window.undo()
    assert window.session.standing().cutoff_hz == 820.0
    window.redo()
    assert window.session.standing().cutoff_hz == cutoff_hz


def test_measure_keep_close_and_reopen(window, open_window, book_path, qtbot):
    measured(window, qtbot)
    figure = window.view("response").level
    assert "measured" in figure.shown_names()
    predicted, found = figure.curve("lowpass-24"), figure.curve("measured")
    inside = (found.places > 30) & (found.places < 4000)
    expected = np.interp(found.places[inside], predicted.places, predicted.values)
    assert np.abs(found.values[inside] - expected).max() < 3  # a build, not the drawing
    said = window.view("response").findings
    sentences = [said.item(i).text() for i in range(said.count())]
    for start in ("−3 dB cutoff", "Pole frequency", "Slope −", "First octave", "Passband", "Phase", "Non-inverting"):
        assert any(text.startswith(start) for text in sentences), start
    window.view("response").findings.setCurrentRow(3)
    kept = sentences[3]
    QTest.keyClick(window, Qt.Key.Key_K)
    assert window.session.states()["response"] is StepState.DONE
    window.close()

    again = open_window(book_path)
    assert "measured" in again.view("response").level.shown_names()
    QTest.keyClick(again, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert again.step == "logbook"
    settled(again, qtbot)
    assert [entry.text for entry in again.shown.presenter.every if entry.kind is Kind.FINDING] == [kept]
    again.shown.timeline.setFocus()
    QTest.keyClick(again.shown.timeline, Qt.Key.Key_K)
    assert again.session.book.logbook() == []
    QTest.keyClick(again, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert [sentence(entry.finding) for entry in again.session.book.logbook()] == [kept]


@pytest.mark.long
def test_a_changed_setting_puts_the_measured_curve_out_of_date(window, qtbot):
    measured(window, qtbot)
    assert window.session.states()["response"] is StepState.DONE
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Right)
    assert window.session.standing().cutoff_hz == pytest.approx(820 * 2 ** (1 / 12), rel=1e-4)
    assert window.session.states()["response"] is StepState.STALE
    assert "cutoff was 820.0 Hz" in window.view("response").level.captions.why
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert window.session.standing().cutoff_hz == pytest.approx(820 * 2 ** (0.9 / 12), rel=1e-4)


def test_a_measurement_can_be_cancelled_and_leaves_nothing(window, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.cancelled, timeout=10_000):
        QTest.keyClick(window, Qt.Key.Key_M)
        assert window.tidings.cancel.isVisible()
        QTest.keyClick(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not window.session.crew.busy)
    assert window.session.book.runs(window.session.in_hand.id, "response") == []
    assert not window.tidings.bar.isVisible()
    assert "cancelled" in window.tidings.text()


def drop(window, *paths: Path):
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    event = QDropEvent(QPointF(500, 300), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
                       Qt.KeyboardModifier.NoModifier)
    window.dropEvent(event)


@pytest.fixture
def pair(tmp_path, window):
    document = window.session.in_hand.document
    stimulus = sweep_stimulus(SweepPlan(level_v=0.1, sweep_s=2.0), sample_rate_hz=48_000)
    recording = SimulatedRig(document, seed=5).play(stimulus, PanelSettings(820.0, 45.0), ["lowpass-24"])[0]
    write_recording(tmp_path / "played.wav", stimulus, 48_000)
    write_recording(tmp_path / "recorded.wav", recording, 48_000)
    return tmp_path / "recorded.wav", tmp_path / "played.wav"


@pytest.mark.long
def test_a_dropped_pair_is_measured_in_whichever_order(window, qtbot, pair):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        drop(window, *pair)
    (run,) = window.session.book.runs(window.session.in_hand.id, "response")
    assert set(run.source.split(", ")) == {"recorded.wav", "played.wav"}
    assert "measured" in window.view("response").level.shown_names()


def test_a_dropped_filter_joins_the_shelf_and_a_book_takes_its_place(window, tmp_path, qtbot):
    write_filter(tmp_path / "g.filter.json", Filter(name="Spare board", circuit="sallen-key-highpass"))
    drop(window, tmp_path / "g.filter.json")
    assert window.session.in_hand.letter == "G"
    assert len(window.shelf.findChildren(QAbstractButton)) == 7
    Book.create(tmp_path / "empty.jiyuu").close()
    drop(window, tmp_path / "empty.jiyuu")
    qtbot.waitUntil(lambda: window.session.book.path == tmp_path / "empty.jiyuu")
    assert "empty" in window.tidings.text()


BAD = [
    ("a.odt", b"hello", "nothing to be done"), ("a.txt", b"hello", "a curve needs at least 24"),
    ("a.wav", b"RIFF", "Drop two files together"),
    ("a.filter.json", b"{", "not valid JSON"),
    ("a.filter.json", b'{"name": "x", "circuit": "comb"}', "no circuit 'comb'"),
    ("a.jiyuu", b"text", "not a book"),
]


def test_bad_files_are_refused_in_place(window, tmp_path):
    for name, content, words in BAD:
        (tmp_path / name).write_bytes(content)
        drop(window, tmp_path / name)
        assert window.tidings.isVisible(), name
        assert words in window.tidings.text()
        assert window.tidings.is_error, name
        assert window.session.in_hand.letter == "A", name
        window.tidings.clear()


def test_bad_recordings_are_refused_in_place(window, qtbot, tmp_path):
    for content, words in ((b"", ("empty", "cannot be read")), (b"RIFF", ("cannot be read",)), (None, ("silent",))):
        for name in ("one.wav", "two.wav"):
            if content is None:
                write_recording(tmp_path / name, np.zeros(48_000), 48_000)
            else:
                (tmp_path / name).write_bytes(content)
        with qtbot.waitSignal(window.measuring.jobs.failed, timeout=20_000):
            drop(window, tmp_path / "one.wav", tmp_path / "two.wav")
        assert window.tidings.is_error, content
        assert any(word in window.tidings.text() for word in words), window.tidings.text()
        window.tidings.clear()


def test_typed_cutoffs(window):
    for text, hz in (("1k2", 1200.0), ("A4", 440.0), ("0 V", 261.626), ("3 kHz", 3000.0)):
        typed(window.view("response").cutoff, text)
        assert window.session.standing().cutoff_hz == pytest.approx(hz, abs=1e-3), text


def test_a_typed_value_that_makes_no_sense_is_marked_and_changes_nothing(window):
    field = window.view("response").cutoff
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "soup")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.property("wrong")
    assert "type for example" in window.tidings.text()
    assert window.session.standing().cutoff_hz == 820.0
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "820.0 Hz"


def test_resonance_by_slider_by_text_and_back_by_double_click(window, qtbot):
    slider = window.view("response").side.findChild(QSlider)
    QTest.keyClick(slider, Qt.Key.Key_PageUp)
    assert window.session.standing().resonance_percent > 45
    field = window.view("response").resonance
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "95 %")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.session.standing().resonance_percent == 95
    assert "Oscillates by itself" in window.view("response").level.captions.why
    window.shown.presenter.measure()
    assert "turn resonance down" in window.tidings.text()
    QTest.mouseDClick(field, Qt.MouseButton.LeftButton)
    assert window.session.standing().resonance_percent == 45


@pytest.mark.long
def test_a_mode_has_its_own_measurement(window, qtbot):
    measured(window, qtbot)
    box = window.view("response").side.findChild(QComboBox)
    box.textActivated.emit("bandpass-12")
    assert window.session.standing().mode == "bandpass-12"
    assert "measured" not in window.view("response").level.shown_names()
    box.textActivated.emit("lowpass-24")
    assert "measured" in window.view("response").level.shown_names()


@pytest.mark.long
def test_the_walk_shows_ten_steps(window):
    assert list(window.walk.stations) == [step.key for step in walk()]
    for number, step in enumerate(walk()[:9], start=1):
        QTest.keyClick(window, Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.ControlModifier)
        assert window.step == step.key
        assert window.walk.stations[step.key].isChecked()
        assert window.walk.stations[step.key].accessibleName().startswith(f"Step {number}, {step.name}: ")


def test_the_signal_path_tells_of_an_overload(window):
    window.session.take(1)
    assert "overload" in window.path.accessibleDescription()
    window.view("response").presenter.set_resonance(0.0)
    assert "overload" not in window.path.accessibleDescription()


def test_figures_are_copied_and_saved(window, tmp_path):
    figure = window.view("response").level
    QTest.keyClick(window, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert not QGuiApplication.clipboard().pixmap().isNull()
    for ending in (".svg", ".png", ".csv"):
        figure.save(tmp_path / f"f{ending}")
        assert (tmp_path / f"f{ending}").stat().st_size > 1000
    heading, first, *_ = (tmp_path / "f.csv").read_text().splitlines()
    assert heading.startswith("frequency_hz,")
    assert "lowpass-24_db" in heading
    assert float(first.split(",")[0]) == pytest.approx(GRID_HZ[0])


def test_zoom_by_wheel_key_and_back(window):
    view = window.view("response").level.view
    whole = view.viewRange()[0]
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Plus)
    assert np.ptp(view.viewRange()[0]) < np.ptp(whole)
    assert window.view("response").phase.view.viewRange()[0] == pytest.approx(view.viewRange()[0])
    QTest.keyClick(window.view("response").level, Qt.Key.Key_Home)
    assert view.viewRange()[0] == pytest.approx(whole)


def test_hover_reads_frequency_note_and_the_nearest_curve(window):
    text = window.view("response").level.reading_at(float(np.log2(440 / 261.6255653)), -9.0)
    assert text.startswith("440.0 Hz  A4 0 c")
    assert " dB" in text


def test_help_lists_the_keys_and_the_cautions(window):
    QTest.keyClick(window, Qt.Key.Key_F1, Qt.KeyboardModifier.ShiftModifier)
    words = window.menus.help.window.text.toPlainText()
    assert "Keep finding, or take it out" in words
    assert "Ctrl+Z" in words
    window.menus.help.window.show_page("Cautions")
    assert "Mains voltage" in window.menus.help.window.text.toPlainText()
    window.menus.help.window.close()


def test_a_closed_window_takes_along_all_that_it_made(open_window, book_path, qapp, qtbot):
    """What was made for a page that nobody opened would stay for as long as the application runs."""
    before = set(qapp.topLevelWidgets())
    window = open_window(book_path)
    for step in walk():
        window.go(step.key)
        qapp.processEvents()
    window.close()
    qtbot.waitUntil(lambda: sip.isdeleted(window), timeout=30_000)
    assert set(qapp.topLevelWidgets()) - before == set()
