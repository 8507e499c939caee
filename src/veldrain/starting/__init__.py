"""A small project to start from: a world, a scenario, a study, a controller, a test, and a README; all of it runs."""

from veldrain.starting.project import KINDS, Started, start, template, told

__all__ = ["KINDS", "Started", "start", "template", "told"]
