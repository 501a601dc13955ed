"""Sources as they are set: record and lines tell the same, and levels are what they say."""

import numpy as np
import pytest

from jiyuu.errors import SignalError
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.source import IN_BARS, Source, SourceKind, mixed_lines, mixed_record

RATE = 48_000.0


@pytest.mark.parametrize("kind", [kind for kind in SourceKind if kind is not SourceKind.FILE])
def test_lines_hold_the_power_of_the_record(kind):
    source = Source(kind, pitch_hz=110.0, level_v=5.0)
    record = source.record(duration_s=11.52 if kind in IN_BARS else 8.0)
    hertz, volts = source.lines()
    spectrum = np.abs(np.fft.rfft(record)) ** 2 * 2 / record.size**2
    all_hz = np.fft.rfftfreq(record.size, 1 / RATE)
    inside = (all_hz < 20_000) & (all_hz > 20)
    assert np.sum(volts**2) / 2 == pytest.approx(np.sum(spectrum[inside]), rel=0.03)
    assert hertz.min() > 0
    assert hertz.max() <= 20_500


@pytest.mark.parametrize(("kind", "peak_low", "peak_high"), [
    (SourceKind.SINE, 4.999, 5.001), (SourceKind.TRIANGLE, 4.9, 5.0), (SourceKind.WASH, 4.999, 5.001),
    (SourceKind.KNOCK, 4.999, 5.001), (SourceKind.KNOCKS, 4.999, 5.001),
    (SourceKind.FIGURE, 4.8, 5.6), (SourceKind.CHORD, 3.8, 5.1),
    (SourceKind.SAW, 4.8, 5.1), (SourceKind.SQUARE, 5.0, 5.15), (SourceKind.WHITE, 4.0, 7.0),
])
def test_the_level_is_the_peak(kind, peak_low, peak_high):
    peak = np.abs(Source(kind, pitch_hz=110.0, level_v=5.0).record(duration_s=4.0)).max()
    assert peak_low <= peak <= peak_high


def test_harmonics_of_a_narrow_pulse_have_their_gaps():
    """A pulse of a quarter has no fourth harmonic, a square no second."""
    hertz, _ = Source(SourceKind.PULSE, pitch_hz=100.0, width=0.25).lines()
    assert not np.isclose(hertz, 400).any()
    assert np.isclose(hertz, 200).any()
    assert not np.isclose(Source(SourceKind.SQUARE, pitch_hz=100.0).lines()[0], 200).any()


def test_the_tide_figure_plays_its_steps_in_tune():
    record = Source(SourceKind.FIGURE, pitch_hz=220.0).record(duration_s=8 * 0.18)
    third = record[round(2 * 0.18 * RATE) + 500 : round((2 + 0.6) * 0.18 * RATE)]  # seven semitones up
    spectrum = np.abs(np.fft.rfft(third * np.hanning(third.size), 1 << 18))
    assert np.argmax(spectrum) * RATE / (1 << 18) == pytest.approx(220 * 2 ** (7 / 12), rel=2e-3)
    tied = record[round((2 + 0.75) * 0.18 * RATE) : round((2 + 0.98) * 0.18 * RATE)]
    assert np.abs(tied).max() > 2  # a slide follows: the third step holds
    rest = record[round((1 + 0.75) * 0.18 * RATE) : round((1 + 0.98) * 0.18 * RATE)]
    assert np.abs(rest).max() < 1e-6


def test_knocks_fall_to_their_pitch_and_ticks_stand_between_them():
    low, all_of_it = (Source(kind, pitch_hz=55.0).record(duration_s=8 * 0.18) for kind in (SourceKind.KNOCK,
                                                                                          SourceKind.KNOCKS))
    # The third one rings undisturbed after the first 0.1 s of its fall: its zero crossings count its periods.
    ring = low[round((6 * 0.18 + 0.14) * RATE) : round(8 * 0.18 * RATE)]
    rising = np.flatnonzero((ring[:-1] < 0) & (ring[1:] >= 0))
    assert (rising.size - 1) / (rising[-1] - rising[0]) * RATE == pytest.approx(55.0, rel=0.01)
    between = slice(round(4 * 0.18 * RATE), round(4.2 * 0.18 * RATE))

    def high_share(record):
        power = np.abs(np.fft.rfft(record[between])) ** 2
        return power[power.size // 8 :].sum() / power.sum()

    assert high_share(all_of_it) > 0.05
    assert high_share(low) < 1e-4


def test_a_file_is_brought_to_the_level_and_length_asked_for(tmp_path):
    path = tmp_path / "bell.wav"
    write_recording(path, np.sin(np.arange(4410) * 0.1), 44_100)
    record = Source(SourceKind.FILE, level_v=3.0, path=path).record(duration_s=0.5)
    assert record.size == 24_000
    assert np.abs(record).max() == pytest.approx(3.0, rel=0.01)


def test_inputs_add():
    both = [Source(SourceKind.SAW, 110.0, 3.0), Source(SourceKind.SINE, 55.0, 1.0)]
    assert mixed_record(both, duration_s=0.1) == pytest.approx(
        both[0].record(duration_s=0.1) + both[1].record(duration_s=0.1)
    )
    assert mixed_lines(both)[0].size == both[0].lines()[0].size + 1


@pytest.mark.parametrize(("values", "message"), [
    ({"level_v": 200.0}, "0 to 100 V"), ({"pitch_hz": 0.0}, "out of range"), ({"width": 1.0}, "1 to 99"),
    ({"kind": SourceKind.FILE}, "choose one"), ({"level_v": float("nan")}, "out of range"),
])
def test_sources_that_cannot_be(values, message):
    with pytest.raises(SignalError, match=message):
        Source(**values)
    with pytest.raises(SignalError, match="no source"):
        mixed_lines([])
