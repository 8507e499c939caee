"""What a controller is, and the controllers that ship."""

from veldrain.control.by_hand import ByHand
from veldrain.control.centre_line import CentreLine
from veldrain.control.complying import Comply
from veldrain.control.contract import Body, Controller, InputValues, MotorHandle, Motors, Senses
from veldrain.control.estimating import EstimatePose
from veldrain.control.flying import Fly
from veldrain.control.gripping import Grip
from veldrain.control.loading import NamedController, fresh
from veldrain.control.piloting import FollowRoute, GoTo, WallFollower
from veldrain.control.planning import collision_pairs, plan, plan_route
from veldrain.control.playing import FollowTrajectory, Inputs, Play, Script
from veldrain.control.program import Program
from veldrain.control.routing import NoPath
from veldrain.control.trying import try_controller
from veldrain.control.tuning import StepResponse, step_response
from veldrain.control.walking import Walk
from veldrain.control.wheels import AckermannDrive, DifferentialDrive, Drive, OmniDrive, SkidSteer

__all__ = [
    "AckermannDrive",
    "Body",
    "ByHand",
    "CentreLine",
    "Comply",
    "Controller",
    "DifferentialDrive",
    "Drive",
    "EstimatePose",
    "Fly",
    "FollowRoute",
    "FollowTrajectory",
    "GoTo",
    "Grip",
    "InputValues",
    "Inputs",
    "MotorHandle",
    "Motors",
    "NamedController",
    "NoPath",
    "OmniDrive",
    "Play",
    "Program",
    "Script",
    "Senses",
    "SkidSteer",
    "StepResponse",
    "Walk",
    "WallFollower",
    "collision_pairs",
    "fresh",
    "plan",
    "plan_route",
    "step_response",
    "try_controller",
]
