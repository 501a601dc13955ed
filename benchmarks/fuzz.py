"""Two thousand mutated files over all formats: no traceback, no hang, no changed input, nothing half-written."""

import tempfile
from pathlib import Path

from tests.fuzzing import faults

COUNT = 2000


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        found = 0
        for wrong in faults(Path(folder) / "fuzz", 0, COUNT):
            found += 1
            print(wrong)
    print(f"{COUNT} mutated files: {found} faults")
