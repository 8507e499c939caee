"""Veldrain: simulated robot worlds, scripted trials, recorded streams, honest comparisons.

Everything public is here, loaded on first use: ``import veldrain as vd``.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

_WHERE = {
    "veldrain.errors": "VeldrainError",
    "veldrain.pose": "Pose",
    "veldrain.resolver": "code_from_files",
    "veldrain.model": (
        "Air Box Capsule Channel Cone Cylinder Ellipsoid Failure Gap HeightField Lamp Leader Look Maze Mesh Model "
        "Part Pipe Ramp Rolls Row Sensor Sky Sphere Stairs Scatter Steers Sun Surface Swings Wall World"
    ),
    "veldrain.sensing": (
        "Airspeed Barometer Camera Encoders FootForce ForceTorque Gnss Imu Infrared Lidar LimitSwitch "
        "Magnetometer MotorCurrent Odometer OpticalFlow Radar SpinningLidar Touch TrueBoxes TrueClearance TrueFrames "
        "TruePose TrueRelative TrueSlip TrueTraffic Ultrasonic"
    ),
    "veldrain.live.link": "Link",
    "veldrain.copies": "Copies",
    "veldrain.simulation": "Simulation",
    "veldrain.motion": "Chain Leg Payload Roads Route Trajectory payload suggest_gains",
    "veldrain.control": (
        "AckermannDrive ByHand CentreLine Comply Controller DifferentialDrive EstimatePose Fly FollowRoute "
        "FollowTrajectory GoTo Grip Inputs NoPath OmniDrive Play Program Script SkidSteer Walk WallFollower "
        "collision_pairs plan plan_route step_response try_controller"
    ),
    "veldrain.recording": (
        "Consistency Log LogComparison Matched Recording Sink compare_logs consistency detections match open_log "
        "true_boxes"
    ),
    "veldrain.recording.maps": "HeightMap MapComparison OccupancyMap height_map load_map occupancy",
    "veldrain.scenario": (
        "Action Attach Change Condition Cut Fail Finish Free Go Keep Leave Lock Picture Push Put Release Remove Say "
        "Scenario Shift Stop Switch Take Tell Trial Weather attached attached_force clearance closing distance elapsed "
        "height inside joint joint_speed reading run shows signal speed speed_difference tilt time_gap "
        "time_to_collision touching"
    ),
    "veldrain.study": (
        "Design Draw Drawn FinishTime Fitted Grid Margin Match Metric OneAtATime Result ResultComparison SpaceFilling "
        "Study Table Tuned Worst compare_results correlated find_worst fit log_uniform normal one_of triangular "
        "truncated_normal tune uniform uniform_orientation weighted"
    ),
    "veldrain.formats": "load_roads load_robot save_roads save_robot",
    "veldrain.review": "Coverage Finding check coverage",
    "veldrain.report.birds_eye": "birds_eye",
    "veldrain.report.overview": "overview",
    "veldrain.report.picture": "look",
    "veldrain.report.plotting": "plot",
    "veldrain.report.viewer.making": "page",
    "veldrain.documents": (
        "load_open_scenario load_scenario load_study load_world save_open_scenario save_scenario save_world"
    ),
}
_MODULE_OF = {name: module for module, names in _WHERE.items() for name in names.split()}

__all__ = list(_MODULE_OF)

if TYPE_CHECKING:
    from veldrain.control import AckermannDrive as AckermannDrive
    from veldrain.control import ByHand as ByHand
    from veldrain.control import CentreLine as CentreLine
    from veldrain.control import Comply as Comply
    from veldrain.control import Controller as Controller
    from veldrain.control import DifferentialDrive as DifferentialDrive
    from veldrain.control import EstimatePose as EstimatePose
    from veldrain.control import Fly as Fly
    from veldrain.control import FollowRoute as FollowRoute
    from veldrain.control import FollowTrajectory as FollowTrajectory
    from veldrain.control import GoTo as GoTo
    from veldrain.control import Grip as Grip
    from veldrain.control import Inputs as Inputs
    from veldrain.control import NoPath as NoPath
    from veldrain.control import OmniDrive as OmniDrive
    from veldrain.control import Play as Play
    from veldrain.control import Program as Program
    from veldrain.control import Script as Script
    from veldrain.control import SkidSteer as SkidSteer
    from veldrain.control import Walk as Walk
    from veldrain.control import WallFollower as WallFollower
    from veldrain.control import collision_pairs as collision_pairs
    from veldrain.control import plan as plan
    from veldrain.control import plan_route as plan_route
    from veldrain.control import step_response as step_response
    from veldrain.control import try_controller as try_controller
    from veldrain.copies import Copies as Copies
    from veldrain.documents import load_open_scenario as load_open_scenario
    from veldrain.documents import load_scenario as load_scenario
    from veldrain.documents import load_study as load_study
    from veldrain.documents import load_world as load_world
    from veldrain.documents import save_open_scenario as save_open_scenario
    from veldrain.documents import save_scenario as save_scenario
    from veldrain.documents import save_world as save_world
    from veldrain.errors import VeldrainError as VeldrainError
    from veldrain.formats import load_roads as load_roads
    from veldrain.formats import load_robot as load_robot
    from veldrain.formats import save_roads as save_roads
    from veldrain.formats import save_robot as save_robot
    from veldrain.live.link import Link as Link
    from veldrain.model import Air as Air
    from veldrain.model import Box as Box
    from veldrain.model import Capsule as Capsule
    from veldrain.model import Channel as Channel
    from veldrain.model import Cone as Cone
    from veldrain.model import Cylinder as Cylinder
    from veldrain.model import Ellipsoid as Ellipsoid
    from veldrain.model import Failure as Failure
    from veldrain.model import Gap as Gap
    from veldrain.model import HeightField as HeightField
    from veldrain.model import Lamp as Lamp
    from veldrain.model import Leader as Leader
    from veldrain.model import Look as Look
    from veldrain.model import Maze as Maze
    from veldrain.model import Mesh as Mesh
    from veldrain.model import Model as Model
    from veldrain.model import Part as Part
    from veldrain.model import Pipe as Pipe
    from veldrain.model import Ramp as Ramp
    from veldrain.model import Rolls as Rolls
    from veldrain.model import Row as Row
    from veldrain.model import Scatter as Scatter
    from veldrain.model import Sensor as Sensor
    from veldrain.model import Sky as Sky
    from veldrain.model import Sphere as Sphere
    from veldrain.model import Stairs as Stairs
    from veldrain.model import Steers as Steers
    from veldrain.model import Sun as Sun
    from veldrain.model import Surface as Surface
    from veldrain.model import Swings as Swings
    from veldrain.model import Wall as Wall
    from veldrain.model import World as World
    from veldrain.motion import Chain as Chain
    from veldrain.motion import Leg as Leg
    from veldrain.motion import Payload as Payload
    from veldrain.motion import Roads as Roads
    from veldrain.motion import Route as Route
    from veldrain.motion import Trajectory as Trajectory
    from veldrain.motion import payload as payload
    from veldrain.motion import suggest_gains as suggest_gains
    from veldrain.pose import Pose as Pose
    from veldrain.recording import Consistency as Consistency
    from veldrain.recording import Log as Log
    from veldrain.recording import LogComparison as LogComparison
    from veldrain.recording import Matched as Matched
    from veldrain.recording import Recording as Recording
    from veldrain.recording import Sink as Sink
    from veldrain.recording import compare_logs as compare_logs
    from veldrain.recording import consistency as consistency
    from veldrain.recording import detections as detections
    from veldrain.recording import match as match
    from veldrain.recording import open_log as open_log
    from veldrain.recording import true_boxes as true_boxes
    from veldrain.recording.maps import HeightMap as HeightMap
    from veldrain.recording.maps import MapComparison as MapComparison
    from veldrain.recording.maps import OccupancyMap as OccupancyMap
    from veldrain.recording.maps import height_map as height_map
    from veldrain.recording.maps import load_map as load_map
    from veldrain.recording.maps import occupancy as occupancy
    from veldrain.report.birds_eye import birds_eye as birds_eye
    from veldrain.report.overview import overview as overview
    from veldrain.report.picture import look as look
    from veldrain.report.plotting import plot as plot
    from veldrain.report.viewer.making import page as page
    from veldrain.resolver import code_from_files as code_from_files
    from veldrain.review import Coverage as Coverage
    from veldrain.review import Finding as Finding
    from veldrain.review import check as check
    from veldrain.review import coverage as coverage
    from veldrain.scenario import Action as Action
    from veldrain.scenario import Attach as Attach
    from veldrain.scenario import Change as Change
    from veldrain.scenario import Condition as Condition
    from veldrain.scenario import Cut as Cut
    from veldrain.scenario import Fail as Fail
    from veldrain.scenario import Finish as Finish
    from veldrain.scenario import Free as Free
    from veldrain.scenario import Go as Go
    from veldrain.scenario import Keep as Keep
    from veldrain.scenario import Leave as Leave
    from veldrain.scenario import Lock as Lock
    from veldrain.scenario import Picture as Picture
    from veldrain.scenario import Push as Push
    from veldrain.scenario import Put as Put
    from veldrain.scenario import Release as Release
    from veldrain.scenario import Remove as Remove
    from veldrain.scenario import Say as Say
    from veldrain.scenario import Scenario as Scenario
    from veldrain.scenario import Shift as Shift
    from veldrain.scenario import Stop as Stop
    from veldrain.scenario import Switch as Switch
    from veldrain.scenario import Take as Take
    from veldrain.scenario import Tell as Tell
    from veldrain.scenario import Trial as Trial
    from veldrain.scenario import Weather as Weather
    from veldrain.scenario import attached as attached
    from veldrain.scenario import attached_force as attached_force
    from veldrain.scenario import clearance as clearance
    from veldrain.scenario import closing as closing
    from veldrain.scenario import distance as distance
    from veldrain.scenario import elapsed as elapsed
    from veldrain.scenario import height as height
    from veldrain.scenario import inside as inside
    from veldrain.scenario import joint as joint
    from veldrain.scenario import joint_speed as joint_speed
    from veldrain.scenario import reading as reading
    from veldrain.scenario import run as run
    from veldrain.scenario import shows as shows
    from veldrain.scenario import signal as signal
    from veldrain.scenario import speed as speed
    from veldrain.scenario import speed_difference as speed_difference
    from veldrain.scenario import tilt as tilt
    from veldrain.scenario import time_gap as time_gap
    from veldrain.scenario import time_to_collision as time_to_collision
    from veldrain.scenario import touching as touching
    from veldrain.sensing import Airspeed as Airspeed
    from veldrain.sensing import Barometer as Barometer
    from veldrain.sensing import Camera as Camera
    from veldrain.sensing import Encoders as Encoders
    from veldrain.sensing import FootForce as FootForce
    from veldrain.sensing import ForceTorque as ForceTorque
    from veldrain.sensing import Gnss as Gnss
    from veldrain.sensing import Imu as Imu
    from veldrain.sensing import Infrared as Infrared
    from veldrain.sensing import Lidar as Lidar
    from veldrain.sensing import LimitSwitch as LimitSwitch
    from veldrain.sensing import Magnetometer as Magnetometer
    from veldrain.sensing import MotorCurrent as MotorCurrent
    from veldrain.sensing import Odometer as Odometer
    from veldrain.sensing import OpticalFlow as OpticalFlow
    from veldrain.sensing import Radar as Radar
    from veldrain.sensing import SpinningLidar as SpinningLidar
    from veldrain.sensing import Touch as Touch
    from veldrain.sensing import TrueBoxes as TrueBoxes
    from veldrain.sensing import TrueClearance as TrueClearance
    from veldrain.sensing import TrueFrames as TrueFrames
    from veldrain.sensing import TruePose as TruePose
    from veldrain.sensing import TrueRelative as TrueRelative
    from veldrain.sensing import TrueSlip as TrueSlip
    from veldrain.sensing import TrueTraffic as TrueTraffic
    from veldrain.sensing import Ultrasonic as Ultrasonic
    from veldrain.simulation import Simulation as Simulation
    from veldrain.study import Design as Design
    from veldrain.study import Draw as Draw
    from veldrain.study import Drawn as Drawn
    from veldrain.study import FinishTime as FinishTime
    from veldrain.study import Fitted as Fitted
    from veldrain.study import Grid as Grid
    from veldrain.study import Margin as Margin
    from veldrain.study import Match as Match
    from veldrain.study import Metric as Metric
    from veldrain.study import OneAtATime as OneAtATime
    from veldrain.study import Result as Result
    from veldrain.study import ResultComparison as ResultComparison
    from veldrain.study import SpaceFilling as SpaceFilling
    from veldrain.study import Study as Study
    from veldrain.study import Table as Table
    from veldrain.study import Tuned as Tuned
    from veldrain.study import Worst as Worst
    from veldrain.study import compare_results as compare_results
    from veldrain.study import correlated as correlated
    from veldrain.study import find_worst as find_worst
    from veldrain.study import fit as fit
    from veldrain.study import log_uniform as log_uniform
    from veldrain.study import normal as normal
    from veldrain.study import one_of as one_of
    from veldrain.study import triangular as triangular
    from veldrain.study import truncated_normal as truncated_normal
    from veldrain.study import tune as tune
    from veldrain.study import uniform as uniform
    from veldrain.study import uniform_orientation as uniform_orientation
    from veldrain.study import weighted as weighted


def __getattr__(name: str) -> Any:
    if name not in _MODULE_OF:
        raise AttributeError(f"module 'veldrain' has no attribute '{name}'")
    return getattr(importlib.import_module(_MODULE_OF[name]), name)


def __dir__() -> list[str]:
    return sorted({*globals(), *_MODULE_OF})
