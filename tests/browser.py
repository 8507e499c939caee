"""A real browser without a screen, for tests of pages: Debian's chromium."""

from __future__ import annotations

import shutil
import time
import unittest
from typing import Any

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or ""


@unittest.skipUnless(CHROMIUM, "pages are tried in Debian's chromium, which is not here: apt install chromium")
class InBrowser(unittest.TestCase):
    """A browser for all tests of a class. ``faults``: what its consoles said and what was asked of a network."""

    browser: Any
    faults: list[str]

    @classmethod
    def setUpClass(cls) -> None:
        from playwright.sync_api import sync_playwright

        started = cls.enterClassContext(sync_playwright())
        words = ["--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--no-sandbox"]
        cls.browser = started.chromium.launch(executable_path=CHROMIUM, args=words)
        cls.addClassCleanup(cls.browser.close)

    def setUp(self) -> None:
        self.faults = []

    def opened(self, address: str, size: tuple[int, int] = (1280, 800), **words: Any) -> Any:
        """The page of an address, once its first picture is there."""
        page = self.browser.new_page(viewport={"width": size[0], "height": size[1]}, **words)
        self.addCleanup(page.close)
        page.set_default_timeout(20_000)
        page.on("console", lambda said: self.faults.append(said.text) if said.type in ("error", "warning") else None)
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.on(
            "request",
            lambda asked: None if asked.url.startswith(("file:", "data:", "blob:")) else self.asked(asked.url),
        )
        page.goto(address)
        page.wait_for_selector("#tree *")
        return page

    def until(self, page: Any, words: str) -> None:
        """Wait until an expression holds: from here, since the page lets nothing be evaluated in itself."""
        end = time.monotonic() + 20
        while not page.evaluate(words):
            self.assertLess(time.monotonic(), end, words)
            page.wait_for_timeout(50)

    def asked(self, address: str) -> None:
        """Something was asked of a network."""
        self.faults.append(f"asked for {address}")
