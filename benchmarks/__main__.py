"""Speed and endurance against references, as ratios within one run.

    ./run bench [render | circuits | window | kill | trust | tracking]
"""

import sys

from benchmarks import circuits, kill, render, tracking, trust, window

PARTS = {part.__name__.rpartition(".")[2]: part.main for part in (render, circuits, window, kill, trust, tracking)}

if __name__ == "__main__":
    for name in sys.argv[1:] or PARTS:
        print(f"== {name}")
        PARTS[name]()
