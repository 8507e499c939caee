"""What each command does: parse, call, print."""

from __future__ import annotations

import shutil
from importlib.resources import as_file, files
from pathlib import Path

from veldrain.cli.output import unused
from veldrain.cli.studies import REPORT, check_counts, study
from veldrain.errors import VeldrainError, unknown

CULVERT = "culvert.study.yaml"
SCENARIO = "culvert.scenario.yaml"
PROBE = "probe.study.yaml"
DEMO_FOLDER = "veldrain-demo"
MORE = ("robots", "worlds", "drops")


def demo(name: str, out: Path | None, trials: int | None, workers: int) -> None:
    """Copy the demo's files, run one of its studies, print and write the comparison, and say how to go on."""
    if name not in DEMOS:
        raise unknown("demo", name, DEMOS)
    check_counts(workers, trials)
    folder = out or unused(Path(DEMO_FOLDER))
    copy_demo(folder)
    DEMOS[name](folder, trials, workers)


def _culvert(folder: Path, trials: int | None, workers: int) -> None:
    from veldrain.cli.output import say

    say("Lisdodde drainage district: the crawler goes through a culvert with a bank of silt, without and with")
    say("the gyro's part in its steering, over paired trials that differ in start, grip and a push.")
    say("")
    result = study(folder / CULVERT, folder / "results", workers, trials)
    say("")
    say("To try next:")
    say(f"  open {result.folder / REPORT}")
    first = result.trials.iloc[0]["file"]
    say(f"  veldrain streams {result.folder / str(first)}")
    say(f"  veldrain look {result.folder / str(first)} --layer trails --layer names")
    say(f"  veldrain page {result.folder} 3")
    say(f"  veldrain drive {folder / SCENARIO}")
    say(f"  veldrain study {folder / CULVERT} --out {result.folder} --doubt")
    say(f"  veldrain run {result.folder} 3 --controller damped")
    say(f"  veldrain look {folder / 'worlds' / 'survey.world.yaml'} --panel around --panel rover/eye")
    say(f"  veldrain check {folder / 'robots' / 'broken.world.yaml'}")
    say(f"  veldrain run {folder / 'cut_in.scenario.yaml'}")
    say(f"  veldrain run {folder / 'survey_flight.scenario.yaml'}")
    say(f"  veldrain study {folder / 'lorry_brakes.study.yaml'}")
    say("  veldrain demo probe")
    say(f"  edit gain or damping in {folder / CULVERT}, then")
    say(f"  veldrain study {folder / CULVERT} --out {folder / 'results-2'}, and")
    say(f"  veldrain compare {result.folder} {folder / 'results-2'}")


def _probe(folder: Path, trials: int | None, workers: int) -> None:
    from veldrain.cli.output import say
    from veldrain.cli.studies import Wishes, search

    say("The float probe is dropped on two test beds, two thousand times in all, as it comes: turned anyhow, from")
    say("0.8 to 1.6 m, with some speed to the side. No recording is kept: one that is wanted is made again.")
    say("")
    results = folder / "probe-results"
    study(folder / PROBE, results, workers, trials, wishes=Wishes(table=folder / "probe-drops.csv"))
    say("")
    say("Three drops on a bed that is neither were measured: which restitution and friction has it?")
    say("")
    search(folder / PROBE, folder / "probe-fit", workers, "fit")
    say("")
    say("To try next:")
    say(f"  open {results / REPORT}")
    say(f"  open {folder / 'probe-fit' / 'residuals.png'}")
    say(f"  veldrain run {results} 30 --controller clay")
    say(f"  veldrain compare {results} --needed rebound")


DEMOS = {"culvert": _culvert, "probe": _probe}


def new(folder: Path, robot: Path | None, kind: str) -> None:
    """Write a project, and say what is in it, what was guessed and what the check says."""
    from veldrain.cli.looking import print_findings
    from veldrain.cli.output import say
    from veldrain.cli.progressing import prepare_engine, progress
    from veldrain.documents import load_scenario
    from veldrain.review import check
    from veldrain.starting import start, told

    started = start(folder, kind, robot)
    for line in told(started):
        say(line)
    say("")
    prepare_engine()
    scenario = folder / "trip.scenario.yaml"
    with progress("Checking") as tell:
        findings = check(load_scenario(scenario), progress=tell)
    print_findings(str(scenario), findings)
    say("")
    say(f"To go on: cd {folder}, and see README.md")


