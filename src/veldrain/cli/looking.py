"""``check``, ``inspect`` and ``look``: what is wrong with a thing, what is in it, what it looks like."""

from __future__ import annotations

import json
import math
import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.padding import Padding
from rich.table import Table
from rich.text import Text
from rich.tree import Tree

from veldrain.cli.output import out, say, unused
from veldrain.cli.progressing import prepare_engine, progress
from veldrain.errors import VeldrainError, unknown

if TYPE_CHECKING:
    from veldrain.model import Model
    from veldrain.review import Findings
    from veldrain.units import Quantity

# Readable on dark and on light.
COLOURS = {"error": "red", "warning": "magenta", "note": "blue"}
MOST_ROWS = 40  # of quantities, a line each
MEANING = {"error": "it will not do what is meant", "warning": "probably wrong", "note": "worth knowing"}


def check(
    files: Sequence[Path],
    step: str | None,
    posture: str | None,
    search: Sequence[Path],
    fix: Path | None,
    as_json: bool,
    twice: bool = False,
) -> bool:
    """Check files and print the findings; False where one has an error, or does not run the same twice."""
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.review import check as check_thing
    from veldrain.review.fixing import overlay, start_of, sure

    if fix is not None and len(files) != 1:
        raise VeldrainError(f"corrections for {len(files)} files", where="--fix", cure="give one file")
    if fix is not None and fix.exists():
        raise VeldrainError("is there already", where=str(fix), cure="name another file with --fix")
    prepare_engine()
    made: dict[str, Findings] = {}
    for file in files:
        with progress(f"Checking {file.name}") as tell:
            thing: Any = file
            if search and is_robot_file(file.name):
                thing = load_robot(file, search=search, draft=True)
            made[str(file)] = check_thing(thing, step=step, posture=posture, progress=tell)
    if as_json:
        out.print_json(json.dumps({file: findings.as_data() for file, findings in made.items()}, default=float))
    else:
        for name, findings in made.items():
            print_findings(name, findings)
    if fix is not None:
        (findings,) = made.values()
        mended = sure(findings)
        if mended:
            text = overlay(findings, start_of(files[0], findings, search), fix.resolve().parent)
            fix.write_text(text, encoding="utf-8")
        if not as_json:
            say(
                f"Written: {fix}, with {_count(len(mended), 'correction')} to read and edit"
                if mended
                else "No correction is sure: nothing written."
            )
    differing = [file for file in files if twice and not _same_twice(file)]
    return not differing and not any(findings.errors for findings in made.values())


def _same_twice(file: Path) -> bool:
    """Run the first trial of a scenario or study twice, and say which stream first differs."""
    from veldrain.documents.source import kind_of_file
    from veldrain.review.repeating import first_difference

    if kind_of_file(file) not in ("scenario", "study"):
        raise VeldrainError("runs no trial", where=str(file), cure="name a scenario or study file with --twice")
    with progress(f"Running {file.name} twice"):
        found = first_difference(file)
    say(f"{file}: {found or 'run twice, every stream is the same'}")
    return not found


def print_findings(file: str, findings: Findings) -> None:
    """Findings of one file: the grave first, then by name path; each with its cure."""
    say(file)
    for severity, meaning in MEANING.items():
        some = [f for f in findings if f.severity == severity]
        if some:
            say("")
            out.print(Text(f"  {_count(len(some), severity)}: {meaning}", style=f"bold {COLOURS[severity]}"))
        for f in some:
            where = f"  {f.line}" if f.line else ""
            head = Text.assemble((f.path or file, "bold"), f"  {f.rule}", (where, "dim"))
            for text, indent in ((head, 4), (Text(f.problem), 6), (Text(f"→ {f.cure}", style="green"), 6)):
                out.print(Padding(text, (0, 0, 0, indent), expand=False))
    if findings.silenced:
        say("")
        say(f"  {len(findings.silenced)} suppressed")
        for s in findings.silenced:
            say(f"    {s.finding.path}  {s.finding.rule}: {s.because}")
    counts = {severity: sum(f.severity == severity for f in findings) for severity in MEANING}
    told = ", ".join(_count(n, word) for word, n in counts.items() if n)
    say("")
    say(f"{told}." if told else "Nothing found: it can run.")


