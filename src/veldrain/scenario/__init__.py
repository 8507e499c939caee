"""Timeline, triggers, actions, expectations; one trial from start to end."""

from veldrain.scenario.conditions import Condition, clearance, distance, touching
from veldrain.scenario.scenario import Expectation, Finish, Push, Scenario
from veldrain.scenario.trial import run

__all__ = ["Condition", "Expectation", "Finish", "Push", "Scenario", "clearance", "distance", "run", "touching"]