def copy_demo(folder: Path) -> None:
    """Put the demo's files into a folder; what is there already is left as it is."""
    shipped = files("veldrain.demo")
    is_mine = (folder / CULVERT).is_file()
    if folder.exists() and not is_mine and (not folder.is_dir() or any(folder.iterdir())):
        raise VeldrainError("holds other files", where=str(folder), cure="name a new folder with --out")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for file in shipped.iterdir():
            if file.name.endswith(".yaml") and not (folder / file.name).exists():
                (folder / file.name).write_text(file.read_text(encoding="utf-8"), encoding="utf-8")
        for name in MORE:
            if not (folder / name).exists():
                with as_file(shipped.joinpath(name)) as more:
                    shutil.copytree(more, folder / name)
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror})", where=str(folder), cure="name another with --out"
        ) from error


def run(
    path: Path,
    controller: str | None,
    seed: int,
    out: Path | None,
    exact: bool,
    limit: str | None = None,
    keep_states: str | None = None,
    record_only: tuple[list[str] | None, list[str] | None, list[str] | None] = (None, None, None),
    is_json: bool = False,
) -> bool:
    """Run one trial of a scenario file and record it; True where it passed."""
    from veldrain.cli.output import as_json, print_outcome, say
    from veldrain.cli.progressing import prepare_engine, progress
    from veldrain.control import NamedController
    from veldrain.documents import load_scenario
    from veldrain.scenario.running import run as run_trial

    only, without, every = record_only
    with progress(f"Reading {path.name}"):
        scenario = load_scenario(path)
    controllers = None
    if controller is not None:
        robots = list(scenario.controllers) or list(scenario.world.placed)
        if len(robots) != 1:
            raise VeldrainError(
                f"it is not said which of {', '.join(robots) or 'no robots'} it drives",
                where="--controller",
                cure="name it in the scenario file",
            )
        controllers = {
            robots[0]: NamedController(controller, folder=str(Path.cwd()), where="--controller", is_told=True)
        }
    if out is not None and out.exists():
        raise VeldrainError("is there already", where=str(out), cure="name another file with --out")
    if scenario.notes and not is_json:
        say(f"{path.name}: {len(scenario.notes)} notes on what is not used or taken otherwise: veldrain check {path}")
    record = out or unused(Path(f"{path.name.split('.')[0]}-seed{seed}.mcap"))
    prepare_engine(scenario.world)
    with progress("Simulating", "s") as tell:
        recording = run_trial(
            scenario,
            seed,
            record=record,
            controllers=controllers,
            exact=exact,
            limit=limit,
            keep_states=keep_states,
            warn=False,
            only=only,
            without=without,
            every=None if every is None else dict(_pair(words) for words in every),
            progress=tell,
        )
    with as_json(is_json) as data:
        data |= {"recording": str(record), **recording.outcome}
        print_outcome(recording)
        say(f"Written: {record}")
    return bool(recording.outcome["passed"])


def _pair(words: str) -> tuple[str, str]:
    stream, equals, time = words.rpartition("=")
    if not equals:
        raise VeldrainError(f"'{words}' has no =", where="--every", cure="write a stream and a time: crawler/scan=1s")
    return stream, time


def streams(path: Path, verify: bool = False) -> bool:
    """Print the streams of a recording, or of another log; False where one was to be verified and cannot be read."""
    from veldrain.cli.output import print_streams, say
    from veldrain.cli.progressing import progress
    from veldrain.recording import open_log
    from veldrain.recording.verifying import verified

    log = open_log(path)
    if not verify:
        print_streams(log)
        return True
    with progress("Streams") as tell:
        found = list(verified(log, tell))
    faults = [one for one in found if one.fault]
    for one in faults:
        say(f"{one.stream}: message {one.read + 1}, at {one.stamp:g} s, cannot be read: {one.fault}")
    whole = f"{sum(one.read for one in found)} messages of {len(found)} streams can be read"
    say(f"{whole}; {len(faults)} streams cannot be read to their ends" if faults else f"{whole}: all of them")
    return not faults
