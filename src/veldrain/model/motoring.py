"""What moves a model: motors on its joints, rotors, and what the air holds back."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, Self

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.model.draft import Draft
from veldrain.model.pieces import MOTOR_MODES, Drag, Joint, Motor, MotorMode, Rotor
from veldrain.units import Quantity, quantity, triple

ENDLESS = ("limit", "effort", "speed", "friction")  # what may be infinite: nothing holds it back, or it holds all


def not_negative(value: float, name: str, where: str) -> float:
    if value < 0 or (math.isinf(value) and name not in ENDLESS):
        cure = "give 0 or more" if value < 0 else "give a finite number"
        raise VeldrainError(f"{name} is {value:g}", where=where, cure=cure)
    return value


class Motoring(Draft):
    """The motors, rotors and drag of a model."""

    def coordinates(self) -> dict[str, tuple[Joint, bool]]:
        """All coordinates by name: their joint, and whether they are lengths."""
        return {c: (j, linear) for j in self.joints.values() for c, linear in j.coordinates.items()}

    def motor(
        self,
        joint: str,
        mode: MotorMode | None = None,
        stiffness: Quantity | None = None,
        damping: Quantity | None = None,
        limit: Quantity | None = None,
        inertia: Quantity | None = None,
        gear_ratio: float | None = None,
        speed: Quantity | None = None,
        stall: Quantity | None = None,
        free_speed: Quantity | None = None,
        play: Quantity | None = None,
        lag: Quantity | None = None,
        integral: Quantity | None = None,
        brake: Quantity | None = None,
    ) -> Self:
        """Put a motor on a joint.

        In mode ``effort`` it gives the effort that is commanded; in mode ``velocity`` damping·(commanded
        velocity − velocity) + effort, so that a load makes it creep by load/damping, unless ``integral`` times the
        integral of that difference is added; in mode ``position`` stiffness·(commanded position − position) +
        damping·(commanded velocity − velocity) + effort, where velocity and effort are 0 until they are commanded too.
        Its effort never exceeds ``limit``, and it drives no faster than ``speed``. With ``stall`` and ``free_speed``
        it is a DC motor: its effort lies between the lines ±stall − (stall/free_speed)·velocity.

        Args:
            joint: name of a joint, or of one of its coordinates (``slide/x`` of a planar joint).
            mode: what is commanded; None: ``effort``, or what ``defaults`` say, as for all that follows.
            stiffness: N·m/rad, or N/m when prismatic.
            damping: N·m·s/rad, or N·s/m when prismatic.
            limit: largest effort, N·m, or N when prismatic. None: what the joint's ``effort`` allows.
            inertia: of the rotor, as the joint feels it (times the square of the gear's ratio), kg·m², or kg.
            gear_ratio: turns of the motor for one of the joint: for the record; all other figures are the joint's.
            speed: limit that the motor holds, rad/s, or m/s when prismatic. None: none.
            stall: effort of a DC motor at rest, N·m, or N when prismatic; 0: not one.
            free_speed: at which a DC motor gives no effort, rad/s, or m/s when prismatic.
            play: of the gear (backlash), from one side to the other, rad, or m when prismatic; in modes ``position``
                and ``velocity``.
            lag: time (time constant) in which the motor follows 63 % of a step of its command, s; in the same modes.
            integral: gain of the integral part in mode ``velocity``, N·m/rad, or N/m when prismatic. It stands still
                while the motor gives all that it can, so that it does not wind up.
            brake: effort with which a brake holds the joint before the motor's first command, while the motor is dead
                and after ``brake()``, N·m, or N when prismatic; 0: no brake.

        Raises:
            VeldrainError: an unknown joint or mode, a gain missing or negative, a second motor.

        >>> m = Model("drum").link("stand", mass=5).link("drum", mass=2)
        >>> m.joint("turn", "stand", "drum", kind="continuous").motor("turn", "velocity", damping=2, limit=8)
        Model('drum': 2 links, 1 joint, 0 sensors)
        """
        where = f"{self.name}/{joint}"
        if joint in self.joints and self.joints[joint].kind in ("fixed", "floating"):
            with self._reading_past("motor-on-fixed"):
                raise VeldrainError(
                    f"a motor on a {self.joints[joint].kind} joint",
                    where=where,
                    cure="use a joint that turns or slides",
                )
            return self
        coordinates = self.coordinates()
        if joint not in coordinates:
            raise unknown("joint", joint, coordinates, where)
        held, linear = coordinates[joint]
        values: dict[str, Any] = {
            "mode": mode,
            "stiffness": stiffness,
            "damping": damping,
            "limit": limit,
            "inertia": inertia,
            "gear_ratio": gear_ratio,
            "speed": speed,
            "stall": stall,
            "free_speed": free_speed,
            "play": play,
            "lag": lag,
            "integral": integral,
            "brake": brake,
        }
        given = {key: value for key, value in values.items() if value is not None}
        standard: dict[str, Any] = {
            "mode": "effort",
            "stiffness": 0.0,
            "damping": 0.0,
            "limit": held.effort,
            "inertia": 0.0,
            "gear_ratio": 1.0,
            "speed": np.inf,
            **dict.fromkeys(("stall", "free_speed", "play", "lag", "integral", "brake"), 0.0),
        }
        values = standard | self._default_values(joint, held.kind, "motor") | given
        asked: Any = values["mode"]
        if asked not in MOTOR_MODES:
            raise unknown("motor mode", asked, MOTOR_MODES, where)
        if held.kind == "ball" and asked == "position":
            raise VeldrainError("a ball joint has no position motor", where=where, cure="use mode 'effort'")
        sort, force, pace = ("linear", "force", "speed") if linear else ("angular", "torque", "angular speed")
        kinds = {
            "stiffness": f"{sort} stiffness",
            "damping": f"{sort} damping",
            "limit": force,
            "inertia": "mass" if linear else "inertia",
            "gear_ratio": "ratio",
            "speed": pace,
            "stall": force,
            "free_speed": pace,
            "play": "length" if linear else "angle",
            "lag": "time",
            "integral": f"{sort} stiffness",
            "brake": force,
        }
        found = {word: quantity(values[word], kind, where) for word, kind in kinds.items()}
        for word, value in found.items():
            if word != "gear_ratio":
                not_negative(value, word, where)
        motor = Motor(joint, asked, **found)
        self._checked_motor(motor, where)
        needed = {"velocity": motor.damping, "position": motor.stiffness}.get(asked, 1.0)
        if needed == 0.0:
            word = {"velocity": "damping", "position": "stiffness"}[asked]
            raise VeldrainError(f"a motor in {asked} mode with {word} 0 never moves", where=where, cure=f"give {word}=")
        if self._given.get(f"motor {joint}"):
            raise VeldrainError(f"a second motor on joint '{joint}'", where=self.name, cure="use change_motor")
        self.motors[joint] = motor
        self._given[f"motor {joint}"] = {"joint", *given}
        return self

    def _checked_motor(self, motor: Motor, where: str) -> None:
        """What cannot be of one motor."""
        if motor.speed == 0.0:
            raise VeldrainError("a speed limit of 0", where=where, cure="give the largest speed, or leave it out")
        if (motor.stall > 0.0) != (motor.free_speed > 0.0):
            raise VeldrainError(
                "a DC motor has a stall effort and a free speed", where=where, cure="give stall= and free_speed="
            )
        for word in ("play", "lag"):
            if vars(motor)[word] and motor.mode == "effort":
                cure = "use mode 'velocity' or 'position'"
                raise VeldrainError(f"{word} of a motor in effort mode", where=where, cure=cure)
        if motor.integral and motor.mode != "velocity":
            cure = "use mode 'velocity'" if motor.mode == "effort" else "give it stiffness="
            raise VeldrainError(f"an integral part of a motor in {motor.mode} mode", where=where, cure=cure)

    def rotor(self, joint: str, thrust: Quantity, torque: Quantity, *, lag: Quantity = 0.0) -> Self:
        """Put blades on a joint that turns: they pull along its axis as they are turned.

        The thrust is ``thrust``·ω·|ω| along the joint's axis, the torque of the air ``torque``·ω·|ω| against the turn;
        the motor's frame feels the reaction. Blades of the other hand have a negative thrust: they lift with ω < 0.

        Args:
            joint: name of a joint that turns; the link that it holds carries the blades.
            thrust: coefficient, N·s² (of ω in rad/s).
            torque: coefficient, N·m·s², 0 or more.
            lag: of its velocity motor, as ``motor`` takes it, s.

        Raises:
            VeldrainError: no such joint, one that does not turn, a second rotor there.

        >>> m = Model("probe").link("hull", mass=1).link("blades", mass=0.01)
        >>> m = m.joint("spin", "hull", "blades", "continuous")
        >>> m.rotor("spin", thrust=1e-5, torque=2e-7).rotors["spin"].thrust
        1e-05
        """
        where = f"{self.name}/{joint}"
        if joint not in self.joints:
            raise unknown("joint", joint, self.joints, where)
        if self.joints[joint].kind != "continuous":
            raise VeldrainError(
                f"a rotor on a {self.joints[joint].kind} joint", where=where, cure="use kind='continuous'"
            )
        if joint in self.rotors:
            raise VeldrainError("a second rotor on one joint", where=where, cure="give it once")
        held_back = not_negative(quantity(torque, "rotor torque", where), "torque", where)
        self.rotors[joint] = Rotor(joint, quantity(thrust, "rotor thrust", where), held_back)
        if lag:
            if joint not in self.motors:
                raise VeldrainError("a lag without a motor", where=where, cure="put a velocity motor on it first")
            self.change_motor(joint, lag=lag)  # type: ignore[attr-defined]
        return self

    def drag(self, link: str, area: Sequence[Quantity], *, at: Sequence[Quantity] | None = None) -> Self:
        """Let the air hold a link back: −½·ρ·area·|v|·v along each of its axes, v its velocity through the air.

        Args:
            link: name of the link.
            area: drag areas (drag coefficient times area) seen along the link's x, y and z, m².
            at: point of the link where it acts, m. None: its centre of mass.

        Raises:
            VeldrainError: no such link, an area below zero.

        >>> Model("m").link("a", mass=1).drag("a", (0.02, 0.02, "500 cm^2")).drags["a"].area
        (0.02, 0.02, 0.05)
        """
        where = f"{self.name}/{link}"
        if link not in self.links:
            raise unknown("link", link, self.links, where)
        if link in self.drags:
            raise VeldrainError("a second drag on one link", where=where, cure="give it once")
        areas = triple(area, "area", where)
        for value in areas:
            not_negative(value, "area", where)
        point = self.links[link].mass_properties.com.tolist() if at is None else triple(at, "length", where)
        self.drags[link] = Drag(link, areas, (point[0], point[1], point[2]))
        return self