def page(
    things: Sequence[str], out: Path | None, world: Path | None, controllers: Sequence[str], time: str | None
) -> None:
    """Write a page of trials, or of a thing as it begins."""
    from veldrain.report.viewer.making import page as make
    from veldrain.study.store import STORE

    folder = Path(things[0])
    if (folder / STORE).exists():
        shown, names, name = _trials(folder, things[1:], controllers)
    else:
        if controllers:
            raise VeldrainError("is for a study's results", where="--controller", cure="name their folder and a trial")
        for thing in things:
            if not Path(thing).exists():
                raise VeldrainError("no such file", where=thing, cure="name a recording, or a robot or world file")
        shown, names, name = [_shown(Path(thing)) for thing in things], None, folder.name.split(".")[0]
    target = out or unused(Path(f"{name}.html"))
    prepare_engine()
    with progress("Trials") as tell:
        made = make(shown, target, names=names, world=world, time=time, progress=tell)
    say(f"Written: {target}, {target.stat().st_size / 1e6:.1f} MB; any browser shows it")
    for note in made.notes:
        say(f"  {note}")


def _shown(path: Path) -> Any:
    """What is shown of a path: a log, or the path of a file."""
    from veldrain.recording import open_log

    return open_log(path) if path.is_dir() or path.suffix.lower() in (".mcap", ".csv", ".db3") else path


def _trials(folder: Path, words: Sequence[str], controllers: Sequence[str]) -> tuple[list[Any], list[str], str]:
    """The recordings of one trial of a study with several controllers, and their names."""
    from veldrain.study import Result

    if len(words) != 1 or not words[0].isdecimal():
        raise VeldrainError("which trial is not said", where=str(folder), cure="write its number after the folder")
    result, trial = Result(folder), int(words[0])
    known = result.about["controllers"]
    for name in controllers:
        if name not in known:
            raise unknown("controller", name, known, str(folder))
    names = list(controllers or known)
    return [result.recording(name, trial) for name in names], names, f"trial-{trial}"


def _count(number: int, word: str) -> str:
    return f"{number} {word}{'' if number == 1 else 's'}"


def inspect(file: Path, posture: str | None, search: Sequence[Path], as_json: bool) -> None:
    """Print what is in a robot, world, scenario or study file."""
    from veldrain.documents import load_scenario, load_study, load_world
    from veldrain.documents.source import kind_of_file
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.report.contents import contents_of

    if is_robot_file(file.name):
        robots = [contents_of(load_robot(file, search=search), posture=posture)]
    elif (kind := kind_of_file(file)) in ("study", "scenario"):
        from veldrain.report.overview import overview

        if posture is not None:
            raise VeldrainError("has no meaning here", where="--posture", cure="name a robot or world file")
        page = overview(load_study(file) if kind == "study" else load_scenario(file))
        if as_json:
            out.print_json(json.dumps(page.sections))
        else:
            say(str(page))
        return
    else:
        world = load_world(file)
        if not world.placed:
            raise VeldrainError("no robot is placed in it", where=str(file), cure="add one under place:")
        robots = [contents_of(p.model, p.name, p.joints, posture) for p in world.placed.values()]
    if as_json:
        out.print_json(json.dumps(robots, default=float))
        return
    for k, robot in enumerate(robots):
        if k:
            say("")
        print_robot(robot)


def knobs(file: Path, search: Sequence[Path], like: str, as_json: bool) -> None:
    """Print what can be set by path in a robot, world, scenario or study file."""
    from veldrain.documents import load_scenario, load_study, load_world
    from veldrain.documents.source import kind_of_file
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.model import World
    from veldrain.model.knobs import world_knobs
    from veldrain.units import named

    if is_robot_file(file.name):
        thing: Any = World().place(load_robot(file, search=search))
    else:
        load: Any = {"study": load_study, "scenario": load_scenario}.get(kind_of_file(file), load_world)
        thing = load(file)
    scenario = getattr(thing, "scenario", thing)
    all_of_them = world_knobs(scenario) if isinstance(scenario, World) else scenario.knobs()
    found = [knob for knob in all_of_them if like in knob.path]
    if not found:
        raise VeldrainError(f"no path has '{like}' in it", where=str(file), cure="leave --like out to see all")
    rows = [(knob.path, knob.get(), knob.unit) for knob in found]
    rows = [(path, v if v is None else named({path: v}, {path: unit})[path], unit) for path, v, unit in rows]
    if as_json:
        told = [
            {"path": path, "value": value if isinstance(value, str) else _finite(value), "unit": unit}
            for path, value, unit in rows
        ]
        out.print_json(json.dumps(told))
        return
    lines = [
        (
            path,
            "–" if value is None else value if isinstance(value, str) else f"{value:.6g}",
            unit.replace("**0.5", "^½").replace("**2", "²").replace("*", "·"),
        )
        for path, value, unit in rows
    ]
    if len(lines) > MOST_ROWS:
        _by_thing(lines)
        return
    wide = max(len(path) for path, _, _ in lines)
    for path, number, unit in lines:
        say(f"{path:<{wide}}  {number:>12}  {unit}".rstrip())
    say("")
    say(f"{len(rows)} {'quantity' if len(rows) == 1 else 'quantities'}; angles in rad.")


