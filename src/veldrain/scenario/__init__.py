"""Timeline, triggers, actions, expectations; one trial from start to end."""

from veldrain.scenario.acting import Go, Keep, Leave, Shift, Stop, Take
from veldrain.scenario.actions import Action, Change, Cut, Fail, Finish, Push, Put, Say, Tell, Weather
from veldrain.scenario.conditions import Condition, clearance, distance, touching
from veldrain.scenario.coupling import Attach, Release, attached, attached_force
from veldrain.scenario.holding import Free, Lock, Remove
from veldrain.scenario.lights import Switch, shows
from veldrain.scenario.measures import (
    closing,
    elapsed,
    height,
    inside,
    joint,
    joint_speed,
    reading,
    signal,
    speed,
    speed_difference,
    tilt,
    time_gap,
    time_to_collision,
)
from veldrain.scenario.picturing import Picture
from veldrain.scenario.running import run
from veldrain.scenario.scenario import Expectation, Scenario
from veldrain.scenario.trial import Trial

__all__ = [
    "Action",
    "Attach",
    "Change",
    "Condition",
    "Cut",
    "Expectation",
    "Fail",
    "Finish",
    "Free",
    "Go",
    "Keep",
    "Leave",
    "Lock",
    "Picture",
    "Push",
    "Put",
    "Release",
    "Remove",
    "Say",
    "Scenario",
    "Shift",
    "Stop",
    "Switch",
    "Take",
    "Tell",
    "Trial",
    "Weather",
    "attached",
    "attached_force",
    "clearance",
    "closing",
    "distance",
    "elapsed",
    "height",
    "inside",
    "joint",
    "joint_speed",
    "reading",
    "run",
    "shows",
    "signal",
    "speed",
    "speed_difference",
    "tilt",
    "time_gap",
    "time_to_collision",
    "touching",
]
