"""The page of a trial, in a real browser: what it shows is what was recorded, and nothing else happens there."""

from __future__ import annotations

import re
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from mcap.writer import Writer

import veldrain as vd
from tests.browser import InBrowser
from tests.check_cases import cart, on_ground
from tests.helpers import called
from veldrain.report.page import write_page

EVIL = '</script><script>window.harmed = 1</script><img src=x onerror="window.harmed = 1">'


class Steer(vd.Controller):
    """In a circle; a greater ``side`` makes it narrower."""

    def __init__(self, side: float = 1.0) -> None:
        self.period, self.side = 0.02, side

    def update(self, time: float, senses: Any, motors: Any) -> None:
        for name in ("fl", "rl", "fr", "rr"):
            motors[name].command(velocity=4.0 + (self.side if name.endswith("r") else -self.side))


def scenario(side: float = 1.0) -> vd.Scenario:
    """The cart goes in a circle past a wall, sees it, and is pushed."""
    m = cart().mount("scan", vd.Lidar(beams=90), on="hull", pose=vd.Pose((0, 0, 0.1)))
    m.mount("eye", vd.Camera(size=(32, 24), period="500 ms"), on="hull", pose=vd.Pose((0.3, 0, 0.1)))
    m.mount("imu", vd.Imu("1 ms"), on="hull")
    w = on_ground(m).obstacle("wall", vd.Box((0.2, 4, 1)), pose=vd.Pose((3, 0, 0.5)))
    made = vd.Scenario(w, "3 s", controllers={"cart": Steer(side)}, record_contacts="50 ms")
    made.at("1 s").push("cart/hull", force=(0, "20 N", 0), lasting="100 ms")
    return made.expect("off the wall", always=vd.distance("cart/hull", "wall") > "10 cm")


def foreign(path: Path, topic: str, outcome: str = "{}") -> Path:
    """A log of another's, with one stream of numbers, which says something of an outcome."""
    with path.open("wb") as file:
        writer = Writer(file)
        writer.start()
        schema = writer.register_schema("std_msgs/msg/Float64", "ros2msg", b"float64 data\n")
        channel = writer.register_channel(topic, "cdr", schema)
        for k in range(30):
            data = b"\0\1\0\0" + np.float64(k).tobytes()
            writer.add_message(channel, log_time=k * 10**8, publish_time=k * 10**8, data=data)
        writer.add_metadata("veldrain", {"outcome": outcome})
        writer.finish()  # type: ignore[no-untyped-call]
    return path


