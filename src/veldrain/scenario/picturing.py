"""An action that takes a picture."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Sequence
from typing import Any, ClassVar

from veldrain.errors import told_at
from veldrain.model import Fields, Message
from veldrain.recording.messages import header
from veldrain.scenario.actions import Action, Trial
from veldrain.sheet import Maybe, Row, Text
from veldrain.units import Quantity

PICTURES = "scenario/pictures"


class Picture(Action):
    """Take a picture of everything, as ``vd.look`` draws it: it is recorded in the stream ``scenario/pictures``.

    >>> str(Picture(side="top"))
    'picture from top'
    """

    needs_controllers: ClassVar[bool] = True  # nothing is drawn while a scenario is only looked over

    side: Maybe[str, str] = Maybe(Text(), default=None, doc="``top``, ``front``, ``left``, ``right`` or ``back``")
    look_from: Maybe[Sequence[Quantity], tuple[float, ...]] = Maybe(
        Row("length"), default=None, doc="where to look from; None: from where most can be seen"
    )
    look_at: Maybe[Sequence[Quantity], tuple[float, ...]] = Maybe(
        Row("length"), default=None, doc="where to look; None: at all of it"
    )
    size: Row = Row("ratio", default=(640.0, 400.0), count=2, doc="width and height in pixels")

    def bind(self, trial: Trial) -> Callable[[], None]:
        words: dict[str, Any] = {"size": tuple(round(n) for n in self.size)}
        words |= {word: told for word in ("side", "look_from", "look_at") if (told := getattr(self, word)) is not None}
        with told_at("picture"):
            # Drawn by the report, which is above all scenarios and is found by its public name.
            importlib.import_module("veldrain.report.picture").View(**words)

        def take() -> None:
            pixels = importlib.import_module("veldrain").look(trial.simulation, **words)
            rows, columns = pixels.shape[:2]
            about: dict[str, Any] = {
                "height": rows,
                "width": columns,
                "encoding": "rgb8",
                "is_bigendian": 0,
                "step": 3 * columns,
            }
            fields = Fields(header=header(trial.simulation.stamp, "world"), **about, data=pixels.reshape(-1))
            trial.publisher.write(PICTURES, Message("sensor_msgs/msg/Image", fields))

        return take

    def __str__(self) -> str:
        where = self.side or (f"({', '.join(f'{x:g}' for x in self.look_from)})" if self.look_from else "")
        return "picture" + (f" from {where}" if where else "")
