"""What the commands on recordings do: plot, export, and compare two of them."""

from __future__ import annotations

import math
from pathlib import Path

from veldrain.cli.output import grid, say, unused
from veldrain.cli.output import out as console
from veldrain.cli.progressing import progress
from veldrain.errors import VeldrainError
from veldrain.files import file_names
from veldrain.report.text import number

NOTHING = 1e-9  # a difference that is rounding
LEAST_LAG = 1e-3  # s


def plot(runs: list[Path], columns: list[str], against: str | None, out: Path | None) -> None:
    """Plot columns of recordings."""
    from veldrain.recording import open_log
    from veldrain.report.plotting import plot as draw

    target = out or unused(Path(f"{file_names(columns)[columns[0]]}.png"))
    with progress("Drawing"):
        logs = [open_log(run) for run in runs]
        draw(logs[0] if len(logs) == 1 else logs, target, columns=columns, against=against)
    say(f"Written: {target}")


def export(runs: list[Path], to: Path, kinds: list[str], streams: list[str] | None, frame: str | None) -> None:
    """Write recordings to files of other kinds."""
    from veldrain.recording import open_log
    from veldrain.recording.exporting import Choices
    from veldrain.recording.exporting import export as write

    names = [run.with_suffix("").name for run in runs]
    if len(set(names)) < len(names):
        names = ["-".join(run.with_suffix("").parts[-2:]) for run in runs]
    written = []
    with progress("Files") as tell:
        for run, name in zip(runs, names, strict=True):
            target = to if len(runs) == 1 else to / name
            written += write(open_log(run), target, kinds, streams, Choices(frame), tell)
    size = sum(path.stat().st_size for path in written) / 1e6
    say(f"Written to {to}: {len(written)} files, {number(size)} MB")
    for path in written[:12]:
        say(f"  {path.relative_to(to)}")
    if len(written) > 12:
        say(f"  … and {len(written) - 12} more")


def dataset(
    study: Path,
    to: Path,
    columns: list[str],
    kind: str,
    period: str | None,
    window: str | None,
    stride: str | None,
    split: str | None,
    seed: int,
) -> None:
    """Write a study's recordings as a data set."""
    from veldrain.study import Result

    with progress("Trials") as tell:
        index = Result(study).write_dataset(
            to, columns, kind=kind, period=period, window=window, stride=stride,
            split=None if split is None else _shares(split), seed=seed, progress=tell,
        )  # fmt: skip
    parts = ", ".join(f"{count} {name}" for name, count in index["split"].value_counts().items())
    say(f"Written to {to}: {len(index)} files ({parts}), index.csv, index.json, README.md")


def _shares(text: str) -> dict[str, float]:
    """Shares of a split: ``train=0.8,test=0.2``."""
    try:
        return {name.strip(): float(share) for name, share in (part.split("=") for part in text.split(","))}
    except ValueError as error:
        raise VeldrainError(f"'{text}' is no split", where="--split", cure="write train=0.8,test=0.2") from error


def compare(a: Path, b: Path, pairs: list[str], columns: list[str], out: Path | None) -> None:
    """Compare two recordings: print how far they are apart, and plot columns if some are named."""
    from veldrain.recording import compare_logs, open_log
    from veldrain.report.plotting import plot as draw

    told = {}
    for words in pairs:
        mine, equals, theirs = words.partition("=")
        if not equals:
            raise VeldrainError(f"'{words}' has no =", where="--pair", cure="write a stream of each: crawler/imu=/imu")
        told[mine] = theirs
    with progress("Comparing"):
        found = compare_logs(open_log(a), open_log(b), told)
    apart = found.table[found.table["largest"] > NOTHING]
    if len(apart):
        rows = grid("stream", "column", "RMS", "largest", "mean", "lag (ms)", "first (s)", left=2)
        for row in apart.to_dict("records"):
            unit = f" ({row['unit']})" if row["unit"] else ""
            lag = number(1e3 * row["lag"]) if abs(row["lag"]) >= LEAST_LAG else "–"
            values = (number(row[word]) for word in ("RMS", "largest", "mean"))
            rows.add_row(row["stream"], f"{row['column']}{unit}", *values, lag, f"{row['first']:.3f}")
        console.print(rows)
        say("")
    if found.same:
        say(f"the same, to the byte: {', '.join(found.same)}")
    if len(apart) < len(found.table):
        say(f"the same but for rounding: {len(found.table) - len(apart)} columns more")
    for stream, since in found.different.items():
        when = "" if math.isnan(since) else f" from {since:.3f} s on"
        say(f"not the same{when}: {stream}")
    for which, path in (("a", a), ("b", b)):
        if found.only[which]:
            say(f"only in {path}: {', '.join(found.only[which])}")
    if columns:
        target = out or unused(Path("comparison.png"))
        with progress("Drawing"):
            draw(found, target, columns=columns)
        say(f"Written: {target}")
