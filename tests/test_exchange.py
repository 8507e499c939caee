"""Scenarios to and from ASAM OpenSCENARIO XML: there and back, and files as others write them."""

from __future__ import annotations

import math
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
from tests.helpers import called
from veldrain.demo import roads as demo


def time(seconds: float, rule: str = "greaterThan") -> str:
    return f'<ByValueCondition><SimulationTimeCondition value="{seconds}" rule="{rule}"/></ByValueCondition>'


def event(what: str, when: str, delay: float, action: str, k: str = "e") -> str:
    return f"""<Event name="{k}" priority="parallel"><Action name="{action}"><PrivateAction>{what}</PrivateAction></Action>
<StartTrigger><ConditionGroup><Condition name="c" delay="{delay}" conditionEdge="none">{when}</Condition></ConditionGroup>
</StartTrigger></Event>"""


def events() -> Iterator[tuple[str, str, str, float]]:
    """What is told, of what an event does and when, with a delay."""
    speed = """<LongitudinalAction><SpeedAction><SpeedActionDynamics dynamicsShape="linear" value="{}"
dynamicsDimension="{}"/><SpeedActionTarget>{}</SpeedActionTarget></SpeedAction></LongitudinalAction>"""
    four = '<AbsoluteTargetSpeed value="$slow"/>'
    go, now = speed.format("2", "rate", four), time(1)
    relative = '<RelativeTargetSpeed entityRef="b" value="{}" speedTargetValueType="{}" continuous="{}"/>'
    gap = '<LongitudinalAction><LongitudinalDistanceAction entityRef="b" {}/></LongitudinalAction>'
    place = '<Position><LanePosition roadId="straight" laneId="-1" s="{}"/></Position>'
    waypoints = "".join(f"<Waypoint>{place.format(s)}</Waypoint>" for s in (30, 250))
    lane = """<LateralAction><LaneChangeAction {}><LaneChangeActionDynamics dynamicsShape="sinusoidal" value="{}"
dynamicsDimension="{}"/><LaneChangeTarget>{}</LaneChangeTarget></LaneChangeAction></LateralAction>"""
    vertex = '<Vertex time="{}"><Position><WorldPosition x="{}" y="-1.75"/></Position></Vertex>'
    line = "".join(vertex.format(*row) for row in ((0, 90), (2, 110), (4, 150)))
    trajectory = f"""<RoutingAction><FollowTrajectoryAction><TrajectoryRef><Trajectory name="t" closed="false"><Shape>
<Polyline>{line}</Polyline></Shape></Trajectory></TrajectoryRef><TimeReference><Timing scale="1"/></TimeReference>
</FollowTrajectoryAction></RoutingAction>"""
    for said, what in (
        ("goes at 4 m/s", go),
        ("in time counts from the 0 m/s that was told", speed.format(3, "time", four)),
        ("at once: it is as fast as", speed.format(0, "time", four)),
        ("goes at 5 m/s", speed.format(3, "rate", relative.format(5, "delta", "false"))),
        ("a stops", speed.format(3, "rate", relative.format(2, "factor", "false"))),
        ("'without end' is not used", speed.format(3, "rate", relative.format(5, "delta", "true"))),
        ("keeps 1.5 s to b", gap.format('timeGap="1.5"')),
        ("keeps 20 m to b", gap.format('distance="20"')),
        ("'ahead' is not used", gap.format('distance="20" displacement="leadingReferencedEntity"')),
        (
            "takes a route of 400 m",
            f"<RoutingAction><AssignRouteAction><Route>{waypoints}</Route></AssignRouteAction></RoutingAction>",
        ),
        (
            "takes a route of 400 m",
            f"<RoutingAction><AcquirePositionAction>{place.format(90)}</AcquirePositionAction></RoutingAction>",
        ),
        (
            "to 3.5 m right of its route within 4 s",
            lane.format("", 4, "time", '<RelativeTargetLane entityRef="b" value="-1"/>'),
        ),
        (
            "to 3.8 m left of its route within 1.75 s",
            lane.format('targetLaneOffset="0.3"', 2, "rate", '<AbsoluteTargetLane value="1"/>'),
        ),
        ("no lane '-9'", lane.format("", 4, "time", '<AbsoluteTargetLane value="-9"/>')),
        (r"takes a route of 60 m.*\n.*a goes", trajectory),
        ("read as speeds at the points", trajectory),
    ):
        yield said, what, now, 0.5 if what is go else 0
    entity = """<ByEntityCondition><TriggeringEntities triggeringEntitiesRule="all">{}</TriggeringEntities>
<EntityCondition>{}</EntityCondition></ByEntityCondition>"""
    one, both = '<EntityRef entityRef="a"/>', '<EntityRef entityRef="a"/><EntityRef entityRef="b"/>'
    distance = '<RelativeDistanceCondition entityRef="b" freespace="true" {} value="9" rule="lessThan"/>'
    fast = '<SpeedCondition value="9" rule="{}"/>'
    headway = '<TimeHeadwayCondition entityRef="{}" value="2" rule="lessThan" freespace="true"/>'
    state = """<ByValueCondition><StoryboardElementStateCondition storyboardElementType="{}" storyboardElementRef="{}"
state="{}"/></ByValueCondition>"""
    parameter = (
        '<ByValueCondition><ParameterCondition parameterRef="slow" value="{}" rule="lessThan"/></ByValueCondition>'
    )
    for said, when, delay in (
        (r"Clearance.*below=True, bound=9.0", entity.format(one, distance.format("")), 0),
        (
            r"TimeGap\(a='a', b='b', beside=True, origins=False\), below=True",
            entity.format(one, headway.format("b")),
            0,
        ),
        (
            r"Inside\(a='a', region=\[\[95.0",
            entity.format(one, f'<ReachPositionCondition tolerance="5">{place.format(90)}</ReachPositionCondition>'),
            0,
        ),
        (
            r"Not\(one=Inside\(a='a', region=\[\[97.0",
            entity.format(
                one, f'<DistanceCondition value="7" rule="greaterThan">{place.format(90)}</DistanceCondition>'
            ),
            0,
        ),
        (r"Joined\(one=Compared.*a='a'.*a='b'.*both=True", entity.format(both, fast.format("greaterThan")), 0),
        ("no entity 'z'", entity.format(one, headway.format("z")), 0),
        (
            "<RelativeDistanceCondition> is not read as it stands",
            entity.format(one, distance.format('relativeDistanceType="longitudinal"')),
            0,
        ),
        ("<SpeedCondition> is not read as it stands", entity.format(one, fast.format("equalTo")), 0),
        (
            r"note: c holds Compared.*bound=9.0(.*\n)+.*After\(event='c holds', delay=2.0",
            entity.format(one, fast.format("greaterThan")),
            2,
        ),
        (r"Not\(one=Compared\(measure=Elapsed", time(1, "lessThan"), 0),
        (r"goes at 4 m/s 0.0", parameter.format(5), 0),
        ("<ParameterCondition> .*never holds(.*\\n)*.*<Event> 'e' is not used", parameter.format(3), 0),
        (r"After\(event='e', delay=2.0", state.format("act", "t", "completeState"), 0),
        (r"10: <StoryboardElementStateCondition> is not read", state.format("event", "e", "standbyState"), 0),
        ("<StoryboardElementStateCondition> is not read", state.format("event", "first", "startTransition"), 0),
        (r"After\(event='e', delay=2", state.format("event", "e", "startTransition"), 2),
        (
            r"Held\(one=Compared\(measure=Speed.*bound=0.01.*time=2",
            entity.format(one, '<StandStillCondition duration="2"/>'),
            0,
        ),
    ):
        yield said, go, when, delay


