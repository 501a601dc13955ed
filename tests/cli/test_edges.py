"""What surrounds a command: a full disk behind its output, odd names, a cache that cannot be written, Ctrl+C."""

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import time
import tracemalloc
from pathlib import Path

import numpy as np
import pytest
import soundfile

from benchmarks.long import long_file
from jiyuu.cli.entry import interruptible, main
from jiyuu.stopping import Stopped, checkpoint

COMMAND = [sys.executable, "-m", "jiyuu.cli.entry"]


def said(*arguments, **how):
    return subprocess.run([*COMMAND, *arguments], capture_output=True, check=False, timeout=120, **how)


def one_line(done):
    text = done.stderr.decode()
    return text.startswith("jiyuu: ") and text.count("\n") == 1


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no such device here")
@pytest.mark.parametrize("arguments", [("circuits", "--json"), ("respond", "transistor-ladder")])
def test_a_full_disk_behind_the_output_is_said(arguments):
    with Path("/dev/full").open("w") as full:
        done = subprocess.run([*COMMAND, *arguments], stdout=full, stderr=subprocess.PIPE, check=False, timeout=120)
    assert done.returncode == 2
    assert one_line(done)
    assert b"No space left" in done.stderr


@pytest.mark.parametrize("arguments", [
    ("validate", "x" * 300 + ".filter.json"), ("measure", "tone", "x" * 300 + ".wav"),
    ("validate", "x" * 300 + ".jiyuu"), ("respond", "x" * 300 + ".patch.json"),
    ("exchange", "x" * 300 + ".jiyuu", "--out", "y"), ("recover", "x" * 300, "--out", "y"),
])
def test_a_name_too_long_is_said(arguments, capsys):
    assert main(list(arguments)) == 2
    line = capsys.readouterr().err
    assert line.startswith("jiyuu: ")
    assert line.count("\n") == 1
    assert len(line) < 600


@pytest.mark.long
def test_a_file_whose_name_is_no_text_is_read_and_written(tmp_path):
    odd = os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9.wav")
    soundfile.write(os.fsencode(odd), 0.1 * np.sin(2 * np.pi * 220 * np.arange(24_000) / 48_000), 48_000)
    done = said("measure", "tone", odd)
    assert done.returncode == 0, done.stderr
    out = os.fsdecode(os.fsencode(tmp_path) + b"/\xe9.wav")
    assert said("render", "state-variable", odd, out).returncode == 0
    assert soundfile.info(os.fsencode(out)).frames == 24_000


@pytest.mark.long
def test_a_terminal_that_knows_few_signs_is_spared(tmp_path):
    done = said("oscillate", "state-variable", "--cutoff", "440", "--resonance", "100",
                env={**os.environ, "PYTHONIOENCODING": "ascii"})
    assert done.returncode == 0
    assert b"Oscillates from" in done.stdout


@pytest.mark.long
def test_without_a_cache_it_compiles_for_itself_and_leaves_nothing(tmp_path):
    (tmp_path / "file").write_text("no folder")
    before = {path.name for path in Path(tmp_path).iterdir()}
    done = said("oscillate", "state-variable", "--cutoff", "440", "--resonance", "100",
                env={**os.environ, "JIYUU_CACHE_DIR": str(tmp_path / "file" / "cache"), "TMPDIR": str(tmp_path)})
    assert done.returncode == 0, done.stderr
    assert {path.name for path in Path(tmp_path).iterdir()} == before


def test_an_interruption_that_is_swallowed_stops_at_the_next_look():
    def work():
        with interruptible():
            checkpoint()
            with contextlib.suppress(KeyboardInterrupt):  # as by what calls back from compiled code
                signal.raise_signal(signal.SIGINT)
            checkpoint()

    with pytest.raises(Stopped):
        work()
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler


@pytest.mark.long
def test_an_interrupted_command_says_so_and_leaves_nothing(tmp_path):
    process = subprocess.Popen([*COMMAND, "characterise", "transistor-ladder", "--out", str(tmp_path / "out")],
                               stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 60
    while not (tmp_path / "out").exists() and time.monotonic() < deadline:
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=60)
    # Of a signal that came while text was being compiled Python ends by it, although it was caught: a shell shows 130.
    assert process.returncode in (130, -signal.SIGINT)
    assert told.strip().endswith("jiyuu: stopped")
    assert not list(tmp_path.rglob(".jiyuu-*"))
    shutil.rmtree(tmp_path / "out", ignore_errors=True)


