"""Findings: verdicts and their one sentence."""

import json
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.bench.walk import walk
from jiyuu.errors import JiyuuError
from jiyuu.measurement.contexts import (
    BehindTrim,
    Beside,
    BodyPlace,
    BusiestTenth,
    ConcertPitch,
    CurveBehind,
    DeadStretches,
    Differing,
    DrivenTone,
    DryMixed,
    FirstToBend,
    HeardBlind,
    HumpPlace,
    IdentifiedAs,
    LampAt,
    NextModule,
    OutputFedBack,
    PeakDriven,
    Played,
    ProposedLaw,
    StepPlace,
    TonePair,
    TrainedTo,
    TrimTurn,
    UsableRange,
    WhistleStopped,
    context_of,
)
from jiyuu.measurement.contexts_moving import (
    BandEdges,
    Beating,
    CutoffStepped,
    DrivenRing,
    HiddenBy,
    ImageAt,
    LoopRings,
    NotchAt,
    PartOfIt,
    SidebandsOf,
    SidesApart,
    Struck,
    StruckOn,
    TargetMoves,
    VowelNear,
    WhistleMoved,
)
from jiyuu.measurement.finding import Finding, Tolerance, Verdict
from jiyuu.measurement.findings import READ_FROM_CURVE
from jiyuu.quantities import in_thousands, note_and_cents, parse_frequency, parse_number, shown_hz, signed
from jiyuu.wording.findings import QUANTITIES, sentence
from jiyuu.wording.numbers import ends_text, stated


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
    (Finding("passband_db", -9.3, "dB", 0.001), "Passband level −9.30 ± 0.01 dB re the input."),
    (Finding("peak_db", 7.66, "dB"), "Peak +7.7 dB re the passband."),
    (Finding("polarity", -1.0, ""), "Inverting."),
    (Finding("latency_s", 0.0123, "s", 1e-6), "Latency of the rig 12.300 ± 0.001 ms."),
])
def test_sentences(finding, text):
    assert sentence(finding) == text


walk()  # every step brings its own quantities along
NEXT, PLAYED = NextModule(5.0, 8.0, 90.0, -4.0), Played("the saw")
TONE = DrivenTone(5.0, 102.5, 0.0, 29.5, -11.1)
STRUCK, STEPPED = Struck(1.0, 5.0, 45.0), CutoffStepped(865.0, 54.8, 0.018)
CONTEXTS = {
    "struck_scale_cents": StruckOn(8, 0.2, 130.8),
    "body_db": BodyPlace(100.0), "output_change_db": PLAYED, "overload_from_percent": NEXT, "headroom_db": NEXT,
    "output_peak_v": PLAYED, "output_margin_db": PLAYED, "output_loudness_lufs": PLAYED,
    "taper_evenness_percent": BusiestTenth(80.0), "proposed_evenness_percent": ProposedLaw("log control"),
    "dead_travel_percent": DeadStretches(((0.0, 7.0), (93.0, 100.0))), "hump_db": HumpPlace(900.0, 1.0),
    "tone_hz": ConcertPitch(), "balance_percent": Beside("saw", -6.0, -6.1, 0.4, caught=True),
    "whistle_at_end_db": Beside("saw", -6.0, caught_percent=(91.0, 95.0)), "tracking_error_cents": StepPlace(3.0),
    "usable_span_v": UsableRange(5.0, 0.0, 6.0, 5.98), "scale_turn": TrimTurn("scale", 0.2, 0.8, 1.002),
    "hf_turn": TrimTurn("hf", 3.0, 1.5), "offset_turn": TrimTurn("offset", -8.0, -0.5),
    "resonance_turn": TrimTurn("resonance", 2.0, 1.0, aimed_percent=82.0),
    "driven_thd_percent": TONE, "thd_n_percent": TONE, "compression_1db_v": TONE, "thd_1_percent_v": TONE,
    "lamp_v": LampAt(3.0), "first_stage_percent": FirstToBend("stage 1", 5.0, 1.2, 2.4),
    "difference_2_percent": TonePair(668.0, 738.0, 5.0), "difference_3_percent": TonePair(668.0, 738.0, 5.0),
    "peak_driven_db": PeakDriven(0.02, 5.0, -310.0), "whistle_stopped_v": WhistleStopped(100.0, 102.5, 820.0, 0.02),
    "fed_back_amount": OutputFedBack(0.5, 5.0, 2.98, 640.0, 27.9, 29.6), "bent_behind_db": CurveBehind(
        "tanh", 29.6, 0.44, 5), "drive_trim_db": BehindTrim(5.03, -0.05, 5.0),
    "dry_cancelled_db": DryMixed(50.0, 769.0), "target_moves": TargetMoves("first.cutoff", "Hz", 50.0, 40.0, 9e3, 12.0),
    "sideband_db": SidebandsOf(700.0, 150.0, 0.02, 550.0, -38.73, 850.0, -27.8),
    "modulated_pitch_cents": WhistleMoved(0.5, 120.0, -0.043), "beat_hz": Beating(110.0, 165.4, 3, 2, False),
    "ring_hz": STRUCK, "ring_t60_s": STRUCK, "ring_q": STRUCK, "first_peak_v": STRUCK, "settling_s": STEPPED,
    "overshoot_cents": STEPPED, "band_width_octaves": BandEdges(200.0, 800.0, 400.0),
    "meeting_notch_db": NotchAt(1000.0), "sides_apart_db": SidesApart(700.0, "left"),
    "part_adds_db": PartOfIt("branch 1"),
    "vowel_semitones": VowelNear("ɑ", (730.0, 1090.0)), "loop_rings_from": LoopRings("group 1", 262.0, 0.5),
    "ring_behind_db": DrivenRing(5.0, 0.05, 0.38, None, 640.0, 410.0),
    "image_db": ImageAt(5340.0, 660.0, 6000.0),
    "hidden_percent": HiddenBy("the low knock", "the filter", 2.1, 0.9, 150.0, -12.0, 1.5, 0.2),
    "difference": Differing("brightness", "A", "B", 0.07, "heard"),
    "identity_odds": IdentifiedAs("OTA cascade", "lowpass-24", "Transistor ladder", 0.99, 0.02, True, False, ("a b",)),
    "blind_right_percent": HeardBlind("ABX", "A", "B", 12, 16, 0.04, 0.2, True),
    "trained_jnds": TrainedTo("cutoff", "Peak", 31),
}


