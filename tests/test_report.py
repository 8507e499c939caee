"""The page and the tables: what they say of studies of every sort."""

from __future__ import annotations

import io
import json
import math
import re
import tempfile
import unittest
from html.parser import HTMLParser
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from rich.console import Console

import veldrain as vd
from tests.helpers import Faulty, Hold, cart_scenario
from veldrain.cli import output, progressing
from veldrain.report.page import write_page
from veldrain.report.text import headline, how_sure, number, probability, sentence, signed
from veldrain.study.plan import plan_of
from veldrain.study.statistics import TOO_FEW, Difference, compare
from veldrain.study.store import Store


class Page(HTMLParser):
    """Text and tables of a page, and whether its tags are closed."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.words: list[str] = []
        self.tags: dict[str, int] = {}
        self.links: list[str] = []
        self.feed(text)
        self.text = " ".join(" ".join(self.words).split())

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags[tag] = self.tags.get(tag, 0) + 1
        self.links += [v or "" for k, v in attrs if k in ("href", "src") and tag in ("a", "img", "script", "link")]

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def studied(folder: str, trials: int, **controllers: object) -> vd.Result:
    scenario = cart_scenario(duration=0.4)
    scenario.when(vd.distance("cart/car", "goal") < "1 um").finish("nowhere")
    scenario.world.patch("ice", (1, 1, 0.1), pose=vd.Pose((0, 0, -1)))
    metrics = [
        vd.Metric("place", "cart/encoders", "position.slide", "last", unit="m", better="higher"),
        vd.Metric("effort", "cart/encoders", "effort.*", "rms", unit="N"),
        vd.FinishTime("never there", reason="nowhere"),
    ]
    vary = {"cart/slide.position": vd.uniform("-10 cm", "10 cm")}
    return vd.Study(scenario, controllers, vary=vary, trials=trials, metrics=metrics).run(folder)


def printed(act: object, *arguments: object) -> str:
    screen = io.StringIO()
    with mock.patch.object(output, "out", Console(file=screen, width=200)):
        act(*arguments)  # type: ignore[operator]
    return screen.getvalue()


class Pages(unittest.TestCase):
    def page(self, result: vd.Result, baseline: str | None = None) -> Page:
        comparison = result.compare(baseline) if len(result.about["controllers"]) > 1 else None
        path = write_page(result, comparison, result.folder / "report.html")
        first = path.read_bytes()
        write_page(result, comparison, path)
        self.assertEqual(first, path.read_bytes())  # the same results give the same page
        return Page(first.decode())

    def rows(self, result: vd.Result) -> list[list[object]]:
        """The table of trials that a page holds."""
        text = (result.folder / "report.html").read_text()
        found = re.search(r'id="data">(.*?)</script>', text, re.S)
        assert found
        return list(json.loads(found[1])["rows"])

    def test_many_rows_and_all_failed(self) -> None:
        """A page of 3,000 trials holds those that failed first, and says what it leaves out; infinities have a place."""
        with tempfile.TemporaryDirectory() as folder:
            studied(folder, 2, a=Hold(gain=5), b=Hold(gain=40))
            with Store(Path(folder), write=True) as store:
                about = store.about
                made = store.made()["a", 0]
                row = next(store.rows(["a"], 1))[2]
                random = np.random.default_rng(1)
                for name in ("a", "b"):
                    keys = [(name, k) for k in range(1500)]
                    own = made | {"controller": about["sources"][name]}
                    rows = [row | {"passed": bool(k % 3), "end": f"{name}{k}"} for _, k in keys]
                    store.put((key, own, told, 0.1) for key, told in zip(keys, rows, strict=True))
                    for metric, digest in about["measures"].items():
                        values = random.normal(size=1500) + (name == "b")
                        values[:200] = np.inf
                        store.measure((key, metric, digest, float(v), "") for key, v in zip(keys, values, strict=True))
                store.describe(about | {"trials": 1500})
            large = vd.Result(folder)
            page = self.page(large)
            rows = self.rows(large)
            self.assertEqual((len(rows), sum(not r[3] for r in rows)), (2000, 1000))
            self.assertIn("2000 of 3000 rows are here, those that did not pass first", page.text)
            self.assertLess((large.folder / "report.html").stat().st_size, 2_000_000)
            self.assertIn("∞", {r[5] for r in rows} | {r[6] for r in rows})
            self.assertIn("a and b pass", page.text.replace("b and a", "a and b"))
            with Store(Path(folder), write=True) as store:
                store.put(((n, k), made | {"controller": about["sources"][n]}, row | {"passed": False, "failed": True}, 0.1)
                          for n in ("a", "b") for k in range(2))  # fmt: skip
                store.describe(about | {"trials": 2})
            self.assertIn("b and a pass no trial", self.page(vd.Result(folder)).text)

    def test_two_controllers(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            result = studied(folder, 8, weak=Hold(gain=5), strong=Hold(gain=80))
            page = self.page(result)
            for words in (
                "weak against strong",
                "8 paired trials each",
                "place: strong is better",
                "never there: the same in every pair, strong against weak",
                "All trials",
                "time is up",
                "change against weak",
                "Of the metrics, strong is better in place; worse in effort; equal in never there",
                "What failed",
                "Nobody has looked yet whether the verdict hangs on the step",
            ):
                self.assertIn(words, page.text)
            # The worst, the median and the best pair's stream, what matters for what, differences, paths, place over time.
            self.assertEqual(page.tags["svg"], 7)
            rows = self.rows(result)
            self.assertTrue(len(rows) == 16 and all((Path(folder) / str(row[-1])).is_file() for row in rows))
            table = printed(output.print_comparison, result.compare())
            self.assertRegex(
                table, r"place \(m\) +-?−?0\.\d+ +0\.\d+ +\+0\.\d+ \(\+0\.\d+ to \+0\.\d+\) +0\.016 +better"
            )
            self.assertIn("the same in every pair", table)

    def test_three_controllers_and_a_trial_that_broke_off(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            result = studied(folder, 3, a=Hold(gain=5), b=Hold(gain=40), broken=Faulty())
            page = self.page(result, "b")
            self.assertIn("the controller of cart raised at 0.2 s: RuntimeError: lost the plot", page.text)
            self.assertIn("Against b", page.text)
            table = printed(output.print_comparison, result.compare("b"))
            for who in ("a", "broken"):
                self.assertRegex(table, rf"place \(m\) +{who} ")
            self.assertRegex(table, r"broken +0 of 3")
            self.assertEqual(printed(output.print_failures, result).count("aborted: broken trial"), 3)

    def test_one_controller(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            result = studied(folder, 2, only=Hold())
            self.assertNotIn("Against", self.page(result).text)
            table = printed(output.print_single, result)
            self.assertRegex(table, r"effort \(N\) +\d")
            self.assertIn("2 of 2 trials passed", table)
            with self.assertRaisesRegex(vd.VeldrainError, "only one controller"):
                result.compare()

    def test_names_are_text_and_never_markup(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            page = self.page(studied(folder, 2, **{"<b>bold": Hold(), "quiet & co": Hold(gain=3)}))
            self.assertIn("<b>bold against quiet & co", page.text)
            self.assertNotIn("b", page.tags)


class Words(unittest.TestCase):
    def test_numbers(self) -> None:
        for value, text in (
            (0.012345, "0.0123"),
            (21.2512, "21.3"),
            (1234.6, "1235"),
            (0, "0"),
            (-0.5, "−0.500"),
            (1.5e-7, "1.50e−07"),
            (math.nan, "–"),
            (math.inf, "∞"),
            (-math.inf, "−∞"),
            (99.96, "100"),
            (0.9996, "1.00"),
            (2.5e9, "2.50e+09"),
        ):
            with self.subTest(value=value):
                self.assertEqual(number(value), text)
        self.assertEqual((signed(0.2), signed(-0.2), signed(0.0)), ("+0.200", "−0.200", "0"))
        self.assertEqual([probability(p) for p in (0.5, 0.042, 1e-9, math.nan)], ["0.50", "0.042", "< 0.001", "–"])

    def test_sentences(self) -> None:
        def told(low: float, mean: float, high: float, verdict: str, pairs: int = 8) -> str:
            values = (pairs, 0, 0, 1, 1 + mean, mean, low, high, mean, False, 0.01, 0.01, verdict)
            return sentence(Difference("drift", "m", "new", *values), "old")

        self.assertEqual(
            told(-0.3, -0.2, -0.1, "better"), "drift: new is better, 0.200 m lower than old (0.100 to 0.300 m)."
        )
        self.assertEqual(
            told(0.1, 0.2, 0.3, "worse"), "drift: new is worse, 0.200 m higher than old (0.100 to 0.300 m)."
        )
        self.assertIn(
            "no clear difference, new against old (−0.100 to +0.300 m)", told(-0.1, 0.1, 0.3, "no clear difference")
        )
        self.assertEqual(told(math.nan, 0.2, math.nan, TOO_FEW, 5), f"drift: {TOO_FEW}, new against old.")

    def test_how_sure(self) -> None:
        """Beside the headline: nobody looked, all stands, there is nothing to stand, or what does not, the worst first."""

        def doubt(what: str, metric: str, effect: str) -> dict[str, object]:
            return {"what": what, "metric": metric, "controller": "new", "effect": effect}

        many = [doubt("less grip", f"m{k}", "blurs") for k in range(4)] + [doubt("half the step", "drift", "turns")]
        for doubts, said in (
            (None, "Not looked at yet"),
            ([doubt("other noise", "drift", "stands")], "It stands in all 1 doubts that were tried"),
            ([doubt("other noise", "drift", "no verdict")], "give no verdict"),
            (many, "sure: drift of new turns round with half the step; m0 of new is no verdict any more with less grip; "
                   "m1 of new is no verdict any more with less grip; and 2 more, see Doubts. The rest stands in all 2"),
        ):  # fmt: skip
            with self.subTest(said):
                self.assertIn(said, how_sure(doubts))

    def test_too_few_pairs_for_so_many_comparisons(self) -> None:
        """7 pairs give a p of 1/64 at best: of four comparisons none can be told, of eight pairs all."""

        def table(pairs: int) -> pd.DataFrame:
            rows = [{"controller": c, "trial": k, "passed": c == "b", "failed": False,
                     **{f"m{n}": (c == "b") * (1 + 0.1 * k * n) for n in range(3)}} for c in "ab" for k in range(pairs)]  # fmt: skip
            return pd.DataFrame(rows)

        metrics = [(f"m{n}", "m", "lower") for n in range(3)]
        few, enough = (headline(compare(table(pairs), metrics, "a")) for pairs in (7, 8))
        self.assertEqual(few[1:], ["7 pairs are too few for 4 comparisons: p cannot fall below 0.062. "
                                   "Run 8 pairs at least, or compare fewer metrics or controllers."])  # fmt: skip
        self.assertEqual(len(enough), 1)

    def test_plan(self) -> None:
        """Outlines from above: a lying drum is a rectangle, a standing one a circle, a box turns with its yaw."""
        w = vd.World().obstacle("lying", vd.Cylinder(0.1, 0.6), pose=vd.Pose((1, 0, 0), rpy=(math.pi / 2, 0, 0)))
        w.obstacle("standing", vd.Cylinder(0.1, 0.6)).obstacle("ball", vd.Sphere(0.2)).patch(
            "mud", (2, 1, 0.1), pose=vd.Pose(yaw=math.pi / 2)
        )
        sizes = {}
        for thing in plan_of(w):
            xs, ys = zip(*thing["outline"], strict=True)
            sizes[thing["name"], thing["kind"]] = (round(max(xs) - min(xs), 2), round(max(ys) - min(ys), 2))
        self.assertEqual(
            sizes,
            {
                ("lying", "obstacle"): (0.2, 0.6),
                ("standing", "obstacle"): (0.2, 0.2),
                ("ball", "obstacle"): (0.4, 0.4),
                ("mud", "patch"): (1.0, 2.0),
            },
        )


class Compiling(unittest.TestCase):
    def test_the_first_run_says_that_it_compiles(self) -> None:
        """The named step shows only where no kernels are kept yet."""
        for kept, words in ((True, ""), (False, "The engine is compiled, in")):
            screen = io.StringIO()
            with (
                self.subTest(kept=kept),
                mock.patch("veldrain.kernel.is_compiled", return_value=kept),
                mock.patch.object(progressing, "err", Console(file=screen, width=200)),
            ):
                progressing.prepare_engine()
            self.assertIn(words, screen.getvalue())
            self.assertEqual(bool(words), bool(screen.getvalue()))


if __name__ == "__main__":
    unittest.main()
