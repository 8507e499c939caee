"""How fast the air comes toward a robot: a pitot tube."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.model.lights import Air
from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.sensing.noise import Errors
from veldrain.sheet import Number

SEA_LEVEL = Air().density  # kg/m³, by which the pressure is told as a speed


@dataclass(frozen=True)
class DynamicPressure:
    """Pressure (Pa) in a tube over that of the air around it, and the speed (m/s) at sea level that it means."""

    pressure: float
    speed: float


class Airspeed(Sensor):
    """A pitot tube along its x-axis: the pressure of the air that comes toward it, and the speed that it means.

    q = ½·ρ·v² of the air's speed v toward it along its axis, with wind and gusts and the air's own density ρ; from
    behind it feels nothing. The stream ``speed`` is the indicated airspeed √(2·q/ρ₀), ρ₀ the density at sea level of
    the standard atmosphere (ISO 2533).

    >>> Airspeed(noise="2 Pa").message
    'sensor_msgs/msg/FluidPressure'
    """

    message = "sensor_msgs/msg/FluidPressure"
    stacks = True

    period: Number = Number("period", default=0.02, above=0.0, kw_only=False, doc="time between samples, or their rate")
    noise: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    bias: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="standard deviation over trials")
    bias_random_walk: Number = Number(
        "pressure random walk", default=0.0, least=0.0, exact=0.0, doc="random walk of the bias"
    )
    resolution: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous")
    full_scale: Number = Number("pressure", default=math.inf, above=0.0, exact=math.inf, doc="the most; inf: any")

    @property
    def companions(self) -> tuple[str, ...]:
        return ("speed",)

    def unit(self, companion: str = "") -> str:
        return "m/s" if companion == "speed" else ""

    def start(self, mount: Mount, random: np.random.Generator) -> AirspeedAtWork:
        limits = self.resolution, self.full_scale
        return AirspeedAtWork(Errors(random, self.bias, self.noise, self.bias_random_walk, self.period, *limits))

    def messages(self, reading: DynamicPressure) -> dict[str, Message]:
        pressure = Message(self.message, Fields(fluid_pressure=reading.pressure, variance=self.noise**2))
        return {"": pressure, "speed": Message("std_msgs/msg/Float64", Fields(data=reading.speed))}


@dataclass
class AirspeedAtWork:
    """Its errors."""

    errors: Errors

    def measure(self, mount: Mount) -> DynamicPressure:
        toward = max(0.0, float(mount.axes()[:, 0] @ (mount.motion()[0] - mount.wind())))
        true = 0.5 * mount.air.density * toward**2
        told = float(self.errors.add_to(np.full(3, true))[0])
        return DynamicPressure(told, math.sqrt(2.0 * max(told, 0.0) / SEA_LEVEL))
