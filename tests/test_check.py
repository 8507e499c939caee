"""The check: every rule finds what breaks it and nothing else, and is silent about what is mended."""

from __future__ import annotations

import unittest

import veldrain as vd
from tests.check_cases import CASES
from veldrain.check import RULES
from veldrain.check.rules import FAULTS


class Rules(unittest.TestCase):
    def test_every_rule_has_a_case(self) -> None:
        self.assertEqual(set(CASES), (set(RULES) | set(FAULTS)) - {"file"})

    def test_broken_and_mended(self) -> None:
        for rule, (path, make) in CASES.items():
            with self.subTest(rule=rule):
                found = vd.check(make(False))
                hits = [f for f in found if f.rule == rule]
                self.assertIn(path, [f.path for f in hits], [str(f) for f in found])
                self.assertTrue(all(f.problem and f.cure for f in hits))
                self.assertEqual([str(f) for f in found if f.rule not in (rule, "not-looked-at")], [])
                self.assertEqual([str(f) for f in vd.check(make(True))], [])


if __name__ == "__main__":
    unittest.main()
