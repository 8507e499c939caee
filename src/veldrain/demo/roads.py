"""Roads of the demo setting, and what goes on them: the dike road, a long straight, a roundabout, a parking place."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from veldrain.control import AckermannDrive, FollowRoute
from veldrain.model import Air, Box, Capsule, Cylinder, Gap, Model, Part, Rolls, Sphere, Steers, Surface, Swings, World
from veldrain.model.leading import Moves
from veldrain.motion import Roads, Route
from veldrain.motion.roads.road import Repeat, Thing
from veldrain.pose import Pose
from veldrain.scenario import Scenario, clearance, distance, speed, touching
from veldrain.sensing import Camera, Imu, Radar, SpinningLidar, TrueBoxes, TruePose, TrueTraffic
from veldrain.units import Quantity, quantity

TYRE = Surface(friction=1.0)
RADIUS, TRACK, WHEELBASE = 0.33, 1.56, 2.7  # m


def service_car(others: str | tuple[str, ...] | list[str] = (), lidar: bool = False) -> Model:
    """The service car of the dike road: 1,500 kg, four driven wheels of which two steer, a radar in its front.

    Args:
        others: whom its truth sensors ``traffic`` and ``boxes`` look for, in a file as words; none: it has none.
        lidar: True gives it a spinning lidar on its roof and a camera behind the windscreen too.
    """
    others = others.split() if isinstance(others, str) else others
    m = Model("service_car")
    hull = Part(Box((4.3, 1.7, 0.6)), pose=Pose((1.35, 0, 0.35)), colour="#d9822b")
    cabin = Part(Box((2.3, 1.6, 0.6)), pose=Pose((1.1, 0, 0.95)), colour="#3b4a57", role="visual")
    m.link("body", hull, cabin, mass=1380.0, inertia=np.diag([500.0, 2100.0, 2300.0]), com=(1.35, 0, 0.25))
    wheel = Part(Cylinder(RADIUS, 0.2), pose=Pose(rpy=("90 deg", 0, 0)), colour="#222222", role="visual")
    tyre = Part(Sphere(RADIUS), role="collision")  # touches in one point, as a round tread does
    for end, x in (("front", WHEELBASE), ("rear", 0.0)):
        for side, y in (("left", TRACK / 2), ("right", -TRACK / 2)):
            on, at = "body", Pose((x, y, 0.0))
            if end == "front":
                m.link(f"{side}_hub", mass=10.0, inertia=0.3 * np.eye(3))
                m.joint(f"steer_{side}", on, f"{side}_hub", "revolute", at, limits=(-0.65, 0.65))
                m.motor(f"steer_{side}", "position", stiffness=2e4, damping=1500, limit=2000, speed="60 deg/s")
                on, at = f"{side}_hub", Pose()
            m.link(f"{end}_{side}", wheel, tyre, mass=20.0, surface=TYRE)
            m.joint(f"roll_{end}_{side}", on, f"{end}_{side}", "continuous", at, axis=(0, 1, 0))
            m.motor(f"roll_{end}_{side}", "velocity", damping=600, limit=1400)
            m.no_contact("body", f"{end}_{side}")
    m.mount("pose", TruePose("50 Hz"), on="body")
    m.mount("imu", Imu("100 Hz", gyro_noise="0.1 deg/s", accel_noise="0.05 m/s^2", bandwidth="40 Hz"), on="body")
    radar = Radar(
        period="20 Hz", max_range=120, field_of_view="60 deg", vertical_field_of_view="6 deg", range_noise=0.1
    )
    m.mount(
        "radar", radar.changed(azimuth_resolution="2 deg", cross_section=10.0), on="body", pose=Pose((3.55, 0, 0.3))
    )
    for wheel_name in (f"{end}_{side}" for end in ("front", "rear") for side in ("left", "right")):
        m.suppress("unlike-its-looks", wheel_name, because="a tyre touches as a ball does")
    m.suppress("meets-the-ground", "radar", because="its pilot takes what is low for the road")
    if lidar:
        spinning = SpinningLidar(period="10 Hz", channels=16, azimuths=900, max_range=80, noise="2 cm")
        m.mount("lidar", spinning, on="body", pose=Pose((1.1, 0, 1.55)))
        m.mount(
            "camera",
            Camera(period="5 Hz", size=(320, 200), field_of_view="80 deg"),
            on="body",
            pose=Pose((2.3, 0, 1.2)),
        )
    if others:
        m.mount("traffic", TrueTraffic(tuple(others), period="50 Hz"), on="body")
        m.mount("boxes", TrueBoxes(tuple(others), period="10 Hz"), on="body", pose=Pose((3.55, 0, 0.3)))
    return m


def drive() -> AckermannDrive:
    """The drive of the service car."""
    return AckermannDrive(
        ["steer_left", "steer_right"],
        ["roll_front_left", "roll_front_right", "roll_rear_left", "roll_rear_right"],
        radius=RADIUS,
        track=TRACK,
        wheelbase=WHEELBASE,
        steering_speed="60 deg/s",
    )


def pilot(route: Any, top: Quantity = "50 km/h", **more: Any) -> FollowRoute:
    """A pilot that follows a lane and keeps its gap by radar."""
    words: dict[str, Any] = {"radar": "radar", "pose": "pose", "acceleration": "2.5 m/s^2", "lateral_acceleration": 2.5}
    return FollowRoute(route, speed=top, lookahead="4 m", lookahead_time="0.5 s", **(words | more))


def lorry(colour: str = "#40607a") -> Model:
    """A lorry as an actor: its wheels roll by ``rolling``."""
    return _vehicle("lorry", (8.5, 2.5, 3.0), 5.2, 0.5, colour)


def van(colour: str = "#8a8f96") -> Model:
    """A van as an actor."""
    return _vehicle("van", (5.4, 2.0, 2.3), 3.4, 0.35, colour)


def passenger_car(colour: str = "#a33b3b") -> Model:
    """A car as an actor."""
    return _vehicle("car", (4.4, 1.8, 1.4), 2.7, 0.33, colour)


def _vehicle(name: str, size: tuple[float, float, float], wheelbase: float, radius: float, colour: str) -> Model:
    """A body on four wheels; its root is in the middle of its length, on the ground."""
    length, width, height = size
    m = Model(name)
    body = Part(Box((length, width, height - radius)), pose=Pose((0, 0, (height + radius) / 2)), colour=colour)
    m.link("body", body, mass=1500.0)
    wheel = Part(Cylinder(radius, 0.22), pose=Pose(rpy=("90 deg", 0, 0)), colour="#222222")
    for end, x in (("front", wheelbase / 2), ("rear", -wheelbase / 2)):
        for side, y in (("left", width / 2 - 0.12), ("right", 0.12 - width / 2)):
            m.link(f"{end}_{side}", wheel, mass=20.0)
            m.joint(f"{end}_{side}", "body", f"{end}_{side}", "continuous", Pose((x, y, radius)), axis=(0, 1, 0))
    return m


def rolling(model: Model) -> dict[str, Quantity | Moves]:
    """What the wheels of an actor do."""
    radius = next(part.shape.radius for part in model.links["rear_left"].parts if isinstance(part.shape, Cylinder))
    return {joint: Rolls(radius) for joint in model.joints}


def person(colour: str = "#c8553d") -> Model:
    """Someone who walks: its legs and arms swing by ``WALKING``."""
    m = Model("person")
    trunk = Part(Capsule(0.2, 0.5), pose=Pose((0, 0, 1.15)), colour=colour)
    m.link("body", trunk, Part(Sphere(0.12), pose=Pose((0, 0, 1.65)), colour="#e3b98f"), mass=60.0)
    for name, y, z, length in (("leg", 0.1, 0.85, 0.65), ("arm", 0.26, 1.4, 0.5)):
        for side, sign in (("left", 1.0), ("right", -1.0)):
            limb = Part(Capsule(0.07, length), pose=Pose((0, 0, -length / 2 - 0.05)), colour="#33475b")
            m.link(f"{side}_{name}", limb, mass=5.0)
            m.joint(f"{side}_{name}", "body", f"{side}_{name}", "continuous", Pose((0, sign * y, z)), axis=(0, 1, 0))
    return m


WALKING: dict[str, Quantity | Moves] = {
    f"{side}_{limb}": Swings(
        "25 deg", stride="1.4 m", phase="0 deg" if (side == "left") == (limb == "leg") else "180 deg"
    )
    for side in ("left", "right")
    for limb in ("leg", "arm")
}


def cyclist() -> Model:
    """Someone on a bicycle; the front wheel steers."""
    m = Model("cyclist")
    rider = Part(Capsule(0.2, 0.6), pose=Pose((0, 0, 1.25)), colour="#2d7d5a")
    frame = Part(Box((1.0, 0.06, 0.06)), pose=Pose((0, 0, 0.55)), colour="#555555")
    m.link("body", rider, frame, mass=80.0)
    wheel = Part(Cylinder(0.34, 0.05), pose=Pose(rpy=("90 deg", 0, 0)), colour="#222222")
    m.link("fork", mass=1.0, inertia=0.01 * np.eye(3)).joint(
        "steer", "body", "fork", "continuous", Pose((0.55, 0, 0.34))
    )
    m.link("front", wheel, mass=2.0).joint("front", "fork", "front", "continuous", axis=(0, 1, 0))
    m.link("rear", wheel, mass=2.0).joint("rear", "body", "rear", "continuous", Pose((-0.55, 0, 0.34)), axis=(0, 1, 0))
    return m


CYCLING: dict[str, Quantity | Moves] = {"steer": Steers("1.1 m"), "front": Rolls("34 cm"), "rear": Rolls("34 cm")}


def dike_road() -> Roads:
    """The dike road: two lanes with clothoids, and a crossing with the drive of the pump station."""
    roads = Roads("dike")
    roads.road(
        "west", [(-400, 0, 0), (-220, 0, 0), (-100, 40, 0.5), (-16, 40, 0.5)], radius=90, speed="60 km/h", shoulder=1
    )
    roads.road(
        "east", [(16, 40, 0.5), (120, 40, 0.5), (260, -20, 0), (400, -20, 0)], radius=90, speed="60 km/h", shoulder=1
    )
    roads.road("station", [(0, 24, 0.5), (0, -20, 0), (20, -60, 0)], radius=15, width="2.75 m", speed="30 km/h")
    roads.crossing("pump_station", ["west:end", "east:start", "station:start"])
    row = Repeat(20, 320, 16, (7.5, 7.5), (0, 0), (5, 7), (0, 0))
    roads.roads["west"].things.append(Thing("poplars", "tree", 20, 7.5, height=6, radius=0.2, repeats=(row,)))
    roads.roads["station"].things.append(Thing("pump_station", "building", 60, 14, length=14, width=9, height=6))
    return roads


def long_straight(length: float = 1000.0) -> Roads:
    """A straight with two lanes in each direction."""
    roads = Roads("straight").road(
        "straight", [(0, 0), (length, 0)], lanes=(2, 2), width=3.5, speed="100 km/h", shoulder=2
    )
    posts = Repeat(0, length, 50, (-10.0, -10.0), (0, 0), (1, 1), (0, 0))
    roads.roads["straight"].things.append(Thing("posts", "pole", 0, -10.0, height=1, radius=0.06, repeats=(posts,)))
    return roads


def roundabout(radius: float = 20.0) -> Roads:
    """A roundabout of one lane with four arms; one drives around to the left."""
    roads = Roads("roundabout")
    room = 9.0 / radius  # rad that an arm takes
    for k, name in enumerate(("east", "north", "west", "south")):
        a = k * math.pi / 2
        way = np.array([math.cos(a), math.sin(a)])
        roads.road(name, [tuple(way * (radius + 14)), tuple(way * (radius + 120))], speed="50 km/h")
        arc = np.linspace(a + room, a + math.pi / 2 - room, 9)
        points = [(radius * math.cos(t), radius * math.sin(t)) for t in arc]
        roads.road(f"ring{k + 1}", points, lanes=(0, 1), width=4.5, speed="30 km/h")
    for k, name in enumerate(("east", "north", "west", "south")):
        roads.crossing(f"at_{name}", [f"ring{(k + 3) % 4 + 1}:end", f"ring{k + 1}:start", f"{name}:start"])
    return roads


def parking_place() -> World:
    """A parking place beside a road: two rows of bays, most of them taken."""
    roads = Roads("lot").road("lane", [(-30, 0), (30, 0)], lanes=(1, 1), width=3.0, speed="10 km/h")
    world = flat(roads)
    paint = Surface()
    for row, y in (("north", 5.6), ("south", -5.6)):
        for k in range(21):
            line = Part(Box((0.1, 5.0, 0.004)), role="visual", colour="#f2f2ee")
            world.obstacle(f"bays/{row}{k + 1}", line, pose=Pose((-25 + 2.5 * k, y, 0.002 - 0.15)), surface=paint)
        for k in range(20):
            if (k * 7 + len(row)) % 5:
                body = Part(Box((1.8, 4.3, 1.4)), colour=("#7a8794", "#9b5d4a", "#54705c")[k % 3])
                world.obstacle(f"parked/{row}{k + 1}", body, pose=Pose((-23.75 + 2.5 * k, y, 0.55)))
    return world.suppress("cannot-be-touched", "bays", because="it is paint")


def flat(roads: Roads) -> World:
    """A world of roads over meadows."""
    from veldrain.model import Look

    world = World().ground(Surface(friction=0.7), height=-0.15, look=Look("#7d9263"))
    return world.roads(roads)


class _Drive:
    """The service car on its way: its rear axle so far along a lane, already at speed, with its pilot."""

    def __init__(self, route: Route, start: float, top: float, others: list[str]) -> None:
        at = route.pose(start)
        self.pose, self.others, self.top = at @ Pose((0, 0, RADIUS)), others, top
        self.controllers = {"car": {"drive": drive(), "pilot": pilot(route, top)}}
        self.ahead = start + WHEELBASE + 0.8  # where its front is

    def scenario(self, world: World, duration: Quantity, meets: str) -> Scenario:
        """The course of events in a world that has the others: it ends where the car touches one of them."""
        velocity = self.pose.rotation.apply((self.top, 0, 0)).tolist()
        world.place(service_car(self.others), "car", pose=self.pose, velocity=velocity)
        made = Scenario(world, duration, controllers=self.controllers, truth=["car"])
        made.when(touching("car", meets)).finish(f"hit the {meets}")
        return made.expect(f"clear of the {meets}", never=touching("car", meets))


def lorry_brakes(gap: Quantity = "30 m", top: Quantity = "50 km/h", deceleration: Quantity = "6 m/s^2") -> Scenario:
    """A lorry ahead on the straight brakes hard; the service car keeps its gap by radar."""
    roads, v = long_straight(600.0), quantity(top, "speed")
    route = roads.lane("straight", lane=-1).route(speed=v)
    car = _Drive(route, 20.0, v, ["lorry"])
    model, start = lorry(), car.ahead + 4.25 + quantity(gap, "length")
    world = flat(roads).actor("lorry", model, route=route, start=start, joints=rolling(model))
    return car.scenario(world, "14 s", "lorry").at("3 s", name="brake").stop("lorry", deceleration=deceleration)


def cut_in(gap: Quantity = "10 m", top: Quantity = "70 km/h", slower: Quantity = "15 km/h") -> Scenario:
    """A slower car changes into the lane of the service car, so close ahead of it."""
    roads, v = long_straight(800.0), quantity(top, "speed")
    car = _Drive(roads.lane("straight", lane=-2).route(speed=v), 20.0, v, ["other"])
    less, model = quantity(slower, "speed"), passenger_car()
    start = car.ahead + 2.2 + quantity(gap, "length") + less * 4.0
    route = roads.lane("straight", lane=-1).route(speed=v - less)
    world = flat(roads).actor("other", model, route=route, start=start, joints=rolling(model))
    return car.scenario(world, "14 s", "other").at("3 s", name="cut_in").shift("other", "-3.5 m", within="2.5 s")


def cyclist_behind_van(gap: Quantity = "25 m", top: Quantity = "40 km/h") -> Scenario:
    """A cyclist comes out from behind a parked van and crosses the lane when the car is so near."""
    roads, v, x = long_straight(300.0), quantity(top, "speed"), 90.0
    car = _Drive(roads.lane("straight", lane=-2).route(speed=v), 20.0, v, ["cyclist"])
    world = flat(roads)
    world.obstacle("van", Part(Box((5.4, 2.0, 2.3)), colour="#8a8f96"), pose=Pose((x - 4.5, -8.4, 1.0)))
    route = Route([(x, -11.0), (x, 14.0)], speed="4.5 m/s", acceleration="3 m/s^2")
    world.actor("cyclist", cyclist(), route=route, joints=CYCLING, begin="60 s", upright=True)
    made = car.scenario(world, "14 s", "cyclist")
    near = distance("car", "cyclist") < quantity(gap, "length")
    return made.when(near, name="sets_off").go("cyclist", acceleration="3 m/s^2")


def pedestrian_in_rain(gap: Quantity = "30 m", top: Quantity = "40 km/h", rain: Quantity = "12 mm/h") -> Scenario:
    """Somebody crosses the dike road when the car is so near, in rain and haze."""
    roads, v = dike_road(), quantity(top, "speed")
    car = _Drive(roads.lane("west", lane=-1).route(speed=v, via=["east"]), 300.0, v, ["walker"])
    world = flat(roads).weather(Air(rain=rain, visibility="400 m"))
    walk = Route([(-20.0, 35.5), (-20.0, 47.5)], speed="1.5 m/s")
    world.actor("walker", person(), route=walk, joints=WALKING, begin="60 s", upright=True)
    made = car.scenario(world, "14 s", "walker")
    near = distance("car", "walker") < quantity(gap, "length")
    return made.when(near, name="sets_off").go("walker", acceleration="2 m/s^2")


def stalled_crawler(fails: Quantity = "4 s", gain: float = 2.0, watchdog: Quantity = math.inf) -> Scenario:
    """A crawler in the culvert comes upon one that has stalled; on the way its lidar dies."""
    from veldrain import demo
    from veldrain.control import CentreLine

    world = demo.world("culvert")
    world.obstacle("stalled", Part(Box((0.7, 0.4, 0.5)), colour="#b0542f"), pose=Pose((7.0, 0, 0.25)))
    pilot = CentreLine(gain=gain, standstill="90 cm", watchdog=watchdog)
    scenario = Scenario(world, "30 s", controllers={"crawler": pilot})
    scenario.at(fails, name="lidar_dies").fail("crawler/scan", "dead").at(fails).say("the lidar is dead")
    scenario.when(touching("crawler", "stalled")).finish("rammed the stalled one")
    scenario.expect("does not ram it", never=touching("crawler", "stalled"))
    return scenario.expect("slow near it", never=(clearance("crawler", "stalled") < 0.3) & (speed("crawler") > 0.5))


def traffic(count: int = 12, length: float = 1000.0, top: Quantity = "80 km/h") -> Scenario:
    """The service car behind cars that follow each other on the straight, the first of them slower."""
    roads, v = long_straight(length), quantity(top, "speed")
    lane, names = roads.lane("straight", lane=-1), [f"car{k + 1}" for k in range(count)]
    car = _Drive(lane.route(speed=v), 20.0, v, names)
    world = flat(roads)
    for k, name in enumerate(names):
        model = passenger_car(("#a33b3b", "#3b6ea3", "#8a8f96", "#5d7d4a")[k % 4])
        keeps = Gap("1.5 s", to=names[k + 1]) if k + 1 < count else None
        way = lane.route(speed=v if keeps else 0.8 * v)
        world.actor(name, model, route=way, start=70.0 + 40.0 * k, keeps=keeps, joints=rolling(model))
    return car.scenario(world, "20 s", "car1")
