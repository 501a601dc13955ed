"""Half an hour of silence in stereo at 96 kHz through everything that reads a file in part: time and memory."""

import struct
import tempfile
import time
from pathlib import Path

import soundfile

from jiyuu.cli.entry import main as jiyuu

RATE, HALF_AN_HOUR_S = 96_000, 1800
COMMANDS = (("measure", "sidebands", "{}", "--tone", "440", "--rate", "130"), ("measure", "tone", "{}"),
            ("measure", "response", "{}", "{}"), ("measure", "drive", "{}"))


def long_file(path: Path, seconds: int) -> Path:
    """A silent stereo file of 24 bits that takes no room on the disk."""
    size = seconds * RATE * 2 * 3
    with path.open("wb") as file:
        file.write(b"RIFF" + struct.pack("<I", 36 + size) + b"WAVEfmt "
                   + struct.pack("<IHHIIHH", 16, 1, 2, RATE, RATE * 6, 6, 24) + b"data" + struct.pack("<I", size))
        file.truncate(44 + size)
    assert soundfile.info(path).frames == seconds * RATE
    return path


def main() -> None:
    """Each says why it measures nothing."""
    with tempfile.TemporaryDirectory() as folder:
        path = str(long_file(Path(folder) / "long.wav", HALF_AN_HOUR_S))
        for command in COMMANDS:
            begun = time.perf_counter()
            code = jiyuu([path if word == "{}" else word for word in command])
            most_kb = next(int(line.split()[1]) for line in Path("/proc/self/status").read_text().splitlines()
                           if line.startswith("VmHWM"))
            print(f"{' '.join(command[:2])}: exit {code} after {time.perf_counter() - begun:.1f} s, the process at "
                  f"most {most_kb / 1024:.0f} MB", flush=True)


if __name__ == "__main__":
    main()
