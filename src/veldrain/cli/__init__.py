"""The command line: parse, call, print."""

from __future__ import annotations

import inspect as inspection
import io
import logging
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import Annotated, Any

import typer

from veldrain.errors import VeldrainError, printable

app = typer.Typer(
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Simulated robot worlds, scripted trials, recorded streams, honest comparisons.",
)


def _there(what: str) -> Callable[[Any], Any]:
    """A look at whether files are there, before all that reads them is imported, which takes a second or two."""

    def look(given: Path | list[Path] | None) -> Path | list[Path] | None:
        for path in given if isinstance(given, list) else [given] if given else []:
            if not path.exists():
                raise VeldrainError("no such file", where=str(path), cure=f"name {what}")
        return given

    return look


Limit = Annotated[str | None, typer.Option(help="Longest that a trial may take on the clock, such as 60s.")]
Workers = Annotated[int, typer.Option(help="Processes that run trials.")]


def _version(is_asked: bool) -> None:
    if is_asked:
        import importlib.metadata

        typer.echo(f"veldrain {importlib.metadata.version('veldrain')}")
        raise typer.Exit


@app.callback()
def _all(
    version: Annotated[bool, typer.Option("--version", help="Print the version.", callback=_version, is_eager=True)] = (
        False
    ),
) -> None:
    """Simulated robot worlds, scripted trials, recorded streams, honest comparisons."""


def _only(context: typer.Context, mode: str, words: str) -> None:
    """Refuse what was given and has no meaning in a mode: what is ignored misleads.

    Args:
        context: of the command.
        mode: as it is told, such as ``--knobs``.
        words: the names of the parameters that have one.
    """
    for parameter in context.command.params:
        source = context.get_parameter_source(str(parameter.name))
        is_given = source is not None and source.name == "COMMANDLINE"
        if is_given and parameter.name not in (*words.split(), "trust", "no_code", "quiet"):
            raise VeldrainError(f"has no meaning {mode}", where=parameter.opts[0], cure="leave it out")


Json = Annotated[bool, typer.Option("--json", help="Print the result as JSON, and nothing else.")]
Trust = Annotated[
    bool, typer.Option("--trust", help="Run code that files name wherever it lies, and programs in a check too.")
]
NoProgress = Annotated[bool, typer.Option("--quiet", help="Do not show how far it is.")]
NoCode = Annotated[bool, typer.Option("--no-code", help="Run no code that files name: refuse it, by name and line.")]


