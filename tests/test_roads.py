"""Roads: OpenDRIVE against closed forms, built roads, crossings, routes, surfaces, maps, scenes, files and mistakes."""

from __future__ import annotations

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.special import fresnel

import veldrain as vd
from veldrain.motion.roads.profiles import Profile

ROAD = """<?xml version="1.0"?>
<OpenDRIVE><header revMajor="1" revMinor="7" name="test"/>
<road name="a" length="{length}" id="1" junction="-1">{link}
<planView>{plan}</planView>
<elevationProfile><elevation s="0" a="2" b="0.05" c="0.001" d="0"/></elevationProfile>
<lateralProfile><superelevation s="0" a="0.04" b="0" c="0" d="0"/></lateralProfile>
<lanes><laneOffset s="0" a="0.5" b="0" c="0" d="0"/><laneSection s="0">
<left><lane id="1" type="driving" level="false"><width sOffset="0" a="3" b="0.02" c="0" d="0"/></lane></left>
<center><lane id="0" type="none"><roadMark sOffset="0" type="solid" color="standard"/></lane></center>
<right><lane id="-1" type="driving"><width sOffset="0" a="3.5" b="0" c="0" d="0"/>
<roadMark sOffset="0" type="broken" width="0.15" color="yellow"/><speed sOffset="0" max="30" unit="km/h"/></lane>
<lane id="-2" type="sidewalk"><width sOffset="0" a="2" b="0" c="0" d="0"/><height sOffset="0" inner="0.1" outer="0.1"/>
</lane></right></laneSection></lanes>
<objects><object id="7" type="tree" s="20" t="9" zOffset="0" height="6" radius="1">
<repeat s="20" length="30" distance="10" tStart="9" tEnd="12" zOffsetStart="0" zOffsetEnd="0" heightStart="6" heightEnd="6"/>
</object><object id="8" type="building" s="30" t="-14" height="5"><outline><cornerLocal u="-4" v="-3" z="0" height="5"/>
<cornerLocal u="4" v="-3" z="0" height="5"/><cornerLocal u="4" v="3" z="0" height="5"/></outline></object></objects>
<signals><signal id="s" s="10" t="-7" zOffset="2" type="274" value="30" dynamic="no" orientation="+"/></signals>
<railroad/></road></OpenDRIVE>"""
LINE = '<geometry s="0" x="1" y="2" hdg="0.3" length="{0}">{1}</geometry>'


def loaded(plan: str, length: float = 60.0, link: str = "", change: tuple[str, str] = ("", "")) -> vd.Roads:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "test.xodr"
        path.write_text(ROAD.format(plan=plan, length=length, link=link).replace(*change))
        return vd.load_roads(path)


def crossing() -> vd.Roads:
    r = vd.Roads("net").road("west", [(-160, 0, 0), (-80, 20, 1), (-15, 0, 0)], radius=30, sidewalk=2)
    r.road("east", [(15, 0), (150, 0)], speed="30 km/h").road("south", [(0, -15), (0, -90)])
    return r.crossing("x", ["west:end", "east:start", "south:start"])


