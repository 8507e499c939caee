"""Where frames are over time, as a page keeps it: whole numbers of half a millimetre, and quaternions of 0.03°."""

from __future__ import annotations

from typing import Any

import numpy as np

from veldrain.recording.frames import FrameHistory
from veldrain.report.viewer.store import Store

LENGTH = 5e-4  # m of one count
TURN = 1.0 / 8191  # of one count of a quaternion's part: 0.03° at most
MOST_RATE = 60.0  # rows a second: what comes more often is thinned
ROWS = 2000  # in a part
FARTHEST = 1e6  # m: what counts of 32 bits hold


def motion_of(history: FrameHistory, store: Store) -> tuple[dict[str, Any], list[str]]:
    """Frames, and what is left out."""
    times, notes = history.times, []
    rows = np.arange(len(times))
    if len(times) > 1 and (rate := (len(times) - 1) / max(times[-1] - times[0], 1e-9)) > MOST_RATE:
        # The last of each sixtieth of a second, and the end.
        rows = np.flatnonzero(np.diff(np.floor((times - times[0]) * MOST_RATE), append=np.inf))
        notes.append(f"of {rate:.0f} poses a second {MOST_RATE:g} are kept")
    at, turns = history.positions, history.orientations
    if not (np.isfinite(at) & (np.abs(at) < FARTHEST)).all() or not np.isfinite(turns).all():
        notes.append(f"frames that are nowhere, or farther off than {FARTHEST / 1e3:g} km, are drawn in a wrong place")
        at = np.clip(np.nan_to_num(at), -FARTHEST, FARTHEST)
        turns = np.nan_to_num(turns)
    moves = np.ptp(at, axis=0).any(axis=1) | np.ptp(turns, axis=0).any(axis=1)
    moving = np.flatnonzero(moves)
    still = [
        None if moves[k] else [*np.round(at[0, k], 5).tolist(), *np.round(turns[0, k], 6).tolist()]
        for k in range(len(history.names))
    ]
    parts = []
    for first in range(0, len(rows), ROWS):
        some = rows[first : first + ROWS + 1]  # one more: between two parts it goes on
        store.begin_part()
        parts.append(
            {
                "from": float(times[some[0]]),
                "to": float(times[some[-1]]),
                "count": len(some),
                "times": store.add(np.round((times[some] - times[some[0]]) * 1e5), "i4", differences=True),
                "at": store.add(np.round(at[some][:, moving] / LENGTH).reshape(len(some), -1), "i4", differences=True),
                "turn": store.add(
                    np.round(turns[some][:, moving] / TURN).reshape(len(some), -1), "i2", differences=True
                ),
            }
        )
    store.begin_part()
    return {
        "names": list(history.names),
        "parents": list(history.parents),
        "still": still,
        "moving": moving.tolist(),
        "parts": parts,
        "length": LENGTH,
        "turn": TURN,
    }, notes