def _names_code(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose files may name code: with ``--trust`` and ``--no-code``."""

    @wraps(command)
    def within(*given: Any, trust: bool = False, no_code: bool = False, **named: Any) -> None:
        if trust and no_code:
            raise VeldrainError("--trust and --no-code", cure="give one of them")
        if not trust and not no_code:
            return command(*given, **named)
        from veldrain.resolver import code_from_files

        with code_from_files("all" if trust else "none"):
            return command(*given, **named)

    return _with_options(command, within, {"trust": Trust, "no_code": NoCode})


def _can_be_quiet(command: Callable[..., None]) -> Callable[..., None]:
    """A command with ``--quiet``."""

    @wraps(command)
    def within(*given: Any, quiet: bool = False, **named: Any) -> None:
        if not quiet:
            return command(*given, **named)
        from veldrain.cli.progressing import silent

        with silent():
            return command(*given, **named)

    return _with_options(command, within, {"quiet": NoProgress})


def _with_options(
    command: Callable[..., None], within: Callable[..., None], more: dict[str, Any]
) -> Callable[..., None]:
    """The function around a command, with options of its own beside the command's."""
    known = inspection.signature(command, eval_str=True)
    added = [
        inspection.Parameter(k, inspection.Parameter.KEYWORD_ONLY, default=False, annotation=v) for k, v in more.items()
    ]
    vars(within)["__signature__"] = known.replace(parameters=[*known.parameters.values(), *added])
    within.__annotations__ = command.__annotations__ | more
    return within


@contextmanager
def _interruptible(what_now: str) -> Iterator[None]:
    """Ctrl-C ends the command with one line that says what became of its work, and exit status 130."""
    try:
        yield
    except KeyboardInterrupt:
        sys.stderr.write(f"interrupted: {what_now}\n")
        raise typer.Exit(130) from None


@app.command()
def demo(
    name: Annotated[
        str, typer.Argument(help="culvert: two controllers; probe: two thousand drops, and a fit.")
    ] = "culvert",
    out: Annotated[Path | None, typer.Option(help="Folder for files and results; default: a new one here.")] = None,
    trials: Annotated[int | None, typer.Option(help="Trials for each controller.")] = None,
    workers: Workers = 2,
) -> None:
    """Run a study that comes along: from a built world to a comparison, or to a fit."""
    from veldrain.cli import commands

    with _interruptible("trials that were finished are kept; 'veldrain study' with the same folder goes on"):
        commands.demo(name, out, trials, workers)


@app.command()
def new(
    folder: Annotated[Path, typer.Argument(help="Folder to write; it must not hold anything yet.")],
    robot: Annotated[Path | None, typer.Option(help="Robot file (URDF, xacro) to build it around.")] = None,
    kind: Annotated[str, typer.Option(help="Template: cart, arm, car, walker or flyer.")] = "cart",
) -> None:
    """Write a small project of your own that runs at once: world, scenario, study, controller, test, README."""
    from veldrain.cli import commands

    commands.new(folder, robot, kind)


@app.command()
@_names_code
def run(
    context: typer.Context,
    scenario: Annotated[
        Path,
        typer.Argument(
            help="Scenario file, or OpenSCENARIO (.xosc); or a study's results.", callback=_there("a scenario file")
        ),
    ],
    trial: Annotated[int | None, typer.Argument(help="Of a study's results: the trial that is run again.")] = None,
    controller: Annotated[
        str | None,
        typer.Option(help="Instead of the file's: module:Name or file.py:Name; of a study's results: its name there."),
    ] = None,
    study: Annotated[Path | None, typer.Option(help="Of a study's results: its study file, if it was moved.")] = None,
    seed: Annotated[int, typer.Option(help="Seed of the sensors' noise.")] = 0,
    out: Annotated[Path | None, typer.Option(help="MCAP file to write; default: a new one here.")] = None,
    exact: Annotated[bool, typer.Option("--exact", help="Sensors measure without errors of their own.")] = False,
    keep_states: Annotated[
        str | None, typer.Option(help="So often the whole state is recorded too, such as 5s, to go on from there.")
    ] = None,
    limit: Limit = None,
    only: Annotated[list[str] | None, typer.Option(help="Record this stream, with * for any part; repeatable.")] = None,
    without: Annotated[list[str] | None, typer.Option(help="Do not record this stream; repeatable.")] = None,
    every: Annotated[
        list[str] | None, typer.Option(help="Least time between messages of a stream: crawler/scan=1s; repeatable.")
    ] = None,
    json: Json = False,
) -> None:
    """Run one trial of a scenario and record it; exit status 1 where it does not pass."""
    from veldrain.cli import commands

    with _interruptible("what was recorded is kept"):
        if trial is not None or scenario.is_dir():
            _only(context, "with a study's results", "scenario trial controller study out keep_states")
            if trial is None:
                raise VeldrainError("which trial is run again is not said", where="run", cure="write its number too")
            from veldrain.cli import studies

            if not studies.again(scenario, trial, controller, study, out, keep_states):
                raise typer.Exit(1)
            return
        _only(
            context,
            "without a study's results",
            "scenario controller seed out exact limit keep_states only without every json",
        )
        if not commands.run(scenario, controller, seed, out, exact, limit, keep_states, (only, without, every), json):
            raise typer.Exit(1)


@app.command()
@_names_code
def study(
    context: typer.Context,
    study: Annotated[Path, typer.Argument(help="Study file.", callback=_there("a study file"))],
    out: Annotated[Path | None, typer.Option(help="Folder for the results; one begun before is completed.")] = None,
    workers: Workers = 1,
    limit: Limit = None,
    plan: Annotated[bool, typer.Option("--plan", help="Only say what would be run, how long, how large.")] = False,
    keep: Annotated[
        str | None, typer.Option(help="Recordings: all, failed, none, 'worst METRIC 10' or 'first 10'.")
    ] = None,
    until: Annotated[
        str | None, typer.Option(help="End as soon as METRIC has a verdict, or 'METRIC within 1 cm'.")
    ] = None,
    sharpen: Annotated[int | None, typer.Option(help="So many trials more where passing turns to failing.")] = None,
    doubt: Annotated[
        bool, typer.Option("--doubt", help="See what the verdict hangs on: step, noise, what was left at its default.")
    ] = False,
    needed: Annotated[str | None, typer.Option(help="Say how many pairs METRIC needs.")] = None,
    table: Annotated[Path | None, typer.Option(help="Write the trials as CSV or Parquet too.")] = None,
    cluster: Annotated[str | None, typer.Option(help="Address of a Dask scheduler, whose workers run trials.")] = None,
    tune: Annotated[bool, typer.Option("--tune", help="Do what the file says under tune: instead.")] = False,
    worst: Annotated[bool, typer.Option("--worst", help="Do what the file says under worst: instead.")] = False,
    fit: Annotated[bool, typer.Option("--fit", help="Do what the file says under fit: instead.")] = False,
    json: Json = False,
) -> None:
    """Run a study: all controllers over all its trials; print and write the comparison."""
    from veldrain.cli import studies

    if plan:
        _only(context, "with --plan", "study plan workers keep")
        studies.plan(study, workers, keep)
        return
    searches = [word for word, told in (("tune", tune), ("worst", worst), ("fit", fit)) if told]
    if len(searches) > 1:
        raise VeldrainError(f"--{' and --'.join(searches)} at once", where="study", cure="do one after the other")
    with _interruptible("trials that were finished are kept; the same command with the same folder goes on"):
        if searches:
            _only(context, f"with --{searches[0]}", f"study out workers {searches[0]}")
            studies.search(study, out, workers, searches[0])
        else:
            wishes = studies.Wishes(keep, until, doubt, sharpen, cluster, table, needed, json)
            studies.study(study, out, workers, limit=limit, wishes=wishes)


@app.command()
@_names_code
def compare(
    what: Annotated[
        list[Path],
        typer.Argument(
            help="Folder with a study's results, or two of them; or two recordings.",
            callback=_there("a folder with a study's results, or two recordings"),
        ),
    ],
    baseline: Annotated[
        str | None, typer.Option(help="Of a study: controller to compare with; default: its first.")
    ] = None,
    table: Annotated[Path | None, typer.Option(help="Of a study: write its trials as CSV or Parquet.")] = None,
    needed: Annotated[str | None, typer.Option(help="Of a study: say how many pairs METRIC needs.")] = None,
    fail_if: Annotated[
        list[str] | None,
        typer.Option(help="Of two studies: exit status 1 if so, such as 'offset worse by 1 cm'; repeatable."),
    ] = None,
    pair: Annotated[
        list[str] | None, typer.Option(help="Of recordings: streams of other names, crawler/imu=/imu; repeatable.")
    ] = None,
    column: Annotated[list[str] | None, typer.Option(help="Of recordings: a column to plot; repeatable.")] = None,
    out: Annotated[Path | None, typer.Option(help="Of recordings: PNG to write; default: a new one here.")] = None,
    json: Annotated[bool, typer.Option("--json", help="Of a study: print it as JSON, and nothing else.")] = False,
) -> None:
    """Compare the controllers of a study that was run, two runs of a study, or two recordings stream by stream."""
    from veldrain.cli import logs, studies
    from veldrain.study.store import STORE

    if len(what) > 2:
        raise VeldrainError(f"{len(what)} things to compare", where="compare", cure="name one study, or two of a kind")
    are_studies = [(path / STORE).is_file() for path in what]
    given = {"--baseline": baseline, "--table": table, "--needed": needed, "--json": json or None}
    misplaced = [word for word, value in given.items() if value is not None and len(what) == 2]
    misplaced += ["--fail-if"] if fail_if and not (len(what) == 2 and all(are_studies)) else []
    misplaced += ["--pair, --column, --out"] if (pair or column or out) and any(are_studies) else []
    if misplaced:
        raise VeldrainError("is of no use with these", where=misplaced[0], cure="leave it out")
    if len(what) == 2 and all(are_studies):
        if not studies.compare_two(what[0], what[1], fail_if or []):
            raise typer.Exit(1)
    elif len(what) == 2:
        logs.compare(what[0], what[1], pair or [], column or [], out)
    else:
        studies.compare(what[0], baseline, table, needed, json)


@app.command()
def streams(
    recording: Annotated[
        Path,
        typer.Argument(
            help="MCAP file, ROS 2 bag folder or CSV.",
            callback=_there("an MCAP file, a ROS 2 bag folder or a CSV file"),
        ),
    ],
    verify: Annotated[
        bool, typer.Option("--verify", help="Decode every message; exit status 1 where one cannot be read.")
    ] = False,
) -> None:
    """List a recording's streams: message type, count, rate, first and last stamp, gaps."""
    from veldrain.cli import commands

    if not commands.streams(recording, verify):
        raise typer.Exit(1)


@app.command()
@_names_code
def check(
    files: Annotated[
        list[Path] | None,
        typer.Argument(
            help="Robot (URDF, xacro), world, scenario or study files; .xosc, .xodr, .osm too.",
            callback=_there("a robot, world, scenario or study file"),
        ),
    ] = None,
    step: Annotated[
        str | None, typer.Option(help="Step of the simulation, such as 0.5ms; default: the scenario's.")
    ] = None,
    posture: Annotated[str | None, typer.Option(help="Of a robot file: name of the posture to look at.")] = None,
    search: Annotated[list[Path] | None, typer.Option(help="Folder for package:// and mesh paths; repeatable.")] = None,
    fix: Annotated[Path | None, typer.Option(help="World file to write with the corrections that are sure.")] = None,
    json: Annotated[bool, typer.Option("--json", help="Print everything as JSON.")] = False,
    twice: Annotated[
        bool, typer.Option("--twice", help="Of scenarios and studies: run the first trial twice; is it the same?")
    ] = False,
    installation: Annotated[
        bool, typer.Option("--installation", help="Look at this installation instead: versions, kept code, disk.")
    ] = False,
) -> None:
    """Look files over before they run: what is wrong, where, and how to cure it; exit status 1 for an error."""
    if installation:
        if files:
            raise VeldrainError("files and --installation", where="check", cure="give one of them")
        from veldrain.cli import installing

        if not installing.installation():
            raise typer.Exit(1)
        return
    if not files:
        raise VeldrainError("no file is named", where="check", cure="name a robot, world, scenario or study file")
    from veldrain.cli import looking

    with _interruptible("nothing was written"):
        if not looking.check(files, step, posture, search or [], fix, json, twice):
            raise typer.Exit(1)


@app.command()
@_names_code
def inspect(
    context: typer.Context,
    file: Annotated[
        Path,
        typer.Argument(
            help="Robot (URDF, xacro) or world file; for --knobs any.", callback=_there("a robot or world file")
        ),
    ],
    posture: Annotated[str | None, typer.Option(help="Name of the posture to stand in; default: the start.")] = None,
    search: Annotated[list[Path] | None, typer.Option(help="Folder for package:// and mesh paths; repeatable.")] = None,
    knobs: Annotated[
        bool, typer.Option("--knobs", help="List all quantities that can be varied or changed: path, value, unit.")
    ] = False,
    like: Annotated[str | None, typer.Option(help="Of the knobs those whose path has this in it.")] = None,
    gains: Annotated[
        bool, typer.Option("--gains", help="For each motor: inertia, frequency, sag, and gains for a bandwidth.")
    ] = False,
    bandwidth: Annotated[str, typer.Option(help="Of the gains: the natural frequency that is asked for.")] = "5 Hz",
    damping: Annotated[float, typer.Option(help="Of the gains: the damping ratio that is asked for.")] = 1.0,
    test: Annotated[bool, typer.Option("--test", help="With --gains: measure each motor's answer to a step.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print everything as JSON.")] = False,
) -> None:
    """Print what a robot is made of, its links, joints, motors and sensors; or a scenario or study on a page."""
    from veldrain.cli import looking

    if knobs:
        _only(context, "with --knobs", "file search knobs like json")
        looking.knobs(file, search or [], like or "", json)
    elif gains:
        _only(context, "with --gains", "file posture search gains bandwidth damping test json")
        looking.gains(file, posture, search or [], bandwidth, damping, test, json)
    else:
        _only(context, "without --knobs or --gains", "file posture search json")
        looking.inspect(file, posture, search or [], json)


@app.command()
@_names_code
def look(
    context: typer.Context,
    file: Annotated[
        Path,
        typer.Argument(
            help="Robot, world, scenario or study file (.xosc, .xodr, .osm too), or a recording (MCAP).",
            callback=_there("a robot, world, scenario, study or MCAP file"),
        ),
    ],
    out: Annotated[Path | None, typer.Option(help="PNG or JPEG to write; default: a new one here.")] = None,
    layer: Annotated[
        list[str] | None,
        typer.Option(
            help="collision, joints, frames, masses, contacts, patches, beams, fields, trails, names; repeatable."
        ),
    ] = None,
    time: Annotated[
        str | None, typer.Option(help="Of a recording, such as 12s (default: its end); else how long to run first.")
    ] = None,
    look_from: Annotated[str | None, typer.Option(help="Where to look from: x,y,z in m.")] = None,
    look_at: Annotated[str | None, typer.Option(help="Where to look: x,y,z in m.")] = None,
    side: Annotated[
        str | None, typer.Option("--from", help="top, front, left, right or back: a parallel view.")
    ] = None,
    through: Annotated[str | None, typer.Option(help="A camera's stream: what it sees.")] = None,
    panel: Annotated[
        list[str] | None, typer.Option(help="Several pictures in one: around, a side or a camera's stream; repeatable.")
    ] = None,
    hide: Annotated[list[str] | None, typer.Option(help="Name of what is left out, such as walls; repeatable.")] = None,
    cutaway: Annotated[
        bool, typer.Option("--cutaway", help="Leave out fixed things that stand between the eye and a robot.")
    ] = False,
    size: Annotated[str, typer.Option(help="Pixels, width x height.")] = "1280x800",
    world: Annotated[Path | None, typer.Option(help="Of a recording: its world's file.")] = None,
    posture: Annotated[str | None, typer.Option(help="Of a robot file: name of a posture.")] = None,
    movie: Annotated[Path | None, typer.Option(help="Of a recording: an MP4 or GIF file instead of a picture.")] = None,
    rate: Annotated[float, typer.Option(help="Pictures a second of a movie.")] = 20.0,
    speed: Annotated[float, typer.Option(help="Of a movie: seconds of the trial in a second.")] = 1.0,
    coverage: Annotated[
        bool, typer.Option("--coverage", help="What its sensors cover, seen from above, and how much is blind.")
    ] = False,
    height: Annotated[list[str] | None, typer.Option(help="Of coverage: above the ground; repeatable.")] = None,
    birds_eye: Annotated[
        str | None, typer.Option(help="Of a recording: robot to go with, seen from above with lanes and detections.")
    ] = None,
) -> None:
    """Draw a picture of a world, robot, scenario or recording, without a screen."""
    from veldrain.cli import looking

    with _interruptible("nothing was written"):
        if coverage:
            _only(context, "with --coverage", "file out coverage height")
            looking.coverage(file, height or ["0.5 m"], out)
            return
        if birds_eye is not None:
            _only(context, "with --birds-eye", "file out time movie rate birds_eye")
            looking.birds_eye(file, birds_eye, time, movie or out, rate)
            return
        words = "file out layer time look_from look_at side through panel hide cutaway size world posture movie"
        _only(context, "without --coverage or --movie", words + (" rate speed" if movie else ""))
        view: dict[str, Any] = {"layers": layer, "size": size, "look_from": look_from, "look_at": look_at, "side": side}
        view |= {"through": through, "panels": panel, "hide": hide, "cutaway": cutaway}
        looking.look(file, view, out, time, world, posture, movie, rate, speed)


@app.command()
@_names_code
def export(
    context: typer.Context,
    runs: Annotated[
        list[Path],
        typer.Argument(
            help="Recordings; or, with --dataset, the folder of a study.",
            callback=_there("a recording, or the folder of a study"),
        ),
    ],
    to: Annotated[Path, typer.Option(help="Folder to write; it must not hold anything yet.")],
    kind: Annotated[
        list[str] | None,
        typer.Option(
            help="csv (default), parquet, npz, png, jpeg, mp4, ply, pcd, map, glb, bag, bag-mcap; repeatable."
        ),
    ] = None,
    stream: Annotated[list[str] | None, typer.Option(help="Only this stream, with * for any part; repeatable.")] = None,
    frame: Annotated[str | None, typer.Option(help="Of points: move them into this frame, one file a stream.")] = None,
    dataset: Annotated[
        bool, typer.Option("--dataset", help="Of a study: a labelled file a trial, index, splits, README.")
    ] = False,
    column: Annotated[list[str] | None, typer.Option(help="Of a data set: stream.column; repeatable.")] = None,
    period: Annotated[str | None, typer.Option(help="Of a data set: time between two rows, such as 10ms.")] = None,
    window: Annotated[str | None, typer.Option(help="Of a data set: a file for each window, such as 2s.")] = None,
    stride: Annotated[str | None, typer.Option(help="Of a data set: from one window to the next.")] = None,
    split: Annotated[
        str | None, typer.Option(help="Of a data set: shares, train=0.7,validation=0.15,test=0.15.")
    ] = None,
    seed: Annotated[int, typer.Option(help="Of a data set: seed of the split.")] = 0,
) -> None:
    """Write recordings to files of other kinds, or a study to a data set."""
    from veldrain.cli import logs

    with _interruptible("nothing was written"):
        if not dataset:
            _only(context, "without --dataset", "runs to kind stream frame")
            logs.export(runs, to, kind or ["csv"], stream, frame)
        elif len(runs) != 1 or len(kind or []) > 1:
            raise VeldrainError("more than one study or kind", where="--dataset", cure="name one of each")
        else:
            _only(context, "with --dataset", "runs to kind dataset column period window stride split seed")
            logs.dataset(runs[0], to, column or [], (kind or ["npz"])[0], period, window, stride, split, seed)


@app.command()
@_names_code
def plot(
    runs: Annotated[
        list[Path],
        typer.Argument(help="Recordings: MCAP files, ROS 2 bag folders, CSV files.", callback=_there("a recording")),
    ],
    column: Annotated[list[str], typer.Option(help="What to plot: stream.column, as crawler/truth.y; repeatable.")],
    against: Annotated[str | None, typer.Option(help="Over this column instead of time.")] = None,
    out: Annotated[Path | None, typer.Option(help="PNG, PDF or SVG to write; default: a new PNG here.")] = None,
) -> None:
    """Plot columns of one or several recordings, with units and events."""
    from veldrain.cli import logs

    logs.plot(runs, column, against, out)


@app.command()
@_names_code
def page(
    things: Annotated[
        list[str],
        typer.Argument(
            help="Recordings (up to four, shown in step), or a robot, world, scenario or study file; "
            "or a study's results and the number of a trial."
        ),
    ],
    out: Annotated[Path | None, typer.Option(help="HTML file to write; default: a new one here.")] = None,
    world: Annotated[
        Path | None, typer.Option(help="World file of recordings that hold none.", callback=_there("a world file"))
    ] = None,
    controller: Annotated[
        list[str] | None, typer.Option(help="Of a study's trial: only this controller; repeatable.")
    ] = None,
    time: Annotated[str | None, typer.Option(help="Of what is no recording: how long it goes on first.")] = None,
) -> None:
    """Write a page that shows trials in any browser: turn around, play, plot, compare. One file, no network."""
    from veldrain.cli import looking

    looking.page(things, out, world, controller or [], time)


@app.command()
@_names_code
def drive(
    file: Annotated[
        Path, typer.Argument(help="Scenario, world or robot file.", callback=_there("a scenario, world or robot file"))
    ],
    robot: Annotated[str | None, typer.Option(help="Name of the robot, where there are several.")] = None,
    seed: Annotated[int, typer.Option(help="Seed of the sensors' noise.")] = 0,
    out: Annotated[Path | None, typer.Option(help="MCAP file to write; default: a new one here.")] = None,
    port: Annotated[int, typer.Option(help="Port of the page on 127.0.0.1; 0: a free one.")] = 0,
    keys: Annotated[bool, typer.Option("--keys", help="By the keys of this terminal, without a browser.")] = False,
    longest: Annotated[str | None, typer.Option("--for", help="Longest drive, such as 10min.")] = None,
) -> None:
    """Drive a robot by hand, in a browser or by keys; recorded, and written as a scenario that repeats it."""
    from veldrain.cli import driving

    with _interruptible("what was recorded is kept"):
        driving.drive(file, robot, seed, out, port, keys, longest)


@app.command()
@_names_code
def live(
    context: typer.Context,
    scenario: Annotated[
        Path | None,
        typer.Argument(help="Scenario file to run beside other programs.", callback=_there("a scenario file")),
    ] = None,
    domain: Annotated[int, typer.Option(help="Number of the DDS domain.")] = 0,
    interface: Annotated[str, typer.Option(help="Network interface: address or name; default: this machine alone.")] = (
        "machine"
    ),
    speed: Annotated[float | None, typer.Option(help="Seconds of the trial in a second on the clock.")] = 1.0,
    fast: Annotated[bool, typer.Option("--fast", help="As fast as it goes.")] = False,
    lockstep: Annotated[bool, typer.Option("--lockstep", help="Wait for the commands of each tick.")] = False,
    seed: Annotated[int, typer.Option(help="Seed of the sensors' noise.")] = 0,
    out: Annotated[Path | None, typer.Option(help="MCAP file to write; default: a new one here.")] = None,
    name: Annotated[list[str] | None, typer.Option(help="Another topic: crawler/imu=imu/data; repeatable.")] = None,
    watchdog: Annotated[str, typer.Option(help="Silence from which a robot stops.")] = "0.5 s",
    oldest: Annotated[str | None, typer.Option(help="Commands whose stamps are older are left.")] = None,
    wait: Annotated[str, typer.Option(help="In lockstep: how long an answer is waited for.")] = "5 s",
    listen: Annotated[str | None, typer.Option(help="Print the messages of this topic.")] = None,
    say: Annotated[str | None, typer.Option(help="Publish a message on this topic.")] = None,
    message: Annotated[str | None, typer.Option(help="Its type, such as geometry_msgs/msg/Twist.")] = None,
    fields: Annotated[str, typer.Option("--with", help="Its fields: {linear: {x: 0.3}}.")] = "{}",
    rate: Annotated[str, typer.Option(help="How often it is said.")] = "10 Hz",
    lasting: Annotated[str, typer.Option("--for", help="How long to listen, or to say.")] = "5 s",
) -> None:
    """Run a trial that other programs see and drive over DDS; without a scenario: list, listen, or say something."""
    from veldrain.cli import linking as commands

    with _interruptible("what was recorded is kept"):
        if listen is not None:
            _only(context, "with --listen", "listen message domain interface lasting")
            commands.listen(listen, message, domain, interface, lasting)
        elif say is not None:
            if message is None:
                raise VeldrainError("its type is not said", where="--say", cure="add --message geometry_msgs/msg/Twist")
            _only(context, "with --say", "say message fields domain interface rate lasting")
            commands.speak(say, message, fields, domain, interface, rate, lasting)
        elif scenario is None:
            _only(context, "without a scenario", "domain interface")
            commands.topics(domain, interface)
        else:
            run_with = "scenario domain interface speed fast lockstep seed out name watchdog oldest wait"
            _only(context, "with a scenario", run_with)
            pace = None if fast else speed
            given = (scenario, domain, interface, pace, lockstep, seed, out, name or [], watchdog, oldest, wait)
            if not commands.run(*given):
                raise typer.Exit(1)


for _registered in app.registered_commands:
    if _registered.callback:
        _registered.callback = _can_be_quiet(_registered.callback)


class _Notes(logging.Handler):
    """Notices of what is neither wrong nor a result, a line each."""

    def emit(self, record: logging.LogRecord) -> None:
        sys.stderr.write(f"note: {printable(record.getMessage())}\n")


def main() -> None:
    """Entry point: errors that a user can mend are one line and exit status 2."""
    logging.getLogger("veldrain").addHandler(logging.NullHandler())  # notices are printed with the results
    for told in ("veldrain.recording.exporting", "veldrain.kernel"):
        if not (logger := logging.getLogger(told)).handlers:
            logger.addHandler(_Notes())
    for screen in (sys.stdout, sys.stderr):
        if isinstance(screen, io.TextIOWrapper):  # of a terminal that is not UTF-8: a mark for what it cannot show
            screen.reconfigure(errors="replace")
    try:
        app()
    except VeldrainError as error:
        sys.stderr.write(f"error: {printable(str(error))}\n")
        sys.exit(2)
    except OSError as error:  # a folder that is gone, a disk that is full: whatever happens to what is not looked at
        place = f"{error.filename}: " if error.filename else ""
        sys.stderr.write(f"error: {printable(place)}{error.strerror or error}\n")
        sys.exit(2)
    except KeyboardInterrupt:
        sys.stderr.write("interrupted\n")
        sys.exit(130)
