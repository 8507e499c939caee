"""An action that takes a picture."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, ClassVar

from veldrain.model import Fields, Message
from veldrain.model.drawing import Eye, drawn
from veldrain.recording.messages import header
from veldrain.scenario.actions import Action, Trial
from veldrain.sheet import Made

PICTURES = "scenario/pictures"


class Picture(Eye, Action):
    """Take a picture of everything, as ``vd.look`` draws it: it is recorded in the stream ``scenario/pictures``.

    >>> str(Picture(side="top"))
    'picture from top'
    """

    needs_controllers: ClassVar[bool] = True  # nothing is drawn while a scenario is only looked over

    size: Made[Sequence[int], tuple[int, ...]] = Made(
        lambda value, where: tuple(value), default=(640, 400), doc="width and height in pixels"
    )

    def bind(self, trial: Trial) -> Callable[[], None]:
        words = {word: told for word in Eye.fields() if (told := getattr(self, word)) is not None}

        def take() -> None:
            pixels = drawn(trial.simulation, **words)
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