def loaded(folder: Path, story: str, road: str = "straight", place: str = "") -> vd.Scenario:
    """Two cars on a road and one without a box; ``place`` is where b begins."""
    thing = """<ScenarioObject name="{0}"><Vehicle><BoundingBox><Center z="0.7"/><Dimensions width="2" length="4"
height="1.4"/></BoundingBox></Vehicle></ScenarioObject>"""
    begin = '<Private entityRef="{0}"><PrivateAction><TeleportAction><Position>{1}</Position></TeleportAction></PrivateAction></Private>'
    lane = '<LanePosition roadId="{}" laneId="-1" s="{}" offset="0.3"/>'
    begins = begin.format("a", lane.format(road, 40)) + begin.format("b", place or lane.format("straight", 80))
    (
        folder / "a.xosc"
    ).write_text(f"""<OpenSCENARIO><!-- by hand --><ParameterDeclarations><ParameterDeclaration name="slow"
parameterType="double" value="4"/></ParameterDeclarations><RoadNetwork><LogicFile filepath="straight.xodr"/>
</RoadNetwork><Entities>{thing.format("a") + thing.format("b")}<ScenarioObject name="c"><CatalogReference/></ScenarioObject>
</Entities><Storyboard><Init><Actions>{begins}</Actions></Init><Story name="s"><Act name="t"><ManeuverGroup name="g"><Actors>
<EntityRef entityRef="a"/></Actors><Maneuver name="m">{story}</Maneuver></ManeuverGroup></Act></Story><StopTrigger/>
</Storyboard></OpenSCENARIO>""")
    return vd.load_open_scenario(folder / "a.xosc")


