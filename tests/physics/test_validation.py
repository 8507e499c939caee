"""Every case of docs/validation.md stays within its tolerance."""

from __future__ import annotations

import unittest

from tests.physics.cases import all_cases


class Validation(unittest.TestCase):
    def test_all_cases(self) -> None:
        for case in all_cases():
            with self.subTest(family=case.family, case=case.name):
                error, _ = case.run()
                self.assertLessEqual(error, case.tolerance, case.source)


if __name__ == "__main__":
    unittest.main()