class Shown(InBrowser):
    folder: Path
    recordings: list[vd.Recording]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.recordings = [
            vd.run(scenario(side), record=cls.folder / f"{name}.mcap")
            for name, side in (("wide", 1.0), ("narrow", 2.0))
        ]

    def show(self, thing: Any, **words: Any) -> str:
        """The address of its page."""
        path = self.folder / f"{self.id()}.html"
        vd.page(thing, path, **words)
        return path.as_uri()

    def figures(self, page: Any) -> dict[str, str]:
        """What is told of the thing that is picked."""
        page.wait_for_selector("#picked td")
        rows = page.eval_on_selector_all("#picked tr", "rows => rows.map(r => [...r.cells].map(c => c.textContent))")
        return {row[0]: row[1].replace("−", "-") for row in rows}

    def goes_to(self, page: Any, words: str) -> None:
        """Go to a moment and a view, and wait for what is told of it."""
        page.evaluate(f"location.hash = {words!r}")
        time = re.search(r"t=([\d.]+)", words)
        self.until(page, f"document.getElementById('time').textContent.startsWith('{float(time[1]):.2f} s')")  # type: ignore[index]
        page.wait_for_timeout(400)

    def test_poses_are_those_of_the_recording(self) -> None:
        """At three recorded times, of the hull and of a wheel, to a millimetre; and a column's last value."""
        recording = self.recordings[0]
        page = self.opened(self.show(recording))
        for time in (0.0, 1.05, 3.0):
            poses = recording.frames.at(time)
            for name in ("cart/hull", "cart/fr_wheel"):
                with self.subTest(time=time, name=name):
                    self.goes_to(page, f"t={time}&pick={name}")
                    told = self.figures(page)
                    at = [float(told[axis]) for axis in "xyz"]
                    np.testing.assert_allclose(at, poses[name].position, atol=1e-3)
        self.goes_to(page, "t=2.5&pick=cart/joint_states")
        states = recording["cart/joint_states"].query("time <= 2.5 + 1e-6").iloc[-1]
        self.assertAlmostEqual(float(self.figures(page)["velocity.fl"]), states["velocity.fl"], delta=1e-3 * 5)
        self.assertEqual(self.faults, [])

    def test_it_plays_scrubs_picks_searches_and_plots(self) -> None:
        page = self.opened(self.show(self.recordings[0]))
        time = lambda: float(page.inner_text("#time").split()[0])  # noqa: E731
        page.keyboard.press("Space")
        self.until(page, "parseFloat(document.getElementById('time').textContent) > 0.2")
        self.assertEqual(page.inner_text("#play"), "Pause")
        page.keyboard.press("Space")
        box = page.locator("#line").bounding_box()
        page.mouse.click(box["x"] + 58 + (box["width"] - 62) / 2, box["y"] + 10)
        page.wait_for_timeout(200)
        self.assertAlmostEqual(time(), 1.5, delta=0.02)
        for key, least, most in (
            ("End", 3, 3),
            (",", 2.94, 2.96),
            (".", 3, 3),
            ("Home", 0, 0),
            ("ArrowRight", 0.1, 0.1),
        ):
            page.keyboard.press(key)
            page.wait_for_timeout(200)
            self.assertTrue(least <= time() <= most, (key, time()))
        self.goes_to(page, "t=1&follow=cart")
        box = page.locator("#scene").bounding_box()
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.wait_for_selector("#picked h2")
        self.assertRegex(page.inner_text("#picked h2"), "^cart/")
        page.fill("#search", "linear_acc")
        page.click("text=linear_acceleration.x")
        page.wait_for_selector(".legend b:has-text('m/s²')")
        self.assertRegex(page.inner_text(".legend"), r"cart/imu linear_acceleration\.x −?[\d.]+ ")
        page.fill("#search", "no such thing")
        self.assertEqual(page.inner_text("#tree"), "No such name.")
        before = page.screenshot()
        page.click("#show-layers")
        for layer in ("collision", "beams", "joints", "frames", "fields"):
            page.check(f"input[data-layer={layer}]")
        page.click("#show-layers")
        page.wait_for_timeout(300)
        self.assertNotEqual(page.screenshot(), before)
        with page.expect_download() as saved:
            page.click("#png")
        self.assertEqual(Path(saved.value.path()).read_bytes()[:4], b"\x89PNG")
        self.assertIn("cart/eye at 1.00 s", page.inner_text("#pictures"))
        self.assertEqual(self.faults, [])

    def test_a_link_leads_to_the_same_moment_and_view(self) -> None:
        address = self.show(self.recordings)
        page = self.opened(f"{address}#t=2.000&follow=cart&pick=cart/scan&over=1&plot=cart/imu angular_velocity.z")
        page.wait_for_selector(".plot")
        page.keyboard.press("c")
        self.until(page, "location.hash.includes('eye=')")
        words = page.evaluate("location.hash")
        again = self.opened(address + words)
        again.wait_for_selector(".plot")
        again.keyboard.press("c")
        self.until(again, "location.hash.includes('eye=')")
        self.assertEqual(again.evaluate("location.hash"), words)
        self.assertEqual(again.inner_text("#arrange"), "Side by side")

    def test_two_trials_in_step_with_their_difference(self) -> None:
        page = self.opened(self.show(self.recordings, names=["wide", EVIL]))
        self.goes_to(page, "t=2&plot=cart/imu angular_velocity.z")
        one, other = (r["cart/imu"].query("time <= 2 + 1e-6").iloc[-1]["angular_velocity.z"] for r in self.recordings)
        page.click(".tools button >> text=Δ")
        self.until(page, "document.querySelector('.legend').textContent.includes('−')")
        page.wait_for_timeout(300)
        told = float(page.inner_text(".legend b").split()[0].replace("−", "-"))
        # Of 3,000 samples the least and the greatest of each 3 ms are kept: the middle of these is told.
        self.assertAlmostEqual(told, other - one, delta=0.3 * abs(other - one) + 0.02)
        self.assertEqual(page.inner_text("#arrange"), "Over each other")
        page.click("#arrange")
        self.assertIn(EVIL, page.inner_text("header"))
        self.assertIsNone(page.evaluate("window.harmed ?? null"))
        self.assertEqual(self.faults, [])

    def test_files_of_others_are_shown_and_run_nothing(self) -> None:
        """A topic that is markup, no world, no frames: a word says so, the numbers can be plotted, and no more happens."""
        page = self.opened(self.show(foreign(self.folder / "foreign.mcap", EVIL)))
        self.assertRegex(page.inner_text("#wait"), "Nothing to be seen")
        self.assertFalse(page.is_hidden("#show-notes"))
        page.fill("#search", "data")
        page.click(".column")
        page.wait_for_selector(".legend b")
        self.assertIn(EVIL, page.inner_text(".legend"))
        self.assertIsNone(page.evaluate("window.harmed ?? null"))
        self.assertIsNone(page.query_selector("img[src=x]"))
        self.assertEqual(self.faults, [])

    def test_on_a_phone_in_the_dark(self) -> None:
        page = self.opened(self.show(self.recordings[0]), (400, 800), color_scheme="dark")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 400)
        box = page.locator("#controls").bounding_box()
        self.assertLess(box["y"] + box["height"], 800)
        self.assertEqual(self.faults, [])

    def test_of_what_has_not_run(self) -> None:
        """A world, a robot and a scenario stand still: there is no time to play."""
        for thing in (on_ground(cart()), cart(), scenario()):
            with self.subTest(type(thing).__name__):
                page = self.opened(self.show(thing))
                self.assertTrue(page.is_disabled("#play"))
                page.evaluate("location.hash = 'pick=cart/hull'")
                self.assertIn("x", self.figures(page))
        self.assertEqual(self.faults, [])


