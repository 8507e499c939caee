"""World, scenario and study files: YAML, one to one with the Python objects; scenarios as OpenSCENARIO."""

from veldrain.documents.open_scenario_in import load_open_scenario
from veldrain.documents.open_scenario_out import save_open_scenario
from veldrain.documents.saving import save_scenario, save_world
from veldrain.documents.scenario_file import load_scenario
from veldrain.documents.study_file import load_study
from veldrain.documents.world_file import load_world

__all__ = [
    "load_open_scenario",
    "load_scenario",
    "load_study",
    "load_world",
    "save_open_scenario",
    "save_scenario",
    "save_world",
]
