"""A trial of a study again: the same draws and noise, with what is different now."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.recording import Recording
from veldrain.scenario.running import run
from veldrain.study.contracts import Study
from veldrain.study.making import made_of
from veldrain.study.store import Key
from veldrain.units import named

NAMES = {"version": "the version", "world": "the world", "scenario": "the scenario", "values": "what is drawn"}


def again(
    study: Study,
    about: dict[str, Any],
    key: Key,
    made: dict[str, str] | None,
    record: Path | None = None,
    **options: Any,
) -> tuple[Recording, list[str]]:
    """The recording of a trial, made anew, and what of all that made its row differs now.

    Args:
        study: as it is now.
        about: of the results.
        key: controller and number.
        made: the digests of its row; None: there is none.
        record: path of the recording; None: it stays in memory.
        options: of ``run``, such as ``keep_states``.
    """
    name, number = key
    if name not in study.controllers:
        raise unknown("controller", name, study.controllers, "study")
    if not 0 <= number < len(study.rows):
        raise VeldrainError(f"no trial {number}", where="study", cure=f"it has {len(study.rows)}")
    now = made_of(study, {"fingerprints": study.fingerprints(), "sources": study.sources()}, key)
    changed = [
        NAMES.get(word, f"controller '{name}'") for word, value in (made or {}).items() if now.get(word) != value
    ]
    extra = {"controller": name, "trial": number, "drawn": named(study.draw(number), study.units), "units": study.units}
    recording = run(
        study.drawn(study.draw(number), name),
        study.seed_of(number),
        record=record,
        about=extra,
        limit=study.limit,
        warn=False,
        **options,
    )
    return recording, changed
