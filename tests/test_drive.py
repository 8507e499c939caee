"""Driving by hand: from a real browser and from a terminal's keys; what was driven repeats, and strangers are kept out."""

from __future__ import annotations

import asyncio
import json
import os
import pty
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import urllib.error
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import veldrain as vd
from tests.browser import InBrowser
from tests.check_cases import boom, cart, on_ground
from tests.helpers import called


def yard(folder: Path) -> Path:
    """A scenario with the cart on level ground."""
    m = cart().mount("imu", vd.Imu("10 ms", gyro_noise="0.1 deg/s"), on="hull")
    m.mount("scan", vd.Lidar(beams=30), on="hull", pose=vd.Pose((0, 0, 0.1)))
    made = vd.Scenario(on_ground(m).obstacle("wall", vd.Box((0.2, 9, 1)), pose=vd.Pose((30, 0, 0.5))), "10 min")
    vd.save_scenario(made, folder / "yard.scenario.yaml")
    return folder / "yard.scenario.yaml"


class Drive:
    """``veldrain drive`` as a process, with the address that it prints."""

    def __init__(self, test: unittest.TestCase, *words: str, file: Path, terminal: int | None = None) -> None:
        self.folder = file.parent
        self.process = subprocess.Popen(
            [sys.executable, "-m", "veldrain", "drive", str(file), "--out", str(self.folder / "run.mcap"), *words],
            stdin=subprocess.DEVNULL if terminal is None else terminal,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, "NO_COLOR": "1"},
        )
        test.addCleanup(self.kill)
        self.lines: list[str] = []

    def kill(self) -> None:
        self.process.kill()
        self.process.communicate()

    def address(self) -> str:
        """Where the page is."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.lines.append(line)
            if found := re.search(r"http://\S+", line):
                return found[0]
        raise AssertionError("".join(self.lines))

    def ended(self) -> str:
        """What it printed, once it is at its end."""
        out, err = self.process.communicate(timeout=60)
        return "".join(self.lines) + out + err

    @property
    def recording(self) -> vd.Recording:
        """What was recorded."""
        return vd.Recording(self.folder / "run.mcap")

    def again(self) -> vd.Recording:
        """A run of the scenario that it wrote."""
        return vd.run(vd.load_scenario(self.folder / "run.scenario.yaml"), warn=False)


def events(recording: vd.Recording) -> list[str]:
    """What was done, in order."""
    return [str(text) for text in recording["scenario/events"]["data"]]


class InABrowser(InBrowser):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.drive = Drive(self, file=yard(self.folder))
        self.address = self.drive.address()

    def asked(self, address: str) -> None:
        if not address.startswith(self.address):
            super().asked(address)

    def time(self, page: Any) -> float:
        return float(page.inner_text("#time").split()[0])

    def test_driven_pushed_and_repeated(self) -> None:
        """Keys, sliders, a gamepad, a push, a mark, the weather, a failing sensor: all are done again by the scenario."""
        page = self.opened(self.address)
        self.until(page, "document.getElementById('status').textContent.startsWith('You drive')")
        page.keyboard.down("ArrowUp")
        page.wait_for_timeout(600)
        page.keyboard.up("ArrowUp")
        page.evaluate(
            "const slider = document.querySelector('input[data-input=turning]'); slider.value = 0.5; slider.oninput()"
        )
        page.wait_for_timeout(300)
        page.evaluate("navigator.getGamepads = () => [{ axes: [0, -0.5, 0, 0] }]")
        page.wait_for_timeout(300)
        page.evaluate("navigator.getGamepads = () => [{ axes: [0, 0, 0, 0] }]")
        page.fill("#mark-text", "here")
        page.click("#mark")
        page.click("summary")
        page.fill("input[data-word=wind_x]", "3 m/s")
        page.click("#weather")
        page.click("#posture")
        self.assertEqual(page.input_value("#follow"), "cart")
        page.click("#push")
        box = page.locator("#scene").bounding_box()
        middle = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(*middle)
        page.mouse.down()
        page.mouse.move(middle[0] + 40, middle[1], steps=3)
        page.mouse.up()
        page.fill("#search", "scan")
        page.click("#tree .name[data-name='cart/scan']")
        page.click("#failing >> text=dead")
        page.wait_for_timeout(300)
        page.click("#pause")
        self.until(page, "document.getElementById('status').textContent.includes('paused')")
        still = self.time(page)
        page.wait_for_timeout(300)
        self.assertAlmostEqual(self.time(page), still, delta=0.15)
        page.click("#pause")
        page.fill("#search", "")
        page.evaluate("location.hash = 'plot=cart/imu angular_velocity.z'")
        page.wait_for_selector(".legend b:has-text('rad/s')")
        page.click("#end")
        said = self.drive.ended()
        self.assertRegex(said, r"which repeats it: veldrain run \S+run.scenario.yaml --seed 0")
        self.assertRegex(said, r"posture 1: \{fl: ")
        driven, again = self.drive.recording, self.drive.again()
        done = events(driven)
        for words in (
            "tell cart: forward 0.6",
            "turning 0.495",
            "forward 0.5",
            "here",
            "weather: wind_x 3 m/s",
            "dead",
            "ended",
        ):
            self.assertTrue(any(words in text for text in done), (words, done))
        self.assertTrue(any(re.match(r"push 'by hand 1' on cart/\w+: ", text) for text in done), done)
        self.assertEqual({s: driven.raw(s) for s in driven.messages}, {s: again.raw(s) for s in again.messages})
        self.assertEqual([fault for fault in self.faults if "WebSocket" not in fault], [])

    def test_a_second_browser_watches_and_a_lost_one_stops_the_robot(self) -> None:
        page, other = self.opened(self.address), self.opened(self.address)
        self.until(other, "document.getElementById('status').textContent.startsWith('You watch')")
        other.click("#pause")
        self.until(other, "document.querySelector('#drive .bad').textContent.includes('another browser drives')")
        page.keyboard.down("ArrowUp")
        page.wait_for_timeout(400)
        page.close()
        other.wait_for_timeout(800)
        other.reload()
        other.wait_for_selector("#tree *")
        self.until(other, "document.getElementById('status').textContent.startsWith('You drive')")
        other.click("#again")
        other.wait_for_timeout(1500)
        self.assertLess(self.time(other), 2.0)
        other.click("#end")
        self.assertIn("set back", self.drive.ended())
        done = events(self.drive.recording)
        self.assertRegex(
            "\n".join(done),
            r"tell cart: forward 0.6\nnote: (connection lost|nothing heard): stopped\ntell cart: forward 0.0",
        )
        self.assertTrue((self.folder / "run-2.mcap").exists(), sorted(p.name for p in self.folder.iterdir()))

    def test_strangers_and_nonsense(self) -> None:
        """Another token, host or origin is refused; words that make no sense are told, and nothing is done."""
        for address, headers in (
            (self.address.replace(self.address.split("/")[3], "guess"), {}),
            (self.address, {"Host": "elsewhere.example"}),
            (self.address, {"Origin": "http://elsewhere.example"}),
            (self.address + "socket", {"Origin": "http://elsewhere.example"}),
            (self.address + "socket", {}),  # a socket without an origin is no page's
        ):
            with self.subTest(address=address, headers=headers), self.assertRaises(urllib.error.HTTPError) as refused:
                urllib.request.urlopen(urllib.request.Request(address, headers=headers), timeout=10)
            self.assertEqual(refused.exception.code, 403)
        words: list[Any] = [
            "{", "[]", {}, {"kind": "tell"}, {"kind": "run", "code": "1"}, {"kind": "tell", "inputs": {"forward": "nan"}},
            {"kind": "tell", "inputs": {"jump": 1}}, {"kind": "push", "link": "cart/nose", "force": [1, 0, 0], "at": [0, 0, 0]},
            {"kind": "push", "link": "cart/hull", "force": [1e400, 0, 0], "at": [0, 0, 0]}, {"kind": "speed", "value": "inf"},
            {"kind": "fail", "stream": "cart/scan", "type": "burnt"}, {"kind": "weather", "words": {"frogs": "8"}},
        ]  # fmt: skip
        with ThreadPoolExecutor(1) as pool:  # the browser has an event loop in this thread
            told = pool.submit(lambda: asyncio.run(self.talk(words))).result()
        self.assertEqual(len(told), len(words), told)
        self.drive.process.send_signal(signal.SIGINT)
        said = self.drive.ended()
        self.assertEqual(self.drive.process.returncode, 130, said)
        self.assertEqual(events(self.drive.again()), ["finish: interrupted"])

    async def talk(self, words: list[Any]) -> list[str]:
        """Say words over a socket; gives what was said to be wrong with them."""
        from aiohttp import ClientSession

        problems: list[str] = []
        origin = "/".join(self.address.split("/")[:3])
        async with (
            ClientSession() as session,
            session.ws_connect(f"{self.address}socket", headers={"Origin": origin}) as socket,
        ):
            for word in words:
                await socket.send_str(word if isinstance(word, str) else json.dumps(word))
            end = time.monotonic() + 8
            while len(problems) < len(words) and time.monotonic() < end:
                said = await socket.receive(timeout=8)
                if isinstance(said.data, str):
                    found = json.loads(said.data)
                    problems += [found["problem"]] if "problem" in found else found["problems"]
        return problems


class WithoutABrowser(unittest.TestCase):
    def test_by_the_keys_of_a_terminal(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            outer, inner = pty.openpty()
            self.addCleanup(os.close, outer)
            drive = Drive(self, "--keys", file=yard(Path(name)), terminal=inner)
            os.close(inner)
            assert drive.process.stderr is not None
            status: list[str] = []
            reads = threading.Thread(target=lambda: status.extend(iter(lambda: drive.process.stderr.read(1), "")))  # type: ignore[union-attr]
            reads.start()
            self.wait(lambda: "s  still" in "".join(status))
            for keys, words in (("ww", "forward 0.25"), ("a", "turning 0.2"), (" ", "still"), ("m", "still")):
                os.write(outer, keys.encode())
                self.wait(lambda words=words: words in "".join(status[-60:]))
            os.write(outer, b"q")
            drive.process.wait(60)
            reads.join(5)
            done = "\n".join(events(drive.recording))
            self.assertRegex(
                done, r"forward 0.25\ntell cart: turning 0.2\nnote: stopped by hand\n.*0.0.*\nnote: marked at "
            )
            self.assertEqual(events(drive.again()), events(drive.recording))

    def wait(self, is_so: Any) -> None:
        end = time.monotonic() + 60
        while not is_so():
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)

    def test_by_hand_joints_go_where_they_are_told(self) -> None:
        """The input of a motor has the kind of its mode; until it is told something, it is told nothing."""
        arm = boom(mode="position", stiffness=400, damping=40)
        scenario = vd.Scenario(vd.World().place(arm, fixed=True), "3 s", controllers={"crane": vd.ByHand()})
        (joint,) = arm.motors
        scenario.at("1 s").tell("crane", **{joint: "20 deg"})
        recording = vd.run(scenario)
        states = recording["crane/joint_states"]
        self.assertEqual(set(recording["crane/commands"].query("time < 1")[f"position.{joint}"]), {0.0})
        self.assertAlmostEqual(states.iloc[-1][f"position.{joint}"], 0.349, delta=0.06)
        scenario.at("2 s").tell("crane", **{joint: "1 m"})
        with self.assertRaisesRegex(vd.VeldrainError, "angle"):
            vd.run(scenario)

    def test_what_cannot_be_driven_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            file = yard(folder)
            vd.save_world(vd.World().ground().body("ball", vd.Sphere(0.1), mass=1), folder / "ball.world.yaml")
            (folder / "there.mcap").write_bytes(b"")
            for words, error in (
                (("drive", folder / "ball.world.yaml"), "which of no robots with motors is driven"),
                (("drive", file, "--robot", "crat"), "did you mean 'cart'|cart"),
                (("drive", file, "--keys"), "this is no terminal"),
                (("drive", file, "--out", "there.mcap"), "is there already"),
                (("drive", folder / "none.yaml"), "no such file"),
                (("drive", file, "--port", "1"), "port 1 cannot be had|"),
            ):
                with self.subTest(error):
                    if words[-1] == "1" and os.geteuid() == 0:
                        continue  # root may have any port
                    done = called(*words, cwd=folder)
                    self.assertEqual(done.returncode, 2, done.stdout)
                    self.assertRegex(done.stderr, rf"^error: .*({error}).*\n$")


if __name__ == "__main__":
    unittest.main()
