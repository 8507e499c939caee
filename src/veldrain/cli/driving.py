"""What ``veldrain drive`` does: a trial driven by hand, from a browser or from the keys of a terminal."""

from __future__ import annotations

import contextlib
import os
import select
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from veldrain.cli.output import print_outcome, say, unused
from veldrain.cli.progressing import prepare_engine, progress
from veldrain.errors import VeldrainError
from veldrain.units import quantity

LONGEST = "1 h"
KEYS = {"w": ("forward", 1), "s": ("forward", -1), "a": ("turning", 1), "d": ("turning", -1)}
REACH = {"speed": 0.5, "angular speed": 0.8}


def drive(
    path: Path, robot: str | None, seed: int, out: Path | None, port: int, with_keys: bool, longest: str | None
) -> None:
    """Let somebody drive; record it, and write what was done as a scenario."""
    from veldrain.live.cockpit import Cockpit

    if out is not None and out.exists():
        raise VeldrainError("is there already", where=str(out), cure="name another file with --out")
    with progress(f"Reading {path.name}"):
        scenario = _scenario(path, longest)
    cockpit = Cockpit(scenario, robot)
    scenario = _with_inputs(cockpit)
    prepare_engine(scenario.world)
    stem = path.name.split(".")[0]
    with _keys(cockpit) if with_keys else _served(cockpit, stem, port):
        cockpit.wants_again = True
        while cockpit.wants_again:
            cockpit.wants_again = False
            record = unused(out or Path(f"{stem}-driven.mcap"))
            driven = scenario.driven_by(scenario.controllers)  # its timeline grows as it is driven
            try:
                _driven(cockpit, driven, seed, record)
            finally:
                _save(cockpit, driven, record, seed)
    for name, joints in cockpit.postures.items():
        say(f"  {name}: {{{', '.join(f'{joint}: {value:g}' for joint, value in joints.items())}}}")


def _save(cockpit: Any, driven: Any, record: Path, seed: int) -> None:
    """Write what was done as a scenario, which ends where the drive ended."""
    from veldrain.documents import save_scenario

    if cockpit.trial is None or cockpit.trial.scenario is not driven:  # it never began
        return
    time = cockpit.trial.simulation.time
    if cockpit.trial.reason is None and time < driven.duration:
        driven.at(round(time, 9)).finish("interrupted")
    said = record.with_suffix(".scenario.yaml")
    save_scenario(driven, said)
    say(f"Written: {record}, and {said}, which repeats it: veldrain run {said} --seed {seed}")


def _driven(cockpit: Any, scenario: Any, seed: int, record: Path) -> dict[str, Any]:
    from veldrain.recording import Recorder, Recording
    from veldrain.scenario.carrying import carried_out

    outcome = carried_out(cockpit.begin, scenario, seed, [Recorder(record)])
    print_outcome(Recording(record))
    return outcome


def _scenario(path: Path, longest: str | None) -> Any:
    """The scenario that is driven: without a bound of its own, where it has none or another is asked for."""
    from veldrain.documents import load_scenario, load_world
    from veldrain.documents.source import kind_of_file
    from veldrain.formats import is_robot_file, load_robot
    from veldrain.report.staging import on_ground
    from veldrain.scenario import Scenario
    from veldrain.starting.driving import drive_of, wheels_of

    if is_robot_file(path.name):
        model = load_robot(path)
        goes = bool(model.rotors) or any(find(model) for find in (drive_of, wheels_of))
        return Scenario(on_ground(model, None, fixed=not goes), longest or LONGEST)
    if kind_of_file(path) == "world":
        return Scenario(load_world(path), longest or LONGEST)
    scenario = load_scenario(path)
    if longest is not None:
        scenario.duration = quantity(longest, "time", "--for")
    return scenario


