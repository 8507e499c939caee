"""Pages of trials, worlds and robots, in one file each."""

from __future__ import annotations

import base64
import hashlib
import html
import json
import re
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any, cast

import numpy as np

from veldrain.documents import load_world
from veldrain.errors import VeldrainError
from veldrain.files import write_text
from veldrain.model import World
from veldrain.progress import Progress
from veldrain.recording import Recording
from veldrain.recording.frames import TF, FrameHistory
from veldrain.recording.log import Log
from veldrain.report.staging import staged
from veldrain.report.viewer.columns import streams_of, told
from veldrain.report.viewer.motion import motion_of
from veldrain.report.viewer.scene import scene_of
from veldrain.report.viewer.seen import clouds_of, contacts_of, pictures_of
from veldrain.report.viewer.store import Store
from veldrain.units import Quantity, quantity

DRIVING = "driving.js"  # of a page that is served alone
SCRIPTS = (
    "numbers.js",
    "maths.js",
    "trial.js",
    "drawing.js",
    "eye.js",
    "picking.js",
    "plots.js",
    "figures.js",
    "tree.js",
    "main.js",
)
MOST_TRIALS = 4
PLAIN = (str, int, float, bool)  # of what a foreign file may say of a trial


class Page:
    """A page as text; ``save`` writes it, and a notebook shows it."""

    def __init__(self, text: str, notes: Sequence[str] = ()) -> None:
        self.text, self.notes = text, tuple(notes)

    def save(self, path: str | Path) -> Path:
        """Write it to a file.

        Raises:
            VeldrainError: it cannot be written.
        """
        path = Path(path)
        write_text(_checked(path), self.text)
        return path

    def __repr__(self) -> str:
        return f"Page({len(self.text) / 1e6:.1f} MB)"

    def _repr_html_(self) -> str:
        return (
            f'<iframe sandbox="allow-scripts allow-downloads" style="width:100%;height:640px;border:0" '
            f'srcdoc="{html.escape(self.text)}"></iframe>'
        )


def live_page(world: World, name: str) -> str:
    """The text of the page of a trial that is driven while it runs; it finds its server by its own address."""
    store = Store()
    return _text({"trials": [_trial(world, name, store, None, None)], "live": True}, store)


def _checked(path: Path) -> Path:
    if path.suffix.lower() not in (".html", ".htm"):
        raise VeldrainError(f"a page of kind '{path.suffix}'", where=str(path), cure="name a .html file")
    return path


def page(
    thing: Any,
    out: str | Path | None = None,
    *,
    names: Sequence[str] | None = None,
    world: str | Path | None = None,
    time: Quantity | None = None,
    progress: Progress | None = None,
) -> Page:
    """A page that shows trials in a browser: to turn around, to play, to plot, to compare.

    Args:
        thing: a ``Recording`` or another log, or several of them (up to four, which run in step), or the path of a
            file; or a ``Model``, ``World``, ``Simulation``, ``Scenario`` or ``Study``, which is shown as it begins.
        out: HTML file to write; it needs nothing beside it.
        names: what the trials are called. None: as their files are.
        world: of recordings that hold none: its file.
        time: of what is no recording: how long it goes on by itself first.
        progress: told how many parts of the page are made, and of how many.

    Returns:
        The page: ``save`` writes it; notebooks show it. ``notes`` tells what of the recordings is left out.

    Raises:
        VeldrainError: what cannot be read or written, or more than four trials.

    >>> from veldrain.model import Box, World
    >>> page(World().ground().obstacle("crate", Box((1, 1, 1))))
    Page(0.1 MB)
    """
    things = list(thing) if isinstance(thing, list | tuple) else [thing]
    if not 1 <= len(things) <= MOST_TRIALS:
        raise VeldrainError(
            f"{len(things)} trials", where="page", cure=f"give one to {MOST_TRIALS}; they are shown beside each other"
        )
    if names is not None and len(names) != len(things):
        raise VeldrainError(f"{len(names)} names for {len(things)} trials", where="page: names", cure="name each")
    if out is not None:
        _checked(Path(out))
    store, trials = Store(), []
    for k, one in enumerate(things):
        one = _read(one)
        name = names[k] if names else _name_of(one)
        trials.append(_trial(one, str(name), store, world, time))
        if progress:
            progress(k + 1, len(things), str(name))
    made = Page(_text({"trials": trials}, store), [note for trial in trials for note in trial["notes"]])
    if out is not None:
        made.save(out)
    return made


def _read(thing: Any) -> Any:
    if isinstance(thing, str | Path) and Path(thing).suffix.lower() == ".mcap":
        return Recording(thing)
    return thing


def _name_of(thing: Any) -> str:
    if isinstance(thing, str | Path):
        return Path(thing).name
    path = getattr(thing, "path", None)
    return Path(path).stem if path else str(getattr(thing, "name", "") or type(thing).__name__.lower())


def _trial(thing: Any, name: str, store: Store, world: str | Path | None, time: Quantity | None) -> dict[str, Any]:
    """Everything of one trial."""
    if isinstance(thing, Log):
        return _recorded(thing, name, store, world)
    stage = staged(thing, None if time is None else quantity(time, "time", "page: time"))
    tree = stage.simulation.frames
    at, turns = tree.positions_and_quaternions()
    now, count = stage.simulation.time, len(tree.names)
    frames, _ = motion_of(FrameHistory(np.array([now]), tree.names, (-1,) * count, at[None], turns[None]), store)
    scene, notes = scene_of(stage.simulation.world, tree.names, store)
    return {
        "name": name,
        "begin": now,
        "end": now,
        "frames": frames,
        "scene": scene,
        "streams": [],
        "clouds": [],
        "pictures": [],
        "contacts": None,
        "marks": [],
        "outcome": None,
        "notes": notes,
    }


