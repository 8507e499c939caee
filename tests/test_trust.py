"""What code runs that files name, and what never does."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import veldrain as vd
from tests.helpers import Hold, called, cart_scenario
from tests.test_programs import HELLO
from veldrain.files import file_names
from veldrain.model import Fields, Message
from veldrain.recording import Recorder, Recording
from veldrain.report.page import write_page

MARK = "from pathlib import Path\nPath({mark!r}).touch()\n"
MODEL = "import veldrain as vd\ndef go():\n    return vd.Model('m').link('a', vd.Sphere(0.1), mass=1)\n"
SENSOR = "import veldrain as vd\nclass Eye(vd.Imu):\n    pass\n"


class Gate(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder, self.mark = Path(held.name) / "mine", Path(held.name) / "ran"
        self.folder.mkdir()

    def code(self, name: str, text: str = MODEL) -> None:
        (self.folder / name).resolve().write_text(MARK.format(mark=str(self.mark)) + text)

    def world(self, make: str, more: str = "") -> Path:
        path = self.folder / "w.world.yaml"
        path.write_text(
            f"veldrain: world/1\nground: {{}}\nmodels: {{m: {{make: '{make}'{more}}}}}\nplace: {{m: {{model: m, pose: {{xyz: [0, 0, 1]}}}}}}\n"
        )
        return path

    def test_what_lies_beside_runs_and_nothing_else(self) -> None:
        for number, (name, make, refused) in enumerate(
            (
                ("own.py", "own.py:go", ""),
                (
                    "../other.py",
                    "../other.py:go",
                    "'../other1.py:go' is code outside of the file's folder; run it with --tr",
                ),
                ("../found.py", "{}/found.py:go", "is code outside"),
                ("own.py", "os:system", "'os:system' is code outside"),
                ("own.py", "subprocess:run", "is code outside"),
                ("own.py", "wsgiref.util:guess_scheme", "is code outside"),
                ("own.py", "veldrain.resolver:load_file", "nothing that Veldrain offers to files"),
                ("own.py", "veldrain:load_world", "nothing that Veldrain offers to files"),
                ("own.py", "veldrain.__main__:main", "nothing that Veldrain offers to files"),
            )
        ):
            with self.subTest(make):
                self.mark.unlink(missing_ok=True)
                name, make = (word.replace(".py", f"{number}.py") for word in (name, make.format(self.folder.parent)))
                self.code(name)
                path = self.world(make)
                if not refused:
                    vd.load_world(path)
                    self.assertTrue(self.mark.exists())
                    continue
                with self.assertRaisesRegex(vd.VeldrainError, refused):
                    vd.load_world(path)
                self.assertFalse(self.mark.exists())
                if ".py:" in make:
                    with vd.code_from_files("all"):
                        vd.load_world(path)
                    self.assertTrue(self.mark.exists())
        with self.assertRaisesRegex(vd.VeldrainError, r"w\.world\.yaml:3: 'fresh.py:go' is code, and none may run"):
            self.code("fresh.py")
            with vd.code_from_files("none"):
                vd.load_world(self.world("fresh.py:go"))
        with (
            self.assertRaisesRegex(vd.VeldrainError, "no word for code 'everything'"),
            vd.code_from_files("everything"),
        ):  # type: ignore[arg-type]
            pass

    def test_a_recording_is_data(self) -> None:
        """What its world names is neither run nor imported; a sensor of one's own is left out, and that is told."""
        self.code("kinds.py", SENSOR)
        path = self.world("veldrain.demo.robots:crawler")
        path.write_text(
            "veldrain: world/1\nground: {}\nmodels: {m: {links: {a: {parts: [{sphere: 0.1}], mass: 1}}, sensors: "
            "{eye: {use: 'kinds.py:Eye', on: a}, imu: {use: Imu, on: a}}}}\nplace: {m: {model: m, pose: {xyz: [0, 0, 1]}}}\n"
        )
        with vd.code_from_files("all"):
            world = vd.load_world(path)
        recording = vd.run(vd.Scenario(world, 0.1), record=self.folder / "r.mcap")
        self.mark.unlink()
        (self.folder / "kinds.py").unlink()
        for act in ("look", "check", "inspect"):
            done = called(act, "r.mcap", *(["--out", "p.png"] if act == "look" else []), cwd=self.folder)
            with self.subTest(act):
                self.assertNotIn("Traceback", done.stderr)
                self.assertFalse(self.mark.exists())
        held = vd.load_world(recording)
        self.assertEqual(list(held.placed["m"].model.sensors), ["imu"])
        self.assertIn("a recording is data", held.placed["m"].model.notes[0])
        for names, said in (
            ({"world.yaml": b"veldrain: world/1\nmodels: {m: {make: 'e.py:go'}}\n", "e.py": MODEL.encode()}, "is data"),
            ({"../x": b""}, "an attachment called '../x'"), ({"a": b"", "a/b": b""}, "an attachment called 'a/b'"),
            ({".": b""}, "an attachment called '.'"), ({"a\0b": b""}, "an attachment called"), ({"x" * 5000: b""}, "called 'xxx"),
        ):  # fmt: skip
            with self.subTest(said):
                recorder = Recorder(foreign := self.folder / "foreign.mcap")
                recorder.begin({}, {"world.yaml": b"veldrain: world/1\n"} | names)
                recorder.end({})
                with self.assertRaisesRegex(vd.VeldrainError, said):
                    vd.load_world(Recording(foreign))

    def test_programs(self) -> None:
        """A check starts none; a trial starts those beside the file, and interpreters with a script there."""
        script = self.folder / "pilot.py"
        script.write_text(
            f"#!/usr/bin/env python3\nimport pathlib\npathlib.Path({str(self.mark)!r}).touch()\n{HELLO}"
            "for line in sys.stdin: print('{}', flush=True)\n"
        )
        script.chmod(0o755)
        world = self.world("veldrain.demo.robots:crawler")
        world.write_text(
            "veldrain: world/1\nground: {}\nmodels: {m: {links: {a: {parts: [{sphere: 0.1}], mass: 1}}}}\nplace: {m: {model: m, pose: {xyz: [0, 0, 1]}}}\n"
        )
        for use, refused in (
            ("program:./pilot.py", ""), ("program:python3 pilot.py", ""), ("program:sh -c 'touch x'", "outside of the file's"),
            ("program:/bin/cat", "outside of the file's folder"), ("program:touch pilot.py", "outside of the file's folder"),
            ("program:../mine/../../x", "outside of the file's folder"),
        ):  # fmt: skip
            self.mark.unlink(missing_ok=True)
            (self.folder / "s.scenario.yaml").write_text(
                f'veldrain: scenario/1\nworld: w.world.yaml\nduration: 0.1 s\ncontrollers: {{m: {{use: "{use}"}}}}\n'
            )
            with self.subTest(use):
                findings = vd.check(self.folder / "s.scenario.yaml")
                self.assertRegex(
                    str([f for f in findings if f.rule == "not-looked-at"]), "program:.*is not started here"
                )
                self.assertFalse(self.mark.exists())
                scenario = vd.load_scenario(self.folder / "s.scenario.yaml")
                if refused:
                    with self.assertRaisesRegex(vd.VeldrainError, refused):
                        vd.run(scenario)
                else:
                    self.assertFalse(vd.run(scenario).outcome["failed"])
                self.assertEqual(self.mark.exists(), not refused)
        (self.folder / "s.scenario.yaml").write_text(
            "veldrain: scenario/1\nworld: w.world.yaml\nduration: 0.1 s\ncontrollers: {m: {use: 'program:./pilot.py'}}\n"
        )
        for word, status, ran in (("--no-code", 2, False), ("--trust", 0, True)):
            self.mark.unlink(missing_ok=True)
            done = called("run", "s.scenario.yaml", "--out", f"r{word}.mcap", word, cwd=self.folder)
            self.assertEqual((done.returncode, self.mark.exists()), (status, ran), done.stderr)
        self.assertEqual(called("check", "s.scenario.yaml", "--trust", "--no-code", cwd=self.folder).returncode, 2)