class OpenDrive(unittest.TestCase):
    def test_plan_views_end_where_closed_forms_say(self) -> None:
        c, s = math.cos(0.3), math.sin(0.3)
        scale = math.sqrt(math.pi * 60 / 0.05)
        sine, cosine = (float(v) * scale for v in fresnel(60 / scale))
        for kind, u, v in (
            ("<line/>", 60.0, 0.0),
            ('<arc curvature="0.02"/>', math.sin(1.2) / 0.02, (1 - math.cos(1.2)) / 0.02),
            ('<spiral curvStart="0" curvEnd="0.05"/>', cosine, sine),
            ('<paramPoly3 pRange="normalized" aU="0" bU="60" cU="0" dU="0" aV="0" bV="0" cV="0" dV="0"/>', 60.0, 0.0),
            ('<paramPoly3 aU="0" bU="1" cU="0" dU="0" aV="0" bV="0" cV="0" dV="0"/>', 60.0, 0.0),
        ):
            with self.subTest(kind):
                end = loaded(LINE.format(60, kind)).roads["1"].curve.at(np.array([60.0]))
                np.testing.assert_allclose([end[0][0], end[1][0]], [1 + c * u - s * v, 2 + s * u + c * v], atol=1e-9)
        parabola = loaded(LINE.format(60, '<poly3 a="0" b="0" c="0.005" d="0"/>')).roads["1"].curve
        u = float((parabola.at(np.array([60.0]))[0][0] - 1) * c + (parabola.at(np.array([60.0]))[1][0] - 2) * s)
        arc = (math.asinh(2 * 0.005 * u) + 2 * 0.005 * u * math.hypot(1, 2 * 0.005 * u)) / (4 * 0.005)
        self.assertAlmostEqual(arc, 60.0, 6)  # the length of a parabola

    def test_heights_widths_and_offsets(self) -> None:
        roads = loaded(LINE.format(60, '<arc curvature="0.02"/>'))
        lane = roads.lane("1", lane=-1)
        pose = lane.at(30.0)
        x, y = roads.roads["1"].curve.to_xy(np.array([30.0]), np.array([(0.5 - 1.75) * math.cos(0.04)]))
        np.testing.assert_allclose(pose.position[:2], [x[0], y[0]], atol=1e-12)
        self.assertAlmostEqual(pose.position[2], 2 + 0.05 * 30 + 0.001 * 900 + (0.5 - 1.75) * math.sin(0.04), 12)
        self.assertAlmostEqual(roads.lane("1", lane=1).width(30.0), 3.6, 12)
        self.assertAlmostEqual(lane.route().speed, 30 / 3.6, 12)
        back = roads.lane("1", lane=1).route(speed=5)
        self.assertLess(back.curve.jumps(), 1e-12)
        self.assertAlmostEqual(
            back.curve.length,
            math.hypot(1, 0)
            * sum(  # seen from above, what banks is narrower
                math.hypot(1 - 0.02 * t * math.cos(0.04), 0.01 * math.cos(0.04)) * 0.06
                for t in 0.5 + (3 + 0.02 * (np.arange(1000) + 0.5) * 0.06) / 2
            ),
            4,
        )
        for s in (5.0, 33.0, 59.0):
            spot = roads.at(*lane.at(s, 0.4).position[:2])
            assert spot is not None
            self.assertEqual((spot.road, spot.section, spot.lane), ("1", 0, -1))
            np.testing.assert_allclose([spot.s, spot.offset, spot.width], [s, 0.4, 3.5], atol=1e-9)
        self.assertIsNone(roads.at(500, 0))

    def test_lanes_lie_level_raised_and_banked(self) -> None:
        """A pose stands on its lane: along it and across it, where the road climbs, curves, widens and banks."""
        arc = LINE.format(60, '<arc curvature="0.02"/>')
        banked, level = loaded(arc), loaded(arc, change=('type="sidewalk"', 'type="sidewalk" level="true"'))
        plane = lambda t: 2 + 0.05 * 30 + 0.001 * 900 + t * math.sin(0.04)  # noqa: E731
        self.assertAlmostEqual(banked.lane("1", lane=-2).at(30).position[2], plane(-4.0) + 0.1 * math.cos(0.04), 12)
        self.assertAlmostEqual(level.lane("1", lane=-2).at(30).position[2], plane(-3.0) + 0.1, 12)
        route = level.lane("1", lane=-2).route(speed=1)
        self.assertAlmostEqual(float(route.pose(route.length / 2).position[2]), plane(-3.0) + 0.1, 4)
        self.assertAlmostEqual(level.lane("1", lane=-2).at(30).rpy[0], 0.0, 2)
        for roads, number in ((banked, 1), (banked, -1), (level, -2)):
            with self.subTest(number):
                lane, t = roads.lane("1", lane=number), 0.3
                ahead, left = (
                    (lane.at(30 + a, t + b).position - lane.at(30 - a, t - b).position) / 2e-4
                    for a, b in ((1e-4 if lane.forward else -1e-4, 0.0), (0.0, 1e-4))
                )
                matrix = lane.at(30, t).matrix[:3, :3]
                along = ahead / np.linalg.norm(ahead)
                up = np.cross(ahead, left) / np.linalg.norm(np.cross(ahead, left))
                slips = 0.01 if number == 1 else 1e-7  # beside the middle of a lane that widens, it goes as the middle
                np.testing.assert_allclose(matrix[:, 0], along, atol=slips)
                np.testing.assert_allclose(matrix[:, 2], up, atol=slips)
        island = (
            '<object id="i" type="barrier" s="30" t="5"><outlines><outline>{}</outline></outlines></object></objects>'
        )
        corners = [(25, 5), (35, 5), (35, 7), (25, 7)]
        written = "".join(f'<cornerRoad s="{s}" t="{t}" dz="0" height="0.5"/>' for s, t in corners)
        built = loaded(arc, change=("</objects>", island.format(written)))
        (made,) = ((part, pose) for name, part, pose, _ in built.laid() if "/i/" in name)
        s, t = np.array(corners, float).T
        shape = made[0].shape
        assert isinstance(shape, vd.Mesh)
        np.testing.assert_allclose(made[1].apply(np.array(shape.corners))[:4], built.roads["1"].points(s, t), atol=1e-9)

    def test_reads_back_equal_and_tells_what_is_not_used(self) -> None:
        roads = loaded(LINE.format(60, '<spiral curvStart="0" curvEnd="0.05"/>'))
        self.assertRegex(" ".join(roads.notes), r"test.xodr:\d+: <railroad> in <road> is not used")
        with tempfile.TemporaryDirectory() as folder:
            for made in (roads, crossing()):
                vd.save_roads(made, Path(folder) / "b.xodr")
                again = vd.load_roads(Path(folder) / "b.xodr")
                self.assertEqual((again.roads, again.junctions, again.notes), (made.roads, made.junctions, []))

    def test_what_is_wrong_is_told_with_its_line(self) -> None:
        good = LINE.format(60, "<line/>")
        cases = {
            "no number": (good.replace('x="1"', 'x="one"'), 60, ""),
            "has no hdg=": (good.replace('hdg="0.3"', ""), 60, ""),
            "0 shapes of a geometry": (good.replace("<line/>", "<curve/>"), 60, ""),
            "no planView": ("", 60, ""),
            "length=-3": (good, -3, ""),
            "length=1e\\+09": (good.replace('length="60"', 'length="1e9"'), 60, ""),
            "s=1e\\+09": (good.replace('s="0"', 's="1e9"'), 60, ""),
            "curvature 99 over": (good.replace("<line/>", '<arc curvature="99"/>').replace('"60"', '"600"'), 600, ""),
            "no elementType 'rod'": (good, 60, '<link><successor elementType="rod" elementId="2"/></link>'),
        }
        for said, (plan, length, link) in cases.items():
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, rf"xodr:\d+: .*{said}"):
                loaded(plan, length, link)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.xodr"
            for text, said in (
                ('<!DOCTYPE a [<!ENTITY b "c">]><OpenDRIVE/>', "DOCTYPE"),
                ("<OpenDRIVE>", "broken XML"),
                ("<robot/>", "is a file of <robot>"),
            ):
                path.write_text(text)
                with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                    vd.load_roads(path)

    def test_gaps_kinks_and_links_to_nothing_are_found(self) -> None:
        two = LINE.format(30, "<line/>") + '<geometry s="30" x="31" y="11.2" hdg="0.5" length="30"><line/></geometry>'
        link = '<link><successor elementType="road" elementId="9" contactPoint="start"/></link>'
        told = " ".join(problem for _, problem, _ in loaded(two, 55, link).problems())
        for said in ("gap of", "55 m long, and its line is 60 m", "goes on to road '9', which is not there"):
            self.assertIn(said, told)
        self.assertEqual(list(crossing().problems()), [])
        line, ends = LINE.format(60, "<line/>"), '<width sOffset="0" a="3.5" b="0" c="0" d="0"/>'
        for change, said in (
            (("</elevationProfile>", '<elevation s="30" a="9" b="0" c="0" d="0"/></elevationProfile>'), "its height jumps by 4.6 m at 30 m"),
            (("</lateralProfile>", '<superelevation s="30" a="0.1" b="0" c="0" d="0"/></lateralProfile>'), "its bank jumps by 0.06 rad"),
            (('superelevation s="0" a="0.04"', 'superelevation s="0" a="4"'), "banks by 229°"),
            ((ends, f'{ends}<width sOffset="20" a="5" b="0" c="0" d="0"/>'), "width of its lane -1 jumps by 1.5 m at 20 m"),
            (("<laneOffset", '<laneOffset s="40" a="1" b="0" c="0" d="0"/><laneOffset'), "its lanes' offset jumps by 0.5 m"),
            (('id="s" s="10"', 'id="s" s="2500"'), "its signal 's' is at 2500 m, and it is 60 m long"),
            (('repeat s="20"', 'repeat s="50"'), "its object '7' is at 80 m"),
            (("", ""), ""),
        ):  # fmt: skip
            with self.subTest(said):
                self.assertIn(said, " ".join(problem for _, problem, _ in loaded(line, change=change).problems()))
        joined = crossing().junctions["x"].connections[0]
        for said, changed in (
            ("is from lane -4 of road", replace(joined, lanes=((-4, -1),))),
            ("is to lane 5 of road", replace(joined, lanes=((joined.lanes[0][0], 5),))),
            (r"ends \d+(\.\d+)? m from where lane", replace(joined, contact="end")),
        ):
            roads = crossing()
            roads.junctions["x"].connections[0] = changed
            with self.subTest(said):
                self.assertRegex(" ".join(problem for _, problem, _ in roads.problems()), said)
        roads = crossing()
        roads.roads[joined.connecting].elevation = Profile.even(5.0)
        east = roads.roads["east"]
        lanes = dict(east.sections[0].lanes)
        lanes[-1] = replace(lanes[-1], after=-7)
        east.sections[0], east.after = replace(east.sections[0], lanes=lanes), vd.Roads.joint("south", "end")
        told = " ".join(problem for _, problem, _ in roads.problems())
        self.assertRegex(told, "lies 5 m above or below road")
        self.assertIn("lane -1 of section 0 is linked to lane -7 after it, which is not there", told)


