"""Recordings: formats that are read, and every way in which a file can be unusable."""

import struct

import numpy as np
import pytest
import soundfile

from jiyuu.errors import JiyuuError, SignalError
from jiyuu.signals.recordings import read_recording, write_recording

RATE = 48_000
TONE = 0.5 * np.sin(2 * np.pi * 440 * np.arange(4800) / RATE)


@pytest.mark.parametrize(("format_", "subtype", "error"), [
    ("WAV", "PCM_16", 2**-15), ("WAV", "PCM_24", 2**-22), ("WAV", "FLOAT", 1e-7), ("WAV", "DOUBLE", 1e-15),
    ("FLAC", "PCM_16", 2**-15), ("FLAC", "PCM_24", 2**-22),
])
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_formats_people_record_in(tmp_path, format_, subtype, error, rate):
    path = tmp_path / f"a.{format_.lower()}"
    soundfile.write(path, TONE, rate, subtype=subtype, format=format_)
    record = read_recording(path)
    assert record.sample_rate_hz == rate
    assert np.abs(record.loudest_v - 10 * TONE).max() <= 10 * error


def test_the_louder_channel_of_a_stereo_file_is_the_one_with_the_source(tmp_path):
    soundfile.write(tmp_path / "a.wav", np.stack([0.001 * TONE, TONE], axis=1), RATE, subtype="FLOAT")
    assert np.abs(read_recording(tmp_path / "a.wav", full_scale_v=2.0).loudest_v - 2 * TONE).max() < 1e-6


def test_written_volts_come_back_even_past_full_scale(tmp_path):
    write_recording(tmp_path / "a.wav", 30 * TONE, RATE)
    assert np.abs(read_recording(tmp_path / "a.wav").loudest_v - 30 * TONE).max() < 1e-5
    assert [p.name for p in tmp_path.iterdir()] == ["a.wav"]


def declared(size: int) -> bytes:
    """A float WAV header that promises `size` bytes and holds eight."""
    return (b"RIFF" + struct.pack("<I", 36 + 8) + b"WAVEfmt " + struct.pack("<IHHIIHH", 16, 3, 1, RATE, RATE * 4, 4, 32)
            + b"data" + struct.pack("<I", size) + bytes(8))


def broken(tmp_path):
    good = tmp_path / "good.wav"
    soundfile.write(good, TONE, RATE, subtype="FLOAT")
    yield "empty", b"", "is empty"
    yield "noise", b"not a recording at all, just some text", "cannot be read"
    yield "cut", good.read_bytes()[:-4000], "cut short"
    yield "promises", declared(3_900_000_000), "cut short"
    yield "header", good.read_bytes()[:20], "cannot be read"


def test_files_that_are_broken_say_how(tmp_path):
    for name, content, message in broken(tmp_path):
        path = tmp_path / f"{name}.wav"
        path.write_bytes(content)
        with pytest.raises(SignalError, match=message):
            read_recording(path)
        assert path.read_bytes() == content


@pytest.mark.parametrize(("samples", "rate", "message"), [
    (np.array([0.1, np.nan, 0.2]), RATE, "not numbers"),
    (np.array([0.1, np.inf, 0.2]), RATE, "not numbers"),
    (np.zeros(100), RATE, "silent"),
    (np.zeros(0), RATE, "no samples"),
    (TONE, 22_050, "rate of 22050 Hz"),
    (TONE, 384_000, "rate of 384000 Hz"),
    (np.zeros((100, 3)) + 0.1, RATE, "3 channels"),
])
def test_files_that_cannot_be_used_say_why(tmp_path, samples, rate, message):
    path = tmp_path / "a.wav"
    soundfile.write(path, samples, rate, subtype="FLOAT")
    with pytest.raises(SignalError, match=message):
        read_recording(path)


def test_missing_files_and_folders(tmp_path):
    with pytest.raises(SignalError, match="does not exist"):
        read_recording(tmp_path / "none.wav")
    with pytest.raises(SignalError, match="is a folder"):
        read_recording(tmp_path)
    with pytest.raises(SignalError, match="full scale"):
        read_recording(tmp_path / "none.wav", full_scale_v=0.0)
    with pytest.raises(JiyuuError, match="not a folder"):
        write_recording(tmp_path / "nowhere" / "a.wav", TONE, RATE)
    assert list(tmp_path.iterdir()) == []
