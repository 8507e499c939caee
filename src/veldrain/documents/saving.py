"""Worlds and scenarios to files that ``load_world`` and ``load_scenario`` read back equal."""

from __future__ import annotations

import inspect
from collections.abc import Mapping
from dataclasses import MISSING, fields
from pathlib import Path
from typing import Any

from veldrain.control import NamedController
from veldrain.control.program import PREFIX
from veldrain.errors import VeldrainError
from veldrain.files import write_bytes, write_text
from veldrain.formats.glb_out import glb_of
from veldrain.model import World
from veldrain.recording.world_words import Files, Map, as_yaml, plain, same, sheet_words, world_words
from veldrain.scenario import Action, Condition, Scenario
from veldrain.scenario.conditions import Compared, Held, Joined, Latched, Measure, Not
from veldrain.scenario.entries import After, Entry, Every
from veldrain.sheet import Sheet


def condition_words(condition: Condition, files: Files) -> Map:
    """A condition."""
    if isinstance(condition, Compared):
        return measure_words(condition.measure, files) | {"below" if condition.below else "above": condition.bound}
    if isinstance(condition, Joined):
        parts = [condition_words(part, files) for part in (condition.one, condition.other)]
        return {"all" if condition.both else "any": parts}
    if isinstance(condition, Latched):
        return condition_words(condition.one, files) | {"released": condition.bound}
    if isinstance(condition, Held):
        return condition_words(condition.one, files) | {"held": condition.time}
    if isinstance(condition, Not):
        return {"not": condition_words(condition.one, files)}
    return _asked_words(condition, Condition.kinds, files)


def measure_words(measure: Measure, files: Files) -> Map:
    """What is measured."""
    return _asked_words(measure, Measure.kinds, files)


def _asked_words(thing: Any, kinds: Mapping[str, type], files: Files) -> Map:
    word = next((word for word, kind in kinds.items() if kind is type(thing)), None)
    values = {name: plain(vars(thing)[name]) for name in (f.name for f in fields(thing))}
    needs = {f.name: f.default is MISSING for f in fields(thing)}
    if word is None:
        return {"use": files.named(type(thing)), "with": values}
    own = {f.name for f in fields(thing) if f.default is not MISSING and getattr(thing, f.name) != f.default}
    if own:
        return {word: {name: value for name, value in values.items() if name in own or needs[name]}}
    return {word: [value for name, value in values.items() if needs[name]]}


def action_words(action: Action, files: Files) -> Map:
    """What is done."""
    word = next((word for word, kind in Action.kinds.items() if kind is type(action)), None)
    told = sheet_words(action, files)
    return {"do": {"use": files.named(type(action)), "with": told}} if word is None else {word: told}


def entry_words(entry: Entry, files: Files) -> Map:
    """What happens when."""
    moment: Map = {"at": entry.trigger}
    if isinstance(entry.trigger, Condition):
        moment = {"when": condition_words(entry.trigger, files)}
    elif isinstance(entry.trigger, After):
        moment = {"after": entry.trigger.event, "delay": entry.trigger.delay}
    elif isinstance(entry.trigger, Every):
        moment = {"every": entry.trigger.period}
    named = {"name": entry.name} if entry.name else {}
    return moment | named | action_words(entry.action, files)


def controller_words(controller: Any, files: Files, where: str) -> Map:
    """A controller by its name, and what it was made with.

    Raises:
        VeldrainError: it cannot be named, or does not keep what it was made with.
    """
    if isinstance(controller, Mapping):
        return {name: controller_words(one, files, f"{where} '{name}'") for name, one in controller.items()}
    if isinstance(controller, NamedController):
        use = controller.use
        if ".py:" in use:
            file, _, name = use.rpartition(":")
            use = f"{files.seen(Path(controller.folder or '.') / file)}:{name}"
        more = {"folder": files.seen(Path(controller.folder or "."))} if use.startswith(PREFIX) else {}
        return {"use": use, "with": more | plain(controller.arguments)}
    if isinstance(controller, Sheet):
        return {"use": files.named(type(controller)), "with": sheet_words(controller, files)}
    told: Map = {}
    for name, parameter in inspect.signature(type(controller)).parameters.items():
        if name not in vars(controller):
            raise VeldrainError(
                f"does not keep its argument '{name}', so that it cannot be written",
                where=where,
                cure=f"keep it as self.{name}, or give the controller by name",
            )
        if not same(vars(controller)[name], parameter.default):
            told[name] = plain(vars(controller)[name])
    return {"use": files.named(type(controller)), "with": told}


def scenario_words(scenario: Scenario, files: Files, world: str) -> Map:
    """A scenario, whose world is in another file."""
    words: Map = {"veldrain": "scenario/1", "world": world, "duration": scenario.duration, "step": scenario.step}
    words |= {"check_period": scenario.check_period, "integrator": scenario.integrator}
    words["truth"] = sorted(scenario.truth)
    if scenario.record_contacts is not None:
        words["record_contacts"] = scenario.record_contacts
    words["record"] = plain(scenario.record.words)
    words["controllers"] = {
        robot: controller_words(c, files, f"controller of {robot}") for robot, c in scenario.controllers.items()
    }
    words["timeline"] = [entry_words(entry, files) for entry in scenario.timeline]
    words["log"] = {name: measure_words(measure, files) for name, measure in scenario.measures.items()}
    words["expect"] = []
    for e in scenario.expectations.values():
        way = next(word for word in ("never", "always", "eventually", "at_the_end") if vars(e)[word] is not None)
        told = {"name": e.name, way: condition_words(e.condition, files)}
        more = {word: vars(e)[word] for word in ("within", "since", "until") if vars(e)[word] is not None}
        words["expect"].append(told | more)
    return {word: told for word, told in words.items() if told or word == "duration"}


def save_world(world: World, path: str | Path) -> None:
    """Write a world as a file that ``load_world`` reads back equal; pictures in memory are written beside it.

    A path that ends with ``.glb`` is written as a scene: what is seen at the start, a node a link or thing.

    Raises:
        VeldrainError: it cannot be written, or has what files have no words for.

    >>> save_world(world, "out/yard.world.yaml")  # doctest: +SKIP
    """
    target = Path(path)
    if target.suffix == ".glb":
        write_bytes(target, glb_of(world))
        return
    _write(world_words(world, files := Files(target.parent)), target, files)


def save_scenario(scenario: Scenario, path: str | Path, *, world: str | Path | None = None) -> None:
    """Write a scenario as a file that ``load_scenario`` reads back equal, and its world beside it.

    Args:
        scenario: the scenario; its controllers are written by name, with what they were made with.
        path: of its file.
        world: of its world's file; None: the same name with ``.world.yaml``.

    Raises:
        VeldrainError: it cannot be written, or a controller cannot be named in a file.

    >>> save_scenario(scenario, "out/trip.scenario.yaml")  # doctest: +SKIP
    """
    target = Path(path)
    stem = target.name.removesuffix(".yaml").removesuffix(".scenario")
    beside = Path(world) if world is not None else target.with_name(f"{stem}.world.yaml")
    words = scenario_words(scenario, files := Files(target.parent), files.seen(beside))
    save_world(scenario.world, beside)
    _write(words, target, files)


def _write(words: Map, target: Path, files: Files) -> None:
    text = as_yaml(words)
    for name, data in files.beside.items():
        beside = target.parent / name
        beside.parent.mkdir(parents=True, exist_ok=True)
        beside.write_bytes(data)
    write_text(target, text)
