"""Timeline, triggers, actions, expectations; one trial from start to end."""

from veldrain.scenario.actions import Action, Finish, Push, Tell
from veldrain.scenario.conditions import Condition, clearance, distance, touching
from veldrain.scenario.scenario import Expectation, Scenario
from veldrain.scenario.trial import Trial, run

__all__ = [
    "Action",
    "Condition",
    "Expectation",
    "Finish",
    "Push",
    "Scenario",
    "Tell",
    "Trial",
    "clearance",
    "distance",
    "run",
    "touching",
]
