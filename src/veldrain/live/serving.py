"""A cockpit served to browsers on this machine: a page, and a WebSocket that carries wishes in and poses out.

Only who knows the token in the page's address is let in, and only a page of the same origin may open the socket. The
first browser drives; others watch. When its connection is lost, or is silent for ``WATCHDOG``, the robot stops.
"""

from __future__ import annotations

import asyncio
import json
import math
import secrets
import threading
import time
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, printable
from veldrain.live.cockpit import Cockpit
from veldrain.recording.gathering import gatherer
from veldrain.recording.messages import typestore
from veldrain.recording.quantities import unit_of
from veldrain.recording.tables import table_of

if TYPE_CHECKING:
    from aiohttp import web

WATCHDOG = 0.5  # s
MOST_TEXT = 64 << 10  # bytes of one word from a browser
MOST_STREAMS = 24  # that one browser is told of at a time
UPDATE = 0.05  # s between two words to a browser


class Server:
    """The server of one cockpit, in a thread of its own.

    Args:
        cockpit: what is driven.
        page: makes the page's text, once a browser asks for it.
        port: 0: a free one.

    Raises:
        VeldrainError: the server package is not there, or the port cannot be had.
    """

    def __init__(self, cockpit: Cockpit, page: Callable[[], str], port: int = 0) -> None:
        try:
            from aiohttp import web
        except ImportError as error:
            raise VeldrainError(
                "the server of pages is not installed",
                where="drive",
                cure="pip install 'veldrain[page]', or use --keys",
            ) from error
        self._web, self._page, self.cockpit = web, page, cockpit
        self.token = secrets.token_urlsafe(18)
        self._driver: Any = None  # the socket that drives
        self._heard = 0.0
        self._loop = asyncio.new_event_loop()
        self._runner: Any = None
        started: list[Any] = []
        ready = threading.Event()

        def run() -> None:
            asyncio.set_event_loop(self._loop)
            try:
                started.append(self._loop.run_until_complete(self._start(port)))
            except OSError as error:
                started.append(error)
            ready.set()
            if isinstance(started[0], int):
                self._loop.run_forever()

        self._thread = threading.Thread(target=run, name="page", daemon=True)
        self._thread.start()
        ready.wait()
        if isinstance(started[0], OSError):
            raise VeldrainError(
                f"port {port} cannot be had ({started[0].strerror})", where="drive", cure="name another with --port"
            ) from started[0]
        self.port: int = started[0]

    @property
    def origin(self) -> str:
        """Where it is served."""
        return f"http://127.0.0.1:{self.port}"

    @property
    def address(self) -> str:
        """Of the page, with the token that lets in."""
        return f"{self.origin}/{self.token}/"

    def close(self) -> None:
        """Stop serving."""
        asyncio.run_coroutine_threadsafe(self._runner.cleanup(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    async def _start(self, port: int) -> int:
        web = self._web
        app = web.Application(client_max_size=MOST_TEXT)
        app.router.add_get("/{token}/", self._show)
        app.router.add_get("/{token}/socket", self._talk)
        self._runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.5)
        await self._runner.setup()
        site = web.TCPSite(self._runner, "127.0.0.1", port)
        await site.start()
        return int(self._runner.addresses[0][1])

    def _see_that_it_may(self, request: web.Request, needs_origin: bool) -> None:
        """Refuse who does not know the token, who comes by another name, and pages of others."""
        hosts = (f"127.0.0.1:{self.port}", f"localhost:{self.port}")
        is_known = secrets.compare_digest(request.match_info["token"].encode(), self.token.encode())
        origin = request.headers.get("Origin")
        is_ours = origin in {f"http://{host}" for host in hosts} or (origin is None and not needs_origin)
        if not is_known or request.host not in hosts or not is_ours:
            raise self._web.HTTPForbidden(text="The address is not the one that veldrain drive printed.")

    async def _show(self, request: web.Request) -> web.Response:
        self._see_that_it_may(request, needs_origin=False)
        text = await asyncio.get_running_loop().run_in_executor(None, self._page)
        headers = {"Cache-Control": "no-store", "Referrer-Policy": "no-referrer", "X-Frame-Options": "DENY"}
        return self._web.Response(text=text, content_type="text/html", headers=headers)

    async def _talk(self, request: web.Request) -> web.WebSocketResponse:
        self._see_that_it_may(request, needs_origin=True)
        socket = self._web.WebSocketResponse(heartbeat=5.0, max_msg_size=MOST_TEXT)
        await socket.prepare(request)
        if self._driver is None:
            self._driver, self._heard = socket, time.monotonic()
            if self.cockpit.now is None or self.cockpit.now[0] == 0.0:  # it has waited for somebody to drive
                self.cockpit.is_paused = False
        wanted: list[str] = []
        telling = asyncio.create_task(self._tell(socket, wanted))
        try:
            async for word in socket:
                if word.type == self._web.WSMsgType.TEXT:
                    await self._hear(socket, word.data, wanted)
        finally:
            telling.cancel()
            if self._driver is socket:
                self._driver = None
                self.cockpit.stop("connection lost: stopped")
        return socket

    async def _hear(self, socket: Any, text: str, wanted: list[str]) -> None:
        """One word from a browser; what makes no sense is told, and does nothing."""
        try:
            word = json.loads(text)
            kind = word["kind"]
            if kind == "wants":
                wanted[:] = [str(name) for name in word["streams"]][:MOST_STREAMS]
            elif socket is not self._driver:
                raise VeldrainError("another browser drives", where="page", cure="close it; then load this one anew")
            elif kind == "alive":
                self._heard = time.monotonic()
            else:
                self._act(kind, word)
        except (ValueError, KeyError, TypeError, AttributeError, VeldrainError) as error:
            said = str(error) if isinstance(error, VeldrainError) else f"not understood: {type(error).__name__}"
            await socket.send_str(json.dumps({"problem": printable(said)}))

    def _act(self, kind: str, word: Mapping[str, Any]) -> None:
        cockpit = self.cockpit
        if kind == "tell":
            cockpit.tell({str(name): _finite(value) for name, value in word["inputs"].items()})
        elif kind == "push":
            cockpit.push(str(word["link"]), [_finite(v) for v in word["force"]], [_finite(v) for v in word["at"]])
        elif kind == "pause":
            cockpit.is_paused = bool(word["on"])
        elif kind == "speed":
            cockpit.speed = min(max(_finite(word["value"]), 0.05), 20.0)
        elif kind == "mark":
            cockpit.mark(str(word["text"])[:200] or "marked")
        elif kind == "fail":
            cockpit.fail(str(word["stream"]), str(word["type"]))
        elif kind == "weather":
            cockpit.weather({str(k): str(v) for k, v in word["words"].items()})
        elif kind == "posture":
            cockpit.keep_posture(str(word["name"])[:60])
        elif kind in ("again", "end"):
            cockpit.end(again=kind == "again")
        else:
            raise KeyError(kind)

    async def _tell(self, socket: Any, wanted: list[str]) -> None:
        """Poses as numbers, all else as text, twenty times a second."""
        cockpit, shown, marks, problems = self.cockpit, -1.0, 0, 0
        while not socket.closed:
            if self._driver is socket and time.monotonic() - self._heard > WATCHDOG:
                cockpit.stop("nothing heard: stopped")
                self._heard = math.inf  # told once; a word brings it back
            now, trial = cockpit.now, cockpit.trial
            if now is not None and trial is not None and now[0] != shown:
                if now[0] < shown:
                    marks = 0
                shown = now[0]
                head = np.array([now[0]]).tobytes()
                await socket.send_bytes(head + np.hstack([now[1], now[2]]).astype(np.float32).tobytes())
            if trial is not None:
                about = {
                    "time": shown,
                    "paused": cockpit.is_paused,
                    "drives": self._driver is socket,
                    "is_driven": self._driver is not None,
                    "inputs": trial.told,
                    "stops": cockpit.stops,
                    "kinds": trial.kinds,
                    "values": {name: found for name in wanted if (found := numbers_of(cockpit, name)) is not None},
                    "streams": cockpit.latest.streams(),
                    "marks": [[at, printable(text)] for at, text in cockpit.marks[marks:]],
                    "problems": [printable(text) for text in cockpit.problems[problems:]],
                }
                marks, problems = len(cockpit.marks), len(cockpit.problems)
                await socket.send_str(json.dumps(about))
            await asyncio.sleep(UPDATE)


def _finite(value: Any) -> float:
    number = float(value)
    if not math.isfinite(number):
        raise VeldrainError(f"{number} is no finite number", where="page", cure="send one")
    return number


def numbers_of(cockpit: Cockpit, stream: str) -> dict[str, Any] | None:
    """The last message of a stream as numbers by column, with its time and units; None: it has none, or none came."""
    found = cockpit.latest.message(stream)
    if found is None:
        return None
    stamp, message = found
    gather = gatherer(message.type)
    if gather is None:
        return None
    parts = list(gather.parts([gather.row(message.fields)]))
    table = table_of(parts, np.array([stamp / 1e9]), typestore(), message.type)
    columns = [c for c in table.columns if c not in ("time", "stamp") and table[c].dtype.kind in "biuf"]
    values = [float(table[c].iloc[0]) for c in columns]
    return {
        "time": stamp / 1e9,
        "names": columns,
        "units": [unit_of(message.type, c) for c in columns],
        "values": [v if math.isfinite(v) else None for v in values],
    }
