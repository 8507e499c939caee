"""Writes a project of one's own: from a template, or around a robot file."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from veldrain.documents import load_world
from veldrain.errors import VeldrainError, unknown
from veldrain.files import write_text
from veldrain.formats import load_robot
from veldrain.model import Joint, Model, World
from veldrain.model.inertia import combined
from veldrain.model.volumes import bounds_of, seen, touched
from veldrain.recording.world_words import as_yaml
from veldrain.starting.driving import drive_of
from veldrain.starting.legs import stance_of

KINDS = ("cart", "arm", "car", "walker", "flyer")
SWING = 3.0  # Hz: natural frequency of a proposed position motor
RATIO = 0.7  # its damping ratio
WORLD = """# {title}
veldrain: world/1
ground: {{surface: {{friction: 0.8}}, look: {{colour: "#cfd6cf", checker: "#c3cbc3", tile: 1 m}}}}
obstacles:
  wall: {{box: [10 cm, 3 m, 80 cm], pose: {{xyz: [3 m, 0, 40 cm]}}, colour: "#a3a29b"}}
frames:
  goal: {{xyz: [1.5 m, 0, 0]}}
"""


@dataclass(frozen=True)
class Started:
    """What was written, and what was guessed."""

    folder: Path
    robot: str
    files: tuple[str, ...]
    guesses: tuple[str, ...]


def start(folder: Path, kind: str = "cart", robot: Path | None = None) -> Started:
    """Write a project that runs at once.

    Args:
        folder: where; made if missing, and empty.
        kind: ``cart``, ``arm``, ``car``, ``walker`` or ``flyer``.
        robot: a robot file (URDF, xacro) to build it around instead.

    Raises:
        VeldrainError: no such kind, a folder that holds something, a robot file that cannot be read.
    """
    if kind not in KINDS:
        raise unknown("kind of project", kind, KINDS, "new")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise VeldrainError(
            "is not empty", where=str(folder), cure="name a new folder: nobody's files are written over"
        )
    guesses: tuple[str, ...] = ()
    if robot is None:
        world = template_text(kind)
    else:
        world, guesses = around(robot, folder)
    write_text(folder / "yard.world.yaml", world)
    made = load_world(folder / "yard.world.yaml")
    (name,) = made.placed
    model = made.placed[name].model
    drive = drive_of(model)
    slow, fast = (0.5, 1.5) if model.rotors else SPEEDS[drive[0]] if drive else (2.0, 4.0)
    stands, height = "stand" in model.postures, float(made.placed[name].pose.position[2])
    texts = {
        "controller.py": pilot_text(drive[0], slow) if drive else controller_text(model),
        "trip.scenario.yaml": SCENARIO.format(
            robot=name,
            root=pushed(model, made.placed[name].fixed),
            truth=f"truth: [{name}]  # it flies by its true pose\n\n" if model.rotors else "",
            controller=driven_by(drive),
            upright=UPRIGHT.format(robot=name, root=model.root(), low=round(0.7 * height, 3)) if stands else "",
        ),
        "speeds.study.yaml": STUDY.format(
            robot=name, slow=driven_by(drive, slow, "  "), fast=driven_by(drive, fast, "  ")
        ),
        "test_trip.py": TEST.format(robot=name),
        "README.md": README.format(robot=name, title=folder.resolve().name),
    }
    for file, text in texts.items():
        write_text(folder / file, text)
    return Started(folder, name, ("yard.world.yaml", *texts), guesses)


def pilot_text(drive: str, speed: float) -> str:
    """A controller that tells a drive where to go."""
    return PILOT.format(drive=drive, speed=speed, **PILOTS[drive])


def driven_by(drive: tuple[str, dict[str, Any]] | None, speed: float | None = None, indent: str = "") -> str:
    """The lines that say what drives the robot: the controller, and what ships under it."""
    own = '{use: "controller.py:Controller"' + (f", with: {{speed: {speed}}}}}" if speed is not None else "}")
    if drive is None:
        return f" {own}"
    name, words = drive
    told = ", ".join(f"{k}: [{', '.join(v)}]" if isinstance(v, list) else f"{k}: {v}" for k, v in words["with"].items())
    return f"\n{indent}    {name}: {{use: {words['use']}, with: {{{told}}}}}\n{indent}    pilot: {own}"


def template_text(kind: str) -> str:
    """The text of the world of a template."""
    title, _, body = files("veldrain.starting").joinpath(f"{kind}.yaml").read_text(encoding="utf-8").partition("\n")
    return WORLD.format(title=title.removeprefix("# ")) + body


def template(kind: str) -> World:
    """The world of a template: its robot on the ground, before a wall.

    Raises:
        VeldrainError: no such kind.
    """
    if kind not in KINDS:
        raise unknown("kind of project", kind, KINDS, "template")
    with TemporaryDirectory() as folder:
        file = Path(folder) / "yard.world.yaml"
        file.write_text(template_text(kind), encoding="utf-8")
        return load_world(file)


def around(robot: Path, folder: Path) -> tuple[str, tuple[str, ...]]:
    """The text of a world around a robot file, and what was guessed about the robot."""
    model, guesses = load_robot(robot), []
    root = model.root()
    words: dict[str, Any] = {"file": Path(os.path.relpath(robot.resolve(), folder.resolve())).as_posix()}
    stance = None if model.motors else stance_of(model)
    motors = dict(proposed_motors(model)) | (stance.motors if stance else {})
    if stance:
        words["motors"] = motors
        if stance.frames:
            words["frames"] = stance.frames
        words["postures"] = {"stand": stance.joints}
        guesses.append(f"it walks on {', '.join(stance.feet)}; the posture 'stand' has its knees bent")
        guesses.append("motors that carry its weight on half of its feet, and give way by half a degree under it")
    elif motors:
        words["motors"] = motors
        guesses.append(
            f"motors on {', '.join(motors)}: {SWING:g} Hz, damping ratio {RATIO:g}, from the inertia they move"
        )
    words["sensors"] = {
        "joints": {"use": "Encoders", "on": root},
        "imu": {"use": "Imu", "on": root, "with": {"gyro_noise": "0.2 deg/s", "accel_noise": "0.03 m/s^2"}},
        "truth": {"use": "TruePose", "on": root},
    }
    guesses.append(f"encoders at all joints, an IMU and the true pose on {root}")
    wheels = [j.name for j in model.joints.values() if j.kind == "continuous"]
    poses = model.poses(stance.joints if stance else None)
    feet = {name for name, link in model.links.items() if not any(j.parent == name for j in model.joints.values())}
    fixed = stance is None and not wheels and len(feet) < 3
    guesses.append(f"{root} is {'fixed: it looks like an arm' if fixed else 'free: it looks like a vehicle or walker'}")
    shapes = [
        (s, poses[name] @ p)
        for name, link in model.links.items()
        for part in link.parts
        for s, p in (*touched(part), *seen(part))
    ]
    low = float(bounds_of(shapes)[0][2]) if shapes else 0.0
    guesses.append(f"its lowest point, {-low + 0.0:.3g} m below {root}, stands on the ground")
    guesses.append("surfaces as the file has them, else a friction of 0.8")
    place = {"model": model.name, "pose": {"xyz": [0.0, 0.0, round(-low, 6)]}} | ({"fixed": True} if fixed else {})
    if stance:
        place["posture"] = "stand"
    text = as_yaml({"models": {model.name: words}, "place": {model.name: place}})
    return WORLD.format(title=f"A yard for {model.name}.") + text, tuple(guesses)


def pushed(model: Model, is_fixed: bool) -> str:
    """A link to push: the root, or the last that moves where the root is fixed."""
    moved = [j.child for j in model.joints.values() if j.kind != "fixed"]
    return moved[-1] if is_fixed and moved else model.root()


def proposed_motors(model: Model) -> Iterator[tuple[str, dict[str, Any]]]:
    """Motors for joints that have none: wheels turn at a speed, other joints go to a position."""
    for joint in model.joints.values():
        if joint.name in model.motors or joint.kind not in ("continuous", "revolute", "prismatic") or joint.mimic:
            continue
        inertia = max(inertia_at(model, joint), 1e-6)
        limit = (
            {}
            if math.isfinite(joint.effort) and joint.effort > 0
            else {"limit": "50 N" if joint.is_linear else "20 N*m"}
        )
        pace = 2 * math.pi * SWING
        damping = float(f"{2 * RATIO * pace * inertia:.2g}")
        if joint.kind == "continuous":
            yield joint.name, {"mode": "velocity", "damping": max(damping * 5, 0.1)} | limit
        else:
            yield (
                joint.name,
                {"mode": "position", "stiffness": float(f"{pace**2 * inertia:.2g}"), "damping": damping} | limit,
            )


def inertia_at(model: Model, joint: Joint) -> float:
    """Inertia (kg·m², or kg where it slides) of all that hangs on a joint about its axis, joints at 0."""
    poses = model.poses()
    below = {joint.child}
    for _ in model.joints:
        below |= {j.child for j in model.joints.values() if j.parent in below}
    whole = combined([model.links[n].mass_properties.moved(poses[n]) for n in below])
    if joint.is_linear:
        return float(whole.mass)
    pose = poses[joint.child]
    axis, arm = pose.rotation.apply(joint.axis), whole.com - pose.position
    return float(axis @ whole.inertia @ axis + whole.mass * (arm @ arm - (arm @ axis) ** 2))


def controller_text(model: Model) -> str:
    """A controller that names the robot's real sensors and motors, and moves it a little."""
    sensors = [
        f'        #   senses["{m.name}"]  {type(m.sensor).__name__} on {m.link}, every {1e3 * m.sensor.period:g} ms'
        for m in model.sensors.values()
        if not m.sensor.truth
    ]
    motors = "\n".join(
        f'        #   motors["{name}"].{motor.mode} = …  ' + unit(model, name, motor.mode)
        for name, motor in model.motors.items()
    )
    if model.rotors:
        lines = "\n".join((*sensors, motors)).replace("        #   ", "    #   ")
        return FLYER.format(lines=lines)
    moves: dict[str, list[str]] = {"velocity": [], "position": [], "effort": []}
    for name, motor in model.motors.items():
        moves[motor.mode].append(name)
    body: list[str] = []
    if moves["velocity"]:
        body += [
            f"        for joint in {listed(moves['velocity'])}:",
            "            motors[joint].velocity = self.speed",
        ]
    if moves["position"]:
        body += [
            "        if self.home is None and senses[ENCODERS] is not None:",
            "            reading = senses[ENCODERS]",
            "            self.home = dict(zip(reading.name, reading.position, strict=True))",
            f"        for joint in {listed(moves['position'])}:",
            "            if self.home is not None:",
            "                motors[joint].position = self.home[joint] + 0.1 * math.sin(self.speed * now)",
        ]
    if moves["effort"]:
        body += [f"        for joint in {listed(moves['effort'])}:", "            motors[joint].effort = 0.0"]
    encoders = next((m.name for m in model.sensors.values() if type(m.sensor).__name__ == "Encoders"), "")
    return CONTROLLER.format(
        sensors="\n".join(sensors) or "        #   (none)",
        motors=motors,
        body="\n".join(body) or "        pass",
        encoders=encoders,
        uses_math="import math\n\n" if moves["position"] else "",
        name=f'ENCODERS = "{encoders}"\n\n\n' if moves["position"] else "\n",
    )


