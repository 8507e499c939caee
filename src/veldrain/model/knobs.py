"""Quantities by path: what can be varied, swept, searched, fitted, and changed in mid-trial.

Each thing lists its own; a path is the thing's name, a point and the quantity, such as ``silt.friction``.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.model.inertia import checked_mass, of_parts
from veldrain.model.leading import COURSE_NUMBERS, Course, course_number
from veldrain.model.model import Model
from veldrain.model.pieces import Joint
from veldrain.model.things import Body, Placed
from veldrain.model.world import World
from veldrain.pose import Pose
from veldrain.sheet import Maybe, Number, Row, Sheet
from veldrain.units import finite, kind_of_names, unit_of_kind

AXES = ("x", "y", "z")
TURNS = ("roll", "pitch", "yaw")
OWNERS = ("joint", "link", "sensor", "moment", "action")  # where two have one name, the word goes before the quantity


@dataclass(frozen=True)
class Knob:
    """One quantity that can be set by its path.

    Attributes:
        path: such as ``crawler/scan.noise``.
        kind: of quantity, one of ``units.SI_UNITS``.
        get: gives its value, SI units; None where it has none.
        set: puts a value (SI units) in its place.
        is_default: True for a number of a data sheet that nobody gave, and for what is 0 of a joint.
    """

    path: str
    kind: str
    get: Callable[[], float | None]
    set: Callable[[float], None]
    is_default: bool = False

    @property
    def unit(self) -> str:
        """The SI unit."""
        return unit_of_kind(self.kind)


def knob_of(knobs: Iterable[Knob], path: str, where: str = "") -> Knob:
    """One knob by its path.

    Raises:
        VeldrainError: there is none; names the nearest, and how to list all.
    """
    known = {knob.path: knob for knob in knobs}
    if path not in known:
        thing, _, quantity = path.rpartition(".")
        several = [told for word in OWNERS if (told := f"{thing}.{word}.{quantity}") in known]
        if several:
            raise VeldrainError(
                f"'{path}' is that of {len(several)} things of one name",
                where=where,
                cure=f"write {' or '.join(several)}",
            )
        error = unknown("quantity", path, known, where)
        hint = error.cure.partition("Known:")[0]
        raise VeldrainError(error.problem, where=where, cure=f"{hint}veldrain inspect FILE --knobs lists all of them")
    return known[path]


def told_apart(found: list[tuple[str, Knob]]) -> Iterator[Knob]:
    """Knobs with their owners, a word of ``OWNERS`` each, which goes into a path that two of them have."""
    times = Counter(knob.path for _, knob in found)
    for owner, knob in found:
        thing, _, quantity = knob.path.rpartition(".")
        yield replace(knob, path=f"{thing}.{owner}.{quantity}") if times[knob.path] > 1 else knob


Get = Callable[[], Any]
Put = Callable[[Any], None]


def row_knobs(path: str, kind: str, get: Get, put: Put) -> Iterator[Knob]:
    """Three numbers of a row, one for each axis: ``path`` goes before x, y and z."""

    def knob(k: int) -> Knob:
        def write(value: float) -> None:
            put((*get()[:k], finite(value, kind, name), *get()[k + 1 :]))

        name = f"{path}{AXES[k]}"
        return Knob(name, kind, lambda: get()[k], write)

    return (knob(k) for k in range(3))


def sheet_knobs(path: str, get: Get, put: Put) -> Iterator[Knob]:
    """The numbers of a data sheet; ``get`` gives the sheet, and ``put`` takes the one in which a number is changed."""

    def changed(name: str) -> Put:
        return lambda value: put(get().changed(**{name: value}))

    def value(name: str) -> Get:
        return lambda: get().values[name]

    for name, field in type(get()).fields().items():
        number = field.field if isinstance(field, Maybe) else field
        if isinstance(number, Number):
            is_default = name not in get().given
            yield Knob(f"{path}.{name}", number.kind, value(name), changed(name), is_default)
        elif isinstance(number, Row) and number.count == 3 and len(number.kinds) == 1:
            yield from row_knobs(f"{path}.{name}_", number.kinds[0], value(name), changed(name))


def pose_knobs(path: str, get: Get, put: Put) -> Iterator[Knob]:
    """Position and turn of a pose."""

    def knob(name: str, k: int, is_turn: bool) -> Knob:
        def read() -> float:
            return float(get().rpy[k] if is_turn else get().position[k])

        def write(value: float) -> None:
            xyz, rpy = get().position.copy(), get().rpy
            (rpy if is_turn else xyz)[k] = value
            put(Pose(xyz, rpy))

        return Knob(f"{path}.{name}", "angle" if is_turn else "length", read, write)

    yield from (knob(name, k, False) for k, name in enumerate(AXES))
    yield from (knob(name, k, True) for k, name in enumerate(TURNS))


def of(thing: Any, name: str) -> tuple[Get, Put]:
    """What gives and what sets an attribute."""
    return lambda: getattr(thing, name), lambda value: setattr(thing, name, value)


def entry(table: Any, key: Any) -> tuple[Get, Put]:
    """What gives and what sets an entry of a table."""
    return lambda: table[key], lambda value: table.__setitem__(key, value)


def world_knobs(world: World) -> Iterator[Knob]:
    """All quantities of a world."""
    yield from row_knobs("gravity.", "acceleration", *of(world, "gravity"))
    for light in ("sun", "sky", "air"):
        yield from sheet_knobs(light, *of(world, light))
    for k in range(len(world.lamps)):
        yield from sheet_knobs(f"lamp{k + 1}", *entry(world.lamps, k))
    if world.floor:
        yield from sheet_knobs("ground", *of(world.floor, "surface"))
        yield from _surface_knob(world, "ground", *of(world.floor, "surface"))
        get, put = of(world.floor, "height")
        yield Knob("ground.height", "length", get, lambda value: put(finite(value, "length", "ground.height")))
    things: list[Any] = [*world.obstacles.values(), *world.bodies.values(), *world.patches.values()]
    for thing in things:
        yield from pose_knobs(thing.name, *of(thing, "pose"))
        yield from sheet_knobs(thing.name, *of(thing, "surface"))
        yield from _surface_knob(world, thing.name, *of(thing, "surface"))
    for body in world.bodies.values():
        yield _mass_knob(body)
        yield from row_knobs(f"{body.name}.velocity_", "speed", *of(body, "velocity"))
        yield from row_knobs(f"{body.name}.spin_", "angular speed", *of(body, "spin"))
    for name in world.frames:
        yield from pose_knobs(name, *entry(world.frames, name))
    for placed in world.placed.values():
        yield from robot_knobs(placed)
    yield from _named_surfaces(world)


def _surface_knob(world: World, thing: str, get: Get, put: Put) -> Iterator[Knob]:
    """Which of the world's surfaces something has, where it has several; its value is the name."""
    names = list(world.surfaces)

    def read() -> float | None:
        return float(names.index(get().name)) if get().name in world.surfaces else None

    if len(names) > 1:
        yield Knob(
            f"{thing}.surface", kind_of_names(names), read, lambda value: put(world.surfaces[names[round(value)]])
        )