class Asked(unittest.TestCase):
    """What needs no browser."""

    def test_what_cannot_be_shown_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            run = foreign(folder / "run.mcap", "level")
            (folder / "spoilt.mcap").write_bytes(b"\x89MCAP0\r\nand then something else")
            for words, error in (
                (("page", "none.mcap"), "none.mcap: no such file"),
                (("page", "spoilt.mcap"), "not an MCAP file"),
                (("page", run, "--out", "page.pdf"), "name a .html file"),
                (("page", run, run, run, run, run), "5 trials; give one to 4"),
                (("page", run, "--controller", "a"), "is for a study's results"),
            ):
                with self.subTest(error):
                    done = called(*words, cwd=folder)
                    self.assertEqual(done.returncode, 2, done.stdout)
                    self.assertRegex(done.stderr, rf"^error: .*{re.escape(error).split(';')[0]}.*\n$")
            self.assertEqual(sorted(p.name for p in folder.iterdir()), ["run.mcap", "spoilt.mcap"])

    def test_what_files_say_of_an_outcome_may_be_anything(self) -> None:
        odd = '{"expectations": {"a": {"time": NaN, "nearest": 2.0, "margin": null}, "b": 7}, "notices": 4}'
        with tempfile.TemporaryDirectory() as name:
            for outcome in ("null", "[1]", '{"expectations": 3}', odd):
                with self.subTest(outcome):
                    page = vd.page(foreign(Path(name) / "odd.mcap", "level", outcome))
                    self.assertEqual('"text":"a: nearest"' in page.text, outcome == odd)

    def test_a_study_s_trial_and_the_pairs_of_its_report(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            study = vd.Study(
                scenario(),
                {"wide": {"cart": Steer(1.0)}, "narrow": {"cart": Steer(2.0)}},
                vary={"cart/hull.mass": vd.uniform("10 kg", "14 kg")},
                trials=3,
                metrics=[vd.Metric("rate", "cart/imu", "angular_velocity.z", "max", better="lower")],
            )
            result = study.run(Path(name) / "found")
            write_page(result, result.compare(), result.folder / "report.html")
            links = set(re.findall(r'href="(pairs/[^"]+)"', (result.folder / "report.html").read_text()))
            self.assertEqual({link.split("-")[0] for link in links}, {"pairs/worst", "pairs/median", "pairs/best"})
            for link in links:
                self.assertIn('"name":"narrow"', (result.folder / link).read_text())
            done = called("page", result.folder, "1", cwd=Path(name))
            self.assertIn("Written: trial-1.html", done.stdout, done.stderr)
            self.assertRegex(called("page", result.folder, cwd=Path(name)).stderr, "which trial is not said")

    def test_it_shows_itself_in_notebooks_and_tells_what_it_leaves_out(self) -> None:
        recording = vd.run(scenario())
        page = recording.page()
        self.assertIn("sandbox=", page._repr_html_())
        self.assertTrue(any("cart/imu the least and the greatest value" in note for note in page.notes))
        self.assertLess(len(page.text), 3e6)


if __name__ == "__main__":
    unittest.main()