def listed(names: Sequence[str]) -> str:
    """Names as a row in Python."""
    return "(" + ", ".join(f'"{name}"' for name in names) + ("," if len(names) == 1 else "") + ")"


def unit(model: Model, coordinate: str, mode: str) -> str:
    """The unit of a motor's command."""
    linear = model.coordinates()[coordinate][1]
    return {"effort": "N" if linear else "N·m", "velocity": "m/s" if linear else "rad/s"}.get(
        mode, "m" if linear else "rad"
    )


CONTROLLER = '''"""The controller: change it, run it, compare it."""

{uses_math}{name}class Controller:
    """Moves the robot a little. A trial works on a copy of it."""

    def __init__(self, speed: float = 3.0, period: float = 0.02) -> None:
        self.speed, self.period = speed, period
        self.home = None

    def update(self, now, senses, motors):
        # What it is given: the newest readings that have arrived (None before the first), and motors to command.
{sensors}
{motors}
{body}
'''
PILOT = '''"""The controller: change it, run it, compare it."""

import math


class Controller:
    """{does} A trial works on a copy of it."""

    def __init__(self, speed: float = {speed}, period: float = 0.05) -> None:
        self.speed, self.period = speed, period

    def start(self, body, random, log):
        self.body = body

    def update(self, now, senses, motors):
        # What drives the motors is told where to go; trip.scenario.yaml says what that is.
        ahead = self.speed if now >= 0.5 else 0.0
        self.body.tell("{drive}", forward=ahead, {aside}=0.2 * math.sin(ahead * now))
'''
PILOTS = {
    "walk": {"does": "Walks ahead in a slight bend.", "aside": "turning"},
    "drive": {"does": "Drives ahead, and steers a little.", "aside": "steering"},
}
SPEEDS = {"walk": (0.1, 0.2), "drive": (0.3, 0.5)}  # m/s
FLYER = '''"""The controller: change it, run it, compare it."""

import veldrain as vd


def Controller(speed: float = 1.5):
    """Flies up, forward and back. A controller of your own has update(self, now, senses, motors) with:"""
{lines}
    return vd.Fly([(0, 0, 1), (1.5, 0, 1), (0, 0, 1)], pose="truth", speed=speed)
'''
SCENARIO = """# What happens, and what is expected.
veldrain: scenario/1

world: yard.world.yaml
duration: 4 s

{truth}controllers:
  {robot}:{controller}

timeline:
  - at: 2 s
    push: {{name: shove, link: {robot}/{root}, force: [0, 5 N, 0], lasting: 100 ms}}

expect:
  - name: off the wall
    never: {{touching: [{robot}, wall]}}
{upright}"""
UPRIGHT = """  - name: upright
    never: {{tilt: {robot}/{root}, above: 40 deg}}
  - name: on its legs
    never: {{height: {robot}/{root}, below: {low} m}}
"""
STUDY = """# Which speed is better? The same trials for both.
veldrain: study/1

scenario: trip.scenario.yaml
trials: 6
seed: 1

controllers:
  slow:{slow}
  fast:{fast}

vary:
  ground.friction: {{uniform: [0.5, 1.0]}}
  shove.force_y: {{uniform: [-8 N, 8 N]}}

metrics:
  - {{name: "path, x", stream: {robot}/truth, column: x, statistic: last, unit: m, better: higher}}
  - {{name: "sideways, max", stream: {robot}/truth, column: y, statistic: max abs, unit: m}}
"""
TEST = '''"""Run with: python -m unittest"""

import unittest
from pathlib import Path

import veldrain as vd

HERE = Path(__file__).parent


class Trip(unittest.TestCase):
    def test_it_runs_and_stays_off_the_wall(self):
        recording = vd.run(vd.load_scenario(HERE / "trip.scenario.yaml"), seed=1)
        self.assertTrue(recording.outcome["passed"], recording.outcome["reason"])
        self.assertGreater(len(recording["{robot}/truth"]), 100)

    def test_nothing_grave_is_found(self):
        found = vd.check(vd.load_world(HERE / "yard.world.yaml"))
        self.assertEqual([str(f) for f in found if f.severity == "error"], [])


if __name__ == "__main__":
    unittest.main()
'''
README = """# {title}

A world with {robot} in it, a scenario, a study, a controller and a test. Five commands to try:

    veldrain check trip.scenario.yaml          # what would go wrong
    veldrain look yard.world.yaml --layer joints --layer names
    veldrain run trip.scenario.yaml --out trip.mcap
    veldrain study speeds.study.yaml           # compares the controllers over paired trials
    python -m unittest                         # the test

Then change `controller.py`. `veldrain inspect trip.scenario.yaml --knobs` lists all that a study can vary.
"""


def told(started: Started) -> Sequence[str]:
    """Lines that say what was written and guessed."""
    lines = [f"Written to {started.folder}: {', '.join(started.files)}"]
    if started.guesses:
        lines += ["", "Guessed, so look at it:", *(f"  {guess}" for guess in started.guesses)]
    return lines