def _by_thing(rows: Sequence[tuple[str, str, str]]) -> None:
    """Many quantities: those of a thing in one paragraph."""
    things: dict[str, list[str]] = {}
    for path, number, unit in rows:
        thing, _, name = path.rpartition(".")
        things.setdefault(thing or path, []).append("\N{NO-BREAK SPACE}".join((name, number, unit)).rstrip())
    for thing, quantities in things.items():
        say(thing)
        lines = textwrap.fill(", ".join(quantities), 110, initial_indent="    ", subsequent_indent="    ")
        say(lines.replace("\N{NO-BREAK SPACE}", " "))
    say("")
    shown = next(iter(things))
    say(f"{len(rows)} quantities of {len(things)} things, each by thing.quantity; angles in rad.")
    say(f"One a line where they are few: --like {shown}")


def gains(
    file: Path, posture: str | None, search: Sequence[Path], bandwidth: str, damping: float, test: bool, as_json: bool
) -> None:
    """Print what each motor moves, how it is tuned, and gains for a bandwidth; with a test, how it answers."""
    from veldrain.control.tuning import gains_table
    from veldrain.documents import load_world
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.motion.gains import NO_MOTOR

    models: dict[str, tuple[Model, Mapping[str, Quantity]]]
    if is_robot_file(file.name):
        models = {file.stem: (load_robot(file, search=search), {})}
    else:
        models = {name: (placed.model, placed.joints) for name, placed in load_world(file).placed.items()}
    with progress("Measuring"):
        tables = {
            name: gains_table(model, model.postures.get(posture or "", joints), bandwidth, damping, test)
            for name, (model, joints) in models.items()
        }
    tables = {name: rows for name, rows in tables.items() if rows}
    if not tables:
        raise VeldrainError("no robot in it has a joint for a motor", where=str(file), cure="name one that has")
    if as_json:
        out.print_json(json.dumps({name: [dict(row) for row in rows] for name, rows in tables.items()}))
        return
    for name, rows in tables.items():
        say(f"{name}: gains for {bandwidth}, damping ratio {damping:g}; the root stands still")
        print_columns(rows)
    if any(row["mode"] == NO_MOTOR for rows in tables.values() for row in rows):
        say("No motor yet: gains are of position motors, and of velocity motors where stiffness is –.")
    if not test:
        say("--test measures how each motor answers to a step.")


def print_columns(rows: Sequence[Mapping[str, Any]]) -> None:
    """A table of texts and numbers, four digits each."""
    table = Table(box=None, pad_edge=False)
    for column in rows[0]:
        table.add_column(column, justify="left" if isinstance(rows[0][column], str) else "right")
    for row in rows:
        table.add_row(*(v if isinstance(v, str) else "–" if v is None else f"{v:.4g}" for v in row.values()))
    out.print(table)


def _finite(value: float | None) -> float | str | None:
    """A number that JSON has a word for."""
    return value if value is None or math.isfinite(value) else str(value)


