"""Study files: the same words as ``Study``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, StrictInt

from veldrain.documents.scenario_file import Controllers, ControllerText, load_scenario, named_controllers
from veldrain.documents.source import Document, Source
from veldrain.documents.words import NamedText
from veldrain.errors import VeldrainError
from veldrain.model.knobs import knob_of
from veldrain.resolver import call_named, load_named
from veldrain.scenario import Scenario
from veldrain.study import (
    Design,
    Draw,
    FinishTime,
    Grid,
    Margin,
    Match,
    Metric,
    OneAtATime,
    SpaceFilling,
    Study,
    Table,
    draws,
)
from veldrain.study.draws import Paths
from veldrain.study.metrics import AnyMetric
from veldrain.units import Quantity


class DrawText(Document):
    """One distribution: ``{uniform: [low, high]}``, ``{one_of: [a, b, c]}`` and so on."""

    uniform: tuple[Quantity, Quantity] | None = None
    log_uniform: tuple[Quantity, Quantity] | None = None
    triangular: tuple[Quantity, Quantity, Quantity] | None = None
    normal: tuple[Quantity, Quantity] | None = None
    truncated_normal: dict[str, Quantity] | None = None
    one_of: list[Quantity] | None = None
    weighted: dict[Quantity, float] | None = None
    uniform_orientation: Literal[True] | None = None
    use: str | None = None
    arguments: dict[str, Any] = Field(default={}, alias="with")

    def make(self, folder: Path) -> Draw:
        made: dict[str, Callable[[Any], Draw]] = {
            "uniform": lambda v: draws.uniform(*v),
            "log_uniform": lambda v: draws.log_uniform(*v),
            "triangular": lambda v: draws.triangular(*v),
            "normal": lambda v: draws.normal(*v),
            "truncated_normal": lambda v: call_named(draws.truncated_normal, v, "truncated_normal", ""),
            "one_of": lambda v: draws.one_of(*v),
            "weighted": draws.weighted,
            "uniform_orientation": lambda _: draws.uniform_orientation(),
            "use": lambda v: draws.Own(load_named(v, folder, ""), self.arguments),
        }
        told = [word for word in made if getattr(self, word) is not None]
        if len(told) != 1:
            raise VeldrainError("not one draw", cure=f"give one of {', '.join(made)}")
        return made[told[0]](getattr(self, told[0]))


class CorrelatedText(Document):
    """Quantities whose ranks go together: their draws, and the matrix of their rank correlations."""

    draws: dict[str, DrawText]
    matrix: list[list[float]]


class DesignText(Document):
    """Which conditions are run: ``drawn``, or one of the words below."""

    grid: dict[str, Any] | None = None
    space_filling: dict[str, Any] | None = None
    table: str | list[dict[str, Quantity]] | None = None
    one_at_a_time: dict[str, Any] | None = None

    def make(self, folder: Path) -> Design:
        kinds = {"grid": Grid, "space_filling": SpaceFilling, "one_at_a_time": OneAtATime}
        told = [word for word in (*kinds, "table") if getattr(self, word) is not None]
        if len(told) != 1:
            raise VeldrainError("not one design", cure=f"write drawn, or one of {', '.join([*kinds, 'table'])}")
        value = getattr(self, told[0])
        if told[0] == "table":
            return Table(folder / value if isinstance(value, str) else value)
        return call_named(kinds[told[0]], value, told[0], "")  # type: ignore[no-any-return]


class MetricText(Document):
    """A statistic of a stream's column, the time of a finish, the margin of an expectation, or one of one's own."""

    name: str
    stream: str | None = None
    column: str | None = None
    statistic: str | None = None
    finish: str | None = None
    margin: str | None = None
    unit: str | None = None
    better: Literal["lower", "higher"] | None = None
    matters: Quantity = 0.0
    level: Quantity | None = None
    band: Quantity | None = None
    target: Quantity | None = None
    percent: float | None = None
    at: Quantity | None = None
    since: Quantity | None = None
    until: Quantity | None = None
    missing: Literal["nan", "skip"] = "nan"
    use: str | None = None
    arguments: dict[str, Any] = Field(default={}, alias="with")

    def make(self, folder: Path) -> AnyMetric:
        of_stream, better = (self.stream, self.column, self.statistic), self.better or "lower"
        told = [self.finish is not None, self.margin is not None, any(of_stream), self.use is not None]
        if sum(told) != 1 or (any(of_stream) and not all(of_stream)):
            raise VeldrainError("not a metric", cure="give stream, column and statistic, or finish, margin or use")
        if idle := sorted(self.model_fields_set - self._taken()):
            raise VeldrainError(
                f"'{idle[0].replace('arguments', 'with')}' has no meaning here",
                cure="leave it out, or give a stream's statistic",
            )
        if self.use is not None:
            own = {"name": self.name} | self.arguments
            made: AnyMetric = call_named(load_named(self.use, folder, ""), own, self.use, "")
            return made
        if self.finish is not None:
            return FinishTime(self.name, self.finish, self.unit or "s", better, self.matters)
        if self.margin is not None:
            return Margin(self.name, self.margin, self.unit or "", self.better or "higher", self.matters)
        first = ("name", "stream", "column", "statistic", "unit", "better")
        more = {f.name: getattr(self, f.name) for f in fields(Metric) if f.name not in first}
        of = (self.name, self.stream or "", self.column or "", self.statistic or "")
        return Metric(*of, unit=self.unit or "", better=better, **more)

    def _taken(self) -> set[str]:
        """The words that a metric of this kind takes."""
        if self.use is not None:
            return {"name", "use", "arguments"}
        if self.stream is not None:
            return {f.name for f in fields(Metric)}
        return {"name", "unit", "better", "matters", "finish", "margin"}


class TuneText(Document):
    """What is tuned: bounds by path, for a metric."""

    metric: str
    of: dict[str, tuple[Quantity, Quantity]]
    controller: str | None = None
    trials: StrictInt | None = None
    budget: StrictInt = 200
    confirm: StrictInt | None = None
    seed: StrictInt = 0

    def told(self) -> dict[str, Any]:
        words = ("metric", "controller", "trials", "budget", "confirm", "seed")
        return {word: getattr(self, word) for word in words} | {"bounds": self.of}


class WorstText(Document):
    """The metric that is to be as bad as it can."""

    metric: str
    controller: str | None = None
    budget: StrictInt = 200
    seed: StrictInt = 0

    def told(self) -> dict[str, Any]:
        return {word: getattr(self, word) for word in ("metric", "controller", "budget", "seed")}


class MatchText(Document):
    """A column that is to be as in the log."""

    column: str
    log: str = ""
    weight: float = 1.0


class LogText(Document):
    """A log, and what was other in the scenario while it was recorded: quantities by path."""

    file: str
    at: dict[str, Quantity] = {}


class FitText(Document):
    """What is fitted: bounds by path, to columns of logs."""

    log: str | LogText | list[str | LogText]
    of: dict[str, tuple[Quantity, Quantity]]
    match: list[str | MatchText]
    lag: Quantity | None = None
    starts: StrictInt = 12
    seed: StrictInt = 0

    def told(self, folder: Path) -> dict[str, Any]:
        several = self.log if isinstance(self.log, list) else [self.log]
        logs = [LogText(file=log) if isinstance(log, str) else log for log in several]
        match = [m if isinstance(m, str) else Match(m.column, m.log, m.weight) for m in self.match]
        own = {word: getattr(self, word) for word in ("lag", "starts", "seed")}
        told = [(folder / log.file, log.at) for log in logs]
        return own | {"logs": told, "bounds": self.of, "match": match}


class StudyText(Document):
    """A study file. A controller is one for the scenario's one robot, or by robot one or several."""

    scenario: str | NamedText  # a file, or what a function gives: ``use`` and ``with``
    controllers: dict[str, ControllerText | dict[str, Controllers]] | None = None
    vary: dict[str, DrawText] = {}  # several quantities that get one value stand in one name, with commas
    correlated: list[CorrelatedText] = []
    design: Literal["drawn"] | DesignText = "drawn"
    changes: dict[str, dict[str, Quantity]] = {}  # by controller: quantities by path
    trials: StrictInt | None = None
    keep: Literal["all", "failed", "none"] | list[str | int] = "all"
    metrics: list[MetricText] = []
    seed: StrictInt = 0
    limit: Quantity | None = None
    tune: TuneText | None = None
    worst: WorstText | None = None
    fit: FitText | None = None


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
    told_controllers = text.controllers or {}
    controllers = named_controllers(told_controllers, source, "controllers")
    vary: dict[Paths, Draw] = {}
    known = {knob.path: knob for knob in scenario.knobs()}

    def check(thing: str, draw: Draw) -> Paths:
        """A draw is told with its line where it is none of what it is for."""
        paths = tuple(path.strip() for path in thing.split(","))
        # The study's own controllers may have quantities that the scenario's has not: the study looks at them.
        theirs = [path not in known and path.partition(".")[0].endswith("controller") for path in paths]
        kinds = [
            "ratio" if own else knob_of(known.values(), path, "vary").kind
            for path, own in zip(paths, theirs, strict=True)
        ]
        draw.bind_all(kinds, thing)
        return paths[0] if len(paths) == 1 else paths

    for thing, draw in text.vary.items():
        with source.at("vary", thing):
            made = draw.make(folder)
            vary[check(thing, made)] = made
    for k, group in enumerate(text.correlated):
        with source.at("correlated", k):
            found = draws.correlated({thing: draw.make(folder) for thing, draw in group.draws.items()}, group.matrix)
            vary |= {check(str(thing), made): made for thing, made in found.items()}
    with source.at("design"):
        design = None if isinstance(text.design, str) else text.design.make(folder)
    metrics = []
    for k, metric in enumerate(text.metrics):
        with source.at("metrics", k):
            metrics.append(metric.make(folder))
    with source.at("trials"):
        where = {path.strip(): source.line(("vary", thing)) for thing in text.vary for path in thing.split(",")}
        for name, paths in text.changes.items():
            where[f"changes {name}"] = source.line(("changes", name))
            where |= {f"changes {name} {path}": source.line(("changes", name, path)) for path in paths}
        where |= {f"controller {name}": source.line(("controllers", name)) for name in told_controllers}
        where |= {f"metric {m.name}": source.line(("metrics", k)) for k, m in enumerate(metrics)}
        study = Study(
            scenario,
            None if text.controllers is None else controllers,
            vary=vary,
            changes=text.changes,
            trials=text.trials,
            metrics=metrics,
            design=design,
            seed=text.seed,
            limit=limit or text.limit,
            where=where,
        )
    study.file, study.keep = str(source.path.resolve()), text.keep
    orders = {"tune": text.tune, "worst": text.worst}
    study.orders = {word: order.told() for word, order in orders.items() if order is not None}
    if text.fit is not None:
        study.orders["fit"] = text.fit.told(folder)
    return study
