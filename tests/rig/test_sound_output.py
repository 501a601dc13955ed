"""Sound leaves through the machine's output as it was asked for; where there is none it is said."""

import os
import subprocess
import sys
import threading

import numpy as np
import pytest

from jiyuu.rig.sound_output import OUTPUT_RATE_HZ, DeviceOutput, StandInOutput

PLAY = """
import sys, threading
import numpy as np
from jiyuu.errors import JiyuuError
from jiyuu.rig.sound_output import DeviceOutput

enough, place = threading.Event(), [0]

def fill(count):
    index = place[0] + np.arange(count)
    place[0] += count
    if place[0] > 24_000:
        enough.set()
    return 0.25 * np.sin(2 * np.pi * 480 * index / 48_000)

output = DeviceOutput()
try:
    output.start(fill)
except JiyuuError as error:
    sys.exit(str(error))
assert enough.wait(20)
output.stop()
output.stop()
"""


def play(tmp_path, configuration):
    (tmp_path / "asound.conf").write_text(configuration, encoding="utf-8")
    environment = {**os.environ, "ALSA_CONFIG_PATH": str(tmp_path / "asound.conf"), "PULSE_SERVER": "none",
                   "JACK_NO_START_SERVER": "1"}
    return subprocess.run([sys.executable, "-c", PLAY], env=environment, capture_output=True, text=True, timeout=60,
                          check=False)


def test_the_system_output_is_given_what_was_asked_for(tmp_path):
    out = tmp_path / "out.raw"
    ended = play(tmp_path, f'pcm.!default {{ type file; slave.pcm {{ type null }}; file "{out}"; format "raw" }}\n'
                           "ctl.!default { type null }\n")
    assert ended.returncode == 0, ended.stderr
    given = np.fromfile(out, dtype=np.float32).reshape(-1, 2)[:20_000]
    expected = 0.25 * np.sin(2 * np.pi * 480 * np.arange(given.shape[0]) / OUTPUT_RATE_HZ)
    start = int(np.flatnonzero(given[:, 0])[0]) - 1
    assert given[start:, 0] == pytest.approx(expected[: given.shape[0] - start], abs=1e-6)
    assert (given[:, 0] == given[:, 1]).all()


def test_a_machine_without_an_output_says_what_to_do(tmp_path):
    ended = play(tmp_path, "")
    assert ended.returncode == 1
    assert "No sound output could be opened" in ended.stderr
    assert "Traceback" not in ended.stderr


def test_the_stand_in_plays_in_real_time_and_keeps_it():
    output, asked = StandInOutput(), threading.Event()

    def fill(count):
        asked.set()
        return np.full(count, 0.1)

    output.start(fill)
    assert asked.wait(5)
    output.stop()
    count = output.heard.size
    assert count > 0
    assert (output.heard == 0.1).all()
    output.stop()
    assert output.heard.size == count
    DeviceOutput().stop()  # never started
