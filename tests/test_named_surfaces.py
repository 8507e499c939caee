"""Surfaces with names that a study draws, and studies in which nothing is driven."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np

import veldrain as vd
from tests.helpers import called, cart_scenario

FRICTION = {"wood": 0.5, "silt": 0.1, "grating": 0.9}
TILT = np.deg2rad(25)


def slide() -> vd.Scenario:
    """A crate on a ramp of 25°, for a second."""
    world = vd.World().ground()
    for name, friction in FRICTION.items():
        world.surface(name, vd.Surface(friction=friction))
    ramp = vd.Pose((0, 0, 2), rpy=(0, TILT, 0))
    world.obstacle("ramp", vd.Box((6, 1, 0.2)), pose=ramp, surface=world.surfaces["wood"])
    on = ramp @ vd.Pose((-2, 0, 0.2))
    world.body("crate", vd.Box((0.4, 0.4, 0.2)), mass=5, pose=on, surface=vd.Surface(friction=1.0))
    return vd.Scenario(world, "1 s").log("speed", vd.speed("crate"))


def study(draw: vd.Draw, **more: object) -> vd.Study:
    metric = vd.Metric("at the end", "scenario/speed", "data", "last")
    vary = {"ramp.surface": draw, "crate.mass": vd.uniform(4, 6)}
    return vd.Study(slide(), vary=vary, metrics=[metric], **more)  # type: ignore[arg-type]


class Drawn(unittest.TestCase):
    def test_each_surface_does_what_it_is_like(self) -> None:
        """g·(sin α − √(µ·1)·cos α) after a second, and the names stand in rows, sentences and recordings."""
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "out"
            result = study(vd.one_of(*FRICTION), trials=18).run(out)
            rows = result.trials
            self.assertEqual(set(rows["ramp.surface"]), set(FRICTION))
            for name, speeds in rows.groupby("ramp.surface", observed=True)["at the end"]:
                slides = max(0.0, 9.81 * (np.sin(TILT) - np.sqrt(FRICTION[str(name)]) * np.cos(TILT)))
                np.testing.assert_allclose(speeds, slides, atol=0.01)
            clear = [e for e in result.effects() if e.is_clear and e.metric == "at the end"]
            self.assertIn(("ramp.surface", "silt", "wood"), {e.swap for e in clear if e.swing > 1})
            self.assertEqual(result.edges(), [])
            first = str(rows["ramp.surface"].iloc[0])
            told = called("streams", out / "trials" / "undriven" / "000.mcap").stdout
            self.assertIn(f"ramp.surface {first}", told)
            index = result.write_dataset(Path(folder) / "set", ["scenario/speed.data"])
            self.assertEqual(set(index["ramp.surface"]), set(FRICTION))
            page = called("compare", out)
            self.assertIn("with ramp.surface silt in place of wood", page.stdout)

    def test_drawn_along_with_what_it_is_like(self) -> None:
        """Whichever comes first, the surface and a quantity of it: what is put there is as it was drawn."""
        both = {"ramp.surface": vd.one_of("silt"), "silt.friction": vd.uniform(0.2, 0.3)}
        for vary in (both, dict(reversed(both.items()))):
            drawn = vd.Study(slide(), vary=vary, trials=1)
            values = drawn.draw(0)
            world = drawn.drawn(values).world
            self.assertEqual(world.obstacles["ramp"].surface.friction, values["silt.friction"])
            self.assertEqual(slide().world.obstacles["ramp"].surface.friction, 0.5)

    def test_files_say_the_same(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.scenario.yaml"
            vd.save_scenario(slide(), path)
            (Path(folder) / "t.study.yaml").write_text(
                "veldrain: study/1\nscenario: s.scenario.yaml\ntrials: 3\n"
                "vary: {ramp.surface: {one_of: [silt, grating]}}\n"
                "metrics:\n  - {name: v, stream: scenario/speed, column: data, statistic: last, unit: m/s}\n"
            )
            read = vd.load_study(Path(folder) / "t.study.yaml")
            self.assertEqual(read.scenario.world.surfaces, slide().world.surfaces)
            self.assertEqual({read.draw(k)["ramp.surface"] for k in range(3)} - {1.0, 2.0}, set())
            told = called("inspect", path, "--knobs", "--like", "ramp.surface").stdout
            self.assertRegex(told, r"ramp\.surface +wood +one of wood \| silt \| grating")
            plan = called("study", Path(folder) / "t.study.yaml", "--plan").stdout
            self.assertIn("one of wood | silt | grating", plan)

    def test_refused(self) -> None:
        for draw, told in (
            (vd.one_of("wood", "slit"), "did you mean 'silt'"),
            (vd.one_of(0, 1), "no name '0'"),
            (vd.uniform("wood", "silt"), "names have no order"),
        ):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, told):
                study(draw)
        for name in ("wood", "a|b", " ", "a\nb"):
            with (
                self.subTest(name),
                self.assertRaisesRegex(vd.VeldrainError, "is no (name for a surface|good as a name)"),
            ):
                slide().world.surface(name, vd.Surface())
        with self.assertRaisesRegex(vd.VeldrainError, "a search goes over numbers"):
            vd.find_worst(study(vd.one_of("wood", "silt")), "at the end", budget=8)


class NothingToCompare(unittest.TestCase):
    def test_the_scenario_as_it_is(self) -> None:
        """Driven by its own controllers, or by nobody; the rows are those of the same controller by name."""
        metric = vd.Metric("x", "cart/truth", "x", "last")
        own = cart_scenario(duration=0.3)
        with tempfile.TemporaryDirectory() as folder:
            rows = [
                vd.Study(own, told, trials=2, metrics=[metric]).run(Path(folder) / str(k)).trials
                for k, told in enumerate((None, {"hold": own.controllers}))
            ]
        self.assertEqual([list(dict.fromkeys(r["controller"])) for r in rows], [["own"], ["hold"]])
        np.testing.assert_array_equal(rows[0]["x"], rows[1]["x"])
        with self.assertRaisesRegex(vd.VeldrainError, "no controllers"):
            vd.Study(own, {})


if __name__ == "__main__":
    unittest.main()