CAR = vd.Box((4, 1.8, 1.4))


def scene(**words: Any) -> vd.Scenario:
    """A car on its way, and another as words say."""
    w = vd.World().ground()
    w.actor("lead", CAR, route=vd.Route([(0, 0), (200, 0)], speed=10), start=40)
    if words:
        w.actor("it", words.pop("shape", CAR), **({"route": vd.Route([(0, 4), (200, 4)], speed=10)} | words))
    return vd.Scenario(w, 5)


class Exchange(unittest.TestCase):
    def test_there_and_back(self) -> None:
        roads = demo.long_straight(400.0)
        w = demo.flat(roads).weather(vd.Air(rain="5 mm/h", visibility="300 m"))
        w.actor("lead", vd.Box((4, 1.8, 1.4)), route=roads.lane("straight").route(speed=12), start=60)
        keeps = vd.Gap("2 s", to="lead")
        w.actor("tail", vd.Box((4, 1.8, 1.4)), route=roads.lane("straight").route(speed=15), start=20, keeps=keeps)
        s = vd.Scenario(w, "12 s")
        s.at("2 s").stop("lead", deceleration=3).when(vd.speed("lead") < 5).shift("tail", 3.5, within="2 s")
        s.when((vd.distance("tail", "lead") < 30) & (vd.speed("tail") > 8)).weather(rain="20 mm/h")
        s.when(vd.touching("tail", "lead")).finish("touched").at("6 s").go("lead", speed=8, acceleration=2)
        s.at("1 s").say("now").at("1 s").push("tail", (1, 0, 0))
        s.at("8 s", name="turn").weather(visibility="200 m").after("turn", "0.5 s").shift("tail", 0.0, within="1 s")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.xosc"
            left = vd.save_open_scenario(s, path)
            back = vd.load_open_scenario(path)
            vd.save_open_scenario(back, Path(folder) / "b.xosc")
            again = vd.load_open_scenario(Path(folder) / "b.xosc")
        self.assertEqual(len([line for line in left if "push" in line or "note" in line]), 2)
        self.assertEqual(back.notes, [])
        self.assertEqual((back.world.air.rain, back.world.air.visibility), (5.0, 300.0))

        def told(scenario: vd.Scenario) -> list[str]:
            actions = [str(e.action).replace(" mm/h", "").removesuffix(" m") for e in scenario.timeline]
            return sorted(a.removesuffix(".0") for a in actions if not a.startswith(("finish", "push", "note")))

        self.assertEqual(told(back), told(s))
        self.assertEqual(told(again), told(back))
        ways = []
        for scenario in (s, back, again):
            scenario.timeline = [e for e in scenario.timeline if "push" not in str(e.action)]
            trial = vd.Trial(scenario)
            trial.run()
            ways.append([trial.simulation[name].pose().position[:2] for name in ("lead", "tail")])
        np.testing.assert_allclose(ways[1], ways[0], atol=0.02)
        np.testing.assert_allclose(ways[2], ways[1], atol=0.02)

    def test_what_it_has_no_words_for_is_listed(self) -> None:
        """Each thing beside a lead car that the format cannot say, and what is listed of it; the rest is read back."""

        class Own(vd.Leader):
            def at(self, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
                return np.zeros((len(times), 3)), np.tile((0.0, 0.0, 0.0, 1.0), (len(times), 1))

        fast, near = vd.speed("lead") > 5, vd.distance("it", "lead") < 9
        person = vd.Capsule(0.3, 1.2)
        gap = vd.Gap("2 s", to=["lead", "third"], standstill="3 m")
        third = scene(keeps=gap)
        third.world.actor("third", CAR, route=vd.Route([(0, 9), (50, 9)], speed=1))
        two = scene()
        two.world.roads(demo.long_straight(100.0)).roads(demo.dike_road())
        cases = {
            "the way of it: Own": scene(route=Own()),
            "the gap of it but for its time and lead": third,
            "sideways of the route of it": scene(route=vd.Route([(0, 4), (99, 4)], speed=3, sideways=0.3)),
            "speeds along the route of it": scene(route=vd.Route([(0, 4), (99, 4)], speed=[3, 9])),
            "passes of it": scene(passes=True),
            "upright of it": scene(shape=person, upright=True),
            "begin of it": scene(begin="2 s"),
            "roads dike: one network is all": two,
            "again and again": scene().every("1 s").go("lead", speed=3),
            "held for 2 s": scene().when(fast, after="2 s").go("lead", speed=3),
            "over of weather": scene().at(1).weather(rain="9 mm/h", over="1 s"),
            "the condition of": scene().when(vd.height("lead") > 1).go("lead", speed=3),
            "expectation 'clear'": scene(start=9).expect("clear", never=near),
            "remove it": scene(start=9).at(1).remove("it"),
        }
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.xosc"
            for said, scenario in cases.items():
                with self.subTest(said):
                    left = vd.save_open_scenario(scenario, path)
                    self.assertTrue(any(said in line for line in left), left)
                    self.assertIn("lead", vd.load_open_scenario(path).world.placed)
            conditions = {
                "one or the other": fast | vd.touching("it", "lead"),
                "speed difference": vd.speed_difference("it", "lead") > 2,
                "time to collision": vd.time_to_collision("it", "lead") < 3,
                "clearance": (vd.clearance("it", "lead") < 4) & fast,
            }
            for name, condition in conditions.items():
                with self.subTest(name):
                    asked = scene(start=9).when(condition).go("lead", speed=3)
                    self.assertEqual([x for x in vd.save_open_scenario(asked, path) if "cond" in x], [])
                    found = [e.trigger for e in vd.load_open_scenario(path).timeline]
                    parts = [condition.one, condition.other] if name == "one or the other" else [condition]  # type: ignore[attr-defined]
                    self.assertEqual(found, parts)

    def test_what_files_say_is_read_as_that_or_told(self) -> None:
        """What an event does and when, and what becomes of it: an action with its trigger, a note, or an error."""
        with tempfile.TemporaryDirectory() as folder:
            vd.save_roads(demo.long_straight(400.0), Path(folder) / "straight.xodr")
            for said, what, when, delay in events():
                name = said.split("'")[1] if said.startswith("'") else "it"
                try:
                    s = loaded(Path(folder), event(what, when, delay, name))
                except vd.VeldrainError as error:
                    told = [str(error)]
                else:
                    told = [f"{e.action} {e.trigger!r}" for e in s.timeline] + s.notes
                    self.assertIn("has no BoundingBox, and is left out", " ".join(s.notes))
                    s.timeline = [e for e in s.timeline if "first" not in str(e.trigger)]  # an event that is not there
                    x, y, _ = vd.Trial(s).simulation["a"].pose().position
                    np.testing.assert_allclose((x, y), (40, -1.75 + 0.3), atol=1e-6)
                with self.subTest(said):
                    self.assertRegex("\n".join(told), said)
            with self.assertRaisesRegex(vd.VeldrainError, r"a.xosc:\d+: <?.*no road 'bent'"):
                loaded(Path(folder), "", road="bent")

    def test_where_things_begin(self) -> None:
        """Each kind of position, of an entity b beside a, which is 40 m along and 0.3 m left of its lane's middle."""
        y = -1.75 + 0.3
        rows = {  # x, y and heading in degrees
            '<RoadPosition roadId="straight" s="70" t="2"/>': (70, 2, 0),
            '<LanePosition roadId="straight" laneId="1" s="70" offset="0.5"/>': (70, 2.25, 180),
            '<RelativeWorldPosition entityRef="a" dx="5" dy="-2"/>': (45, y - 2, 0),
            '<RelativeObjectPosition entityRef="a" dx="5" dy="1"/>': (45, y + 1, 0),
            '<RelativeLanePosition entityRef="a" dLane="0" ds="30"/>': (70, -1.75, 0),
            '<RelativeLanePosition entityRef="a" dLane="-1" dsLane="-5" offset="0.2"/>': (35, -5.05, 0),
            '<RelativeLanePosition entityRef="a" dLane="1" ds="30"/>': (70, 1.75, 180),
            '<RelativeRoadPosition entityRef="a" ds="3" dt="1"/>': (43, y + 1, 0),
            '<WorldPosition x="9" y="3" h="0.5"/>': (9, 3, math.degrees(0.5)),
            '<RoadPosition roadId="straight" s="70" t="2"><Orientation type="relative" h="1"/></RoadPosition>': (
                70,
                2,
                math.degrees(1),
            ),
        }
        errors = {
            '<RelativeObjectPosition entityRef="b" dx="5" dy="1"/>': "places lead in a circle",
            '<RelativeLanePosition entityRef="a" dLane="0" ds="900"/>': "leads beyond the roads",
            '<GeoPosition latitude="52"/>': "<GeoPosition> is a position that is not read; use one of WorldPosition",
        }
        with tempfile.TemporaryDirectory() as folder:
            vd.save_roads(demo.long_straight(400.0), Path(folder) / "straight.xodr")
            for position, (x, y, heading) in rows.items():
                with self.subTest(position):
                    pose = loaded(Path(folder), "", place=position).world.placed["b"]
                    course = pose.course
                    assert course is not None and isinstance(course.leader, vd.Route)
                    at = course.leader.pose(course.start, course.offset)
                    np.testing.assert_allclose(at.position[:2], (x, y), atol=1e-6)
                    self.assertAlmostEqual(abs(math.degrees(at.yaw)), heading, 6)
            for position, why in errors.items():
                with self.subTest(why), self.assertRaisesRegex(vd.VeldrainError, rf"a.xosc:\d+: .*{why}"):
                    loaded(Path(folder), "", place=position)

    def test_catalogues_parameters_acts_and_things(self) -> None:
        """A file as others write them: what it says happens, when it says so."""
        vehicle = """<OpenSCENARIO><FileHeader/><Catalog name="cars"><Vehicle name="small" vehicleCategory="car">
<ParameterDeclarations><ParameterDeclaration name="long" parameterType="double" value="3"/></ParameterDeclarations>
<BoundingBox><Center x="1" y="0" z="0.7"/><Dimensions width="1.6" length="$long" height="1.4"/></BoundingBox><Properties/>
</Vehicle></Catalog></OpenSCENARIO>"""
        speed = """<PrivateAction><LongitudinalAction><SpeedAction><SpeedActionDynamics dynamicsShape="linear" value="{}"
dynamicsDimension="rate"/><SpeedActionTarget><AbsoluteTargetSpeed value="{}"/></SpeedActionTarget></SpeedAction>
</LongitudinalAction></PrivateAction>"""
        walk = """<PrivateAction><RoutingAction><FollowTrajectoryAction><Trajectory name="t" closed="false"><Shape><Polyline>
<Vertex time="0"><Position><WorldPosition x="80" y="-9"/></Position></Vertex><Vertex time="6"><Position>
<WorldPosition x="80" y="0"/></Position></Vertex></Polyline></Shape></Trajectory><TimeReference><Timing scale="1"
domainAbsoluteRelative="relative" offset="0"/></TimeReference></FollowTrajectoryAction></RoutingAction></PrivateAction>"""
        over = """<ByValueCondition><StoryboardElementStateCondition storyboardElementType="{}" storyboardElementRef="{}"
state="completeState"/></ByValueCondition>"""
        text = f"""<OpenSCENARIO><FileHeader/><ParameterDeclarations><ParameterDeclaration name="v" parameterType="double"
value="10"/></ParameterDeclarations><CatalogLocations><VehicleCatalog><Directory path="catalogues"/></VehicleCatalog>
</CatalogLocations><RoadNetwork><LogicFile filepath="straight.xodr"/></RoadNetwork><Entities><ScenarioObject name="ego">
<CatalogReference catalogName="cars" entryName="small"><ParameterAssignments><ParameterAssignment parameterRef="long"
value="${{2 * 2 + 0.5}}"/></ParameterAssignments></CatalogReference></ScenarioObject><ScenarioObject name="walker">
<Pedestrian name="p" mass="80" pedestrianCategory="pedestrian"><BoundingBox><Center x="0" y="0" z="0.9"/><Dimensions
width="0.5" length="0.5" height="1.8"/></BoundingBox></Pedestrian><ObjectController><Controller name="c"/>
</ObjectController></ScenarioObject><ScenarioObject name="crate">
<MiscObject name="c" mass="9" miscObjectCategory="obstacle"><BoundingBox><Center x="0" y="0" z="0.5"/><Dimensions width="1"
length="1" height="1"/></BoundingBox></MiscObject></ScenarioObject><EntitySelection name="all"><Members><EntityRef
entityRef="ego"/></Members></EntitySelection></Entities><Storyboard><Init><Actions><GlobalAction><EnvironmentAction>
<Environment name="e"><Weather><Sun elevation="0.5" azimuth="0"/><Wind direction="1.5707963267948966" speed="3"/></Weather>
<RoadCondition frictionScaleFactor="0.5"/></Environment></EnvironmentAction></GlobalAction><Private entityRef="ego">
<PrivateAction><TeleportAction><Position><LanePosition roadId="straight" laneId="-1" s="20"/></Position></TeleportAction>
</PrivateAction>{speed.format(0, "$v")}</Private><Private entityRef="walker"><PrivateAction><TeleportAction><Position>
<WorldPosition x="80" y="-9"/></Position></TeleportAction></PrivateAction></Private><Private entityRef="crate">
<PrivateAction><TeleportAction><Position><WorldPosition x="90" y="-9" z="0.3"/></Position></TeleportAction></PrivateAction>
</Private></Actions></Init><Story name="s"><Act name="late"><ManeuverGroup name="g" maximumExecutionCount="1"><Actors
selectTriggeringEntities="false"><EntityRef entityRef="all"/></Actors><Maneuver name="m">{
            event(speed.format(5, "${$v / 2}"), time(0.0), 0, "brake", k="slow")
        }{event(speed.format(2, "$v"), over.format("event", "slow"), 0, "again", k="again")}</Maneuver></ManeuverGroup>
<StartTrigger><ConditionGroup><Condition name="c" delay="0" conditionEdge="rising">{
            time(2.0)
        }</Condition></ConditionGroup>
</StartTrigger></Act><Act name="second"><ManeuverGroup name="h"><Actors><EntityRef entityRef="walker"/></Actors><Maneuver
name="n">{
            event(walk, over.format("act", "late"), 0, "walk", k="walk")
        }</Maneuver></ManeuverGroup></Act></Story><StopTrigger>
<ConditionGroup><Condition name="end" delay="0" conditionEdge="none">{time(12.0)}</Condition></ConditionGroup>
</StopTrigger></Storyboard></OpenSCENARIO>"""
        text = text.replace("<PrivateAction><PrivateAction>", "<PrivateAction>").replace(
            "</PrivateAction></PrivateAction>", "</PrivateAction>"
        )
        with tempfile.TemporaryDirectory() as folder:
            where = Path(folder)
            vd.save_roads(demo.long_straight(400.0), where / "straight.xodr")
            (where / "catalogues").mkdir()
            (where / "catalogues" / "cars.xosc").write_text(vehicle)
            (where / "a.xosc").write_text(text)
            s = vd.load_open_scenario(where / "a.xosc")
            vd.save_open_scenario(s, where / "b.xosc")
            again = vd.load_open_scenario(where / "b.xosc")
            for wrong, why in (
                ("${$v / 0}", r"a.xosc:\d+: '\$\{\$v / 0\}' is no expression: .*zero"),
                ("$w", "no parameter 'w'; Known: v"),
                ("${open('x')}", "is no expression: only numbers"),
            ):
                (where / "a.xosc").write_text(text.replace("${$v / 2}", wrong))
                with self.subTest(wrong), self.assertRaisesRegex(vd.VeldrainError, why):
                    vd.load_open_scenario(where / "a.xosc")
            (where / "a.xosc").write_text(text)
            checked = called("check", "a.xosc", cwd=where)
            ran = called("run", "a.xosc", "--out", "a.mcap", cwd=where)
            laid = called("check", "straight.xodr", cwd=where)
        self.assertRegex(checked.stdout, r"not-used +a.xosc:\d+\n +<Timing> is read as speeds at the points")
        self.assertRegex(ran.stdout, r"a.xosc: \d+ notes on what is not used(.*\n)+.*passed at 12 s")
        self.assertIn("Nothing found", laid.stdout)
        self.assertRegex(" ".join(s.notes), r"a.xosc:\d+: <ObjectController> of 'walker' is not used")
        self.assertEqual(set(s.world.placed), {"ego", "walker"})
        np.testing.assert_allclose(s.world.obstacles["crate"].pose.position, (90, -9, 0.3))
        np.testing.assert_allclose(again.world.obstacles["crate"].pose.position, (90, -9, 0.3))
        np.testing.assert_allclose(np.diff(s.world.placed["ego"].box() or [], axis=0)[0], (4.5, 1.6, 1.4))
        np.testing.assert_allclose(s.world.air.wind, (0, 3, 0), atol=1e-9)
        np.testing.assert_allclose(again.world.air.wind, (0, 3, 0), atol=1e-9)
        self.assertAlmostEqual(s.world.sun.azimuth, math.pi / 2)
        roads = vd.Scenario(demo.flat(demo.long_straight(400.0)), 1)
        rough, usual = (
            next(k.get() or 0.0 for k in one.knobs() if k.path == "straight/asphalt.friction") for one in (s, roads)
        )
        self.assertAlmostEqual(rough, usual / 2)
        trial, found = vd.Trial(s), {}
        for k in range(1, 121):
            trial.advance("100 ms")
            found[k] = [trial.simulation[name].pose().position.copy() for name in ("ego", "walker")]
        # 10 m/s to 2 s; to 5 m/s within 1 s, then at once back within 2.5 s; the walker sets off when that is over.
        self.assertAlmostEqual(found[20][0][0], 40.0, delta=0.1)
        self.assertAlmostEqual(found[30][0][0], 47.5, delta=0.2)
        self.assertAlmostEqual(found[100][0][0], 47.5 + 2.5 * 7.5 + 45.0, delta=0.5)
        self.assertAlmostEqual(found[54][1][1], -9.0, delta=1e-3)
        self.assertAlmostEqual(found[85][1][1], -9.0 + 1.5 * 3.0, delta=0.4)

    def test_what_is_read_as_something_near_has_its_note(self) -> None:
        """Attributes put into a file that this library writes, by what they are put in the place of."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.xosc"
            s = scene(start=9).when(vd.time_gap("it", "lead", beside=True, origins=True) < 2).go("it", speed=3)
            vd.save_open_scenario(s, path)
            text = path.read_text()
            self.assertEqual(vd.load_open_scenario(path).notes, [])
            for old, new, said in (
                ('dynamicsShape="linear"', 'dynamicsShape="cubic"', 'dynamicsShape="cubic" is read as an even change'),
                ('priority="parallel"', 'priority="skip"', 'priority="skip" is not used: what is told later holds'),
                (
                    'coordinateSystem="road"',
                    'coordinateSystem="trajectory"',
                    'coordinateSystem="trajectory" is not used',
                ),
                ('maxSpeed="70.0"', 'maxSpeed="2.0"', "'it' is told 10 m/s, and its maxSpeed is 2 m/s"),
            ):
                with self.subTest(new):
                    self.assertIn(old, text)
                    path.write_text(text.replace(old, new))
                    self.assertIn(said, " ".join(vd.load_open_scenario(path).notes))

    def test_a_rising_edge_waits_until_it_has_not_held(self) -> None:
        """It is so at the start, no longer when the lead has braked, and again when it drives on."""
        with tempfile.TemporaryDirectory() as folder:
            path, fired = Path(folder) / "a.xosc", {}
            s = scene(start=9).at(0.5).go("lead", speed=1, acceleration=6).at(3).go("lead", speed=9, acceleration=6)
            vd.save_open_scenario(s.when(vd.speed("lead") > 4, name="fast").go("it", speed=2), path)
            for edge in ("none", "rising"):
                text = path.read_text().replace('conditionEdge="none"', f'conditionEdge="{edge}"')
                path.with_name(f"{edge}.xosc").write_text(text)
                recording = vd.run(vd.load_open_scenario(path.with_name(f"{edge}.xosc")), warn=False)
                events = recording["scenario/events"]
                fired[edge] = events[events["data"] == "it goes at 2 m/s"]["time"].min()
            self.assertLess(fired["none"], 0.1)
            self.assertAlmostEqual(fired["rising"], 3.5, delta=0.05)

    def test_what_is_wrong_or_not_used_is_told(self) -> None:
        text = """<OpenSCENARIO><FileHeader/><Entities><ScenarioObject name="a"><Vehicle><BoundingBox>
<Center x="0" y="0" z="0.7"/><Dimensions width="2" length="4" height="1.4"/></BoundingBox></Vehicle></ScenarioObject>
</Entities><Storyboard><Init><Actions><Private entityRef="a"><PrivateAction><TeleportAction><Position>
<WorldPosition x="{x}" y="0" h="0.5"/></Position></TeleportAction></PrivateAction><PrivateAction><LongitudinalAction>
<SpeedAction><SpeedActionTarget><AbsoluteTargetSpeed value="5"/></SpeedActionTarget></SpeedAction></LongitudinalAction>
</PrivateAction><PrivateAction><VisibilityAction/></PrivateAction></Private></Actions></Init><StopTrigger/></Storyboard>
<Odd/></OpenSCENARIO>"""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.xosc"
            path.write_text(text.format(x=3))
            s = vd.load_open_scenario(path)
            self.assertRegex(
                " ".join(s.notes), r"a.xosc:\d+: <Odd> is not used.*<PrivateAction> is not used.*says no end"
            )
            trial = vd.Trial(s)
            trial.advance("2 s")
            at = trial.simulation["a"].pose().position
            np.testing.assert_allclose(at[:2], [3 + 10 * math.cos(0.5), 10 * math.sin(0.5)], atol=1e-3)
            path.write_text(text.format(x="three"))
            with self.assertRaisesRegex(vd.VeldrainError, r"a.xosc:\d+: x='three' of <WorldPosition> is no number"):
                vd.load_open_scenario(path)
