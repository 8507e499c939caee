"""The comparison: intervals and tests against worked numbers, verdicts against planted effects."""

from __future__ import annotations

import math
import unittest

import numpy as np
import pandas as pd

import veldrain as vd
from veldrain.study.edges import edges_of
from veldrain.study.ranks import LISTED, signed_ranks_p
from veldrain.study.statistics import SAME, TOO_FEW, UNCLEAR, compare, holm, median_interval, signed_rank_p


class Statistics(unittest.TestCase):
    def test_median_interval(self) -> None:
        """Hodges and Lehmann by hand: of 1 … 6 all 21 means of two; six pairs have the whole range as 95 % interval."""
        self.assertEqual(median_interval(np.arange(1.0, 7.0)), (3.5, 1.0, 6.0))
        middle, low, high = median_interval(np.array([1.0, 2.0, 30.0]))
        self.assertTrue(middle == 2.0 or (middle > 2 and math.isnan(low) and math.isnan(high)))
        self.assertEqual(signed_rank_p(np.zeros(8)), 1.0)
        self.assertAlmostEqual(signed_rank_p(np.arange(1.0, 7.0)), 2 / 64)
        self.assertEqual(holm([0.01, math.nan, 0.03])[0::2], [0.02, 0.03])

    def test_edges_part_the_failed_from_the_passed(self) -> None:
        """Failed below 3 of 0 … 19: midway between 3 and 4; a quantity that does not matter is no edge."""
        random, n = np.random.default_rng(2), 20
        rows = pd.DataFrame({"trial": np.tile(np.arange(n), 3), "gap": np.tile(np.arange(n, dtype=float), 3)})
        rows["rain"], rows["still"] = random.random(3 * n), 1.0
        rows["controller"] = np.repeat(["low", "high", "never"], n)
        rows["passed"] = np.concatenate([np.arange(n) > 3, np.arange(n) <= 11, np.full(n, True)])
        found = edges_of(rows, {"gap": "m", "rain": "mm/h", "still": ""})
        clear = {
            e.controller: (e.edge, e.fails, e.failed, e.trials, e.failed_beyond, e.trials_beyond) for e in found[:2]
        }
        self.assertEqual(clear, {"low": (3.5, "below", 4, 4, 0, 16), "high": (11.5, "above", 8, 8, 0, 12)})
        self.assertEqual([e.is_clear for e in found], [True, True, False, False])
        smirnov = 2.0 / math.comb(20, 4)  # one order of 20 in which four are first, and its mirror
        self.assertAlmostEqual(next(e for e in found if e.controller == "low").p, 3 * 2 * smirnov, 9)
        drawn = [edges_of(rows.assign(passed=random.random(3 * n) < 0.7), {"gap": "m", "rain": ""}) for _ in range(150)]
        self.assertLess(np.mean([any(e.is_clear for e in one) for one in drawn]), 0.1)  # false alarms

    def test_intervals_hold_the_truth_as_often_as_they_say(self) -> None:
        """Normal, lognormal, and rare blow-ups: the interval holds the median of the mean of two pairs."""
        random = np.random.default_rng(6)
        kinds = {
            "normal": lambda n: random.normal(0.4, 1, n),
            "lognormal": lambda n: random.lognormal(size=n),
            "rare blow-ups": lambda n: random.normal(size=n) + 100 * (random.random(n) < 0.1),
        }
        for kind, draw in kinds.items():
            many = draw(400_000)
            truth = float(np.median((many[:200_000] + many[200_000:]) / 2))
            for n in (6, 8, 20):
                with self.subTest(kind=kind, pairs=n):
                    held = [low <= truth <= high for _, low, high in (median_interval(draw(n)) for _ in range(1500))]
                    self.assertGreater(np.mean(held), 0.93)

    def test_false_alarms(self) -> None:
        """Of studies with six metrics about nothing at most one in twenty finds anything."""
        random, alarms = np.random.default_rng(3), 0
        for _ in range(150):
            table = self.table([0.0] * 10, [0.0] * 10, [True] * 20)
            for k in range(6):
                table[f"m{k}"] = random.lognormal(size=20)
            found = compare(table, [(f"m{k}", "", "lower") for k in range(6)], "a").differences
            alarms += any(d.verdict in ("better", "worse") for d in found)
        self.assertLess(alarms / 150, 0.08)

    def table(self, a: list[float], b: list[float], passed: list[bool]) -> pd.DataFrame:
        n = len(a)
        return pd.DataFrame(
            {"controller": ["a"] * n + ["b"] * n, "trial": [*range(n)] * 2, "passed": passed, "m": a + b}
        )

    def test_verdicts(self) -> None:
        wide = [0.0, 5.0, -3.0, 2.0, 1.0, 4.0]
        near = [w + 1 + 0.01 * k for k, w in enumerate(wide)]
        for better, other, verdict in (
            ("higher", near, "better"),
            ("lower", near, "worse"),
            ("lower", wide[::-1], UNCLEAR),
        ):
            with self.subTest(better=better, verdict=verdict):
                found = compare(self.table(wide, other, [True] * 12), [("m", "m", better)], "a")
                self.assertEqual(found.differences[0].verdict, verdict)
                self.assertEqual(len(found.table), 1)

    def test_what_is_no_verdict(self) -> None:
        wide = [0.0, 5.0, -3.0, 2.0, 1.0, 4.0, 3.0, 7.0]
        ahead = [w - 1 - 0.01 * k for k, w in enumerate(wide)]
        gone = [math.nan, math.nan, *ahead[2:]]
        passes = [True] * 16
        for a, b, matters, passed, verdict in (
            (wide[:5], ahead[:5], 0.0, passes[:10], TOO_FEW),
            (wide, [w + 1e-13 for w in wide], 0.0, passes, UNCLEAR),
            (wide, [w * (1 + 1e-13) for w in wide], 0.0, passes, SAME),
            (wide, ahead, 2.0, passes, "equal within 2 m"),
            (wide, ahead, 1.02, passes, UNCLEAR),
            (wide, gone, 0.0, passes, f"{UNCLEAR}: better in the 6 pairs that both finished, and 2 were lost"),
            (wide, ahead, 0.0, [True] * 14 + [False] * 2, "better"),  # passes have a verdict of their own
            (wide, ahead, 0.0, passes, "better"),
        ):
            with self.subTest(verdict=verdict, matters=matters):
                found = compare(self.table(a, b, passed), [("m", "m", "lower")], "a", {"m": matters}).differences[0]
                self.assertEqual(found.verdict, verdict)
        lost = compare(self.table(wide, gone, passes), [("m", "m", "lower")], "a").differences[0]
        self.assertEqual((lost.pairs, lost.lost_other, lost.lost_baseline), (6, 2, 0))
        skewed = compare(self.table([0.0] * 8, [1.0] * 7 + [900.0], passes), [("m", "m", "lower")], "a").differences[0]
        self.assertTrue(skewed.skewed or skewed.high >= skewed.mean)

    def test_planted_effects(self) -> None:
        """What is rare and large is not hidden by what is common and small; inf is the worst there is, and lost pairs count."""
        random = np.random.default_rng(3)
        x = random.normal(5, 1, 40)
        rare = np.where(np.arange(40) % 10 == 0, 10.0, -0.3) + random.normal(0, 0.05, 40)
        never = np.where(np.arange(16) < 6, math.inf, x[:16] - 0.03)
        few = np.where(np.arange(40) < 1, math.inf, x - 0.03)
        aborted = np.where(x > np.sort(x)[24], math.nan, x - 1)
        one_lost = np.where(np.arange(200) == 7, math.nan, -1.0 + random.normal(0, 0.2, 200))
        for title, a, b, matters, verdict in (
            ("rare and large", x, x + rare, 0.0, "mixed: better in most pairs, worse on average"),
            ("6 of 16 never arrive", x[:16], never, 0.0, UNCLEAR),
            ("1 of 40 never arrives", x, few, 0.0, "mixed: better in most pairs, worse on average"),
            ("neither ever arrives", np.full(8, math.inf), np.full(8, math.inf), 0.0, SAME),
            (
                "the 15 hardest are lost",
                x,
                aborted,
                0.0,
                f"{UNCLEAR}: better in the 25 pairs that both finished, and 15 were lost",
            ),
            ("one of 200 is lost", np.zeros(200), one_lost, 0.0, "better"),
            ("equal", x, x + random.normal(0, 0.01, 40), 1.0, "equal within 1 m"),
            (
                "the estimate is below what matters, the interval is not",
                x[:8],
                x[:8] + [0.05, 0.1, 0.5, 0.8, 1, 1.2, 2.5, 3],
                1.0,
                UNCLEAR,
            ),
        ):
            with self.subTest(title):
                table = self.table(list(a), list(b), [True] * (2 * len(a)))
                found = compare(table, [("m", "m", "lower")], "a", {"m": matters}).differences[0]
                self.assertEqual(found.verdict, verdict)
                mirrored = self.table(list(-a), list(-b), [True] * (2 * len(a)))
                self.assertEqual(
                    compare(mirrored, [("m", "m", "higher")], "a", {"m": matters}).differences[0].verdict, verdict
                )

    def test_passes_are_a_verdict(self) -> None:
        """10 of 40 against 38 of 40 is one, five swapped each way is none; both are among what Holm counts."""
        few, many = [k < 10 for k in range(40)], [k < 38 for k in range(40)]
        found = compare(self.table([1.0] * 40, [1.0] * 40, few + many), [("m", "", "lower")], "a").passes[1]
        self.assertEqual((found.verdict, found.won[:2], found.lost), ("better", (10, 11), ()))
        self.assertAlmostEqual(found.p_holm, 2 * 2.0**-28)
        self.assertTrue(0.45 < found.change_low < 0.7 < found.change_high < 0.9)
        swapped = [k >= 5 for k in range(20)] + [not 5 <= k < 10 for k in range(20)]
        found = compare(self.table([1.0] * 20, [0.0] * 20, swapped), [("m", "", "lower")], "a").passes[1]
        self.assertEqual((found.verdict, found.won, found.lost), (UNCLEAR, (0, 1, 2, 3, 4), (5, 6, 7, 8, 9)))

    def test_copies_count_once(self) -> None:
        """Six trials that are one to the last bit are one pair, which tells nothing."""
        table = self.table([0.0] * 6, [1.0] * 6, [True] * 12).assign(end="same")
        found = compare(table, [("m", "", "lower")], "a")
        self.assertEqual((found.copies, found.differences[0].verdict), ((1, 2, 3, 4, 5), TOO_FEW))
        self.assertEqual(
            compare(table.assign(end=range(12)), [("m", "", "lower")], "a").differences[0].verdict, "worse"
        )

    def test_exact_p_with_ties_is_that_of_all_signs(self) -> None:
        """Counted anew over all 2^n signs; and what is not listed but counted is the same interval."""
        random = np.random.default_rng(8)
        for n in (6, 9, 12):
            d = random.integers(-2, 4, n).astype(float)
            d = d[d != 0]
            from scipy.stats import rankdata

            ranks = rankdata(np.abs(d))
            signs = (np.arange(2 ** len(d))[:, None] >> np.arange(len(d))) & 1
            sums, above = signs @ ranks, ranks[d > 0].sum()
            with self.subTest(n=n):
                self.assertAlmostEqual(signed_ranks_p(d)[0], float((sums >= above - 1e-9).mean()))
                self.assertAlmostEqual(signed_ranks_p(d)[1], float((sums <= above + 1e-9).mean()))
        many = random.normal(0.1, 1, LISTED + 200)
        row, column = np.triu_indices(len(many))
        means = np.sort((many[row] + many[column]) / 2)
        self.assertAlmostEqual(median_interval(many)[0], float(np.median(means)), places=9)

    def test_pairs_without_a_value_are_left_out(self) -> None:
        found = compare(self.table([1, 2, math.nan, 4], [2, 3, 4, math.nan], [True] * 8), [("m", "", "lower")], "a")
        self.assertEqual(found.differences[0].pairs, 2)

    def test_pass_rates(self) -> None:
        """6 of 6 against 0 of 6: McNemar's p is 2·2⁻⁶; Wilson's interval of 6 of 6 begins at 61 %."""
        found = compare(self.table([0] * 6, [0] * 6, [True] * 6 + [False] * 6), [], "a")
        a, b = found.passes
        self.assertAlmostEqual(b.p, 2 / 64)
        self.assertAlmostEqual(a.low, 6 / (6 + 1.959964**2), places=6)
        self.assertTrue(math.isnan(a.p))

    def test_nothing_to_compare(self) -> None:
        table = self.table([1], [1], [True] * 2)
        for words, trials, baseline in (("did you mean", table, "aa"), ("only one controller", table[:1], "a")):
            with (
                self.subTest(words=words),
                self.assertRaisesRegex(vd.VeldrainError, words.replace("did you mean", "no controller")),
            ):
                compare(trials, [], baseline)


if __name__ == "__main__":
    unittest.main()
