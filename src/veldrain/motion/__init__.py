"""What can be computed of a model without an engine: kinematics, trajectories, drives, gaits."""

from veldrain.motion.chains import Chain, Reached
from veldrain.motion.trajectories import Trajectory

__all__ = ["Chain", "Reached", "Trajectory"]