class Names(unittest.TestCase):
    """Names are texts: of files they are told one from another, of terminals and spreadsheets they command nothing."""

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def recorded(self, *streams: tuple[str, str]) -> Path:
        recorder = Recorder(path := self.folder / "r.mcap")
        recorder.begin({}, {})
        for name, text in streams:
            recorder.write(name, 0, Message("std_msgs/msg/String", Fields(data=text)))
        recorder.end({})
        return path

    def test_one_file_a_name(self) -> None:
        names = [
            "..",
            ".",
            "",
            "a/b",
            "a.b",
            "A/b",
            "/a/b/",
            "con",
            "x" * 5000,
            "x" * 5000 + "y",
            "a\0b",
            "c:\\d",
            "a.b~2",
        ]
        found = file_names(names, ["csv"])
        self.assertEqual(list(found), names)
        self.assertEqual(len({name.casefold() for name in found.values()} | {"csv"}), len(names) + 1)
        for name in found.values():
            with self.subTest(name[:20]):
                self.assertTrue((self.folder / name).resolve().parent == self.folder.resolve() and name.isprintable())
                (self.folder / name).touch()
        self.assertEqual(file_names(["a", "a.csv"], endings=["csv"]), {"a": "a", "a.csv": "a.csv~2"})

    def test_exports_keep_streams_apart_and_tell(self) -> None:
        path = self.recorded(("a/b", "first"), ("a.b", "second"), ("..", "=1+2"), ("\x1b]0;owned\x07red", "x"))
        done = called("export", path, "--kind", "csv", "--to", self.folder / "out")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("note: the files of stream 'a/b' are called 'a.b~2'", done.stderr)
        texts = {p.name: p.read_text().splitlines()[1] for p in (self.folder / "out").iterdir()}
        self.assertEqual(texts["_.csv"], "0.0,'=1+2")
        self.assertEqual({texts["a.b.csv"], texts["a.b~2.csv"]}, {"0.0,first", "0.0,second"})
        for told in (done, called("streams", path), called("plot", path, "\x1b[31m.x")):
            self.assertNotIn("\x1b", told.stdout + told.stderr)

    def test_a_dollar_is_a_dollar(self) -> None:
        scenario = cart_scenario(duration=0.1)
        controllers = {name: {"cart": Hold(gain=k)} for k, name in enumerate(("$a_{$", "b^{"))}
        metric = vd.Metric("cost $x_{$", "cart/truth", "x", "last")
        study = vd.Study(scenario, controllers, vary={"cart/car.mass": vd.uniform(1, 2)}, trials=6, metrics=[metric])
        result = study.run(self.folder / "out")
        self.assertIn("cost $x_{$", write_page(result, result.compare(), self.folder / "page.html").read_text())


if __name__ == "__main__":
    unittest.main()
