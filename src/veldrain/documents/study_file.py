"""Study files: the same words as ``Study``."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from pydantic import StrictInt

from veldrain.documents.scenario_file import Controllers, ControllerText, load_scenario, named_controllers
from veldrain.documents.source import Document, Source
from veldrain.documents.words import NamedText
from veldrain.errors import VeldrainError
from veldrain.model.knobs import knob_of
from veldrain.scenario import Scenario
from veldrain.study import Draw, FinishTime, Margin, Metric, Study, normal, one_of, uniform
from veldrain.study.metrics import AnyMetric
from veldrain.units import Quantity


class DrawText(Document):
    """``{uniform: [low, high]}``, ``{normal: [mean, deviation]}`` or ``{one_of: [a, b, c]}``."""

    uniform: tuple[Quantity, Quantity] | None = None
    normal: tuple[Quantity, Quantity] | None = None
    one_of: list[Quantity] | None = None

    def make(self) -> Draw:
        if sum(way is not None for way in (self.uniform, self.normal, self.one_of)) != 1:
            raise VeldrainError("not one draw", cure="give one of uniform, normal and one_of")
        if self.uniform:
            return uniform(*self.uniform)
        return normal(*self.normal) if self.normal else one_of(*(self.one_of or []))


class MetricText(Document):
    """A statistic of a stream's column, the time of a finish, or the margin of an expectation."""

    name: str
    stream: str | None = None
    column: str | None = None
    statistic: str | None = None
    finish: str | None = None
    margin: str | None = None
    unit: str | None = None
    better: Literal["lower", "higher"] | None = None
    matters: Quantity = 0.0

    def make(self) -> AnyMetric:
        of_stream, better = (self.stream, self.column, self.statistic), self.better or "lower"
        told = [self.finish is not None, self.margin is not None, any(of_stream)]
        if sum(told) != 1 or (any(of_stream) and not all(of_stream)):
            raise VeldrainError("not a metric", cure="give stream, column and statistic, or finish, or margin")
        if self.finish is not None:
            return FinishTime(self.name, self.finish, self.unit or "s", better, self.matters)
        if self.margin is not None:
            return Margin(self.name, self.margin, self.unit or "", self.better or "higher", self.matters)
        return Metric(
            self.name, self.stream or "", self.column or "", self.statistic or "", self.unit or "", better, self.matters
        )


class StudyText(Document):
    """A study file. A controller is one for the scenario's one robot, or by robot one or several."""

    scenario: str | NamedText  # a file, or what a function gives: ``use`` and ``with``
    controllers: dict[str, ControllerText | dict[str, Controllers]]
    vary: dict[str, DrawText] = {}
    changes: dict[str, dict[str, Quantity]] = {}  # by controller: quantities by path
    trials: StrictInt = 10
    metrics: list[MetricText] = []
    seed: StrictInt = 0
    limit: Quantity | None = None


def load_study(path: str | Path, *, draft: bool = False, limit: Quantity | None = None) -> Study:
    """A study from a file that starts with ``veldrain: study/1``; its scenario is a file beside it, or made.

    Args:
        path: the file.
        draft: of its world, see ``load_world``.
        limit: of a trial, s, instead of the file's.

    Raises:
        VeldrainError: what is wrong in it or in the files it names, with file and line.

    >>> load_study("culvert.study.yaml").trials
    8
    """
    source = Source(path, "study")
    text = source.read(StudyText)
    folder = source.path.parent
    with source.at("scenario"):
        told = text.scenario
        scenario = load_scenario(folder / told, draft) if isinstance(told, str) else told.make(folder)
        if not isinstance(scenario, Scenario):
            raise VeldrainError(f"{type(scenario).__name__} is no scenario", cure="name a function that gives one")
    controllers = named_controllers(text.controllers, source, "controllers")
    vary, known = {}, {knob.path: knob for knob in scenario.knobs()}
    for thing, draw in text.vary.items():
        with source.at("vary", thing):
            vary[thing] = draw.make()
            # The study's own controllers may have quantities that the scenario's has not: the study looks at them.
            is_theirs = thing not in known and thing.partition(".")[0].endswith("controller")
            kind = "ratio" if is_theirs else knob_of(known.values(), thing, "vary").kind
            vary[thing].bind(kind, thing)  # a mistake is told with its line
    metrics = []
    for k, metric in enumerate(text.metrics):
        with source.at("metrics", k):
            metrics.append(metric.make())
    with source.at("trials"):
        where = {thing: source.line(("vary", thing)) for thing in vary}
        for name, paths in text.changes.items():
            where[f"changes {name}"] = source.line(("changes", name))
            where |= {f"changes {name} {path}": source.line(("changes", name, path)) for path in paths}
        where |= {f"controller {name}": source.line(("controllers", name)) for name in text.controllers}
        where |= {f"metric {m.name}": source.line(("metrics", k)) for k, m in enumerate(metrics)}
        return Study(
            scenario,
            controllers,
            vary=vary,
            changes=text.changes,
            trials=text.trials,
            metrics=metrics,
            seed=text.seed,
            limit=limit or text.limit,
            where=where,
        )