@pytest.mark.parametrize("context", [*CONTEXTS.values()])
def test_a_context_comes_back_from_a_book_as_it_was(context):
    assert context_of(json.loads(json.dumps(context.as_json()))) == context


def test_a_context_of_a_kind_not_known_is_none():
    assert context_of({"kind": "Something", "x": 1}) is None
    assert context_of({"kind": "BodyPlace"}) is None
    assert context_of(None) is None


@pytest.mark.parametrize(("finding", "text"), [
    (Finding("taper_evenness_percent", 43.0, "%", context=BusiestTenth(80.0)),
     "The busiest tenth of the travel, ending at 80 %, makes 43 % of the change (an even taper: 10 %)."),
    (Finding("last_stretch_percent", 3.1, "%"), "Only 3.1 % of travel separates a 12 dB peak from self-oscillation."),
    (Finding("suddenness_db_per_percent", 4.1, "dB/%"), "Just before onset the peak grows 4.1 dB for each 1 % of "
     "travel."),
    (Finding("overload_from_percent", 60.0, "%", context=NEXT), "Overloads the next module (±5 V) above 60 %, reaching "
     "8.0 V; attenuate by 4.0 dB."),
    (Finding("headroom_db", 3.2, "dB", context=NEXT), "Never overloads the next module (±5 V); worst case 3.2 dB of "
     "headroom, at 90 %."),
    (Finding("first_stage_percent", 62.0, "%", context=FirstToBend("stage 1", 5.0, 1.2, 2.4)), "First to bend: stage "
     "1, with 62 % of the distortion at 5 V. Twice its headroom: 1 % THD at 2.4 V, for 1.2 V."),
    (Finding("fed_back_amount", 3.0, "", context=OutputFedBack(3.0, 5.0, 2.98, 0.0)), "Output fed back by +3.00 runs "
     "away, since nothing in the loop limits it; from +2.98 it sticks at DC."),
    (Finding("fed_back_amount", -1.5, "", context=OutputFedBack(-1.5, 5.0, -1.2, 640.0, settles_v=3.1)), "Output fed "
     "back by −1.50 oscillates, at 3.1 V peak; from −1.20 it rings at 640.0 Hz."),
    (Finding("lamp_v", 0.05, "V", 0.0005, context=LampAt(3.0)), "A lamp set to 3 % lights from 50 mV ± 1 % peak."),
    (Finding("drive_trim_db", 3.0, "dB", context=BehindTrim(4.0, 1.9, 5.0)), "A trim of +3.0 dB behind it makes it as "
     "loud as its source; true peak then 4 V, 1.9 dB left to the next module's ±5 V."),
    (Finding("ring_hz", 181.86, "Hz", 0.02, context=STRUCK), "Struck at 45 % it rings at 181.860 ± 0.020 Hz (F#3 −30 "
     "cents)."),
    (Finding("struck_scale_cents", -6.96, "cents", 0.2, context=StruckOn(5, -12.0, 196.0)), "Struck on 5 notes, with "
     "the cutoff turned by −12 cents, it misses none by more than 7.0 ± 0.2 cents, G3 being too low."),
    (Finding("settling_s", 0.0253, "s", context=STEPPED), "Slowest step, 865.0 Hz to 54.80 Hz: within ±10 cents after "
     "25.3 ms (told to 18 ms): a glide can be heard."),
    (Finding("target_moves", 9000.0, "Hz", context=TargetMoves("first.cutoff", "Hz", 50.0, 40.0, 9e3, 12.0)),
     "first.cutoff moves from 50.00 Hz to 9.000 kHz; its routes ask for 40.00 Hz to 9.000 kHz: at a stop 12 % of the "
     "time."),
    (Finding("start_up_s", 0.02, "s"), "Reaches full level within 20 ms of an impulse."),
    (Finding("pitch_pull_cents", 12.0, "cents"), "Turning resonance to maximum shifts the pitch by +12.0 cents."),
    (Finding("whistle_at_end_db", -8.0, "dB", context=Beside("saw", -6.0)), "At maximum resonance the whistle stays "
     "8.0 dB below the saw."),
    (Finding("scale_turn", 0.2, "", context=TrimTurn("scale", 0.2, 0.8, 1.002)), "Scale trim up by 0.200 % (2.40 cents "
     "an octave; an octave takes 1.0020 V now), 0.8 turns clockwise."),
    (Finding("resonance_turn", -2.0, "", context=TrimTurn("resonance", -2.0, -1.0, aimed_percent=82.5)), "Resonance "
     "trim down by 2.0 % of loop gain, 1 turns anticlockwise: then it whistles from 82 % on."),
])
def test_sentences_with_a_context(finding, text):
    assert sentence(finding) == text


