"""Traffic lights and lines at which one gives way: who stops where, for how long, and who goes first."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd

CYCLE = [("green", "5 s"), ("amber", "3 s"), ("red", "10 s")]
CAR = vd.Box((4, 1.8, 1.4))


def street(**starts: float) -> vd.Scenario:
    """Cars at 50 km/h on a straight with a light at 120 m; the middle of each is 2 m behind its front."""
    roads = vd.Roads("town").road("main", [(0, 0), (300, 0)]).light("north", "main", at=120, cycle=CYCLE)
    world = vd.World().ground(height=-0.2).roads(roads)
    for name, start in starts.items():
        world.actor(name, CAR, route=roads.lane("main").route(at_the_end="go on"), start=start)
    return vd.Scenario(world, "25 s")


def crossing(gap: float, margin: float = 1.5, **more: Any) -> vd.Scenario:
    """One from the south that gives way at y = −6 m, and one from the west on a road of its own, ``gap`` m from x = 0."""
    roads = vd.Roads("town").road("south", [(0, -80), (0, 80)], lanes=(0, 1)).road("west", [(-200, 0), (200, 0)])
    roads.give_way("yield", "south", at=74, margin=margin)
    world = vd.World().ground(height=-0.2).roads(roads)
    world.actor("minor", CAR, route=roads.lane("south").route(speed=10, at_the_end="go on"), start=20)
    world.actor("major", CAR, route=roads.lane("west").route(speed=12, at_the_end="go on"), start=200 - gap, **more)
    return vd.Scenario(world, "20 s").expect("apart", never=vd.touching("minor", "major"))


def way(recording: vd.Recording, name: str) -> tuple[np.ndarray, np.ndarray]:
    """Times, and points (n, 3) of the root of an actor."""
    frames = recording.frames
    return frames.times, frames.path(next(f for f in frames.names if f.split("/")[0] == name))


class Lights(unittest.TestCase):
    def test_they_stop_at_the_line_or_go_on(self) -> None:
        """One is through in time, one can stop no more when amber comes, one stops and sets off with the green."""
        recording = vd.run(street(first=80, late=20, stops=0))
        v, down, up = 50 / 3.6, 2.5, 1.5
        for name, start in (("first", 80), ("late", 20)):
            times, at = way(recording, name)
            np.testing.assert_allclose(at[:, 0], start + v * times, atol=0.02)
        self.assertLess(120 - 2 - (20 + 5 * v), v**2 / (2 * down))  # of the late one: what is left, and what it needs
        times, at = way(recording, "stops")
        begins = (118 - v**2 / (2 * down)) / v
        ends = begins + v / down
        here = (times > ends + 0.02) & (times < 18)
        np.testing.assert_allclose(at[here, 0], 118, atol=0.01)
        off = (times > 18) & (times < 18 + 0.9 * v / up)
        np.testing.assert_allclose(at[off, 0], 118 + up / 2 * (times[off] - 18) ** 2, atol=0.02)
        told = recording["town/north"]
        self.assertEqual(
            list(zip(told["time"], told["data"], strict=True))[:3], [(0, "green"), (5, "amber"), (8, "red")]
        )

    def test_switched_and_waited_for(self) -> None:
        """Off its cycle for a while; a snapshot in between goes on as the trial itself does."""
        scenario = street(stops=0)
        scenario.at("2 s").switch("town/north", to="red", lasting="20 s")
        scenario.when(vd.shows("town/north", "red")).say("red")
        recording = vd.run(scenario)
        self.assertEqual(recording.outcome["events"]["red"], 2.01)  # at the next look
        told = recording["town/north"]
        self.assertEqual(list(told["data"]), ["green", "red", "green", "amber"])
        self.assertEqual(list(told["time"]), [0.0, 2.0, 22.0, 23.0])

    def test_switched_over_each_other(self) -> None:
        """From then on, and for a while within it, and within that: each in its turn, and then the cycle again."""
        scenario = street(stops=0)
        for time, words in (
            (1, {"to": "red"}),
            (2, {"to": "amber", "lasting": 6}),
            (4, {"to": "green", "lasting": 2}),
            (10, {"to": "green"}),
            (12, {}),
        ):
            scenario.at(time).switch("town/north", **words)
        told = vd.run(scenario)["town/north"]
        found = [(float(t), c[0]) for t, c in zip(told["time"], told["data"], strict=True)]
        expected = [
            (0, "g"),
            (1, "r"),
            (2, "a"),
            (4, "g"),
            (6, "a"),
            (8, "r"),
            (10, "g"),
            (12, "r"),
            (18, "g"),
            (23, "a"),
        ]
        self.assertEqual(found, [(float(t), c) for t, c in expected])
        with self.assertRaisesRegex(vd.VeldrainError, "a cycle for a while"):
            scenario.at(1).switch("town/north", lasting=3)

    def test_states_in_between(self) -> None:
        trial = vd.Trial(street(stops=0))
        trial.advance("12 s")
        kept = trial.snapshot()
        ends = []
        for _ in range(2):
            trial.run()
            ends.append(trial.simulation["stops"].pose().position[0])
            trial.restore(kept)
        self.assertEqual(ends[0], ends[1])
        self.assertGreater(ends[0], 118)

    def test_shown_colours_against_the_cycle(self) -> None:
        light = vd.Roads().road("a", [(0, 0), (50, 0)]).light("l", "a", at=9, cycle=CYCLE, begin="4 s").lights["l"]
        for time, colour in ((0, "green"), (0.999, "green"), (1, "amber"), (4, "red"), (13.99, "red"), (14, "green")):
            self.assertEqual((light.shows(time), light.shows(time + 18 * 1000)), (colour, colour), time)
        self.assertEqual([round(light.changes(t), 9) for t in (0, 1, 5, 14)], [1, 4, 14, 19])


class GivesWay(unittest.TestCase):
    def test_who_has_the_right_of_way_goes_first(self) -> None:
        """Over all gaps nobody is touched; who comes late or has passed is not waited for, who comes in time is."""
        waited = {}
        for gap in (20.0, 40.0, 55.0, 70.0, 85.0, 110.0, 180.0):
            recording = vd.run(crossing(gap), warn=False)
            with self.subTest(gap=gap):
                self.assertTrue(recording.outcome["passed"], recording.outcome["reason"])
                times, at = way(recording, "major")
                np.testing.assert_allclose(at[:, 0], -gap + 12 * times, atol=0.05)  # it goes as if alone
                self.assertGreater(way(recording, "minor")[1][-1, 1], 20)
                waited[gap] = float(times[way(recording, "minor")[1][:, 1] > 0][0]) > 6.2
        self.assertEqual(waited, {g: 50 < g < 100 for g in waited})

    def test_on_foot_too(self) -> None:
        """A car waits before a crossing while somebody walks over it, and goes on behind."""
        scenario = crossing(180)
        walk = vd.Route([(-6, 3), (6, 3)], speed=1.5)
        scenario.world.actor("walker", vd.Cylinder(0.25, 1.7), route=walk, begin="2 s", upright=True)
        recording = vd.run(scenario.expect("nobody", never=vd.touching("minor", "walker")), warn=False)
        self.assertTrue(recording.outcome["passed"])
        _, walker = way(recording, "walker")
        car = way(recording, "minor")[1]
        self.assertTrue((car[walker[:, 0] < 0, 1] < 0).all())
        self.assertGreater(car[-1, 1], 20)


class Speeds(unittest.TestCase):
    def test_limits_are_kept_in_both_directions(self) -> None:
        """50 km/h, 30 km/h from 100 to 160 m: it is down to that at its sign, and speeds up behind the end of it."""
        roads = vd.Roads("town").road("main", [(0, 0), (300, 0)])
        road = roads.roads["main"]
        road.types = ((0.0, "town", 50 / 3.6), (100.0, "town", 30 / 3.6), (160.0, "town", 50 / 3.6))
        for lane, sign, low, high in ((-1, 1, 100, 160), (1, -1, 160, 100)):
            route = roads.lane("main", lane=lane).route(speed="60 km/h", limited=True, at_the_end="go on")
            world = vd.World().ground(height=-0.2).roads(roads).actor("car", CAR, route=route, start_speed=5)
            recording = vd.run(vd.Scenario(world, "24 s"))
            times, at = way(recording, "car")
            x, v = at[1:, 0], sign * np.diff(at[:, 0]) / np.diff(times)
            with self.subTest(lane=lane):
                self.assertAlmostEqual(v[0], 5, delta=0.1)
                inside = (sign * x > sign * low + 1) & (sign * x < sign * high - 1)
                np.testing.assert_allclose(v[inside], 30 / 3.6, atol=0.02)
                self.assertLess(v.max(), 50 / 3.6 + 0.02)
                near = v[np.abs(x - (low - sign * 6)).argmin()]
                self.assertAlmostEqual(near, math.sqrt((30 / 3.6) ** 2 + 2 * 2.5 * 6), delta=0.15)
        with self.assertRaisesRegex(vd.VeldrainError, "begins later, and with a speed"):
            world.actor("other", CAR, route=route, start_speed=5, begin=2)


class Told(unittest.TestCase):
    def test_files_say_the_same(self) -> None:
        scenario = street(first=80, stops=0)
        scenario.world.networks["town"].give_way("line", "main", at=200)
        scenario.at("3 s").switch("town/north", to="amber")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.scenario.yaml"
            vd.save_scenario(scenario, path)
            again = vd.load_scenario(path)
            told = str(vd.overview(again))
            self.assertRegex(told, r"town/north +traffic light at 120 m of road main: green 5 s, amber 3 s, red 10 s")
            self.assertRegex(told, r"town/line +gives way at 200 m of road main")
            self.assertEqual(again.world.networks["town"].lights, scenario.world.networks["town"].lights)
            self.assertEqual(again.world.networks["town"].give_ways, scenario.world.networks["town"].give_ways)
            one, other = (vd.run(s) for s in (scenario, again))
            np.testing.assert_array_equal(way(one, "stops")[1], way(other, "stops")[1])

    def test_exchanged(self) -> None:
        """Out and in again they do the same; what has no words is listed. Of other files the lamps' states are read."""
        scenario = street(first=80, stops=10)
        roads = scenario.world.networks["town"]
        roads.light("back", "main", at=40, cycle=[("red", 5), ("green", 7)], begin=2, lane=1)
        roads.give_way("line", "main", at=200)
        scenario.at("3 s").switch("town/back", to="red")
        scenario.when(vd.shows("town/north", "red")).go("first", speed=3)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "l.xosc"
            left = vd.save_open_scenario(scenario, path)
            self.assertIn("line line, at which one gives way", left)
            self.assertEqual(len(vd.save_roads(roads, Path(folder) / "town.only.xodr")), 3)
            again = vd.load_open_scenario(path)
            self.assertEqual(again.notes, [])
            one, other = (vd.run(s) for s in (scenario, again))
            for name in ("first", "stops"):  # up to where one goes on beyond its route, for which there is no word
                np.testing.assert_allclose(way(one, name)[1][:160], way(other, name)[1][:160], atol=1e-6)
            for stream in ("town/north", "town/back"):
                self.assertEqual(one[stream].to_numpy().tolist(), other[stream].to_numpy().tolist())
            text = path.read_text().replace('name="north" delay="0.0"', 'name="north" delay="4" reference="back"')
            for old, new in (("green", "off;off;on"), ("amber", "yellow"), ("red", "Red flashing")):
                text = text.replace(f'trafficSignalId="north" state="{old}"', f'trafficSignalId="north" state="{new}"')
            path.write_text(text.replace('trafficSignalId="back"', 'trafficSignalId="gone"'))
            other_one = vd.load_open_scenario(path)
            light = other_one.world.networks["town"].lights["north"]
            self.assertEqual([light.shows(t) for t in (0, 4.01, 9.01, 12.01)], ["red", "green", "amber", "red"])
            self.assertRegex(" ".join(other_one.notes), "'gone', which the roads have not")

    def test_refused(self) -> None:
        roads = vd.Roads("town").road("main", [(0, 0), (300, 0)]).light("north", "main", at=120, cycle=CYCLE)
        for words, told in (
            ({"name": "north"}, "a second line 'north'"),
            ({"name": "../../etc"}, "is not a name"),
            ({"name": "a\nb"}, "is not a name"),
            ({"road": "mian"}, "did you mean 'main'"),
            ({"at": "400 m"}, "400 m along a lane"),
            ({"lane": -3}, "no lane '-3'"),
            ({"cycle": [("gren", 3)]}, "did you mean 'green'"),
            ({"cycle": [("green", 0)]}, "a phase without length"),
            ({"cycle": [("green", math.inf)]}, "a phase without length"),
            ({"cycle": []}, "is no cycle"),
            ({"cycle": [("red", 1)] * 17}, "give 1 to 16 rows"),
            ({"begin": math.nan}, "not a number"),
        ):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, told):
                roads.light(**{"name": "other", "road": "main", "at": 10, "cycle": CYCLE} | words)
        for light, colour, told in (("town/nort", "red", "mean 'town/north'"), ("town/north", "rd", "mean 'red'")):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, told):
                vd.Trial(street(stops=0).expect("x", never=vd.shows(light, colour)))


if __name__ == "__main__":
    unittest.main()
