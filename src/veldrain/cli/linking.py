"""What ``veldrain live`` does: a trial beside other programs, and a word with them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from veldrain.cli.output import grid, out, print_outcome, say, unused
from veldrain.cli.progressing import prepare_engine, progress
from veldrain.errors import VeldrainError
from veldrain.units import quantity


def run(
    path: Path,
    domain: int,
    interface: str,
    speed: float | None,
    lockstep: bool,
    seed: int,
    record: Path | None,
    names: list[str],
    watchdog: str,
    oldest: str | None,
    wait: str,
) -> bool:
    """Run a scenario's trial with a live link; True where it passed."""
    from veldrain.documents import load_scenario
    from veldrain.live.dds import MACHINE
    from veldrain.live.link import Link
    from veldrain.scenario.running import run as run_trial

    scenario = load_scenario(path)
    if record is not None and record.exists():
        raise VeldrainError("is there already", where=str(record), cure="name another file with --out")
    told = {}
    for words in names:
        ours, equals, theirs = words.partition("=")
        if not equals:
            raise VeldrainError(
                f"'{words}' has no =", where="--name", cure="write ours and theirs: crawler/imu=imu/data"
            )
        told[ours] = theirs
    limits: dict[str, Any] = {"watchdog": watchdog, "oldest": oldest, "wait": wait}
    link = Link(domain, interface=interface, speed=speed, lockstep=lockstep, names=told, **limits)
    listening = link.listening(scenario)
    prepare_engine(scenario.world)
    target = record or unused(Path(f"{path.name.split('.')[0]}-live.mcap"))
    pace = "in lockstep" if lockstep else "as fast as it goes" if speed is None else f"at {speed:g} times real time"
    where = "on this machine" if interface == MACHINE else f"at {interface}"
    taken = "Commands are taken on:" if link.topics() else "No robot in it has a motor: it takes no commands."
    say(f"Live on domain {domain} {where}, {pace}. {taken}")
    for topic in link.topics():
        say(f"  {topic}")
    with progress("Live", "s") as tell:
        recording = run_trial(listening, seed, record=target, sinks=[link], warn=False, progress=tell)
    print_outcome(recording)
    for text in link.notices.values():
        say(f"  note: {text}")
    say(f"Written: {target}")
    return bool(recording.outcome["passed"])


def topics(domain: int, interface: str) -> None:
    """List what is published."""
    from veldrain.live.dds import Bus
    from veldrain.live.trying import topics as found_topics

    found = found_topics(Bus(domain, interface))
    if not found:
        raise VeldrainError(
            f"nothing is published on domain {domain} at {interface}", where="live", cure="start a trial"
        )
    table = grid("topic", "message", left=2)
    for name, message in found.items():
        table.add_row(name, message)
    out.print(table)


def listen(topic: str, message: str | None, domain: int, interface: str, lasting: str) -> None:
    """Print the messages of a topic as they come."""
    from veldrain.live.dds import Bus
    from veldrain.live.trying import listen as heard

    count, first = 0, 0.0
    for row in heard(Bus(domain, interface), topic, message, quantity(lasting, "time", "--for")):
        first = first or row["time"]
        values = ", ".join(f"{name} {_short(value)}" for name, value in row.items() if name != "time")
        say(f"{row['time'] - first:9.3f} s  {values}")
        count += 1
    if not count:
        raise VeldrainError("nothing came", where=f"live: {topic}", cure="see veldrain live, which lists the topics")


def _short(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.5g}"
    return f"[{len(value)}]" if isinstance(value, np.ndarray | list) else str(value)


def speak(topic: str, message: str, fields: str, domain: int, interface: str, rate: str, lasting: str) -> None:
    """Publish a message again and again."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    from veldrain.live.dds import Bus
    from veldrain.live.trying import say as said

    try:
        given = YAML(typ="safe").load(fields) or {}
    except YAMLError as error:
        raise VeldrainError(f"'{fields}' is no YAML", where="--with", cure="write {linear: {x: 0.3}}") from error
    often = 1.0 / quantity(rate, "period", "--rate")
    readers = said(Bus(domain, interface), topic, message, given, often, quantity(lasting, "time", "--for"))
    say(f"Said on {topic.strip('/')} for {lasting}: {readers} {'reads' if readers == 1 else 'read'} it")
