"""Speed and endurance against references, as ratios within one run: ./run bench [render | window | kill | trust]"""

import sys

from benchmarks import kill, render, trust, window

PARTS = {"render": render.main, "window": window.main, "kill": kill.main, "trust": trust.main}

if __name__ == "__main__":
    for name in sys.argv[1:] or PARTS:
        print(f"== {name}")
        PARTS[name]()