def print_robot(robot: dict[str, Any]) -> None:
    """The tree of one robot and its totals."""
    tree = Tree(Text(robot["name"], style="bold"))

    def grow(branch: Tree, link: dict[str, Any]) -> None:
        held = (
            Text.assemble((f"{link['joint']['name']}: ", "blue"), f"{link['joint']['says']}  →  ")
            if link["joint"]
            else Text()
        )
        node = branch.add(held + Text.assemble((link["name"], "bold"), f"  {link['says']}"))
        for line in (*link["shapes"], *link["motors"], *link["sensors"], *link["frames"]):
            node.add(Text(line, style="dim"))
        for child in link["children"]:
            grow(node, child)

    for root in robot["links"]:
        grow(tree, root)
    out.print(tree)
    for line in robot["extra"]:
        say(line)
    say("")
    for name, value in robot["totals"].items():
        say(f"{name:<20}{value}")
    for note in robot["notes"]:
        say(f"not used: {note}")


def look(
    file: Path,
    view: Mapping[str, Any],
    out_file: Path | None,
    time: str | None,
    world: Path | None,
    posture: str | None,
    movie_file: Path | None,
    rate: float,
    speed: float,
) -> None:
    """Draw a picture or a movie, and tell what is in it."""
    from veldrain.report.picture import View, movie, pictured
    from veldrain.report.staging import staged
    from veldrain.units import quantity

    words = {word: value for word, value in view.items() if value}
    for word in ("look_from", "look_at"):
        if word in words:
            words[word] = _numbers(words[word], 3, f"--{word.replace('_', '-')}")
    words["size"] = [round(n) for n in _numbers(words["size"].replace("x", ","), 2, "--size")]
    how = View(**words)
    for given, option in ((out_file, "--out"), (movie_file, "--movie")):
        if given is not None and given.exists():
            raise VeldrainError("is there already", where=str(given), cure=f"name another file with {option}")
    seconds = None if time is None else quantity(time, "time", "--time")
    prepare_engine(pictures=True)
    with progress(f"Reading {file.name}"):
        stage = staged(file, seconds, world, posture)
    if movie_file is not None:
        with progress("Pictures") as tell:
            made = movie(stage, how, movie_file, rate, speed, tell)
        written: Path = movie_file
    else:
        written = out_file or unused(Path(f"{file.name.split('.')[0]}.png"))
        with progress("Drawing"):
            made = pictured(stage, how, written)
    for line in made.told:
        say(line)
    say(f"Written: {written} ({made.pixels.shape[1]} × {made.pixels.shape[0]} pixels)")


def coverage(file: Path, heights: list[str], out_file: Path | None) -> None:
    """Draw what the sensors of a robot cover, and print how much."""
    from veldrain.documents import load_scenario, load_world
    from veldrain.documents.source import kind_of_file
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.report.plotting import plot
    from veldrain.review import coverage as covered

    prepare_engine()
    if is_robot_file(file.name):
        thing: Any = load_robot(file)
    else:
        thing = load_scenario(file).world if kind_of_file(file) == "scenario" else load_world(file)
    with progress("Looking all around"):
        found = covered(thing, heights=heights)
    table = found.table()
    for row in table.to_dict("records"):
        if row["sensor"] == found.sensors[0]:
            say(f"{row['height']:g} m above the ground")
        blind = f", {row['blind']:.1f} m² blind within 5 m of it" if row["sensor"] == "all" else ""
        say(f"  {row['sensor']:<16}{row['area']:10.0f} m², {row['farthest']:.0f} m at most{blind}")
    written = out_file or unused(Path(f"{file.name.split('.')[0]}-coverage.png"))
    plot(found, written)
    say(f"Written: {written}")


def birds_eye(file: Path, robot: str, time: str | None, out_file: Path | None, rate: float) -> None:
    """Draw a recording from above, or make a movie of it."""
    from veldrain.recording import Recording
    from veldrain.report.birds_eye import birds_eye as draw

    if out_file is not None and out_file.exists():
        raise VeldrainError("is there already", where=str(out_file), cure="name another file with --out")
    written = out_file or unused(Path(f"{file.name.split('.')[0]}-above.png"))
    with progress("Drawing"):
        draw(Recording(file), written, follow=robot, time=time, rate=rate)
    say(f"Written: {written}")


def _numbers(text: str, count: int, option: str) -> list[float]:
    try:
        found = [float(part) for part in text.split(",")]
    except ValueError:
        found = []
    if len(found) != count:
        shown = "1280x800" if count == 2 else "2,-1.5,1"
        raise VeldrainError(f"cannot read '{text}'", where=option, cure=f"write it like {shown}")
    return found
