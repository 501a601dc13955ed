"""How long a measurement goes on after it was called off: the longest time between two looks at the flag."""

import time
import traceback

from jiyuu import stopping
from jiyuu.bench.demo import BOARDS
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import measured, walk
from jiyuu.rig.simulated import SimulatedRig


class Looks:
    """Stands where the flag would: never set, and knows when it was last looked at."""

    def __init__(self) -> None:
        self.last, self.longest, self.where = time.perf_counter(), 0.0, ""

    def is_set(self) -> bool:
        now = time.perf_counter()
        if now - self.last > self.longest:
            self.longest = now - self.last
            self.where = " < ".join(frame.name for frame in traceback.extract_stack()[-7:-1])
        self.last = now
        return False


def main() -> None:
    for letter, seed, document in BOARDS[:6]:
        standing = Standing.of(document)
        for step in walk():
            if not step.measures:
                continue
            looks = Looks()
            begun = time.perf_counter()
            with stopping.stoppable(looks):  # type: ignore[arg-type]
                for _ in measured(step, standing, step.setting(), SimulatedRig(standing.filter, seed=seed)):
                    stopping.checkpoint()
            print(f"{letter} {step.name}: {1e3 * looks.longest:.0f} ms of {time.perf_counter() - begun:.1f} s "
                  f"({looks.where})")


if __name__ == "__main__":
    main()
