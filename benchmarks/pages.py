"""Pages of trials and driving by hand: what they cost, and how soon an input is felt. Called by run.py."""

from __future__ import annotations

import asyncio
import json
import shutil
import statistics
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
import veldrain.demo
from veldrain.live.cockpit import Cockpit
from veldrain.live.serving import Server
from veldrain.scenario.carrying import carried_out
from veldrain.starting.driving import wheels_of

DEMO = Path(veldrain.demo.__path__[0])
Figure = tuple[str, float, str, str]  # name, value, unit, target
TURNING = """async () => {
  const begun = performance.now();
  let n = 0;
  for (; performance.now() - begun < 3000; n++) {
    document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "a", bubbles: true }));
    await new Promise(requestAnimationFrame);
  }
  return n / 3;
}"""


def pages(repeats: int) -> Iterator[Figure]:
    """All of it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        yield from written(folder, repeats)
        yield from shown(folder)
    yield from driven()


def written(folder: Path, repeats: int) -> Iterator[Figure]:
    """The page of a flight of 32 s with a camera."""
    recording = vd.run(vd.load_scenario(DEMO / "survey_flight.scenario.yaml"), record=folder / "flight.mcap")
    found = []
    for _ in range(repeats + 1):
        begun = time.perf_counter()
        page = vd.page(vd.Recording(recording.path), folder / "flight.html")  # type: ignore[arg-type]
        found.append(time.perf_counter() - begun)
    yield "page of a flight of 32 s", statistics.median(found[1:]), "s", "≤ 2"
    yield "its size", len(page.text) / 1e6, "MB", "≤ 3"


def yard() -> vd.Scenario:
    """200 crates round a lidar of 16 × 900 beams."""
    world, random = vd.World().ground(), np.random.default_rng(0)
    for k in range(200):
        at = random.uniform(-20, 20, 2)
        world.obstacle(f"crate{k}", vd.Box((0.5, 0.5, 0.5)), pose=vd.Pose((*at, 0.25)))
    post = vd.Model("post").link("base", vd.Cylinder(0.2, 1.0), mass=5)
    post.mount("lidar", vd.SpinningLidar(channels=16, azimuths=900), on="base", pose=vd.Pose((0, 0, 0.6)))
    return vd.Scenario(world.place(post, pose=vd.Pose((0, 0, 0.5))), "1 s")


def shown(folder: Path) -> Iterator[Figure]:
    """Pictures a second while it is turned round, in a browser that draws by software; nothing without a browser."""
    chromium = shutil.which("chromium") or shutil.which("chromium-browser")
    if not chromium:
        return
    from playwright.sync_api import sync_playwright

    path = folder / "yard.html"
    vd.page(vd.run(yard()), path)
    words = ["--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--no-sandbox"]
    with sync_playwright() as started:
        browser = started.chromium.launch(executable_path=chromium, args=words)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        begun = time.perf_counter()
        page.goto(path.as_uri())
        page.wait_for_selector("#tree *")
        opened = time.perf_counter() - begun
        yield "page of 200 things and a cloud: opened in", opened, "s", "≤ 2"
        page.evaluate("location.hash = 't=1'")
        page.wait_for_timeout(500)
        yield "turned round, drawn by software", page.evaluate(TURNING), "pictures/s", "≥ 10"
        browser.close()


def driven() -> Iterator[Figure]:
    """The crawler driven over the page's socket: from the word to the pose in which it is felt."""
    world = vd.load_world(DEMO / "culvert.world.yaml")
    _, words = wheels_of(world.placed["crawler"].model) or ("", {})
    drive = vd.SkidSteer(**words["with"])
    scenario = vd.Scenario(world, "30 s", controllers={"crawler": drive})
    cockpit = Cockpit(scenario, "crawler")
    server = Server(cockpit, lambda: "")
    told: list[float] = []
    client = threading.Thread(target=lambda: told.extend(asyncio.run(felt(server))))
    client.start()
    begun = time.perf_counter()
    try:
        outcome = carried_out(cockpit.begin, scenario, 0, [])
    finally:
        client.join()
        server.close()
    yield "input to the pose in which it is felt, median", 1e3 * statistics.median(told), "ms", "≤ 100"
    yield "driving: share of real time that is kept", outcome["time"] / (time.perf_counter() - begun), "", "≥ 0.95"


async def felt(server: Server, times: int = 15) -> list[float]:
    """Seconds from each of several words until the robot's pose says that it moves, or stands."""
    from aiohttp import ClientSession

    found = []
    async with (
        ClientSession() as session,
        session.ws_connect(f"{server.address}socket", headers={"Origin": server.origin}) as socket,
    ):
        root = -1
        for k in range(times):
            speed = 0.4 if k % 2 == 0 else 0.0
            await asyncio.sleep(0.4 + 0.013 * k)
            await socket.send_str(json.dumps({"kind": "tell", "inputs": {"forward": speed}}))
            begun, last = time.perf_counter(), None
            while True:
                await socket.send_str('{"kind": "alive"}')
                said: Any = await socket.receive(timeout=5)
                if not isinstance(said.data, bytes) or server.cockpit.trial is None:
                    continue
                root = server.cockpit.trial.simulation.frames.names.index("crawler/hull") if root < 0 else root
                time_of, x = np.frombuffer(said.data[:8])[0], np.frombuffer(said.data[8:], np.float32)[7 * root]
                if last and time_of > last[0]:
                    now = (x - last[1]) / (time_of - last[0])
                    if abs(now - speed) < 0.3:
                        found.append(time.perf_counter() - begun)
                        break
                last = time_of, x
    server.cockpit.end()
    return found
