"""Two thousand mutated files over all formats: no traceback, no hang, no changed input, nothing half-written."""

import tempfile
from pathlib import Path

from tests.fuzzing import FOLDERS, faults

COUNT, FOLDER_COUNT = 2000, 500


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        found = 0
        for place, first, count in (("files", 0, COUNT), ("folders", FOLDERS, FOLDER_COUNT)):
            for wrong in faults(Path(folder) / place, first, count):
                found += 1
                print(wrong)
    print(f"{COUNT} mutated files and {FOLDER_COUNT} exchanged books: {found} faults")
