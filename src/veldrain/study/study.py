"""A study: controllers and paired conditions over one scenario."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from veldrain import randomness
from veldrain.control import fresh
from veldrain.control.loading import each_of
from veldrain.errors import CodeRefusedError, VeldrainError, checked_title, told_at, unknown
from veldrain.model.knobs import Knob, knob_of
from veldrain.randomness import checked_seed
from veldrain.recording.choice import Choice
from veldrain.scenario import Scenario
from veldrain.scenario.carrying import version, wall_time
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.trial import Trial
from veldrain.study.designs import Design, Drawn, Table
from veldrain.study.draws import Draw, Own, Paths, rounded
from veldrain.study.factors import Factor
from veldrain.study.keeping import Keeping, Policy
from veldrain.study.looking import reads_in
from veldrain.study.metrics import AnyMetric, checked_metrics, expectation_columns
from veldrain.study.ranks import LEVEL
from veldrain.study.sequential import Until
from veldrain.study.sources import Follower, digest, plain
from veldrain.study.starts import bad_starts
from veldrain.units import Quantity, quantity, unit_of_kind

if TYPE_CHECKING:
    from veldrain.progress import Progress
    from veldrain.study.result import Result

LATER = "cannot be loaded within the limit"


class Study:
    """Controllers compared over repeated trials of one scenario.

    Trials are paired: in a trial of one number every controller meets the same conditions and the same noise.

    Args:
        scenario: what happens.
        controllers: by name; each a controller, or several by name, for the one robot that the scenario drives, or
            a dictionary of them by robot. None: the scenario as it is, driven by its own controllers or by nobody.
        vary: what is drawn for each trial, by ``thing.quantity`` such as ``"silt.friction"``, or several that get one
            value: ``{("left.friction", "right.friction"): uniform(0.2, 0.8)}``. A function is called with a random
                stream.
        changes: by controller, what else is other in its trials: quantities by path, such as the gains of motors or
            the noise of a sensor. So two sets of gains are compared, or two sensors, with one controller.
        trials: how many for each controller; None: ten, or as many as the design has.
        metrics: what is measured of each trial, while it runs.
        design: which conditions are run: ``Drawn()``, ``Grid(…)``, ``SpaceFilling(n)``, ``Table(…)``, ``OneAtATime()``.
        seed: of all draws.
        limit: longest that a trial may take by the clock on the wall, s; then it is aborted, and the study goes on.
        where: files and lines of what is varied and of the metrics, by name, for messages.

    Raises:
        VeldrainError: an unknown quantity, a draw of the wrong unit, no controller.

    >>> study = Study(scenario, controllers={"slow": CentreLine(speed=0.3), "fast": CentreLine(speed=0.6)},
    ...               vary={"silt.friction": uniform(0.2, 0.5)}, trials=8)
    >>> soft = Study(scenario, {"stiff": CentreLine(), "soft": CentreLine()},
    ...              changes={"soft": {"crawler/front_left.motor.damping": 1.0}})
    """

    def __init__(
        self,
        scenario: Scenario,
        controllers: Mapping[str, Any] | None = None,
        *,
        vary: Mapping[Paths, Draw] | None = None,
        changes: Mapping[str, Mapping[str, Quantity]] | None = None,
        trials: int | None = None,
        metrics: Sequence[AnyMetric] = (),
        design: Design | None = None,
        seed: int = 0,
        limit: Quantity | None = None,
        where: Mapping[str, str] | None = None,
    ) -> None:
        if trials is not None and (isinstance(trials, bool) or trials != int(trials) or trials < 1):
            raise VeldrainError(f"{trials} trials", where="study", cure="give a whole number, 1 or more")
        if controllers is None:  # nothing is compared: the scenario as it is
            controllers = {("own" if scenario.controllers else "undriven"): dict(scenario.controllers)}
        if not controllers:
            raise VeldrainError("no controllers", where="study", cure="give one or more, or leave the word out")
        self.scenario, self.seed = scenario, checked_seed(seed)
        self.limit, self.where = wall_time(limit), dict(where or {})
        self.level = LEVEL  # of intervals and tests; higher where one looks more than once
        self.noise = ""  # names another luck of all trials
        self.variants: dict[str, Study] = {}  # the same with something other, by what it is
        self.file = ""  # that it was read from
        self.orders: dict[str, dict[str, Any]] = {}  # what its file asks of tune, worst and fit
        self.keep: Policy = "all"  # which recordings, where run is not told
        self.controllers = {
            checked_title(name, "controller", is_file=True): self._by_robot(name, c) for name, c in controllers.items()
        }
        folders: dict[str, str] = {}
        for name in self.controllers:
            if (other := folders.setdefault(name.casefold(), name)) != name:
                raise VeldrainError(
                    f"'{other}' and '{name}' are one folder on some systems", where="controllers", cure="rename one"
                )
        for name, by_robot in self.controllers.items():
            for title, controller in each_of(by_robot):
                # Its trials will break off for the same reason, or a rehearsal tell it.
                with suppress(OverLimitError, CodeRefusedError), limited(self.limit):
                    fresh(controller, f"controller '{name}' of {title}")
        self.vary = {
            paths: draw if isinstance(draw, Draw) else _own(draw, paths) for paths, draw in (vary or {}).items()
        }
        self.design = design or Drawn()
        self._kinds = self._kinds_of(self._varied())
        self.factors = [
            Factor(paths, tuple(self._kinds[p] for p in paths), draw)
            for paths, draw in zip(map(_all, self.vary), self.vary.values(), strict=True)
        ]
        for factor in self.factors:
            factor.see_that_it_can_be_drawn()
        self._rows: Sequence[dict[str, float]] | None = None
        most = len(self.rows) if self.design.has_end else None
        if trials is not None and most is not None and trials > most:
            raise VeldrainError(f"{trials} trials of a design of {most}", where="study", cure="leave trials out")
        self.trials = int(trials) if trials is not None else 10 if most is None else most
        self.changes = {name: self._changed(name, told) for name, told in (changes or {}).items()}
        taken = [*self._kinds, *(c for name in scenario.expectations for c in expectation_columns(name))]
        self.metrics = checked_metrics(list(metrics), taken)
        self.reads_in: dict[str, str] = {}  # the units of what metrics read, once it was looked at

    def __getstate__(self) -> dict[str, Any]:  # workers are told what is drawn
        return self.__dict__ | {"_rows": None, "factors": [], "vary": {}, "design": Drawn()}

    def __copy__(self) -> Study:
        other = object.__new__(type(self))
        other.__dict__.update(self.__dict__)
        return other

    def _varied(self) -> list[str]:
        """The paths of all that is varied, by draws or by a table."""
        paths = [path for paths in self.vary for path in _all(paths)]
        if isinstance(self.design, Table):
            if paths:
                raise VeldrainError("vary and a table", where="design", cure="give the values in the table alone")
            paths = self.design.paths
        twice = [path for path in paths if paths.count(path) > 1]
        if twice:
            raise VeldrainError(f"{twice[0]} is drawn twice", where="vary", cure="name it once")
        return paths

    def _kinds_of(self, paths: Iterable[str]) -> dict[str, str]:
        """The kinds of quantities that are varied, which the scenario has with each controller."""
        kinds: dict[str, str] = {}
        self._usual: dict[str, float | None] = {}
        if not paths:
            return kinds
        for name, controllers in self.controllers.items():
            known = {knob.path: knob for knob in self.scenario.driven_by(controllers).knobs()}
            for path in paths:
                knob = knob_of(known.values(), path, f"vary, with controller '{name}'")
                kinds[path] = knob.kind
                self._usual.setdefault(path, knob.get())
        return kinds

    def _changed(self, name: str, told: Mapping[str, Quantity]) -> dict[str, tuple[float, str]]:
        """What is other with a controller: values in SI units, and their units, by path."""
        if name not in self.controllers:
            raise unknown("controller", name, self.controllers, self.where.get(f"changes {name}", "changes"))
        known, found = list(self.scenario.driven_by(self.controllers[name]).knobs()), {}
        for path, value in told.items():
            where = self.where.get(f"changes {name} {path}", f"changes of '{name}'")
            knob = knob_of(known, path, where)
            if path in self._kinds:
                raise VeldrainError(
                    "is drawn, and set with a controller as well", where=f"{where}: {path}", cure="take one of them out"
                )
            found[path] = quantity(value, knob.kind, f"{where}: {path}"), knob.unit
        return found

    def _by_robot(self, name: str, controller: Any) -> dict[str, Any]:
        if isinstance(controller, Mapping) and set(controller) <= set(self.scenario.world.placed):
            return dict(controller)
        robots = list(self.scenario.controllers) or list(self.scenario.world.placed)
        if len(robots) != 1:
            raise VeldrainError(
                f"which of {', '.join(robots) or 'no robots'} it drives is not said",
                where=f"controller '{name}'",
                cure="give {'<robot>': controller}",
            )
        return {robots[0]: dict(controller) if isinstance(controller, Mapping) else controller}

    def kind(self, path: str) -> str:
        """The kind of a quantity that is varied, such as ``length``."""
        return self._kinds[path]

    @property
    def units(self) -> dict[str, str]:
        """The SI unit of each quantity that is varied."""
        return {path: unit_of_kind(kind) for path, kind in self._kinds.items()}

    @property
    def usual(self) -> dict[str, float]:
        """What the quantities that are varied are in the scenario itself, SI units.

        Raises:
            VeldrainError: one has no value there.
        """
        for path, value in self._usual.items():
            if value is None:
                raise VeldrainError("has no value in the scenario", where=path, cure="give it one there")
        return {path: value for path, value in self._usual.items() if value is not None}

    @property
    def rows(self) -> Sequence[dict[str, float]]:
        """The conditions of all trials that the design has, SI units."""
        if self._rows is None:
            usual = self.usual if any(v is not None for v in self._usual.values()) and self.design.has_end else {}
            self._rows = self.design.rows(self.factors, self._kinds, self.seed, usual)
        return self._rows

    def draw(self, trial: int) -> dict[str, float]:
        """The values of what is varied in a trial, SI units; the same for every controller."""
        return {path: rounded(value) for path, value in self.rows[trial].items()}

    def seed_of(self, trial: int) -> int:
        """The seed of a trial's noise; the same for every controller."""
        return randomness.child_seed(self.seed, f"noise{self.noise}", trial)

    def drawn(self, values: Mapping[str, float], controller: str | None = None) -> Scenario:
        """The scenario with these values (SI units) in their places, driven by a controller (None: by the first)."""
        name = controller or next(iter(self.controllers))
        scenario = copy.deepcopy(self.scenario.driven_by(self.controllers[name]))
        told = {**{path: value for path, (value, _) in self.changes.get(name, {}).items()}, **values}
        if told:
            knobs: dict[str, Knob] = {knob.path: knob for knob in scenario.knobs()}
            for path, value in told.items():
                knob_of(knobs.values(), path, "vary") if path not in knobs else knobs[path].set(value)
        return scenario

    def trial(self, number: int, controller: str, **options: Any) -> Trial:
        """A trial of the study, not yet begun: to look at it as it goes, or to branch from it.

        >>> study.trial(3, "damped").run()["passed"]  # doctest: +SKIP
        """
        if controller not in self.controllers:
            raise unknown("controller", controller, self.controllers, "study")
        return Trial(self.drawn(self.draw(number), controller), self.seed_of(number), **options)

    def describe(self) -> dict[str, Any]:
        """All that decides the results of every controller, as plain data."""
        return {
            "version": version(),
            "seed": self.seed,
            "draws": plain([[list(_all(paths)), draw] for paths, draw in self.vary.items()] + [self.design]),
            "world": plain(self.scenario.world),
            "scenario": {k: v for k, v in plain(vars(self.scenario)).items() if k not in ("world", "controllers")},
        }

    def fingerprints(self) -> dict[str, str]:
        """A digest of each part of ``describe``: they are those of a study whose trials may stand in one folder."""
        return {name: digest(part) for name, part in self.describe().items()}

    def sources(self) -> dict[str, str]:
        """A digest of each controller: class, arguments, code, the user's own files and data that it draws on."""
        return self.followed()[0]

    def followed(self) -> tuple[dict[str, str], list[str]]:
        """The same, and what could not be followed, by name."""
        found, missed = dict.fromkeys(self.controllers, LATER), list[str]()
        for name, by_robot in self.controllers.items():
            with suppress(OverLimitError), limited(self.limit):
                follower = Follower()
                found[name] = digest([follower.plain(by_robot), plain(self.changes.get(name) or None)])
                missed += [f"{name}: {what}" for what in follower.missed]
        return found, missed

    def fingerprint(self) -> str:
        """A digest of all that decides the results but the number of trials."""
        return digest([self.fingerprints(), self.sources()])

    def run(
        self,
        folder: str | Path,
        *,
        workers: int = 1,
        progress: Progress | None = None,
        executor: Executor | None = None,
        keep: Policy | Keeping | None = None,
        until: str | tuple[str, float | str] | Until | None = None,
    ) -> Result:
        """Run the trials that the folder does not hold yet.

        Args:
            folder: where recordings and results go; made if missing. A folder with a part of this same study
                is completed; more trials can be added.
            workers: processes.
            progress: called with trials done, trials in all, and what was done last.
            executor: runs the trials instead of processes of its own: any ``concurrent.futures.Executor``, such as
                ``distributed.Client(address).get_executor()``. Recordings come back to the folder.
            keep: which recordings (None: as the study says, else all): ``all``, ``failed``, ``none``, ``("worst",
                metric, 10)``, ``("first", 10)``. One that is not kept is made again, to the same bytes, when
                ``Result.recording`` asks for it.
            until: end before the last trial, as soon as there is a verdict in a metric (``"offset"``, or
                ``"passes"``), or an interval that is narrow enough (``"offset within 1 cm"``). Looks are taken at set
                numbers of trials, each at such a level that all of them together err in 5 %; ``Result.compare`` knows
                that level.

        Raises:
            VeldrainError: the folder holds something else.
        """
        from veldrain.study.carrying_out import run_study, run_until

        if until is not None:
            return run_until(
                self, Path(folder), Until.of(until), workers=workers, progress=progress, executor=executor, keep=keep
            )
        return run_study(
            self,
            Path(folder),
            workers=workers,
            progress=progress,
            executor=executor,
            keep=Keeping.of(self.keep if keep is None else keep),
        )

    def sharpen(
        self,
        folder: str | Path,
        trials: int = 20,
        *,
        controller: str | None = None,
        quantities: Sequence[str] | None = None,
        workers: int = 1,
        progress: Progress | None = None,
    ) -> Result:
        """Run more trials where a controller turns from passing to failing, so that its boundary is drawn sharper.

        They are taken of the draws that come later: those whose chance of passing is nearest to one half. Boundaries
            and
        effects use them; comparisons do not, as they are no fair sample.

        Args:
            folder: with results of this study.
            trials: more.
            controller: whose boundary; None: the first that passes some and fails some.
            quantities: over which; None: all that is varied.
            workers, progress: as of ``run``.

        Raises:
            VeldrainError: no boundary yet, or a design that is not drawn.
        """
        from veldrain.study.sharpening import sharpen

        return sharpen(self, Path(folder), trials, controller, quantities, workers, progress)

    def rehearse(self) -> None:
        """Set up a trial with each controller, and look whether metrics, records and draws will do.

        Raises:
            VeldrainError: what would go wrong at the start of a trial, before anything is written.
        """
        first = True
        for name in self.controllers:
            with suppress(OverLimitError), limited(self.limit):
                scenario = self.drawn({}, name)
                trial = Trial(scenario)
                choice = Choice.of(scenario.record.words)
                choice.check([*trial.streams(), *trial.companions()], scenario.controllers)
                for metric in self.metrics:
                    with told_at(self.where.get(f"metric {metric.name}", "")):
                        unit = reads_in(metric, trial, self.limit)
                        if first or unit:
                            self.reads_in.setdefault(metric.name, unit)
                            self.reads_in[metric.name] = self.reads_in[metric.name] or unit
                first = False
        for finding in bad_starts(self):
            raise finding


def _all(paths: Paths) -> tuple[str, ...]:
    return (paths,) if isinstance(paths, str) else tuple(paths)


def _own(draw: Any, paths: Paths) -> Draw:
    if not callable(draw):
        raise VeldrainError(
            f"{draw!r} is no draw", where=f"vary: {', '.join(_all(paths))}", cure="give such as vd.uniform(0.2, 0.5)"
        )
    return Own(draw)