class Built(unittest.TestCase):
    def test_a_route_goes_over_the_crossing(self) -> None:
        roads = crossing()
        for via, end in ((["east"], (150, -1.625)), (["south"], (-1.625, -90))):
            route = roads.lane("west").route(speed=8, via=via)
            self.assertLess(route.curve.jumps(), 1e-12)
            ends = np.append(route.curve.s[1:], route.curve.length)
            x, y, _, _ = route.curve.at(ends - 1e-9)
            self.assertLess(np.hypot(x[:-1] - route.curve.x[1:], y[:-1] - route.curve.y[1:]).max(), 1e-5)
            np.testing.assert_allclose([x[-1], y[-1]], end, atol=1e-6)
            self.assertLess(np.abs(route.curve.k).max(), 1 / 4.0)
        with self.assertRaisesRegex(vd.VeldrainError, "no road ahead of"):
            roads.lane("west").route(speed=8, via=["north"])
        back = vd.Roads("back").road("a", [(-50, 0), (10, 0)]).road("b", [(-10, 0), (50, 0)])
        for said, act in (
            ("no end of a road 'west:middle'", lambda: roads.crossing("y", ["west:middle", "east:end"])),
            ("west:end is joined to junction 'x' already", lambda: roads.crossing("y", ["west:end", "east:end"])),
            ("a:end is named twice", lambda: back.crossing("y", ["a:end", "a:end"])),
            ("a:end and b:start have no room between them", lambda: back.crossing("y", ["a:end", "b:start"])),
            ("width -1 m; give more than 0", lambda: back.road("c", [(0, 9), (9, 9)], width=-1)),
            ("shoulder -1 m; give 0 or more", lambda: back.road("c", [(0, 9), (9, 9)], shoulder=-1)),
            ("speed 0 m/s", lambda: back.road("c", [(0, 9), (9, 9)], speed=0)),
            ("lane -1: 61 m along a lane from 0 to 60 m", lambda: back.lane("a").at(61)),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                act()

    def test_the_shortest_route_from_a_point_to_another(self) -> None:
        """Of all ways over a block of streets, counted one by one, it takes the shortest."""
        r = vd.Roads("block")
        for name, ends in (
            ("west", [(0, 20), (0, 80)]),
            ("south", [(20, 0), (180, 0)]),
            ("north", [(20, 100), (100, 130), (180, 100)]),
            ("east", [(200, 20), (200, 80)]),
            ("in", [(-100, 100), (-20, 100)]),
            ("out", [(220, 0), (300, 0)]),
        ):
            r.road(name, ends)
        r.crossing("nw", ["in:end", "north:start", "west:end"]).crossing("ne", ["north:end", "east:end"])
        r.crossing("sw", ["west:start", "south:start"]).crossing("se", ["south:end", "east:start", "out:start"])
        start, goal = (-60.0, 98.4), (260.0, -1.6)
        lengths = []
        chains = [[r.lane("in")]]
        while chains:  # all ways that meet no lane twice
            chain = chains.pop()
            if chain[-1].road.id == "out":
                lengths.append(sum(lane.way().curve.length for lane in chain) - 40 - 40)
            been = {(lane.road.id, lane.lane.number) for lane in chain}
            chains += [
                [*chain, after] for after in chain[-1].onward() if (after.road.id, after.lane.number) not in been
            ]
        self.assertGreaterEqual(len(lengths), 2)
        route = r.route(start, goal, speed="20 km/h")
        self.assertAlmostEqual(route.length, min(lengths), delta=0.05)
        (x, y), (to_x, to_y) = (route.curve.at(np.array([s]))[:2] for s in (0.0, route.length))
        np.testing.assert_allclose((x[0], to_x[0]), (start[0], goal[0]), atol=1e-3)
        np.testing.assert_allclose((y[0], to_y[0]), (98.375, -1.625), atol=1e-3)
        self.assertAlmostEqual(r.route((-60, 98.4), (-30, 98.4)).length, 30.0, delta=1e-6)
        around = r.route((100, -1.6), (60, -1.6))  # behind it on its own lane: once around the block
        self.assertGreater(around.length, 400)
        world = vd.World().roads(r).actor("car", vd.Box((4, 1.8, 1.4)), route=route)
        with tempfile.TemporaryDirectory() as folder:
            vd.save_world(world, Path(folder) / "b.world.yaml")
            self.assertIn("goal: [260", (Path(folder) / "b.world.yaml").read_text())
            again = vd.load_world(Path(folder) / "b.world.yaml")
        self.assertEqual(again.placed["car"].course.leader, route)  # type: ignore[union-attr]
        told = world.route_on(start=["-60 m", 98.4], goal=goal, speed="20 km/h")
        self.assertEqual(told, route)
        taking = vd.Take("car", {"start": [-60, 98.4], "goal": [260, -1.6]})
        self.assertEqual(str(taking), "car takes the way to [260, -1.6]")
        for act, said in (
            (lambda: r.route((50, 50), goal), r"start: \(50, 50\) is on no lane"),
            (lambda: r.route(goal, start), "no lanes lead from road out, lane -1, to road in"),
            (lambda: r.route_on(goal=goal), "needs a road, or start and goal"),
            (lambda: r.route_on("in", goal=goal), "needs a road, or start and goal"),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                act()

    def test_worlds_have_them_and_files_say_the_same(self) -> None:
        w = vd.World().ground(height=-0.3).roads(crossing())
        w.actor("car", vd.Box((4, 1.8, 1.4)), route=w.route_on(road="west", via=["south"], speed="8 m/s"))
        self.assertLessEqual({"net/asphalt", "net/pavement", "net/marks"}, set(w.obstacles))
        sim = vd.Simulation(w)
        sim.advance(4.0)
        position = sim["car"].pose().position
        s = crossing().at(*position[:2]).s  # type: ignore[union-attr]
        road = crossing().roads["west"]
        self.assertAlmostEqual(position[2], float(road.elevation.at(s)) + 0.7, 2)
        _, names, _ = sim.cast([*position[:2], 9.0], (0, 0, -1), 20)
        self.assertEqual(names[0], "car/body")
        _, names, _ = sim.cast([-100.0, 15.0, 9.0], (0, 0, -1), 20)
        self.assertEqual(names[0], "net/asphalt")
        text = """veldrain: world/1
ground: {height: -0.3}
roads:
  net:
    roads:
      west: {points: [[-160, 0, 0], [-80, 20, 1], [-15, 0, 0]], radius: 30 m, sidewalk: 2 m}
      east: {points: [[15, 0], [150, 0]], speed: 30 km/h}
      south: {points: [[0, -15], [0, -90]]}
    crossings: {x: ["west:end", "east:start", "south:start"]}
actors:
  car: {box: [4, 1.8, 1.4], route: {road: west, via: [south], speed: 8 m/s}}
"""
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "a.world.yaml").write_text(text)
            read = vd.load_world(Path(folder) / "a.world.yaml")
            vd.save_world(read, Path(folder) / "out" / "b.world.yaml")
            again = vd.load_world(Path(folder) / "out" / "b.world.yaml")
            self.assertTrue((Path(folder) / "out" / "net.xodr").is_file())
        for other in (read, again):
            self.assertEqual(other.networks["net"].roads, w.networks["net"].roads)  # type: ignore[attr-defined]
            self.assertEqual(other.placed["car"].course.leader, w.placed["car"].course.leader)  # type: ignore[union-attr]
            moved = vd.Simulation(other)
            moved.advance(4.0)
            np.testing.assert_allclose(moved["car"].pose().position, position, atol=1e-9)
        held = vd.load_world(vd.run(vd.Scenario(w, 0.1)))
        self.assertEqual(held.networks["net"].roads, w.networks["net"].roads)  # type: ignore[attr-defined]

    def test_ways_of_a_street_map(self) -> None:
        text = """<osm version="0.6">
<node id="1" lat="52.0" lon="5.0"/><node id="2" lat="52.001" lon="5.0"/><node id="3" lat="52.002" lon="5.0005"/>
<node id="4" lat="52.001" lon="5.002"/><node id="5" lat="52.0" lon="5.004"><tag k="highway" v="stop"/></node><node id="6" lat="52.0" lon="5.006"/>
<way id="10"><nd ref="1"/><nd ref="2"/><nd ref="3"/><tag k="highway" v="tertiary"/><tag k="maxspeed" v="60"/></way>
<way id="11"><nd ref="2"/><nd ref="4"/><nd ref="99"/><tag k="highway" v="residential"/><tag k="oneway" v="yes"/>
<tag k="lanes" v="1"/><tag k="width" v="3.2"/></way>
<way id="14"><nd ref="6"/><nd ref="5"/><tag k="highway" v="residential"/><tag k="lanes" v="1"/>
<tag k="surface" v="gravel"/><tag k="source" v="made up"/></way>
<way id="13"><nd ref="4"/><nd ref="3"/><tag k="highway" v="tertiary"/><tag k="junction" v="roundabout"/>
<tag k="lanes" v="1"/><tag k="bridge" v="yes"/></way><relation id="1"><tag k="type" v="restriction"/></relation>
<way id="12"><nd ref="1"/><nd ref="4"/><tag k="highway" v="steps"/></way></osm>"""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "town.osm"
            path.write_text(text)
            roads = vd.load_roads(path)
            self.assertLessEqual({"10.1", "10.2", "11"}, set(roads.roads))
            notes = " ".join(roads.notes)
            for said in (
                "widths guessed",
                "speed limits guessed",
                "not used: 1 steps, 1 rules of who may turn where, 1 surface=, 1 highway=stop",
                "two-way roads of one lane laid as half a lane for each way (1",
                "bridges and tunnels laid on level ground, through what they cross (1",
                "traffic keeps to the right",
                "not in the extract left out (1",
            ):
                self.assertIn(said, notes)
            north = roads.roads["10.1"]
            radius = (
                6378137
                * (1 - (e2 := (2 - 1 / 298.257223563) / 298.257223563))
                / (1 - e2 * math.sin(math.radians(52.001)) ** 2) ** 1.5
            )
            whole = math.radians(0.001) * radius
            self.assertAlmostEqual(north.length, whole - min(1.5 * 3 * 2 + 3, 0.4 * whole), 1)
            self.assertEqual(set(roads.roads["11"].sections[0].lanes), {0, -1})
            self.assertEqual(set(roads.roads["13"].sections[0].lanes), {0, -1})  # nobody goes round the other way
            self.assertAlmostEqual(roads.lane("11").width(5.0), 3.2, 9)
            self.assertEqual(set(roads.roads["14"].sections[0].lanes), {1, 0, -1})
            self.assertAlmostEqual(2 * roads.lane("14").width(5.0), 2.75, 9)
            self.assertEqual(len(roads.junctions), 3)
            self.assertGreater(roads.lane("10.1").route(via=["11"]).length, whole)
            path.write_text("<osm><node id='1' lat='x' lon='3'/></osm>")
            with self.assertRaisesRegex(vd.VeldrainError, "osm:1: a node without a place"):
                vd.load_roads(path)

    def test_scenes_drawn_elsewhere(self) -> None:
        w = vd.World().obstacle("shed", vd.Part(vd.Box((2, 3, 4)), colour="#3366aa"), pose=vd.Pose((5, 0, 2)))
        w.obstacle("tank", vd.Part(vd.Cylinder(1, 2), colour="#aa3333"), pose=vd.Pose((0, 6, 1)))
        with tempfile.TemporaryDirectory() as folder:
            vd.save_world(w, Path(folder) / "yard.glb")
            other = vd.World().scene("yard", Path(folder) / "yard.glb", pose=vd.Pose((0, 0, 1)), without=["tank"])
            self.assertEqual([*other.obstacles], ["yard/shed"])
            sim = vd.Simulation(other)
            far, _, _ = sim.cast([5.0, 0.2, 9.0], (0, 0, -1), 20)
            self.assertAlmostEqual(far[0], 4.0, 5)
            self.assertEqual(other.obstacles["yard/shed"].part.seen_as.colour, "#3366aa")
            (Path(folder) / "a.world.yaml").write_text(
                "veldrain: world/1\nscenes: {yard: {file: yard.glb, collide: nothing}}\n"
            )
            read = vd.load_world(Path(folder) / "a.world.yaml")
            self.assertEqual({o.part.role for o in read.obstacles.values()}, {"visual"})
            with self.assertRaisesRegex(vd.VeldrainError, "no node 'shad'"):
                vd.World().scene("yard", Path(folder) / "yard.glb", without=["shad"])
            (Path(folder) / "bad.glb").write_bytes(b"glTF nothing")
            with self.assertRaisesRegex(vd.VeldrainError, "not a scene that can be read"):
                vd.World().scene("yard", Path(folder) / "bad.glb")


if __name__ == "__main__":
    unittest.main()