@pytest.mark.parametrize("name", sorted(QUANTITIES))
def test_a_number_and_its_uncertainty_end_at_the_same_place(name):
    for value in (0.0812, 0.73, 5.6543, 160.88):
        for share in (1e-6, 2e-5, 4e-4, 6e-3, 0.08, 0.3):
            text = sentence(Finding(name, value, "", share * value, context=CONTEXTS.get(name)))
            for number, doubt in re.findall(r"(\d+(?:\.\d+)?) ± (\d+(?:\.\d+)?)", text):
                assert len(number.partition(".")[2]) == len(doubt.partition(".")[2]), text
                assert float(doubt) > 0, text


def test_no_zero_has_a_sign():
    assert stated(-2e-4, 0.01) == "0.000 ± 0.010"
    assert stated(-0.0, None) == "0"
    assert stated(-0.02, 0.01) == "−0.020 ± 0.010"


@pytest.mark.parametrize(("low", "high", "text"), [
    (-21.3, 0.0237, "−21.3 … 0.0"), (0.425, 1.39, "0.42 … 1.39"), (33.9, 60.0, "33.9 … 60.0"),
    (595.2, 1622.0, "595 … 1622"), (-0.004, 0.0, "−0.00400 … 0.00000"),
])
def test_both_ends_of_a_range_end_at_the_same_place(low, high, text):
    assert ends_text(low, high) == text


@pytest.mark.long
@given(name=st.sampled_from(sorted(QUANTITIES)), value=st.floats(1e-3, 2e4), share=st.floats(0, 2))
def test_no_sentence_has_an_exponent_or_a_negative_zero(name, value, share):
    text = sentence(Finding(name, value, "", share * value, context=CONTEXTS.get(name)))
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
    with pytest.raises(JiyuuError, match="type for example"):
        parse_frequency(text)


def test_numbers_as_they_are_shown():
    assert [in_thousands(value) for value in (20, 999.4, 1000, 2500, 10_000)] == ["20", "999", "1k", "2.5k", "10k"]
    assert (shown_hz(812.04), shown_hz(1205.0), shown_hz(20.0)) == ("812.0 Hz", "1.205 kHz", "20.00 Hz")
    assert (signed(-0.04), signed(2.0, 0), signed(-8.44)) == ("0.0", "+2", "−8.4")
    assert note_and_cents(442.0)[0] == "A4"
