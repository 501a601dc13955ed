"""Two hundred kills at random moments: while a script drives the application, and while a book is made."""

import os
import random
import tempfile
import time
from pathlib import Path

DRIVEN, MADE = 140, 60


def main() -> None:
    """Counts findings that were reported as kept and are not there afterwards, and books that cannot be used."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from jiyuu.bench.demo import write_demo_book
    from tests.book.killing import killed_while_made
    from tests.desktop.driving import killed_while_driven

    moments = random.Random(20)
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "demo.jiyuu"
        write_demo_book(path, measured=False)
        kept: set[int] = set()
        lost = 0
        start = time.perf_counter()
        for _ in range(DRIVEN):
            said, standing = killed_while_driven(path, Path(place), kept, after_s=moments.uniform(0.0, 1.5))
            lost += len(said - standing)
            kept = standing
        print(f"{DRIVEN} kills while it is driven in {time.perf_counter() - start:.0f} s: {len(kept)} findings kept, "
              f"{lost} lost (wanted 0)")
        wrong = [said for i in range(MADE)
                 if (said := killed_while_made(Path(place) / f"{i}.jiyuu", after_s=moments.uniform(0.0, 0.03)))]
        there = sum((Path(place) / f"{i}.jiyuu").exists() for i in range(MADE))
        print(f"{MADE} kills while a book is made: {there} books afterwards, {len(wrong)} unusable (wanted 0)", *wrong)
