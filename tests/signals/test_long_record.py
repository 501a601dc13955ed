"""Records that go to a file when they are long: the same samples, wherever they lie and however they are asked for."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.errors import SignalError
from jiyuu.patch.playing import play_record
from jiyuu.patch.reading import parse_patch
from jiyuu.signals import long_record
from jiyuu.signals.long_record import Record, mapped, weighted
from jiyuu.signals.recordings import read_long, read_recording, write_long
from tests.patch.making import patch
from tests.trials import some

RATE = 48_000.0
BANK = {"stage": "bank", "bands": 3, "spacing_semitones": 12.0, "lowest_hz": 200.0, "q": 6.0}
PATHS = {
    "a filter": [{"stage": "filter", "filter": "transistor-ladder", "cutoff_hz": 800.0, "resonance_gain": 2.0}],
    "responses": [{"stage": "shapes", "bands": [{"kind": "peak", "frequency_hz": 300.0, "gain_db": 6.0}]}, BANK],
    "a comb and a crusher": [{"stage": "comb", "frequency_hz": 90.0, "feedback": -0.6},
                             {"stage": "crush", "rate_hz": 7000.0, "bits": 7}],
    "branches": [{"stage": "parallel", "branches": [{"path": []}, {"path": [{**BANK, "follow": {"of": "source 1"}}]}]}],
    "sides": [{"stage": "stereo", "left": [{"stage": "comb", "id": "c", "frequency_hz": 200.0}], "right": []}],
}
MOVES = {"controls": {"up": {"kind": "follower", "of": "source 1"}},
         "routes": [{"from": "up", "to": "c.cutoff", "amount": 0.5}]}


@pytest.fixture
def short(monkeypatch):
    """Little stays in memory."""
    monkeypatch.setattr(long_record, "KEPT", 1000)


@given(parts=st.lists(st.integers(0, 700), min_size=1, max_size=6), start=st.integers(-900, 4000),
       length=st.integers(0, 2000))
def test_any_stretch_of_any_record_is_what_was_put_there(parts, start, length):
    blocks = [np.random.default_rng(i).normal(size=n) for i, n in enumerate(parts)]
    expected = np.concatenate([np.zeros(1000), *blocks, np.zeros(6000)])
    kept, long_record.KEPT = long_record.KEPT, 1000
    try:
        record = Record.gathered(blocks)
    finally:
        long_record.KEPT = kept
    assert record.size == sum(parts)
    assert np.array_equal(record.read(start, start + length), expected[1000 + start :][:length])
    assert np.array_equal(np.concatenate([np.zeros(0), *record.blocks(137)]), record.whole())


def test_sums_and_what_is_made_of_several(short):
    a, b = (Record.gathered([np.arange(3000.0) + i]) for i in (0, 5))
    assert np.array_equal(weighted([a, b], [2.0, -1.0]).whole(), np.arange(3000.0) - 5)
    assert np.array_equal(mapped(np.maximum, a, b).whole(), np.arange(3000.0) + 5)


def test_a_full_disk_is_said(short, monkeypatch):
    class Full:
        def write(self, block):
            raise OSError(28, "No space left on device")

        def close(self):
            pass

    monkeypatch.setattr(long_record.tempfile, "TemporaryFile", lambda **_: Full())
    with pytest.raises(SignalError, match=r"has no room .*No space left.*TMPDIR"):
        Record.gathered([np.zeros(2000)])


@pytest.mark.long
@pytest.mark.parametrize("name", some(PATHS, 2))
def test_a_patch_plays_the_same_from_files_as_from_memory(name, monkeypatch):
    more = MOVES if name == "sides" else {}
    whole = parse_patch(json.dumps(patch(PATHS[name], **more)), source="made up")
    sound = np.random.default_rng(1).normal(size=150_000)
    expected = play_record(whole, [Record.of(sound)], RATE)
    monkeypatch.setattr(long_record, "KEPT", 1000)
    found = play_record(whole, [Record.gathered(np.array_split(sound, 7))], RATE)
    assert len(found) == len(expected)
    for one, other in zip(found, expected, strict=True):
        assert np.array_equal(one.whole(), other.whole())


def test_a_file_is_read_and_written_in_blocks(short, tmp_path):
    path = tmp_path / "wash.wav"
    samples = np.random.default_rng(2).uniform(-1, 1, (200_000, 2)).astype(np.float32)
    soundfile.write(path, samples, 48_000, subtype="FLOAT")
    found = read_long(path, full_scale_v=5.0)
    assert np.array_equal(np.stack([one.whole() for one in found.channels]), read_recording(
        path, full_scale_v=5.0).channels_v)
    write_long(tmp_path / "again.wav", found.channels, 48_000, full_scale_v=5.0)
    assert np.array_equal(soundfile.read(tmp_path / "again.wav", dtype="float32")[0], samples)


@pytest.mark.parametrize(("spoilt", "said"), [
    (lambda samples: samples.__setitem__((170_000, 1), np.nan), "not numbers"),
    (lambda samples: samples.__setitem__(slice(None), 0.0), "silent"),
])
def test_what_is_wrong_far_into_a_file_is_found(short, tmp_path, spoilt, said):
    samples = np.full((200_000, 2), 0.5)
    spoilt(samples)
    soundfile.write(tmp_path / "odd.wav", samples, 48_000, subtype="FLOAT")
    for read in (read_long, read_recording):
        with pytest.raises(SignalError, match=said):
            read(tmp_path / "odd.wav")


AT_MOST = """
import sys
from jiyuu.cli.entry import main
sys.argv = sys.argv[1:]
try:
    main()
except SystemExit as left:
    assert not left.code
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""


def needed_mb(seconds: float, folder: Path) -> float:
    """What a process of its own takes at most to play a stereo file of that length."""
    path, out, made = folder / "in.wav", folder / "out.wav", folder / "one.patch.json"
    n = int(seconds * RATE)
    soundfile.write(path, np.random.default_rng(5).uniform(-0.1, 0.1, (n, 2)), 48_000, subtype="PCM_16")
    made.write_text(json.dumps(patch(PATHS["responses"])))
    done = subprocess.run([sys.executable, "-c", AT_MOST, "jiyuu", "render", made, path, out], check=True,
                          capture_output=True, text=True)
    assert soundfile.info(out).frames == n
    return int(done.stdout.split()[-1]) / 1024


@pytest.mark.long
def test_a_longer_file_takes_no_more_memory(tmp_path):
    """Ninety seconds in stereo are 69 MB of samples in every stage."""
    assert needed_mb(90.0, tmp_path) - needed_mb(12.0, tmp_path) < 30
