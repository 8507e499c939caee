"""What the commands on recordings do: plot, export, and compare two of them."""

from __future__ import annotations

from pathlib import Path

from veldrain.cli.output import say, unused


def plot(runs: list[Path], columns: list[str], against: str | None, out: Path | None) -> None:
    """Plot columns of recordings."""
    from veldrain.recording import open_log
    from veldrain.report.plotting import plot as draw

    logs = [open_log(run) for run in runs]
    target = out or unused(Path(f"{columns[0].replace('/', '-')}.png"))
    draw(logs[0] if len(logs) == 1 else logs, target, columns=columns, against=against)
    say(f"Written: {target}")