def _recorded(log: Log, name: str, store: Store, world: str | Path | None) -> dict[str, Any]:
    history, notes = _frames(log), list[str]()
    frames, left = motion_of(history, store)
    notes += left
    about = log.metadata if isinstance(log, Recording) else {}
    attached = log.attachments if isinstance(log, Recording) else {}
    scene: dict[str, Any] | None = None
    if world is not None or "world.yaml" in attached:
        held = load_world(world if world is not None else cast(Recording, log))
        scene, left = scene_of(held, history.names, store)
        notes += left
    else:
        notes.append("no world is in the file: its frames are shown without shapes; name the world's file to have them")
    streams, left = streams_of(log, store)
    notes += left
    clouds, left = clouds_of(log, store)
    notes += left
    pictures, left = pictures_of(log, store)
    notes += left
    spans = [stamps for s in log.messages if len(stamps := log.stamps(s)) and "static" not in s]
    begin = min((s[0] for s in spans), default=0) / 1e9
    end = max((s[-1] for s in spans), default=0) / 1e9
    outcome = _outcome(about.get("outcome"))
    return {
        "name": name,
        "begin": begin,
        "end": end,
        "frames": frames,
        "scene": scene,
        "streams": streams,
        "clouds": clouds,
        "pictures": pictures,
        "contacts": contacts_of(log, store),
        "marks": _marks(log, outcome),
        "outcome": outcome,
        "notes": notes,
    }


def _frames(log: Log) -> FrameHistory:
    """Where frames are in a log; none where it does not say."""
    if TF not in log.messages.values():
        return FrameHistory(np.zeros(1), (), (), np.zeros((1, 0, 3)), np.zeros((1, 0, 4)))
    return log.frames


def _outcome(outcome: Any) -> dict[str, Any] | None:
    """What a page tells of how a trial ended."""
    if not isinstance(outcome, dict):
        return None
    words, given = ("passed", "time", "margin", "nearest", "unit"), outcome.get("expectations")
    expectations = [
        {"name": str(name), **{word: told(said[word]) for word in words if isinstance(said.get(word), PLAIN)}}
        for name, said in (given if isinstance(given, dict) else {}).items()
        if isinstance(said, dict)
    ]
    notices = outcome.get("notices")
    return {
        "passed": bool(outcome.get("passed")),
        "failed": bool(outcome.get("failed")),
        "reason": str(outcome.get("reason", "")),
        "expectations": expectations,
        "notices": [str(n) for n in notices] if isinstance(notices, list) else [],
    }


def _marks(log: Log, outcome: dict[str, Any] | None) -> list[dict[str, Any]]:
    """Moments of a trial: events, and where expectations were nearest to failing or were decided."""
    marks = []
    if log.messages.get("scenario/events") == "std_msgs/msg/String":
        rows = log["scenario/events"][["time", "data"]].itertuples(index=False)
        marks = [{"time": float(time), "kind": "event", "text": str(text)} for time, text in rows]
    for said in outcome["expectations"] if outcome else ():
        name, failed = said["name"], said.get("passed") is False
        if isinstance(said.get("time"), int | float):
            marks.append(
                {
                    "time": said["time"],
                    "kind": "failed" if failed else "met",
                    "text": f"{name}: {'failed' if failed else 'met'}",
                }
            )
        if isinstance(said.get("nearest"), int | float) and said.get("nearest") != said.get("time"):
            margin = said.get("margin")
            words = f"{margin:.3g}" if isinstance(margin, int | float) else margin
            text = f"{name}: nearest" + ("" if margin is None else f", margin {words} {said.get('unit', '')}".rstrip())
            marks.append({"time": said["nearest"], "kind": "nearest", "text": text})
    return sorted(marks, key=lambda mark: mark["time"])


def _text(about: dict[str, Any], store: Store) -> str:
    """The file: nothing in it is asked of a network, and only our own script runs."""
    folder = files("veldrain.report.viewer")
    names = (*SCRIPTS[:-1], DRIVING, SCRIPTS[-1]) if about.get("live") else SCRIPTS
    script = "\n".join(folder.joinpath(name).read_text(encoding="utf-8") for name in names)
    script = f'"use strict";\n(() => {{\n{script}\n}})();\n'
    style = folder.joinpath("page.css").read_text(encoding="utf-8")
    allowed = f"default-src 'none'; script-src '{_digest(script)}'; style-src '{_digest(style)}'; img-src data: blob:"
    allowed += "; connect-src 'self'" if about.get("live") else ""
    # Nothing in a recording ends the element that holds it, or is read as a tag.
    data = json.dumps(about, separators=(",", ":"), allow_nan=False).replace("<", "\\u003c")
    parts = "\n".join(
        f'<script type="application/octet-stream" id="part{k}">{part}</script>' for k, part in enumerate(store.parts())
    )
    values = {
        "allowed": allowed,
        "title": html.escape(", ".join(trial["name"] for trial in about["trials"])),
        "style": style,
        "script": script,
        "parts": parts,
        "data": data,
    }
    shell = folder.joinpath("page.html").read_text(encoding="utf-8")
    return re.sub("@([a-z]+)@", lambda found: values[found[1]], shell)


def _digest(text: str) -> str:
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"
