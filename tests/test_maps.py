"""Maps out of scans and clouds, against the world that they are of and against plain counting."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

import veldrain as vd
from tests.helpers import DEMO, called
from veldrain.recording.gridding import count_beams


def room(sensor: Any, height: float = 0.4) -> vd.World:
    """A room of 4 m × 3 m, its walls within cells of 10 cm, with a post and a door; a mast with a sensor."""
    world = vd.World().ground()
    for name, size, at in (
        ("west", (0.2, 3.4), (-2.15, 0)),
        ("east", (0.2, 3.4), (2.15, 0)),
        ("north", (4, 0.2), (0, 1.65)),
        ("south", (2.4, 0.2), (-0.8, -1.65)),  # a door from x 0.4 to 2
        ("post", (0.2, 0.2), (1.15, 0.65)),
    ):
        world.obstacle(f"room/{name}", vd.Box((*size, 1)), pose=vd.Pose((*at, 0.5)))
    mast = vd.Model("mast").link("foot", vd.Sphere(0.02)).mount("scan", sensor, on="foot", pose=vd.Pose((0, 0, 0.1)))
    return world.place(mast, "mast", pose=vd.Pose((0, 0, height)), fixed=True)


def seen_from(world: vd.World, time: str = "1 s") -> Any:
    return vd.run(vd.Scenario(world, time))


class Occupancy(unittest.TestCase):
    def test_a_room_is_mapped_as_it_is(self) -> None:
        lidar = vd.Lidar(beams=1440, field_of_view="360 deg", max_range="6 m")
        world = room(lidar)
        recording = seen_from(world)
        grid = vd.occupancy(recording, "mast/scan", cell="10 cm")
        truth = vd.occupancy(world, like=grid, heights=(0.1, 0.9))
        self.assertEqual(grid.probability.shape, truth.probability.shape)
        found = grid.compare(truth)
        self.assertGreater(found.cells, 1000)
        self.assertGreater(found.agree, 0.99)
        self.assertEqual(found.invented, 0.0)
        for (x, y), said in (
            ((0, 0), "free"),
            ((1.5, 0), "free"),
            ((1.07, 0.57), "occupied"),
            ((-2.07, 0.4), "occupied"),
            ((1.6, 1.0), "unknown"),  # behind the post
            ((0.9, -3.0), "free"),  # out of the door
            ((-2.5, 0), "unknown"),  # behind the wall
            ((50, 0), "unknown"),
        ):
            p = grid.at(x, y)
            self.assertEqual("unknown" if math.isnan(p) else "occupied" if p > 0.65 else "free", said, (x, y, p))
        self.assertEqual(np.nanmax(grid.probability), 1 / (1 + math.exp(-4)))
        again = vd.occupancy(recording, "mast/scan", like=truth)
        np.testing.assert_array_equal(again.probability, grid.probability)
        low = vd.occupancy(recording, "mast/scan", cell="10 cm", heights=(1.0, 2.0))
        self.assertTrue(np.isnan(low.probability).all())  # all beams are at 0.5 m

    def test_beams_are_counted_as_a_plain_walk_does(self) -> None:
        """Cells that a fine walk along each beam meets, of beams between any two points, level and along cells too."""
        random = np.random.default_rng(3)
        origins, ends = random.uniform(-1, 13, (60, 3)), random.uniform(-1, 13, (60, 3))
        ends[:5, 0], ends[5:10, 1] = origins[:5, 0], origins[5:10, 1]
        ends[10] = origins[10]
        missed = (random.random(60) < 0.3).astype(np.int64)
        band, seen, odds = np.array((2.0, 9.0)), np.zeros((12, 12), np.int64), np.zeros((12, 12))
        count_beams(origins, ends, missed, np.zeros(2), 1.0, band, 1, seen, odds, 100.0, -1.0, 1e3)
        want = np.zeros((12, 12))
        for origin, end, is_missed in zip(origins, ends, missed, strict=True):
            way = origin + np.linspace(0, 1, 200_001)[:, None] * (end - origin)
            cells = np.floor(way[:, :2]).astype(int)
            begins = np.flatnonzero(np.r_[True, (np.diff(cells, axis=0) != 0).any(axis=1)])
            for k, (column, row) in zip(begins, cells[begins], strict=True):
                if not (0 <= row < 12 and 0 <= column < 12):
                    continue
                if not is_missed and (cells[k] == cells[-1]).all():
                    if band[0] <= end[2] <= band[1]:
                        want[row, column] = 100.0
                elif band[0] <= way[k, 2] <= band[1] and want[row, column] == 0:
                    want[row, column] = -1.0
        np.testing.assert_array_equal(odds, want)
        np.testing.assert_array_equal(seen > 0, want != 0)

    def test_files_and_messages(self) -> None:
        recording = seen_from(room(vd.Lidar(beams=90, field_of_view="360 deg", max_range="6 m")))
        grid = vd.occupancy(recording, "mast/scan", cell="0.2 m")
        fields = grid.message("2.5 s").fields
        self.assertEqual((fields.info.width, fields.info.height), grid.probability.shape[::-1])
        self.assertEqual((fields.header.stamp.nanosec, fields.header.frame_id), (500_000_000, "world"))
        self.assertEqual(set(np.sign(fields.data).tolist()), {-1, 1})
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            _, words = grid.save(folder / "room.png")
            back = vd.load_map(words)
            for mine, theirs in ((grid.occupied, back.occupied), (grid.free, back.free)):
                np.testing.assert_array_equal(mine, theirs)
            self.assertEqual(back.compare(grid).agree, 1.0)
            shifted = vd.OccupancyMap(back.probability[2:, 3:], 0.2, back.corner + (0.6, 0.4))
            self.assertEqual(shifted.compare(grid), shifted.compare(shifted))
            for text, said in (
                ("image: room.png", "KeyError"),
                ("image: [", "is no map"),
                (words.read_text().replace("0.2\n", ".nan\n"), "cells of nan m"),
                (words.read_text().replace("room.png", "../../gone.png"), "is no map .FileNotFoundError"),
                ("!!python/object/apply:os.system [exit]", "is no map"),
            ):
                (folder / "spoilt.yaml").write_text(text)
                with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                    vd.load_map(folder / "spoilt.yaml")
            log = folder / "trial.mcap"
            vd.run(vd.load_scenario(DEMO / "culvert.scenario.yaml"), record=log)
            done = called("export", log, "--kind", "map", "--to", "maps", cwd=folder)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(
                sorted(p.name for p in (folder / "maps").iterdir()), ["crawler.scan.png", "crawler.scan.yaml"]
            )
            mapped = vd.load_map(folder / "maps" / "crawler.scan.yaml")
            culvert = vd.load_world(DEMO / "culvert.world.yaml")
            found = mapped.compare(vd.occupancy(culvert, like=mapped, heights=("25 cm", "50 cm")))
            self.assertGreater(found.agree, 0.95)
            self.assertEqual(found.invented, 0.0)  # the crawler moves and turns, and its beams are put where it was

    def test_mistakes_are_told(self) -> None:
        world = room(vd.Lidar(beams=9))
        recording = seen_from(world, "0.2 s")
        grid = vd.occupancy(recording, "mast/scan")
        other = vd.OccupancyMap(np.zeros((3, 3)), 0.1, np.zeros(2))
        far = vd.OccupancyMap(np.zeros((3, 3)), 0.05, np.array((90.0, 90.0)))
        for act, said in (
            (lambda: vd.occupancy(recording, "mast/scam"), "no stream 'mast/scam'"),
            (lambda: vd.occupancy(recording, "mast/scan", frame="moon"), "no frame 'moon'"),
            (lambda: vd.occupancy(recording, "mast/scan", cell=0), "a cell of 0 m"),
            (lambda: vd.occupancy(recording, "mast/scan", cell="0.1 mm"), "cells of 0.0001 m; give larger cells"),
            (lambda: vd.occupancy(recording, "mast/scan", heights=(2, 1)), "heights of 2 to 1 m"),
            (lambda: vd.occupancy(recording, "mast/scan", start=5), "has no points then"),
            (lambda: vd.occupancy(world), "which cells are wanted"),
            (lambda: grid.compare(other), "cells of 0.05 and of 0.1 m"),
            (lambda: grid.compare(far), "do not meet"),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                act()


class Heights(unittest.TestCase):
    def test_a_ramp(self) -> None:
        """Of a slope of 15° each cell's mean is z = x·tan 15° at its middle, as a ground that a world can have."""
        slope = math.tan(math.radians(15))
        lidar = vd.SpinningLidar(
            channels=32, azimuths=720, vertical_field_of_view=("-60 deg", "-10 deg"), max_range="8 m", noise=0
        )
        mast = (
            vd.Model("mast").link("foot", vd.Sphere(0.02)).mount("cloud", lidar, on="foot", pose=vd.Pose((0, 0, 0.1)))
        )
        world = vd.World().obstacle("ramp", vd.Box((20, 20, 0.2)), pose=vd.Pose((0, 0, 0), rpy=(0, "-15 deg", 0)))
        world.place(mast, "mast", pose=vd.Pose((0, 0, 1.5)), fixed=True)
        found = vd.height_map(seen_from(world, "0.5 s"), "mast/cloud", cell="20 cm")
        rows, _ = found.heights.shape
        x = found.corner[0] + (np.arange(rows) + 0.5) * 0.2
        error = found.heights - (x[:, None] * slope + 0.1 / math.cos(math.radians(15)))
        self.assertGreater(np.isfinite(error).sum(), 300)
        self.assertLess(np.nanmax(np.abs(error)), 0.1 * slope + 1e-3)
        self.assertEqual(int(found.counts.sum() % 1), 0)
        field, pose = found.ground()
        again = vd.World().obstacle("bank", field, pose=pose)
        near = int(np.argmin(np.abs(x - 1.5)))
        column = int(np.flatnonzero(np.isfinite(found.heights[near])).mean())
        y = found.corner[1] + (column + 0.5) * 0.2
        hit = vd.Simulation(again).cast(np.array([(x[near], y, 5.0)]), np.array([(0.0, 0.0, -1.0)]), "9 m")
        self.assertAlmostEqual(float(5.0 - hit[0][0]), float(found.heights[near, column]), delta=1e-3)
        with tempfile.TemporaryDirectory() as name:
            picture, words = found.save(Path(name) / "ramp.png")
            with Image.open(picture) as image:
                grey = np.asarray(image).astype(float)[::-1].T
            np.testing.assert_array_equal(grey > 0, np.isfinite(found.heights))
            low, step = (float(part) for part in words.read_text().split("height: ")[1].split(" * ")[0].split(" + "))
            np.testing.assert_allclose(low + step * (grey - 1)[grey > 0], found.heights[grey > 0], atol=step)


if __name__ == "__main__":
    unittest.main()
