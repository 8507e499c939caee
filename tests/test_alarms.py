"""The check over a corpus: nothing is told of healthy things, and faults planted in them are found with their cure."""

from __future__ import annotations

import re
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import veldrain as vd
from tests.alarms import Thing, changed, false_alarms, found, things, verdict, written
from veldrain.review import RULES
from veldrain.review.fixing import overlay
from veldrain.review.rehearsing import STATEMENTS
from veldrain.review.rules import FAULTS

FIGURE = re.compile(r"(limit|stiffness|damping): ([0-9][0-9 .e+]*)")


class Corpus(unittest.TestCase):
    things: list[Thing]

    @classmethod
    def setUpClass(cls) -> None:
        cls.things = list(things())

    def test_healthy_things_are_left_alone(self) -> None:
        self.assertGreaterEqual(len(self.things), 56)
        for thing in self.things:
            with self.subTest(thing=thing.name):
                self.assertEqual([str(f) for f in false_alarms(thing)], [])

    def test_planted_faults_are_found(self) -> None:
        """Nine of ten at least, and those with the right cure; a rule that is named is one there is, or yet to come."""
        verdicts = {fault.name: verdict(fault) for thing in self.things for fault in thing.planted}
        self.assertGreater(len(verdicts), 100)
        self.assertEqual([name for name, said in verdicts.items() if said == "wrong cure"], [])
        missed = [name for name, said in verdicts.items() if said == "missed"]
        self.assertLess(len(missed), 0.1 * len(verdicts), missed)
        known = {*RULES, *STATEMENTS, *FAULTS}
        unknown = {f.name for thing in self.things for f in thing.planted if f.rule not in known}
        self.assertLessEqual(unknown, set(missed))

    def test_what_it_mends_itself_is_mended(self) -> None:
        """A fix that is written as a file passes its rule, and makes nothing else worse."""
        tried = 0
        for fault in (f for thing in self.things for f in thing.planted if f.rule in RULES):
            if not any(f.fix for f in found(fault)):
                continue
            with self.subTest(fault=fault.name), TemporaryDirectory() as folder:
                path = written({"world": fault.words["world"]}, Path(folder))
                mended = Path(folder) / "mended.world.yaml"
                before = vd.check(path)
                mended.write_text(overlay(before, {"base": str(path)}, Path(folder)), encoding="utf-8")
                after = vd.check(mended)
                self.assertEqual([str(f) for f in after.of(fault.rule)], [])
                self.assertLessEqual({f.rule for f in after}, {f.rule for f in before})
                tried += 1
        self.assertGreater(tried, 3)

    def test_figures_of_motors_that_it_tells_will_do(self) -> None:
        """What a cure says to write for a motor, written: the rule is silent, and no other says more than before."""
        tried = set()
        for fault in (f for thing in self.things for f in thing.planted if f.rule in RULES):
            told = [(f, said) for f in found(fault) if (said := FIGURE.findall(f.cure))]
            if not told:
                continue
            with self.subTest(fault=fault.name), TemporaryDirectory() as folder:
                world = vd.load_world(written({"world": fault.words["world"]}, Path(folder)))
                before = {f.rule for f in vd.check(world)}
                for finding, said in told:
                    robot, joint = finding.path.split("/")
                    words = {word: 1.001 * float(value.replace(" ", "")) for word, value in said}
                    world.placed[robot].model.change_motor(joint, **words)
                after = vd.check(world)
                self.assertEqual([str(f) for f in after.of(fault.rule)], [])
                self.assertLessEqual({f.rule for f in after if f.severity != "note"}, before)
                tried.add(fault.rule)
        self.assertGreaterEqual(tried, {"holds-no-weight", "sags", "rings", "mostly-damping", "step-not-followed"})

    def test_changes_are_by_path(self) -> None:
        words = {"world": {"bodies": {"a": {"mass": 1}}, "list": [1, 2]}}
        made = changed(words, {"world.bodies.a.mass": 2, "world.list.1": 5})
        self.assertEqual((made["world"]["bodies"]["a"]["mass"], made["world"]["list"]), (2, [1, 5]))
        self.assertEqual(words["world"]["list"], [1, 2])


if __name__ == "__main__":
    unittest.main()
