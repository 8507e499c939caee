#!/usr/bin/env python3
"""The same controller as wall_follower.cpp, in Python: one line of JSON comes, one goes, as docs/programs.md says."""

import json
import sys


def main() -> None:
    json.loads(sys.stdin.readline())  # what robot, which motors; nothing of it is needed here
    print(json.dumps({"veldrain": "program/1"}), flush=True)
    gap, change = 0.5, 0.0  # to the wall, and how much it grew from one scan to the next, m
    for line in sys.stdin:
        scan = json.loads(line)["readings"].get("scan")
        met = [r for r in scan["ranges"][: len(scan["ranges"]) // 4] if r is not None] if scan else []
        if met:
            change, gap = min(met) - gap, min(met)
        turn = 2.0 * (gap - 0.5) + 20.0 * change
        speeds = {"left": 6.0 + turn, "right": 6.0 - turn}
        motors = {f"{end}_{side}": {"velocity": speeds[side]} for side in speeds for end in ("front", "rear")}
        print(json.dumps({"motors": motors, "log": {"gap": gap}}), flush=True)


if __name__ == "__main__":
    main()