@pytest.mark.parametrize(("lines", "words"), [
    (['"1,010",-4'], "line 62: '1,010' is no number"),
    (["1.010.000;3"], "is no number"), (["9" * 140_000 + "x,1"], "is no number"),
    (["20000,-3,inf"], "must be finite"),
])
def test_rows_are_not_dropped_in_silence(lines, words, tmp_path, capsys):
    path = tmp_path / "curve.csv"
    path.write_text("\n".join(["Hz,dB", *(f"{20 * 2 ** (i / 8):.3f},{-i / 10}" for i in range(60)), *lines]) + "\n")
    assert main(["measure", "response", str(path)]) == 2
    assert words in capsys.readouterr().err


def test_remarks_with_other_separators_do_not_mislead(tmp_path, capsys):
    path = tmp_path / "curve.csv"
    for separator, point in ((",", "."), (";", ","), ("\t", ",")):
        rows = [f"{20 * 2 ** (i / 8):.3f}{separator}{-i / 10:.2f}" if point == "." else
                f"{20 * 2 ** (i / 8):.3f}".replace(".", ",") + separator + f"{-i / 10:.2f}".replace(".", ",")
                for i in range(60)]
        path.write_text("# bench; lamp, 3; off\nfrequency; level, dB\n" + "\n".join(rows) + "\n# end; 4,5\n")
        assert main(["measure", "response", str(path), "--json"]) == 0, (separator, capsys.readouterr().err)


@pytest.fixture(scope="session")
def half_an_hour(tmp_path_factory):
    return long_file(tmp_path_factory.mktemp("long") / "long.wav", 1800)


@pytest.fixture(scope="session")
def minutes(tmp_path_factory):
    """As numbers it would take 460 MB; half an hour of it is looked through in the benchmarks."""
    return long_file(tmp_path_factory.mktemp("long") / "long.wav", 300)


@pytest.mark.parametrize("command", [
    ("measure", "response", "{}", "{}"), ("measure", "tracking", "{}", "--volts", "0:8:1"),
    ("measure", "ping", "{}", "{}"), ("measure", "settling", "{}"), ("identify", "--pair", "{}", "{}"),
    ("masking", "{}", "{}"),
])
def test_what_is_measured_as_a_whole_is_refused_before_it_fills_the_memory(refused, half_an_hour, command):
    said, most_bytes = refused_within(refused, half_an_hour, command)
    assert "is 1800 s long" in said
    assert "at most 83 s are measured at once" in said
    assert "keep one channel" in said
    assert most_bytes < 200e6


@pytest.mark.long
@pytest.mark.parametrize("command", [
    ("measure", "drive", "{}"), ("measure", "sidebands", "{}", "--tone", "440", "--rate", "130"),
])
def test_what_is_read_in_part_is_looked_for_in_little_memory(refused, minutes, command):
    said, most_bytes = refused_within(refused, minutes, command)
    assert "silent" in said
    assert most_bytes < 400e6


def refused_within(refused, path, command):
    """(what was said, bytes that it took at most)."""
    tracemalloc.start()
    try:
        said = refused(*(path if part == "{}" else part for part in command))
        return said, tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()


@pytest.mark.parametrize(("plain", "with_units"), [
    (("sweep", "--level-v", "0.5", "--seconds", "2"), ("sweep", "--level-v", "500mV", "--seconds", "2 s")),
    (("noise", "--level-v", "0.1", "--seconds", "1"), ("noise", "--level-v", "0.1 V", "--seconds", "1000ms")),
    (("pings", "--length-ms", "0.5", "--every-s", "0.5"), ("pings", "--length-ms", "0.5ms", "--every-s", "500ms")),
    (("steps", "--seconds", "0.4", "--full-scale-v", "10"), ("steps", "--seconds", "400ms", "--full-scale-v", "10V")),
])
def test_numbers_are_taken_with_their_units(run, tmp_path, plain, with_units):
    for name, given in (("a.wav", plain), ("b.wav", with_units)):
        assert run("stimulus", given[0], tmp_path / name, *given[1:])[0] == 0
    assert (tmp_path / "a.wav").read_bytes() == (tmp_path / "b.wav").read_bytes()


@pytest.mark.parametrize(("option", "value", "says"), [
    ("--level-v", "5Hz", "'5Hz' is not in V; type for example 0.5"), ("--level-v", "loud", "'loud' is not a number"),
    ("--seconds", "2V", "'2V' is not in s"), ("--full-scale-v", "nan", "'nan' is not a number"),
])
def test_a_number_in_another_unit_is_refused_with_an_example(refused, tmp_path, option, value, says):
    assert says in refused("stimulus", "sweep", tmp_path / "a.wav", option, value)
    assert not (tmp_path / "a.wav").exists()
