"""What the controllers that ship share: they are declared as data sheets, and a copy has a state of its own."""

from __future__ import annotations

import copy
from typing import Any, Self

from veldrain.sheet import Number, Sheet


class SheetController(Sheet):
    """A controller whose arguments are a data sheet; what else it keeps are plain attributes."""

    takes_more = True

    period: Number = Number("period", default=0.02, above=0.0, doc="time between updates, or their rate")

    def __deepcopy__(self, memo: Any) -> Self:
        made = type(self).__new__(type(self))
        memo[id(self)] = made
        vars(made).update({name: copy.deepcopy(value, memo) for name, value in vars(self).items()})
        return made