def _named_surfaces(world: World) -> Iterator[Knob]:
    """The surfaces that have a name of their own, each a quantity for all that it is on by then, and will be on."""
    found = {get().name: get() for get, _ in _surface_places(world) if get().name}
    taken = set(world.names())
    for name, first in found.items():

        def get(name: str = name, first: Any = first) -> Any:
            return next((get() for get, _ in _surface_places(world) if get().name == name), first)

        def put(surface: Any, name: str = name) -> None:
            for get, put in _surface_places(world):
                if get().name == name:
                    put(surface)

        if name not in taken:
            yield from sheet_knobs(name, get, put)


def _surface_places(world: World) -> Iterator[tuple[Get, Put]]:
    """What gives and what sets each surface of a world, those that it knows by name first."""
    yield from (entry(world.surfaces, name) for name in world.surfaces)
    if world.floor:
        yield of(world.floor, "surface")
    for thing in (*world.obstacles.values(), *world.bodies.values(), *world.patches.values()):
        yield of(thing, "surface")
    for placed in world.placed.values():
        for link in placed.model.links:
            yield (
                lambda placed=placed, link=link: placed.model.links[link].surface,  # type: ignore[misc]
                lambda value, placed=placed, link=link: _own(placed).change_link(link, surface=value),  # type: ignore[misc]
            )
            for k, part in enumerate(placed.model.links[link].parts):
                if part.surface is not None:
                    yield (
                        lambda placed=placed, link=link, k=k: placed.model.links[link].parts[k].surface,  # type: ignore[misc]
                        lambda value, placed=placed, link=link, k=k: _resurface(placed, link, k, value),  # type: ignore[misc]
                    )


