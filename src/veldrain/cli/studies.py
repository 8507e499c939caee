"""What the commands on studies do: run one, search and fit with one, compare folders, run a trial again."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from veldrain.cli.output import as_json, err, say, unused
from veldrain.cli.progressing import lasts, prepare_engine, progress
from veldrain.errors import VeldrainError, unknown
from veldrain.files import file_names, write_csv

if TYPE_CHECKING:
    from veldrain.study import Result, Study
    from veldrain.study.statistics import Comparison

REPORT = "report.html"


@dataclass(frozen=True)
class Wishes:
    """What is wished of a study beside running it."""

    keep: str | None = None
    until: str | None = None
    doubt: bool = False
    sharpen: int | None = None
    cluster: str | None = None
    table: Path | None = None
    needed: str | None = None
    is_json: bool = False


def check_counts(workers: int, trials: int | None) -> None:
    """Refuse numbers of workers and trials that are not above zero."""
    for option, count in (("--workers", workers), ("--trials", trials)):
        if count is not None and count < 1:
            raise VeldrainError(f"{count} is too few", where=option, cure="give 1 or more")


def study(
    path: Path,
    out: Path | None,
    workers: int,
    trials: int | None = None,
    limit: str | None = None,
    wishes: Wishes | None = None,
) -> Result:
    """Run a study from its file, print its comparison and write its page."""
    from veldrain.study.carrying_out import ANEW

    check_counts(workers, trials)
    loaded, wishes = _loaded(path, limit), wishes or Wishes()
    loaded.trials = trials or loaded.trials
    folder = out or unused(Path(path.name.split(".")[0] + "-results"))
    prepare_engine(loaded.scenario.world)
    with progress("Trials") as tell, _executor(wishes.cluster) as executor:

        def follow(done: float, total: float, last: str) -> None:
            if last.endswith(ANEW):
                err.print(last)
            tell(done, total, last)

        result = loaded.run(
            folder,
            workers=workers,
            progress=follow,
            executor=executor,
            keep=None if wishes.keep is None else _policy(wishes.keep),
            until=wishes.until,
        )
        if wishes.sharpen:
            result = loaded.sharpen(folder, wishes.sharpen, workers=workers, progress=follow)
    if wishes.doubt:
        with progress("Doubts") as tell:
            result.doubts(workers=workers, progress=tell)
    if wishes.table:
        result.write_table(wishes.table)
    with as_json(wishes.is_json) as data:
        data |= data_of(result, show(result, None))
        if wishes.needed:
            data["needed"] = result.needed(wishes.needed).to_dict("records")
            _print_needed(result, wishes.needed)
        if wishes.table:
            say(f"Written: {wishes.table}")
        _say_what_is_where(result)
    return result


def _say_what_is_where(result: Result) -> None:
    folder = result.folder
    say("")
    say(f"Written to {folder}:")
    say(f"  {REPORT:<14}the comparison with its figures, in one file")
    rows = len(result.trials)
    say(f"  {'study.sqlite':<14}a row for each of {rows} trials; 'veldrain compare --table' writes it as CSV")
    files = list(folder.rglob("*.mcap"))
    if files:
        size = sum(f.stat().st_size for f in files) / 1e6
        say(f"  {'trials/':<14}{len(files)} recordings (MCAP with ROS 2 messages, {size:.0f} MB in all)")


def _loaded(path: Path, limit: str | None = None) -> Study:
    from veldrain.documents import load_study

    return load_study(path, limit=limit)


def _policy(words: str) -> Any:
    """``all``, ``failed``, ``none``, ``worst METRIC 10`` or ``first 10``."""
    head, _, rest = words.partition(" ")
    if head == "first":
        return (head, _count(rest))
    if head == "worst":
        metric, _, count = rest.rpartition(" ")
        return (head, metric, _count(count))
    return words


def _count(text: str) -> int:
    if not text.strip().isdigit():
        raise VeldrainError(f"'{text}' is no count", where="--keep", cure="write such as 'worst gap 10' or 'first 10'")
    return int(text)


@contextmanager
def _executor(address: str | None) -> Iterator[Any]:
    """What runs trials on a cluster; None for none."""
    if address is None:
        yield None
        return
    try:
        import distributed
    except ImportError:
        raise VeldrainError(
            "needs distributed", where="--cluster", cure="pip install 'veldrain[cluster]', here and on the workers"
        ) from None
    try:
        made: Any = distributed.Client  # it tells no types
        client = made(address, timeout="20s")
    except (OSError, ValueError) as error:
        raise VeldrainError(f"no scheduler answers ({error})", where=address, cure="see that it runs") from error
    with client:
        yield client.get_executor()


def plan(path: Path, workers: int, keep: str | None) -> None:
    """Print what a study would run: factors, rows, time and size, by one trial that is timed."""
    import tempfile

    from veldrain.cli.output import grid
    from veldrain.cli.output import out as console
    from veldrain.report.text import number
    from veldrain.study.keeping import Keeping
    from veldrain.study.trials import TrialPlan
    from veldrain.units import names_of

    loaded = _loaded(path)
    prepare_engine(loaded.scenario.world)
    with progress("Looking at corners and first draws"):
        loaded.rehearse()  # corners and first draws are looked at here
    table = grid("factor", "unit", "least", "middle", "largest", "levels", fold=True)
    rows = [loaded.draw(k) for k in range(loaded.trials)]
    for name, unit in loaded.units.items():
        values = sorted(row[name] for row in rows)
        ends = (values[0], values[len(values) // 2], values[-1])
        told = ("–",) * 3 if names_of(unit) else tuple(number(v) for v in ends)
        table.add_row(name, unit, *told, str(len(set(values))))
    if rows and rows[0]:
        console.print(table)
    total = loaded.trials * len(loaded.controllers)
    several = (
        f" of each of {len(loaded.controllers)} controllers, {total} in all" if len(loaded.controllers) > 1 else ""
    )
    say(f"{loaded.design!r}: {loaded.trials} trials{several}.")
    if loaded.units:
        say("Corners of what is drawn, and its first draws, were looked at: nothing starts inside of another.")
    with progress("Timing a trial"), tempfile.TemporaryDirectory() as folder:
        record, first = Path(folder) / "0.mcap", next(iter(loaded.controllers))
        run = TrialPlan(first, 0, loaded.draw(0), {}, record)
        run.run(loaded)  # compiles what is not yet
        begun = time.perf_counter()
        run.run(loaded)
        took, size = time.perf_counter() - begun, record.stat().st_size
    policy = Keeping.of(loaded.keep if keep is None else _policy(keep))
    kept = {"all": total, "none": 0, "first": policy.count * len(loaded.controllers)}.get(policy.word)
    kept = policy.count * len(loaded.controllers) if policy.word == "worst" else kept
    whole, many = lasts(took * total / workers), "1 worker" if workers == 1 else f"{workers} workers"
    disk = "recordings of failed trials" if kept is None else f"{kept * size / 1e6:.2g} MB of recordings"
    say(f"A trial took {took:.2g} s and {size / 1e6:.2g} MB: about {whole} with {many}, and {disk} on disk.")


def search(path: Path, out: Path | None, workers: int, what: str) -> None:
    """Tune, look for the worst case, or fit, in the words of a study file."""
    loaded = _loaded(path)
    if what not in loaded.orders:
        raise VeldrainError(f"has no '{what}:'", where=str(path), cure=f"write {what}: in it, see docs/studies.md")
    prepare_engine(loaded.scenario.world)
    folder = out or unused(Path(f"{path.name.split('.')[0]}-{what}"))
    with progress({"tune": "Tuning", "worst": "Worst case", "fit": "Fitting"}[what]) as tell:
        told = loaded.orders[what] | {"progress": tell}
        {"tune": _tune, "worst": _worst, "fit": _fit}[what](loaded, folder, workers, told)


def _tune(loaded: Study, folder: Path, workers: int, told: dict[str, Any]) -> None:
    from veldrain.cli.output import grid
    from veldrain.cli.output import out as console
    from veldrain.report.text import number, signed
    from veldrain.study import tune

    found = tune(loaded, told.pop("bounds"), told.pop("metric"), folder, workers=workers, **told)
    table = grid("quantity", "before", "best", "unit")
    for name, value in found.values.items():
        was = found.before[name]
        table.add_row(name, "–" if was is None else number(was), number(value), found.units[name])
    console.print(table)
    span = f"{signed(found.low)} to {signed(found.high)} {found.unit}".rstrip()
    word = "better" if found.is_better else "not better for sure"
    say(f"{found.metric}: {word}, {signed(found.improvement)} ({span}) on {found.pairs} fresh pairs;")
    say(f"{found.passed} of them pass, {found.passed_before} did before. {len(found.trials)} trials were searched.")
    say(f"Written to {folder}: study.sqlite with a row for each trial")


def _worst(loaded: Study, folder: Path, workers: int, told: dict[str, Any]) -> None:
    from veldrain.cli.output import grid
    from veldrain.cli.output import out as console
    from veldrain.report.text import number
    from veldrain.study import find_worst

    metric = told.pop("metric")
    found = find_worst(loaded, metric, folder, workers=workers, **told)
    table = grid("quantity", "worst", "nearest that fails", "unit")
    for name, value in found.values.items():
        near = number(found.nearest[name]) if found.nearest else "–"
        table.add_row(name, number(value), near, loaded.units[name])
    console.print(table)
    say(f"{metric}: {number(found.value)} at worst, {number(found.nominal)} at nominal; {len(found.trials)} trials.")
    if found.nearest:
        say(f"The least change that fails is {100 * found.distance:.0f} % of the ranges away from nominal.")
    else:
        say("None of them failed.")
    say(f"Written to {folder}: study.sqlite with a row for each trial")


def _fit(loaded: Study, folder: Path, workers: int, told: dict[str, Any]) -> None:
    from veldrain.cli.output import grid
    from veldrain.cli.output import out as console
    from veldrain.recording import open_log
    from veldrain.report.figures import residuals
    from veldrain.report.text import number
    from veldrain.study import fit
    from veldrain.study.fitting import with_quantities

    several = told.pop("logs")
    logs = [open_log(path) for path, _ in several]
    scenarios = [with_quantities(loaded.scenario, at) for _, at in several]
    found = fit(scenarios, logs, told.pop("bounds"), told.pop("match"), **told)
    table = grid("quantity", "value", "95 % interval", "unit")
    for row in found.table.to_dict("records"):
        span = f"{number(row['low'], 4)} to {number(row['high'], 4)}"
        table.add_row(row["quantity"], number(row["value"], 4), span, row["unit"])
    console.print(table)
    for column, was in found.before.items():
        unit = found.column_units.get(column, "")
        now = f"{number(found.after[column])} {unit}".rstrip()
        say(f"{column}: error (RMS) {number(was)} before, {now} after")
    if found.lag:
        say(f"The logs are late by {number(1e3 * found.lag)} ms.")
    for line in found.remarks:
        say(f"note: {line}")
    folder.mkdir(parents=True, exist_ok=True)
    write_csv(found.residuals, folder / "residuals.csv")
    residuals(found, folder / "residuals.png")
    say(f"Written to {folder}: residuals.csv, residuals.png ({found.runs} trials)")


def compare(folder: Path, baseline: str | None, table: Path | None, needed: str | None, is_json: bool = False) -> None:
    """Print the comparison of a study that was run, and write its page anew."""
    from veldrain.study import Result

    result = Result(folder)
    if table:
        result.write_table(table)
    with as_json(is_json) as data:
        data |= data_of(result, show(result, baseline))
        if needed:
            data["needed"] = result.needed(needed).to_dict("records")
            _print_needed(result, needed)
        if table:
            say(f"Written: {table}")
        say(f"Written: {folder / REPORT}")


def _print_needed(result: Result, metric: str) -> None:
    from veldrain.cli.output import grid
    from veldrain.cli.output import out as console

    table = grid("pairs needed", "controller", "pairs", "90 % interval", left=2)
    for row in result.needed(metric).to_dict("records"):
        pairs, low, high = (f"{row[word]:.0f}".replace("inf", "∞") for word in ("pairs", "low", "high"))
        table.add_row(str(row["what"]), str(row["controller"]), pairs, f"{low} to {high}")
    say("")
    console.print(table)


def compare_two(a: Path, b: Path, rules: Sequence[str]) -> bool:
    """Print how two folders of one study differ; False where a rule is broken."""
    from veldrain.cli.output import print_differences
    from veldrain.study import compare_results

    with progress("Comparing"):
        found = compare_results(a, b)
    for before, after in zip(found.before, found.passes, strict=True):
        swapped = f", {len(after.won)} won, {len(after.lost)} lost" if after.won or after.lost else ""
        edited = " (edited since)" if after.controller in found.changed else ""
        counts = f"{before.passed} in {a}, {after.passed} in {b}"
        say(f"{after.controller}{edited}: of {after.trials} trials pass {counts}{swapped}")
        if after.lost:
            say(f"  lost: {', '.join(map(str, after.lost[:12]))}{', …' if len(after.lost) > 12 else ''}")
    say("")
    print_differences(found.differences, str(a), str(b))
    for note in found.notes:
        say(f"note: {note}")
    fine = True
    for rule in rules:
        broken, open_ = found.fails(rule)
        for line in broken:
            say(f"FAILS '{rule}': {line}")
        for line in open_:
            say(f"'{rule}': {line}")
        fine = fine and not broken
    return fine


def again(
    folder: Path, trial: int, controller: str | None, study_file: Path | None, out: Path | None, keep_states: str | None
) -> bool:
    """Run a trial of a study again, with the same draws and noise, and say what is different now."""
    from veldrain.cli.output import print_outcome
    from veldrain.study import Result
    from veldrain.study.again import again as run_again
    from veldrain.study.store import Store

    result = Result(folder)
    path = study_file or (Path(result.about["file"]) if result.about.get("file") else None)
    if path is None or not path.is_file():
        raise VeldrainError("its study file is not known", where=str(folder), cure="name it with --study")
    if study_file is None and folder.resolve() in path.resolve().parents:
        raise VeldrainError(
            "its study file lies in the results themselves",
            where=str(folder),
            cure="name it with --study if you trust it",
        )
    name = controller or result.about["controllers"][0]
    if name not in result.about["controllers"]:
        raise unknown("controller", name, result.about["controllers"], str(folder))
    if out is not None and out.exists():
        raise VeldrainError("is there already", where=str(out), cure="name another file with --out")
    say(f"{path}: {name}, trial {trial}")
    loaded = _loaded(path)
    prepare_engine(loaded.scenario.world)
    with Store(folder) as store:
        made = store.made().get((name, trial))
    record = out or unused(Path(f"{path.name.split('.')[0]}-{'-'.join(file_names([name])[name].split())}-{trial}.mcap"))
    with progress("Simulating", "s") as tell:
        recording, changed = run_again(
            loaded, result.about, (name, trial), made, record, keep_states=keep_states, progress=tell
        )
    was = result.trials[(result.trials["controller"] == name) & (result.trials["trial"] == trial)]
    print_outcome(recording)
    if made is None:
        say("note: the results hold no such trial yet")
    elif changed:
        say(f"changed since: {', '.join(changed)}")
    elif len(was):
        say("the same as in the results, as nothing has changed since")
    say(f"Written: {record}")
    return bool(recording.outcome["passed"])


def data_of(result: Result, comparison: Comparison | None) -> dict[str, Any]:
    """What a study came to, as plain data."""
    found: dict[str, Any] = {"folder": str(result.folder), "page": str(result.folder / REPORT)}
    found |= {"trials": len(result.trials), "doubts": result.about.get("doubts")}
    if comparison:
        found["baseline"] = comparison.baseline
        found["passes"] = [vars(rate) for rate in comparison.passes]
        found["differences"] = [vars(difference) for difference in comparison.differences]
    return found


def show(result: Result, baseline: str | None) -> Comparison | None:
    """Write a study's page and print its comparison."""
    from veldrain.cli.output import (
        print_caveats,
        print_comparison,
        print_doubts,
        print_edges,
        print_effects,
        print_expectations,
        print_failures,
        print_notices,
        print_single,
    )
    from veldrain.report.page import write_page
    from veldrain.report.text import number

    several = len(set(result.trials["controller"])) > 1 if not result.trials.empty else True
    with progress("Comparing"):
        comparison = result.compare(baseline) if several or baseline else None
        write_page(result, comparison, result.folder / REPORT)  # first: a terminal may not take what is printed
    for name, told in result.about.get("changes", {}).items():
        say(f"With {name}: " + ", ".join(f"{path} = {number(value)} {unit}" for path, (value, unit) in told.items()))
    if comparison:
        print_comparison(comparison, result.about.get("doubts"))
    else:
        print_single(result)
    print_expectations(result)
    print_edges(result)
    print_effects(result)
    print_doubts(result)
    print_failures(result)
    print_caveats(result)
    print_notices(result)
    return comparison
