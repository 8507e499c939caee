"""Studies: what a trial costs beside itself, what a second worker gives, and large stores. Called by run.py."""

from __future__ import annotations

import resource
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

import veldrain as vd
from veldrain.report.page import write_page
from veldrain.scenario.trial import Trial
from veldrain.study.ranks import signed_rank_p
from veldrain.study.store import Store

Figure = tuple[str, float, str, str]  # name, value, unit, target
TRIALS, ROWS = 500, 50_000  # of each of two controllers


class Push:
    """A force, from the first tick on."""

    period = 0.01

    def __init__(self, force: float) -> None:
        self.force = force

    def update(self, now: float, senses: object, motors: dict) -> None:  # type: ignore[type-arg]
        motors["slide"].effort = self.force


def seconds(act: Callable[[], object]) -> float:
    """How long one call takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def sled(trials: int, duration: str = "5 s") -> vd.Study:
    """A sled on a rail with an encoder, an IMU and its true pose: some 50 ms a trial."""
    m = vd.Model("sled").link("rail").link("slider", vd.Box((0.2, 0.2, 0.1)), mass=10)
    m.joint("slide", "rail", "slider", kind="prismatic", axis=(1, 0, 0), damping=2.0).motor("slide", limit=200)
    m.mount("enc", vd.Encoders(period="10 ms"), on="slider").mount("imu", vd.Imu(period="10 ms"), on="slider")
    m.mount("truth", vd.TruePose(period="20 ms"), on="slider")
    scenario = vd.Scenario(vd.World().place(m, fixed=True), duration)
    metrics = [
        vd.Metric("x end", "sled/truth", "x", "last"),
        vd.Metric("speed", "sled/truth", "vx", "max"),
        vd.Metric("effort", "sled/enc", "effort.*", "rms"),
    ]
    vary = {"sled/slider.mass": vd.uniform(8, 12), "sled/slide.damping": vd.uniform(1, 3)}
    controllers = {"a": {"sled": Push(10.0)}, "b": {"sled": Push(12.0)}}
    return vd.Study(scenario, controllers, vary=vary, trials=trials, metrics=metrics, seed=3)


def studies(repeats: int) -> Iterator[Figure]:
    """All of it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        yield from trials(folder, repeats)
        yield from workers(folder)
        yield from large(folder)
    random = np.random.default_rng(0)
    tied = (random.integers(0, 3, 40) - random.integers(0, 3, 40)).astype(float)
    yield (
        "study: exact p of 40 pairs with ties",
        1e3 * statistics.median(seconds(lambda: signed_rank_p(tied)) for _ in range(20)),
        "ms",
        "",
    )


def trials(folder: Path, repeats: int) -> Iterator[Figure]:
    """A trial by itself, and one more in a study with three metrics, in turn."""
    few, many, alone, within = sled(10), sled(30), [], []
    scenario = few.drawn(few.draw(0), "a")
    for k in range(repeats + 1):
        alone.append(seconds(lambda: [Trial(scenario, 1).run() for _ in range(40)]) / 40)
        # 40 trials more, so that what a study takes once is none of it.
        took = [seconds(lambda s=s, k=k: s.run(folder / f"t{k}-{s.trials}", keep="none")) for s in (few, many)]  # type: ignore[misc]
        within.append((took[1] - took[0]) / 40)
    alone, within = alone[1:], within[1:]
    yield "study: a trial by itself", 1e3 * statistics.median(alone), "ms", ""
    beside = statistics.median(w - a for w, a in zip(within, alone, strict=True))
    yield "study: what it costs beside that", 1e3 * beside, "ms", "≤ 5"


def workers(folder: Path) -> Iterator[Figure]:
    """A thousand trials by one worker and by two."""
    took = [seconds(lambda n=n: sled(TRIALS).run(folder / f"w{n}", workers=n, keep="none")) for n in (1, 2)]  # type: ignore[misc]
    yield "study: 1,000 trials, two workers against one", took[0] / took[1], "×", "≥ 1.8"


def large(folder: Path) -> Iterator[Figure]:
    """A store of a hundred thousand rows: written directly, then listed, compared and made a page of."""
    result = sled(2, "20 ms").run(folder / "large", keep="none")
    random = np.random.default_rng(1)
    with Store(result.folder, write=True) as store:
        about = store.about
        for name in ("a", "b"):
            ((_, made, row),) = list(store.rows([name], 1))
            drawn = random.uniform(1, 3, (ROWS, 2))
            keys = [(name, k) for k in range(ROWS)]
            rows = (
                row | {"end": f"{name}{k}", "drawn": dict(zip(row["drawn"], drawn[k].tolist(), strict=True))}
                for _, k in keys
            )
            store.put((key, made, told, 0.05) for key, told in zip(keys, rows, strict=True))
            for metric, digest in about["measures"].items():
                values = random.normal(size=ROWS) + 0.02 * (name == "b")
                store.measure((key, metric, digest, float(v), "") for key, v in zip(keys, values, strict=True))
        store.describe(about | {"trials": ROWS})
    found = vd.Result(result.folder)
    yield "study: 100,000 rows listed", seconds(lambda: found.trials), "s", ""
    yield "study: 100,000 rows compared", seconds(found.compare), "s", ""
    yield (
        "study: 100,000 rows as a page",
        seconds(lambda: write_page(found, found.compare(), folder / "p.html")),
        "s",
        "",
    )
    yield "study: the page's size", (folder / "p.html").stat().st_size / 1e6, "MB", "≤ 100"
    yield "study: largest memory", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3, "MB", ""
