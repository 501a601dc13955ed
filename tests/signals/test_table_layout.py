"""Curves of other programs, however they are written: what was meant is what is read, or it is refused in words."""

from __future__ import annotations

import re

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from jiyuu.cli.entry import main
from jiyuu.errors import SignalError
from jiyuu.signals.response_table import lines_of, read_response_table
from jiyuu.signals.table_layout import Layout, guessed

HERTZ = 20 * 2 ** (np.arange(80) / 8)
LEVEL = -10 * np.log10(1 + (HERTZ / 900) ** 4)
PHASE = np.linspace(-3, -350, 80)


def written(value: float, places: int, decimal: str, thousands: str) -> str:
    whole, _, part = f"{abs(value):.{places}f}".partition(".")
    if thousands:
        groups = []
        while whole:
            groups.insert(0, whole[-3:])
            whole = whole[:-3]
        whole = thousands.join(groups)
    return ("-" if value < 0 else "") + whole + decimal + part


def table(separator, decimal, thousands, *, heads, columns, places=3):
    rows = [separator.join(written(value, places, decimal, thousands) for value in row)
            for row in zip(*columns, strict=True)]
    return "\n".join(["# made elsewhere", separator.join(heads), *rows]) + "\n"


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=60)
@given(separator=st.sampled_from(["\t", ";", ","]), signs=st.sampled_from(
    [(".", ""), (",", ""), (".", ","), (",", "."), (".", " "), (",", "'")]),
    kilo=st.booleans(), ratio=st.booleans(), radians=st.booleans(), turned=st.booleans())
def test_however_it_is_written_it_is_read_as_it_was_meant(tmp_path, separator, signs, kilo, ratio, radians, turned):
    if separator in signs:
        return
    heads = ["Frequency (kHz)" if kilo else "Frequency (Hz)", "Gain (V/V)" if ratio else "Magnitude (dB)",
             "Phase (rad)" if radians else "Phase (deg)"]
    columns = [HERTZ / 1000 if kilo else HERTZ, 10 ** (LEVEL / 20) if ratio else LEVEL,
               np.deg2rad(PHASE) if radians else PHASE]
    order = [1, 0, 2] if turned else [0, 1, 2]
    path = tmp_path / "curve.csv"
    path.write_text(table(separator, *signs, heads=[heads[i] for i in order], columns=[columns[i] for i in order],
                          places=6))
    layout = guessed(lines_of(path))
    assert (layout.separator, layout.decimal) == (separator, signs[0])
    found = read_response_table(path)
    assert found.frequency_hz == pytest.approx(HERTZ, rel=1e-4)
    assert found.level_db == pytest.approx(LEVEL, abs=2e-2)
    assert found.phase_deg == pytest.approx(PHASE, abs=1e-3)
    assert layout.plain == (not (kilo or ratio or radians or turned or layout.thousands))
    assert ("kHz" in layout.said) == kilo
    assert ("V/V" in layout.said) == ratio


def test_numbers_of_a_thousand_without_a_sign_are_not_taken_apart(tmp_path):
    """'1000,125' is a thousand and an eighth; with three places everywhere a comma could be either, and below a
    thousand it is the decimal sign."""
    path = tmp_path / "curve.csv"
    path.write_text(table(";", ",", "", heads=["Hz", "dB"], columns=[HERTZ, LEVEL]))
    assert read_response_table(path).frequency_hz == pytest.approx(HERTZ, abs=1e-3)
    low = np.linspace(20, 900, 60)
    path.write_text(table(";", ",", "", heads=["Hz", "dB"], columns=[low, -low / 100]))
    assert read_response_table(path).frequency_hz == pytest.approx(low, abs=1e-3)


def test_what_is_changed_by_hand_is_what_is_read(tmp_path):
    path = tmp_path / "curve.csv"
    path.write_text(table(",", ".", "", heads=["a", "b"], columns=[HERTZ / 1000, 10 ** (LEVEL / 20)], places=6))
    assert guessed(lines_of(path)).plain  # nothing says otherwise
    found = read_response_table(path, Layout(frequency_unit="kHz", level_unit="V/V", phase=None))
    assert found.frequency_hz == pytest.approx(HERTZ, rel=1e-4)
    assert found.level_db == pytest.approx(LEVEL, abs=2e-2)
    path.write_text("f,l\n" + "\n".join(f"{hz},{-hz}" for hz in HERTZ))
    with pytest.raises(SignalError, match="above 0 Hz"):
        read_response_table(path, Layout(frequency=1, level=0))
    path.write_text("f,v\n" + "\n".join(f"{hz},{0 if hz > 5000 else 1}" for hz in HERTZ))
    with pytest.raises(SignalError, match="no level in dB"):
        read_response_table(path, Layout(level_unit="V/V"))


def test_the_command_says_how_it_read_what_is_not_plain(tmp_path, capsys):
    path = tmp_path / "curve.csv"
    path.write_text(table(";", ",", "", heads=["f/kHz", "dB"], columns=[HERTZ / 1000, LEVEL], places=6))
    assert main(["measure", "response", str(path), "--json"]) == 0
    told = capsys.readouterr()
    assert "column 1 frequency in kHz" in told.err
    assert main(["measure", "response", str(path)]) == 0
    # A two-pole Butterworth is 3 dB down where its poles lie.
    found = re.search(r"−3 dB cutoff at ([\d.]+) Hz", capsys.readouterr().out)
    assert float(found[1]) == pytest.approx(900.0, rel=2e-3)


def test_texts_that_are_no_tables_are_no_curves():
    for lines in ([], ["", ""], ["a,b", "c"], ['"open'], ["1"] * 5):
        assert isinstance(guessed(lines), Layout)