def _resurface(placed: Placed, link: str, k: int, surface: Any) -> None:
    """Give one part of a link another surface."""
    links = _own(placed).links
    parts = list(links[link].parts)
    parts[k] = replace(parts[k], surface=surface)
    links[link] = replace(links[link], parts=tuple(parts))


def _mass_knob(body: Body) -> Knob:
    def put(value: float) -> None:
        body.mass_properties = of_parts([body.part], checked_mass(value, body.name))

    return Knob(f"{body.name}.mass", "mass", lambda: body.mass_properties.mass, put)


def robot_knobs(placed: Placed) -> Iterator[Knob]:
    """All quantities of a placed model; those of the model are changed in a copy of its own."""
    name, model = placed.name, placed.model
    if placed.path:
        yield from _path_knobs(placed)
    elif placed.course is not None:
        yield from _course_knobs(placed, placed.course)
    else:
        yield from pose_knobs(name, *of(placed, "pose"))
    if not placed.fixed and not placed.is_led:
        yield from row_knobs(f"{name}.velocity_", "speed", *of(placed, "velocity"))
    for coordinate, (_, linear) in model.coordinates().items():
        yield _start_knob(placed, coordinate, "length" if linear else "angle")
    for motor in model.motors:
        yield from _motor_knobs(placed, motor)
    for joint_name in model.rotors:
        yield from _record_knobs(
            placed, "rotors", joint_name, "rotor", {"thrust": "rotor thrust", "torque": "rotor torque"}
        )
    yield from _owned(placed)


def _owned(placed: Placed) -> Iterator[Knob]:
    """Quantities of joints, links and sensors, told apart where two of them have one name."""
    model, name, found = placed.model, placed.name, list[tuple[str, Knob]]()
    for joint in model.joints.values():
        if joint.kind not in ("fixed", "floating"):
            found += [("joint", knob) for knob in _joint_knobs(placed, joint)]
    for link in model.links.values():
        found += [("link", knob) for knob in _link_knobs(placed, link.name, link.mass_properties.mass > 0)]
    for sensor in model.sensors:
        found += [("sensor", knob) for knob in sheet_knobs(f"{name}/{sensor}", *_mounted(placed, sensor, "sensor"))]
        found += [("sensor", knob) for knob in pose_knobs(f"{name}/{sensor}", *_mounted(placed, sensor, "pose"))]
    return told_apart(found)


def _own(placed: Placed) -> Model:
    """The model of a robot, to be changed: no other robot's."""
    placed.model = placed.model.copy()
    return placed.model


def _start_knob(placed: Placed, coordinate: str, kind: str) -> Knob:
    path = f"{placed.name}/{coordinate}.position"

    def put(value: float) -> None:
        placed.joints[coordinate] = finite(value, kind, path)

    return Knob(path, kind, lambda: placed.joints.get(coordinate, 0.0), put)


def _joint_knobs(placed: Placed, joint: Joint) -> Iterator[Knob]:
    path, name = f"{placed.name}/{joint.name}", joint.name
    sort, force = ("linear", "force") if joint.is_linear else ("angular", "torque")
    position = "length" if joint.is_linear else "angle"

    def knob(word: str, kind: str) -> Knob:
        def put(value: float) -> None:
            _own(placed).change_joint(name, **{word: value})

        return Knob(f"{path}.{word}", kind, lambda: vars(placed.model.joints[name])[word], put, not vars(joint)[word])

    def limit(k: int, word: str) -> Knob:
        def put(value: float) -> None:
            low, high = placed.model.joints[name].limits or (value, value)
            _own(placed).change_joint(name, limits=(low, value) if k else (value, high))

        return Knob(f"{path}.{word}", position, lambda: (placed.model.joints[name].limits or (None, None))[k], put)

    kinds = {
        "damping": f"{sort} damping",
        "friction": force,
        "stiffness": f"{sort} stiffness",
        "rest_position": position,
    }
    yield from (knob(word, kind) for word, kind in kinds.items())
    if joint.limits:
        yield limit(0, "lower")
        yield limit(1, "upper")


