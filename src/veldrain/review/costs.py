"""What a trial will cost, told before it runs: how much it writes, and how long it takes."""

from __future__ import annotations

from collections.abc import Iterator

from veldrain.recording.choice import Choice
from veldrain.recording.messages import to_bytes
from veldrain.recording.publishing import source_of
from veldrain.review.finding import Finding
from veldrain.review.look import figure
from veldrain.scenario import Scenario
from veldrain.scenario.trial import Trial
from veldrain.study import Study

STATEMENTS = {
    "much-data": "What is recorded stays below 2 GB a trial and 50 GB a study.",
    "much-time": "A trial takes less than ten minutes, and a study less than three hours.",
}

MOST_A_TRIAL, MOST_A_STUDY = 2e9, 50e9  # bytes, as messages: packing makes less of pictures and clouds
LONG_TRIAL, LONG_STUDY = 600.0, 10_800.0  # s


def what_it_costs(thing: Scenario | Study, trial: Trial, took: float) -> Iterator[Finding]:
    """Findings for what is written, and for the time, by a trial that was begun; ``took``: s that a whole one takes."""
    study = thing if isinstance(thing, Study) else None
    trials = study.trials * len(study.controllers) if study else 1
    lasts = trial.scenario.duration
    rates = bytes_a_second(trial)
    whole = sum(rates.values()) * lasts
    keeps_all = study is not None and study.keep == "all"
    if whole > MOST_A_TRIAL or (keeps_all and whole * trials > MOST_A_STUDY):
        most = max(rates, key=lambda stream: rates[stream])
        data = f"a trial of up to {figure(lasts)} s has {_size(whole)} of messages"
        if keeps_all:
            data += f", {trials} trials {_size(whole * trials)}"
        yield Finding(
            "much-data",
            "note",
            most,
            f"{data}: {figure(100 * rates[most] / sum(rates.values()))} % of it is this stream, "
            f"{_size(rates[most])} a second",
            f"lower its rate or its resolution, write record: {{every: {{{most}: 1 s}}}}"
            + (", or keep: failed" if keeps_all else ""),
            numbers={"trial GB": whole / 1e9, "stream MB/s": rates[most] / 1e6},
        )
    if took > LONG_TRIAL or (study and took * trials > LONG_STUDY):
        all_of_them = f", and {trials} trials about {_time(took * trials)} of one core" if study else ""
        yield Finding(
            "much-time",
            "note",
            "study" if study else "scenario",
            f"by its first steps a trial takes about {_time(took)} here{all_of_them}",
            "ask sensors less often, take a larger step, or give the study more workers",
            numbers={"trial s": took},
        )


def bytes_a_second(trial: Trial) -> dict[str, float]:
    """How much of the streams of each sensor is recorded, by what it has measured last."""
    choice, found = Choice.of(trial.scenario.record.words), {}
    for name, samples in trial.simulation.streams.items():
        if samples.latest is None:
            continue
        size = 0.0
        messages = source_of(name, samples.sensor).make(samples.latest.stamp, samples.latest.data)
        for stream, message in messages.items():
            if choice.has(stream):
                apart = max(samples.sensor.period, choice.period(stream))
                size += len(to_bytes(message.type, message.fields)) / apart
        found[name] = size
    return found


def _size(count: float) -> str:
    return f"{figure(count / 1e9)} GB" if count >= 1e9 else f"{figure(count / 1e6)} MB"


def _time(seconds: float) -> str:
    return f"{figure(seconds / 3600)} h" if seconds >= 5400 else f"{figure(seconds / 60)} min"
