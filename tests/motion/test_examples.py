"""The examples of motion do what they say, and leave a picture."""

from __future__ import annotations

import re
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from tests.helpers import EXAMPLES, told_by

# What each prints, and between which bounds each number of it is.
TOLD: dict[str, tuple[str, list[tuple[float, float]]]] = {
    "cart_and_pole": (r"8 carts over 8 s: (\d+) falls, at most ([\d.]+) degrees", [(0, 3), (0, 15)]),
    "learn_to_balance": (r"round 8: ([\d.]+) s upright of 4 s[^,]*, (\d+) of 1000 poles", [(3.8, 4), (990, 1000)]),
    "arm_on_a_line": (
        r"wall in ([\d.]+) s by (\d+) points; the line is straight within ([\d.]+) mm",
        [(1, 9), (3, 20), (0, 4)],
    ),
    "pick_and_place": (r"jar stands ([\d.]+) mm from the middle.*\n.*jar stands ([\d.]+) mm", [(0, 5), (0, 5)]),
    "maze": (r"found the way out after ([\d.]+) m; the shortest way is ([\d.]+) m", [(17, 28), (15, 19)]),
    "square_by_odometry": (r"odometry is ([\d.]+) m off after the square, ([\d.]+) m at most", [(0, 0.9), (0, 0.9)]),
    "driven_by_keys": (r"driven by hand to \(([\d.]+), ([\d.]+)\) m", [(1, 3.5), (0.2, 2.5)]),
    "rollers": (
        r"True: ([\d.]+) to ([\d.]+) m from the middle, and (\d+) cm from where it began",
        [(0.8, 1), (1, 1.2), (0, 15)],
    ),
    "slalom": (r"True: at most (\d+) cm off the route, (\d+) cm on average", [(1, 30), (1, 12)]),
    "cut_in": (r"True: ([\d.]+) m at the nearest; the lidar saw it in (\d+) %", [(4, 20), (90, 100)]),
    "bank_walker": (
        r"([\d.]+) m along the slope, ([\d.]+) m down it, leans (-?[\d.]+) degrees",
        [(1.8, 3), (0, 1), (-12, 12)],
    ),
    "around_the_pole": (r"True: at most (\d+) cm off course.*the pole ([\d.]+) m away", [(0, 10), (1, 2)]),
}


class Examples(unittest.TestCase):
    def test_all_are_here(self) -> None:
        files = {p.stem for p in EXAMPLES.glob("*.py")} - {"culvert_study"}
        self.assertEqual({name for name in files if not name.startswith("own_")}, set(TOLD))


def _runs(name: str, says: str, bounds: list[tuple[float, float]]) -> Callable[[unittest.TestCase], None]:
    def test(self: unittest.TestCase) -> None:
        code = (EXAMPLES / f"{name}.py").read_text(encoding="utf-8")
        self.assertLessEqual(code.count("\n"), 90 if name == "pick_and_place" else 60)
        with tempfile.TemporaryDirectory() as folder:
            told = told_by(code, Path(folder))
            found = re.search(says, told)
            assert found, told
            for value, (low, high) in zip(found.groups(), bounds, strict=True):
                self.assertTrue(low <= float(value) <= high, found.group())
            self.assertGreater((Path(folder) / f"{name}.png").stat().st_size, 10_000)

    return test


for _name, (_says, _bounds) in TOLD.items():  # a test each
    setattr(Examples, f"test_{_name}", _runs(_name, _says, _bounds))


if __name__ == "__main__":
    unittest.main()
