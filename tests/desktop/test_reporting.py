"""A report from the window: the kind, the filters, the file."""

import pytest
from PyQt6.QtWidgets import QFileDialog

from jiyuu.bench.report.from_book import Kind
from jiyuu.bench.walk import step_named
from tests.desktop.using import settled


@pytest.fixture
def chooser(window, qtbot):
    window.session.take_letter("A")
    window.files.reporting.choose()
    settled(window, qtbot)
    return window.files.reporting.chooser


def choose_kind(chooser, kind):
    chooser.kind.setCurrentIndex(chooser.kind.findData(kind))
    chooser.kind.activated.emit(chooser.kind.currentIndex())


@pytest.mark.long
def test_a_datasheet_of_the_filter_in_hand_is_written(window, qtbot, chooser, tmp_path, monkeypatch):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
        window.measuring.measure(step_named("response"))
    assert [letter for letter, box in chooser.letters.items() if box.isChecked()] == ["A"]
    chooser.letters["B"].click()  # one filter has a datasheet
    assert [letter for letter, box in chooser.letters.items() if box.isChecked()] == ["B"]
    chooser.letters["A"].click()
    path = tmp_path / "voice A.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(path), ""))
    chooser.write.click()
    qtbot.waitUntil(lambda: path.exists(), timeout=60_000)
    assert path.read_bytes().startswith(b"%PDF-")
    qtbot.waitUntil(lambda: "voice A.pdf is written" in window.tidings.text(), timeout=10_000)


def test_what_is_missing_is_said_and_a_comparison_takes_two(window, qtbot, chooser, tmp_path):
    choose_kind(chooser, Kind.COMPARISON)
    assert all(box.isChecked() for box in chooser.letters.values())
    for letter in list(chooser.letters)[1:]:
        chooser.letters[letter].click()
    assert not chooser.write.isEnabled()
    choose_kind(chooser, Kind.CALIBRATION)
    assert chooser.write.isEnabled()
    window.files.reporting.write(Kind.CALIBRATION, ["A"], tmp_path / "none.pdf")
    qtbot.waitUntil(lambda: "measure it in the step Tracking" in window.tidings.text(), timeout=20_000)
    assert not (tmp_path / "none.pdf").exists()
