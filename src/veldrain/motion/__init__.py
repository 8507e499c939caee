"""What can be computed of a model without an engine: kinematics, trajectories, drives, gaits, gains."""

from veldrain.motion.chains import Chain, Reached
from veldrain.motion.gains import suggest_gains
from veldrain.motion.legs import Leg
from veldrain.motion.payloads import Payload, payload
from veldrain.motion.roads import Roads
from veldrain.motion.routes import Route
from veldrain.motion.trajectories import Trajectory

__all__ = ["Chain", "Leg", "Payload", "Reached", "Roads", "Route", "Trajectory", "payload", "suggest_gains"]