def _with_inputs(cockpit: Any) -> Any:
    """The scenario with a controller of the robot that can be told where to go: its own, else one that fits."""
    from veldrain.control import AckermannDrive, ByHand, DifferentialDrive, SkidSteer, Walk, fresh
    from veldrain.starting.driving import drive_of, wheels_of

    scenario, robot = cockpit.scenario, cockpit.robot
    given = scenario.controllers.get(robot)
    several = given if isinstance(given, dict) else {} if given is None else {"": given}
    for name, controller in several.items():
        if getattr(type(fresh(controller, f"controller of {robot}")), "inputs", None):
            say(f"{robot}'s own {name or 'controller'} is told where to go.")
            return scenario
    model = scenario.world.placed[robot].model
    found = drive_of(model) or wheels_of(model)
    kinds = {kind.__name__: kind for kind in (AckermannDrive, DifferentialDrive, SkidSteer, Walk)}
    driver = kinds[found[1]["use"]](**found[1]["with"]) if found else ByHand()
    instead = f" instead of {_title(given)}" if given is not None else ""
    say(f"{robot} is driven by {type(driver).__name__}{instead}.")
    return scenario.driven_by({**scenario.controllers, robot: driver})


def _title(controller: Any) -> str:
    return (
        ", ".join(controller) if isinstance(controller, dict) else getattr(controller, "use", type(controller).__name__)
    )


@contextlib.contextmanager
def _served(cockpit: Any, name: str, port: int) -> Iterator[None]:
    """A page for one browser on this machine."""
    from veldrain.live.serving import Server
    from veldrain.report.viewer.making import live_page

    text, cockpit.is_paused = live_page(cockpit.scenario.world, name), True  # until somebody is there
    server = Server(cockpit, lambda: text, port)
    say(f"Open in a browser on this machine: {server.address}")
    say("It begins once the page is open, and runs until somebody ends it there, or Ctrl-C here. All is recorded.")
    try:
        yield
    finally:
        server.close()


@contextlib.contextmanager
def _keys(cockpit: Any) -> Iterator[None]:
    """The keys of this terminal: w s a d, space stops, m marks, p pauses, r begins anew, q ends."""
    import termios
    import tty

    if not sys.stdin.isatty():
        raise VeldrainError("this is no terminal", where="--keys", cure="run it in one, or drive in a browser")
    say("w s: forward and back; a d: turn; space: stop; m: mark; p: pause; r: again; q: end")
    before, is_over = termios.tcgetattr(sys.stdin), threading.Event()

    def listen() -> None:
        wanted: dict[str, float] = {}  # what is told once the trial comes to it
        while not is_over.is_set():
            if select.select([sys.stdin], [], [], 0.1)[0]:
                for key in os.read(sys.stdin.fileno(), 64).decode(errors="replace"):
                    _pressed(cockpit, key, wanted)
            if cockpit.now is not None and cockpit.trial is not None:
                told = ", ".join(f"{name} {value:g}" for name, value in cockpit.trial.told.items() if value)
                sys.stderr.write(f"\r{cockpit.now[0]:8.2f} s  {told or 'still'}\033[K")

    thread = threading.Thread(target=listen, daemon=True)
    try:
        tty.setcbreak(sys.stdin)
        thread.start()
        yield
    finally:
        is_over.set()
        thread.join(1)
        termios.tcsetattr(sys.stdin, termios.TCSADRAIN, before)
        sys.stderr.write("\n")


def _pressed(cockpit: Any, key: str, wanted: dict[str, float]) -> None:
    """What a key does."""
    trial = cockpit.trial
    if trial is None:
        return
    if key in KEYS:
        name, way = KEYS[key]
        if name in trial.kinds:
            step = REACH.get(trial.kinds[name], 0.5) / 4
            wanted[name] = round(wanted.get(name, 0.0) + way * step, 4)
            cockpit.tell(wanted)
    elif key == " ":
        wanted.clear()
        cockpit.stop("stopped by hand")
    elif key == "m":
        cockpit.mark(f"marked at {time.strftime('%H:%M:%S')}")
    elif key == "p":
        cockpit.is_paused = not cockpit.is_paused
    elif key in ("q", "r"):
        wanted.clear()
        cockpit.end(again=key == "r")
