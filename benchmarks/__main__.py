"""Speed and endurance against references, as ratios within one run.

    ./run bench [render | circuits | live | window | stopping | kill | power | full_disk | trust | tracking | identify |
                 character | day | fuzz | long]
"""

import sys

from benchmarks import (
    character,
    circuits,
    day,
    full_disk,
    fuzz,
    identify,
    kill,
    live,
    long,
    power,
    render,
    stopping,
    tracking,
    trust,
    window,
)

ROOMS = (render, circuits, live, window, stopping, kill, power, full_disk, trust, tracking, identify, character, day,
         fuzz, long)
PARTS = {room.__name__.rpartition(".")[2]: room.main for room in ROOMS}

if __name__ == "__main__":
    for name in sys.argv[1:] or PARTS:
        print(f"== {name}")
        PARTS[name]()
