"""Models in files: the words of ``Model``'s own functions, section by section."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from pydantic import Field, create_model

from veldrain.documents.source import Document, Source
from veldrain.documents.words import PoseText, Words, call, document
from veldrain.errors import CodeRefusedError, VeldrainError, unknown
from veldrain.formats import is_robot_file, load_robot
from veldrain.model import Model
from veldrain.model.meshes import Collide
from veldrain.model.pieces import Fault
from veldrain.resolver import allowed_code, call_named, load_named
from veldrain.units import Quantity


class MountText(Words):
    """A sensor on a link: ``use: Lidar``, or ``module:Name`` for one of your own, and its data sheet."""

    use: str
    on: str
    pose: PoseText = PoseText()
    arguments: dict[str, Any] = Field(default={}, alias="with")
    failures: list[dict[str, Any]] = []


class ChangeText(Document):
    """What is changed of a model that comes from elsewhere; ``null`` removes."""

    links: dict[str, document(Model.link, changes=True)] = {}  # type: ignore[valid-type]
    joints: dict[str, document(Model.joint, changes=True)] = {}  # type: ignore[valid-type]
    motors: dict[str, document(Model.motor, ("joint",), changes=True) | None] = {}  # type: ignore[valid-type]


_FIGURES = document(Model.joint, ("parent", "child", "kind", "pose", "axis", "mimic", "collide"))
MotorText = document(Model.motor, ("joint",))
_JOINT_WORDS = document(Model.joint, ("parent", "child", "kind", "pose"))
DefaultsText: type[Words] = create_model(
    "DefaultsWords", __base__=_FIGURES, joints=(str, "*"), kind=(str, None), motor=(MotorText, None)
)
AttachText: type[Words] = create_model(
    "AttachWords", __base__=(document(Model.attach, ("other",)), _JOINT_WORDS), model=(str, ...)
)


class ModelText(Document):
    """A model, link by link; or one from a robot file or a function, with what is changed of it and added to it."""

    file: str | None = None
    make: str | None = None
    search: list[str] = []
    meshes: Collide = "hull"
    arguments: dict[str, str | float | bool] = {}  # of xacro, or of the function that makes it
    scale: float | None = None
    defaults: list[DefaultsText] = []  # type: ignore[valid-type]
    change: ChangeText = ChangeText()
    links: dict[str, document(Model.link)] = {}  # type: ignore[valid-type]
    joints: dict[str, document(Model.joint)] = {}  # type: ignore[valid-type]
    roller_wheels: dict[str, document(Model.roller_wheel)] = {}  # type: ignore[valid-type]
    attach: dict[str, AttachText] = {}  # type: ignore[valid-type]
    motors: dict[str, MotorText] = {}  # type: ignore[valid-type]
    loops: dict[str, document(Model.close)] = {}  # type: ignore[valid-type]
    springs: dict[str, document(Model.spring)] = {}  # type: ignore[valid-type]
    rotors: dict[str, document(Model.rotor, ("joint",))] = {}  # type: ignore[valid-type]
    drag: dict[str, document(Model.drag, ("link",))] = {}  # type: ignore[valid-type]
    no_contact: list[tuple[str, str]] = []
    frames: dict[str, document(Model.frame)] = {}  # type: ignore[valid-type]
    sensors: dict[str, MountText] = {}
    postures: dict[str, dict[str, Quantity]] = {}
    suppress: list[document(Model.suppress)] = []  # type: ignore[valid-type]


def make_model(source: Source, name: str, texts: Mapping[str, str | ModelText], others: dict[str, Model]) -> Model:
    """A model of a file; those it is joined from are made first and kept in ``others``.

    Raises:
        VeldrainError: what is wrong in it, with its line.
    """
    if name in others:
        return others[name]
    text = texts[name]
    if isinstance(text, str):
        text = ModelText(file=text) if is_robot_file(text) else ModelText(make=text)
    place, folder = ("models", name), source.path.parent
    model = Model(name, draft=source.is_draft)
    with source.at(*place):
        model = _begun(source, name, text)

    def each(section: str, act: Callable[..., Any], kind: str = "", words: Any = None) -> None:
        """Do what a section says, entry by entry; ``kind`` is what line numbers are kept under."""
        told = getattr(text, section) if words is None else words
        entries = told.items() if isinstance(told, Mapping) else enumerate(told)
        for key, entry in entries:
            at = (*place, *section.split("."), key)
            if kind:
                model.where[f"{kind} {key}"] = source.line(at)
            with source.at(*at):
                act(key, entry)

    def plain(function: Callable[..., Any]) -> Callable[..., Any]:
        return lambda key, entry: call(function, entry, folder, key)

    def attach(prefix: str, entry: Any) -> None:
        if entry.model not in texts or entry.model == name:
            raise unknown("model", entry.model, [other for other in texts if other != name])
        words = entry.given(folder) | {"name": prefix}
        model.attach(make_model(source, words.pop("model"), texts, others), **words)

    def mount(sensor: str, entry: MountText) -> None:
        try:
            made = _sensor(entry, folder)
        except CodeRefusedError as error:
            if allowed_code() != "data":
                raise
            model.faults.append(Fault("not-looked-at", error.at(f"{name}, sensor '{sensor}'"), is_grave=False))
            return
        model.mount(sensor, made, on=entry.on, pose=entry.pose.make(folder), failures=entry.failures)

    def change_motor(joint: str, entry: Words | None) -> None:
        if entry is None:
            model.remove_motor(joint)
        else:
            call(model.change_motor, entry, folder, joint)

    each("defaults", lambda _, entry: call(model.defaults, entry, folder))
    # What is there already is changed first, what the file itself adds once it is there.
    changes = (
        ("change.links", plain(model.change_link), text.change.links, set(model.links)),
        ("change.joints", plain(model.change_joint), text.change.joints, set(model.joints)),
        ("change.motors", change_motor, text.change.motors, set(model.motors)),
    )
    for section, act, words, there in changes:
        each(section, act, words={key: entry for key, entry in words.items() if key in there})
    each("links", plain(model.link), "link")
    whom_they_follow_first = sorted(text.joints.items(), key=lambda item: item[1].mimic is not None)
    each("joints", plain(model.joint), "joint", dict(whom_they_follow_first))
    each("roller_wheels", plain(model.roller_wheel), "joint")
    each("attach", attach)
    each("motors", plain(model.motor), "motor")
    for section, act, words, there in changes:
        each(section, act, words={key: entry for key, entry in words.items() if key not in there})
    each("loops", plain(model.close))
    each("springs", plain(model.spring))
    each("rotors", plain(model.rotor), "rotor")
    each("drag", plain(model.drag))
    each("no_contact", lambda _, pair: model.no_contact(*pair))
    each("frames", plain(model.frame), "frame")
    each("sensors", mount, "sensor")
    each("postures", model.posture)
    each("suppress", lambda _, entry: call(model.suppress, entry, folder))
    if not source.is_draft:
        model.settle()
    others[name] = model
    return model


def _begun(source: Source, name: str, text: ModelText) -> Model:
    """What a model starts from: a robot file, a function, or nothing."""
    if text.file is not None and text.make is not None:
        raise VeldrainError("file and make", cure="give one of them")
    folder = source.path.parent
    if text.file is not None:
        search = [folder / other for other in text.search]
        arguments = {key: str(value) for key, value in text.arguments.items()}
        file = Path(os.path.normpath(folder / text.file))
        model = load_robot(file, search=search, meshes=text.meshes, arguments=arguments, name=name, draft=True)
    elif text.make is not None:
        found = load_named(text.make, folder, "")
        model = call_named(found, text.arguments, text.make, "") if callable(found) else found
        if not isinstance(model, Model):
            raise VeldrainError(
                f"'{text.make}' gives {type(model).__name__}, not a Model", cure="name a function that makes one"
            )
        model = model.copy(name)  # what is changed here is changed of no other
    else:
        model = Model(name, draft=source.is_draft)
    return model.scaled(text.scale) if text.scale is not None else model


def _sensor(text: MountText, folder: Path) -> Any:
    import veldrain.sensing as own

    if ":" in text.use:
        kind = load_named(text.use, folder, "")
    elif text.use in own.__all__:
        kind = getattr(own, text.use)
    else:
        raise unknown("sensor", text.use, own.__all__)
    return call_named(kind, text.arguments, text.use, "")
