"""Speed and endurance against references, as ratios within one run."""

import argparse

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
    asked = argparse.ArgumentParser(prog="./run bench", description=__doc__)
    asked.add_argument("parts", nargs="*", metavar="part", help=f"all where none is named: {', '.join(PARTS)}")
    given = asked.parse_args()
    if unknown := set(given.parts) - set(PARTS):
        asked.error(f"there is no part {', '.join(sorted(unknown))}; there are: {', '.join(PARTS)}")
    for name in given.parts or PARTS:
        print(f"== {name}")
        PARTS[name]()
