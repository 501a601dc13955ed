"""A curve of another program: a plain one is taken at once, any other is shown as it is understood, to be changed."""

import numpy as np
import pytest

from tests.desktop.using import settled

HERTZ = 20 * 2 ** (np.arange(80) / 8)
LEVEL = -10 * np.log10(1 + (HERTZ / 900) ** 4)


def foreign(path, head="f (kHz);gain"):
    rows = [f"{hz / 1000:.6f};{level:.4f}".replace(".", ",") for hz, level in zip(HERTZ, LEVEL, strict=True)]
    path.write_text("\n".join(["Made elsewhere", head, *rows]) + "\n")
    return path


def pick(box, value):
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def test_what_is_not_plain_is_asked_about_and_read_as_it_is_changed(window, qtbot, tmp_path):
    window.files.open([foreign(tmp_path / "bench.csv")])
    preview = window.files.curves.preview
    assert "frequency in kHz" in preview.said.text()
    assert "80 points, 20 Hz to 18" in preview.said.text()
    assert preview.table.item(2, 0).text() == "0,020000"
    assert window.session.book.runs(window.session.in_hand.id, "response") == []
    # Wrongly read it cannot be imported; the sentence says why.
    pick(preview.decimal, ".")
    assert not preview.take.isEnabled()
    assert "But: " in preview.said.text()
    pick(preview.decimal, ",")
    pick(preview.phase, None)
    assert preview.take.isEnabled()
    assert len(preview.plot.rows()) == 81
    preview.take.click()
    settled(window, qtbot)
    shown = window.view("response").level.curve("measured")
    assert shown.values == pytest.approx(np.interp(np.log(shown.places), np.log(HERTZ), LEVEL), abs=0.05)
    assert "read as semicolons between columns, decimal comma" in window.tidings.text()


def test_a_plain_one_can_be_looked_at_too(window, qtbot, tmp_path):
    path = foreign(tmp_path / "bench.csv", head="frequency_hz;level_db")
    window.files.curves.open(path, ask=True)
    preview = window.files.curves.preview
    assert "20 Hz" not in preview.said.text()  # thousandths of a hertz, as it says itself
    pick(preview.frequency_unit, "kHz")
    assert "20 Hz to" in preview.said.text()
    (tmp_path / "none.csv").write_bytes(b"\xff\xfe\x00")
    window.files.open([tmp_path / "none.csv"])
    assert "not text in UTF-8" in window.tidings.text()
