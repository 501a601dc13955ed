"""Findings: verdicts and their one sentence."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.measurement.finding import Finding, Tolerance, Verdict
from jiyuu.measurement.findings import READ_FROM_CURVE
from jiyuu.measurement.wording import QUANTITIES, sentence
from jiyuu.quantities import note_and_cents, parse_frequency, parse_number, shown_hz, signed


@pytest.mark.parametrize(("value", "uncertainty", "verdict"), [
    (1000.0, 1.0, Verdict.INSIDE), (1100.0, 1.0, Verdict.OUTSIDE), (1049.0, 5.0, Verdict.UNCERTAIN),
    (1051.0, 5.0, Verdict.UNCERTAIN), (950.0, None, Verdict.INSIDE), (949.0, None, Verdict.OUTSIDE),
])
def test_a_verdict_counts_the_uncertainty(value, uncertainty, verdict):
    assert Finding("pole_hz", value, "Hz", uncertainty, Tolerance(950, 1050)).verdict is verdict
    assert Finding("pole_hz", value, "Hz", uncertainty).verdict is Verdict.UNJUDGED


@pytest.mark.parametrize(("finding", "text"), [
    (Finding("cutoff_3db_hz", 812.0, "Hz", 0.4), "−3 dB cutoff at 812.0 Hz ± 0.05 % (G#5 −39 cents)."),
    (Finding("pole_hz", 1380.0, "Hz", 0.3, Tolerance(1165.8, 1235.2)),
     "Pole frequency 1.380 kHz ± 0.03 % (F6 −21 cents): out of tolerance (1165.8 to 1235.2 Hz)."),
    (Finding("slope_db_per_octave", -23.28, "dB/oct", 0.31),
     "Slope −23.3 ± 0.3 dB per octave from 1 to 3 octaves past the cutoff."),
    (Finding("passband_db", -9.3, "dB", 0.001), "Passband level −9.3 ± 0.01 dB re the input."),
    (Finding("peak_db", 7.66, "dB"), "Peak +7.7 dB re the passband."),
    (Finding("polarity", -1.0, ""), "Polarity inverted."),
    (Finding("latency_s", 0.0123, "s", 1e-6), "Latency of the rig 12.300 ms."),
])
def test_sentences(finding, text):
    assert sentence(finding) == text


@given(name=st.sampled_from(sorted(QUANTITIES)), value=st.floats(1e-3, 2e4), share=st.floats(0, 2))
def test_no_sentence_has_an_exponent_or_a_negative_zero(name, value, share):
    told = {"body_hz": 100.0, "source": "the saw", "ends_at_percent": 80.0, "where": "0 to 7 %", "taper": "log control",
            "limit_v": 5.0, "highest_v": 8.0, "highest_percent": 90.0, "trim_db": -4.0, "hump_hz": 900.0,
            "octaves": 1.0, "full_scale_v": 10.0, "at_v": 3.0, "tolerance_cents": 5.0, "said": "Scale trim up.",
            "at_db": -6.0, "percent_per_db": 0.4, "target_db": -6.0, "jumps": False, "caught": True,
            "caught_percent": (91.0, 95.0)}
    text = sentence(Finding(name, value, "", share * value, settings=told))
    assert "e+" not in text
    assert "e-" not in text
    assert "−0.0 " not in text
    assert "± 0 " not in text
    assert text.endswith(".")


def test_every_quantity_says_what_it_means_and_how_it_is_measured():
    assert {name for name, _ in READ_FROM_CURVE} <= set(QUANTITIES)
    for quantity in QUANTITIES.values():
        assert quantity.title
        assert quantity.meaning.endswith(".")
        assert quantity.how.endswith(".")


@pytest.mark.parametrize(("text", "hz"), [
    ("1k2", 1200), ("440 Hz", 440), ("A4", 440), ("a4", 440), ("A4+100", 466.1638), ("0 V", 261.6256), ("1V", 523.2511),
    ("-1 V", 130.8128), ("C#3", 138.5913), ("Bb2", 116.5409), ("1.2 kHz", 1200), ("0,5k", 500), ("3 kHz", 3000),
])
def test_typed_frequencies(text, hz):
    assert parse_frequency(text) == pytest.approx(hz, rel=1e-6)


@pytest.mark.parametrize(("text", "value", "unit"), [
    ("4k7", 4700, ""), ("4n7", 4.7e-9, ""), ("100n", 1e-7, ""), ("20uA", 2e-5, "A"), ("+3 dB", 3, "dB"),
    ("−6 dB", -6, "dB"), ("100k", 1e5, ""), ("45 %", 45, "%"), ("1e3", 1000, ""), ("2.2 µF", 2.2e-6, "F"),
])
def test_typed_numbers(text, value, unit):
    found, found_unit = parse_number(text)
    assert found == pytest.approx(value)
    assert found_unit == unit


@pytest.mark.parametrize("text", ["", "abc", "0", "-5", "H4", "3 dB", "1k2k", "4.7k5", "nan", "--3"])
def test_typed_text_that_is_no_frequency_is_refused_with_examples(text):
    with pytest.raises(Exception, match="type for example"):
        parse_frequency(text)


def test_numbers_as_they_are_shown():
    assert (shown_hz(812.04), shown_hz(1205.0), shown_hz(20.0)) == ("812.0 Hz", "1.205 kHz", "20.00 Hz")
    assert (signed(-0.04), signed(2.0, 0), signed(-8.44)) == ("0.0", "+2", "−8.4")
    assert note_and_cents(442.0)[0] == "A4"
