"""Twenty kills at random moments while a script drives the application."""

import os
import random
import tempfile
import time
from pathlib import Path


def main() -> None:
    """Counts findings that were reported as kept and are not there afterwards."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from jiyuu.bench.demo import write_demo_book
    from tests.desktop.driving import killed_while_driven

    moments = random.Random(20)
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "demo.jiyuu"
        write_demo_book(path, measured=False)
        kept: set[int] = set()
        lost = 0
        start = time.perf_counter()
        for _ in range(20):
            said, standing = killed_while_driven(path, Path(place), kept, after_s=moments.uniform(0.0, 1.5))
            lost += len(said - standing)
            kept = standing
        print(f"20 kills in {time.perf_counter() - start:.0f} s: {len(kept)} findings kept, {lost} lost (wanted 0)")