def _motor_knobs(placed: Placed, name: str) -> Iterator[Knob]:
    linear = placed.model.coordinates()[name][1]
    sort, force = ("linear", "force") if linear else ("angular", "torque")

    def knob(word: str, kind: str) -> Knob:
        def put(value: float) -> None:
            _own(placed).change_motor(name, **{word: value})

        return Knob(f"{placed.name}/{name}.motor.{word}", kind, lambda: vars(placed.model.motors[name])[word], put)

    motor = placed.model.motors[name]
    kinds = {"stiffness": f"{sort} stiffness", "damping": f"{sort} damping", "limit": force}
    for word in {"effort": ("stiffness", "damping"), "velocity": ("stiffness",)}.get(motor.mode, ()):
        del kinds[word]  # of no use in that mode
    pace, position = ("speed", "length") if linear else ("angular speed", "angle")
    more = {"speed": pace, "stall": force, "free_speed": pace, "play": position, "lag": "time"}
    more |= {"integral": f"{sort} stiffness", "brake": force}
    # Of what most motors do not have, only what this one has.
    kinds |= {word: kind for word, kind in more.items() if 0.0 < vars(motor)[word] < math.inf}
    return (knob(word, kind) for word, kind in kinds.items())


def _record_knobs(placed: Placed, table: str, name: str, word: str, kinds: dict[str, str]) -> Iterator[Knob]:
    """Numbers of a record in one of a model's tables."""

    def knob(field: str, kind: str) -> Knob:
        def put(value: float) -> None:
            held = getattr(_own(placed), table)
            held[name] = replace(held[name], **{field: value})

        def get() -> float:
            return float(getattr(getattr(placed.model, table)[name], field))

        return Knob(f"{placed.name}/{name}.{word}.{field}", kind, get, put)

    return (knob(field, kind) for field, kind in kinds.items())


def _link_knobs(placed: Placed, name: str, has_mass: bool) -> Iterator[Knob]:
    def mass(value: float) -> None:
        _own(placed).change_link(name, mass=value)

    def surface(value: Any) -> None:
        _own(placed).change_link(name, surface=value)

    path = f"{placed.name}/{name}"
    if has_mass:
        yield Knob(f"{path}.mass", "mass", lambda: placed.model.links[name].mass_properties.mass, mass)
    touched = [part for part in placed.model.links[name].parts if part.role != "visual"]
    if not touched or any(part.surface is None for part in touched):  # else its own is that of none of its parts
        yield from sheet_knobs(path, lambda: placed.model.links[name].surface, surface)


def _mounted(placed: Placed, sensor: str, word: str) -> tuple[Get, Put]:
    """What gives and what sets a part of a mounted sensor."""

    def put(value: Any) -> None:
        table = _own(placed).sensors
        table[sensor] = replace(table[sensor], **{word: value})

    return lambda: vars(placed.model.sensors[sensor])[word], put


def _course_knobs(placed: Placed, course: Course) -> Iterator[Knob]:
    """Of an actor: where on its route it begins, when it sets off, how fast and how near it follows."""
    name = placed.name

    def number(word: str, kind: str) -> Knob:
        get, put = of(course, word)
        return Knob(f"{name}.{word}", kind, get, lambda value: put(course_number(word, value, name)))

    yield from (number(word, kind) for word, kind in COURSE_NUMBERS.items())
    if isinstance(course.leader, Sheet):
        yield from sheet_knobs(f"{name}.route", *of(course, "leader"))
        if isinstance(course.leader.values.get("speed"), float):  # of one speed for the whole route

            def put(value: float) -> None:
                course.leader = course.leader.changed(speed=value)  # type: ignore[attr-defined]

            yield Knob(f"{name}.route.speed", "speed", lambda: course.leader.values["speed"], put)  # type: ignore[attr-defined]
    if course.keeps is not None:
        yield from sheet_knobs(f"{name}.gap", *of(course, "keeps"))


def _path_knobs(placed: Placed) -> Iterator[Knob]:
    """Of a robot that is led: where its path starts, all of it being moved along, and when."""

    def move(pose: Pose) -> None:
        shift = pose @ placed.path[0][1].inverse()
        placed.path = tuple((time, shift @ at) for time, at in placed.path)
        placed.pose = placed.path[0][1]

    def begin(value: float) -> None:
        first = placed.path[0][0]
        placed.path = tuple((time - first + value, at) for time, at in placed.path)

    yield from pose_knobs(placed.name, lambda: placed.path[0][1], move)
    yield Knob(f"{placed.name}.start", "time", lambda: placed.path[0][0], begin)
