"""What of a scenario's timeline cannot happen, ends too early, or is expected of what is gone."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Iterator

from veldrain.control import NamedController
from veldrain.control.loading import each_of
from veldrain.motion import Route
from veldrain.review.finding import Finding
from veldrain.scenario import Attach, Change, Cut, Fail, Finish, Push, Put, Release, Remove, Scenario
from veldrain.scenario.conditions import Clearance, Compared, Condition, Distance, Latched, Watching
from veldrain.scenario.coupling import Attached, AttachedForce
from veldrain.scenario.measures import Signal
from veldrain.scenario.trial import Trial
from veldrain.simulation import engine_of

FASTEST = 30.0  # m/s
LEAST_PUSH = 1e-3  # m/s that a push gives what it is on, as a whole
UNIT = "see its bound and its unit"
STATEMENTS = {
    "never-sets-off": "An actor on a route goes along it while the trial lasts.",
    "cut-short": "What takes its time is done before the trial ends.",
    "ends-at-once": "A trial does not end where it begins.",
    "never-fires": "A condition can hold: what it compares can change, and reach its bound.",
    "cannot-fail": "An expectation can be broken.",
    "unknown-signal": "A signal that a condition waits for is logged by a controller.",
    "never-happens": "What waits for a condition happens in a trial.",
    "never-released": "A condition with hysteresis can end.",
    "push-of-nothing": "A push moves what it pushes.",
    "taken-away": "What is expected of a thing is expected while it is there.",
    "never-attached": "What is released, or waited for as attached, is attached by somebody.",
}


def never_fires(scenario: Scenario, look: Watching) -> Iterator[Finding]:
    """Conditions that nothing can meet, and those that end a trial at its start."""
    for expected in scenario.expectations.values():
        why, sure, never = expected.condition.impossible(scenario.duration), "", expected.never is not None
        if still := _never_moves(expected.condition, look):
            holds = expected.condition.bind(look)()
            why, sure = ("", still) if holds else (still, "")
        if why and never:
            yield Finding(
                "cannot-fail", "warning", expected.name, f"is never broken: {why}", "see its bound and its unit"
            )
        elif why:
            yield Finding("never-fires", "warning", expected.name, f"its condition never holds: {why}", "see its bound")
        elif not never and (sure := sure or expected.condition.certain()):
            yield Finding(
                "cannot-fail", "warning", expected.name, f"is always met: {sure}", "see its bound and its unit"
            )
        elif expected.eventually is not None and expected.since is None and expected.eventually.bind(look)():
            text, cure = "is met where the trial begins", "see its bound, or expect it since: an event"
            yield Finding("cannot-fail", "warning", expected.name, text, cure)
    for entry in scenario.timeline:
        condition, name = entry.trigger, str(entry.action)
        if not isinstance(condition, Condition):
            continue
        still = _never_moves(condition, look)
        why = condition.impossible(scenario.duration) or ("" if still and condition.bind(look)() else still)
        if why:
            text = f"waits for a condition that never holds: {why}"
            yield Finding("never-fires", "warning", name, text, "see its bound, or name what moves", entry.where)
        elif isinstance(entry.action, Finish) and condition.bind(look)():
            text = "ends the trial on a condition that holds at the start"
            yield Finding("ends-at-once", "warning", name, text, "see its bound", entry.where)


def _never_moves(condition: Condition, look: Watching) -> str:
    """Why a comparison of what is fixed in the world, or of one rigid body, stays as it is; "" where it may change."""
    if not isinstance(condition, Compared):
        return ""
    words, engine = vars(condition.measure), engine_of(look.simulation)
    names = [words[side] for side in ("a", "b") if side in words]
    if names and all(map(engine.is_fixed, names)):
        return f"{' and '.join(names)} never {'moves' if len(names) == 1 else 'move'}"
    if isinstance(condition.measure, Distance | Clearance) and all(map(engine.has_place, names)):
        one, other = map(engine.place_of, names)
        if one.node == other.node:
            return f"{names[0]} and {names[1]} are one rigid body"
        if isinstance(condition.measure, Distance) and _are_joined(look, *names):
            return f"the origin of {names[1]} stays where it is on {names[0]}"
    return ""


def never_happened(trial: Trial) -> Iterator[Finding]:
    """Pushes, failures and changes that waited for their condition to the end of a trial; others may be guards."""
    if trial.reason is not None:
        return
    for k in trial.waiting:
        entry = trial.scenario.timeline[k]
        if isinstance(entry.action, Push | Fail | Cut | Change):
            text = "its condition did not hold once in a trial from start to end"
            yield Finding("never-happens", "note", str(entry.action), text, "see its bound, and who moves", entry.where)


def _are_joined(look: Watching, a: str, b: str) -> bool:
    """True for two links of a robot that a joint holds together at the origin of one, which only turns."""
    for name, placed in look.simulation.world.placed.items():
        for joint in placed.model.joints.values():
            ends = {f"{name}/{joint.parent}", f"{name}/{joint.child}"}
            if ends == {a, b} and joint.kind in ("revolute", "continuous", "ball"):
                return True
    return False


def never_released(scenario: Scenario, look: Watching) -> Iterator[Finding]:
    """Conditions with hysteresis that end at a distance which nothing gets to while the trial lasts."""
    for condition, place, line in _asked(scenario):
        for part in condition.parts():
            if not isinstance(part, Latched) or part.one.measure.quantity != "length":
                continue
            most = abs(part.one.measure.bind_in(look)()) + FASTEST * scenario.duration
            if part.one.below and math.isfinite(most) and part.bound > most:
                text = (
                    f"once it holds it goes on to {part.bound:g} m, and in {scenario.duration:g} s nothing gets so far"
                )
                yield Finding("never-released", "warning", place, text, "see released: and its unit", line)


def unknown_signals(scenario: Scenario, logged: set[str]) -> Iterator[Finding]:
    """Signals of controllers that log others: what was logged in a first part of a trial is known."""
    for condition, place, line in _asked(scenario):
        for part in condition.parts():
            measure = getattr(part, "measure", None)
            if not isinstance(measure, Signal) or measure.path in logged:
                continue
            robot = measure.path.partition("/")[0]
            if robot not in scenario.controllers:
                text = f"waits for the signal '{measure.path}', and {robot} has no controller that could log it"
                yield Finding("unknown-signal", "warning", place, text, "see its name", line)
            elif near := difflib.get_close_matches(measure.path, logged, n=1, cutoff=0.6):
                text = f"waits for the signal '{measure.path}', which was not logged in the first ticks"
                yield Finding("unknown-signal", "warning", place, text, f"did you mean '{near[0]}'?", line)
            else:
                text = f"waits for the signal '{measure.path}', which was not logged in the first ticks"
                yield Finding("unknown-signal", "note", place, text, "see that its controller logs it", line)


def _asked(scenario: Scenario) -> Iterator[tuple[Condition, str, str]]:
    """All conditions, with the place and the line that each is at."""
    for entry in scenario.timeline:
        if isinstance(entry.trigger, Condition):
            yield entry.trigger, str(entry.action), entry.where
    for expected in scenario.expectations.values():
        yield expected.condition, expected.name, ""


def cut_short(scenario: Scenario) -> Iterator[Finding]:
    """Actions at a time that are not done when the trial ends, or after it has been finished."""
    timed = [(entry.trigger, entry) for entry in scenario.timeline if isinstance(entry.trigger, float)]
    ends = min((at for at, entry in timed if isinstance(entry.action, Finish)), default=math.inf)
    for at, entry in timed:
        done = at + entry.action.takes()
        if at > ends + 1e-9:
            text, cure = f"comes at {at:g} s, and the trial is finished at {ends:g} s", "finish it later"
            yield Finding("cut-short", "warning", str(entry.action), text, cure, entry.where)
        elif done > scenario.duration + 1e-9:
            yield Finding(
                "cut-short",
                "warning",
                str(entry.action),
                f"takes until {done:g} s, and the trial ends at {scenario.duration:g} s",
                "begin it earlier, let it take less, or give the scenario a longer duration",
                entry.where,
            )


def does_nothing(scenario: Scenario, varied: Iterable[str] = ()) -> Iterator[Finding]:
    """Pushes that move nothing. ``varied``: paths of what a study draws."""
    drawn = {path.partition(".")[0] for path in varied}
    for entry in scenario.timeline:
        push = entry.action
        if not isinstance(push, Push) or push.name in drawn:
            continue
        if not any(push.force) and not any(push.torque):
            text, cure = "is of 0 N and 0 N·m: it does nothing", "give it a force= or a torque="
        else:
            mass = _mass(scenario, push.link)
            speed = math.hypot(*push.force) * push.lasting / mass
            if any(push.torque) or speed > LEAST_PUSH:
                continue
            text = f"speeds {mass:.3g} kg up by {1e3 * speed:.2g} mm/s: it does next to nothing"
            cure = "see its force (N) and how long it lasts"
        yield Finding("push-of-nothing", "warning", str(push), text, cure, entry.where)


def _mass(scenario: Scenario, name: str) -> float:
    world = scenario.world
    if name in world.bodies:
        return float(world.bodies[name].mass_properties.mass)
    model = world.placed[name.partition("/")[0]].model
    return float(sum(link.mass_properties.mass for link in model.links.values()))


def never_sets_off(scenario: Scenario) -> Iterator[Finding]:
    """Actors that stand from start to end."""
    told = {entry.action.values.get("actor") for entry in scenario.timeline}
    for name, placed in scenario.world.placed.items():
        course = placed.course
        if course is None or not isinstance(course.leader, Route) or name in told:
            continue
        if course.leader.top_speed == 0.0:
            why = "its route is for 0 m/s"
        elif course.begin >= scenario.duration:
            why = f"it sets off at {course.begin:g} s, and the trial ends at {scenario.duration:g} s"
        else:
            continue
        cure = "let it go earlier, or tell it to: go"
        yield Finding(
            "never-sets-off", "note", name, f"stands all the time: {why}", cure, scenario.world.where.get(name, "")
        )


def taken_away(scenario: Scenario) -> Iterator[Finding]:
    """Expectations that go on over what the timeline takes away."""
    gone = {e.action.thing: e for e in scenario.timeline if isinstance(e.action, Remove)}
    back = {e.action.thing for e in scenario.timeline if isinstance(e.action, Put)}
    for expected in scenario.expectations.values():
        told = repr(expected.condition)
        for thing, entry in gone.items():
            if f"'{thing}" in told and thing not in back and expected.until is None:
                yield Finding(
                    "taken-away",
                    "warning",
                    expected.name,
                    f"is expected of {thing}, which is taken away: from then on it waits far below",
                    f"give it an end: until: {entry.names[0]}",
                    entry.where,
                )


def never_attached(scenario: Scenario) -> Iterator[Finding]:
    """What is released, or waited for as attached, where no action attaches it, and no controller can."""
    if not all(_is_ours(given) for _, given in each_of(scenario.controllers)):
        return
    held = {end for e in scenario.timeline if isinstance(e.action, Attach) for end in (e.action.thing, e.action.to)}
    asked = [(e.action.thing, e.where or str(e.action)) for e in scenario.timeline if isinstance(e.action, Release)]
    for condition in scenario.conditions():
        for part in condition.parts():
            told = part.measure if isinstance(part, Compared) else part
            if isinstance(told, Attached | AttachedForce):
                asked.append((told.a, str(part)))
    for thing, where in asked:
        if not any(end == thing or end.startswith(f"{thing}/") for end in held):
            yield Finding(
                "never-attached",
                "warning",
                where,
                f"nobody attaches {thing}",
                f"attach it before: at: 0, attach: {{thing: {thing}, to: …}}",
            )


def _is_ours(controller: object) -> bool:
    """True for a controller that comes with Veldrain: none of them attaches anything."""
    if isinstance(controller, NamedController):
        return ":" not in controller.use or controller.use.startswith("veldrain")
    return type(controller).__module__.startswith("veldrain.")
