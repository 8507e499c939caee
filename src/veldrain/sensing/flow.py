"""How fast what lies before a sensor moves across its view: optical flow."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Fields, Message, Mount, Sensor, Sight, looking
from veldrain.pose import Array
from veldrain.sensing.noise import Errors
from veldrain.sensing.parts import xyz
from veldrain.sheet import Choice, Number

AHEAD = np.array([[1.0, 0.0, 0.0]])


@dataclass(frozen=True)
class Flow:
    """Rates (3,) at which what it sees turns about its axes, rad/s, nan where it sees nothing; how far that is, m: inf
    beyond its range, −inf before it."""

    rates: Array
    distance: float


class OpticalFlow(Sensor):
    """An optical-flow sensor with a range finder: how fast what lies on its x-axis moves across its view.

    A point at the distance d that moves with u relative to the sensor, in its axes, while the sensor turns with ω,
    turns about y with −u_z/d − ω_y, and about z with u_y/d − ω_z (H. C. Longuet-Higgins, K. Prazdny, "The
    interpretation of a moving retinal image", Proc. R. Soc. Lond. B 208, 1980). Looking down on the ground from a
    height h without turning, these are the speeds across it over h.

    >>> OpticalFlow(noise="0.02 rad/s").max_range
    8.0
    """

    message = "geometry_msgs/msg/TwistStamped"
    stacks = True
    companions = ("distance",)

    period: Number = Number("period", default=0.02, above=0.0, kw_only=False, doc="time between samples, or their rate")
    noise: Number = Number("angular speed", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a rate")
    bias: Number = Number("angular speed", default=0.0, least=0.0, exact=0.0, doc="standard deviation over trials")
    full_scale: Number = Number("angular speed", default=math.inf, above=0.0, exact=math.inf, doc="the most; inf: any")
    min_range: Number = Number("length", default=0.08, least=0.0, doc="nearer it sees nothing sharply: nan")
    max_range: Number = Number("length", default=8.0, above=0.0, doc="farther it sees nothing: nan")
    distance_noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a distance")
    sees: Choice = Choice("visual", "collision", default="visual", doc="which shapes it meets")
    looks: Choice = looking()

    def check(self) -> None:
        if not self.min_range < self.max_range:
            raise VeldrainError(
                f"min_range is {self.min_range:g} m and max_range {self.max_range:g} m",
                where="OpticalFlow",
                cure="min_range is less than max_range",
            )

    def aim(self) -> str:
        return self.looks

    def sight(self) -> Sight:
        return Sight(AHEAD, self.max_range, self.min_range, sees=self.sees)

    def start(self, mount: Mount, random: np.random.Generator) -> FlowAtWork:
        errors = Errors(random, self.bias, self.noise, full_scale=self.full_scale)
        return FlowAtWork(self, errors, random)

    def messages(self, reading: Flow) -> dict[str, Message]:
        twist = Fields(linear=xyz(0.0 * reading.rates), angular=xyz(reading.rates))
        fields = Fields(
            radiation_type=1,
            field_of_view=0.0,
            min_range=self.min_range,
            max_range=self.max_range,
            range=reading.distance,
        )
        return {"": Message(self.message, Fields(twist=twist)), "distance": Message("sensor_msgs/msg/Range", fields)}


@dataclass
class FlowAtWork:
    """Its errors."""

    sheet: OpticalFlow
    errors: Errors
    random: np.random.Generator

    def measure(self, mount: Mount) -> Flow:
        sheet, axes, position = self.sheet, mount.axes(), mount.position()
        way = axes[:, 0]
        met = mount.strike(position[None], way[None], sheet.max_range, sheet.sees)
        d, stray = float(met.distances[0]), self.random.standard_normal() * sheet.distance_noise
        velocity, spin, _ = mount.motion()
        if not sheet.min_range <= d < math.inf:
            self.errors.add_to(np.zeros(3))  # noise goes on, so that it does not hang on what is seen
            return Flow(np.full(3, math.nan), d if d == math.inf else -math.inf)
        theirs = mount.velocities(met.sights, (position + d * way)[None], sheet.sees)[0]
        u, turn = axes.T @ (theirs - velocity), axes.T @ spin
        rates = self.errors.add_to(np.array((0.0, -u[2] / d - turn[1], u[1] / d - turn[2])))
        rates[0] = 0.0
        return Flow(rates, d + stray)
