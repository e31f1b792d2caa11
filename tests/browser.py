"""Pages in a headless browser that reaches no network, and hears of everything they ask for."""

from __future__ import annotations

import atexit
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import pytest

NAMES = ("chromium", "chromium-browser", "google-chrome")
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--host-resolver-rules=MAP * ~NOTFOUND",
]  # fmt: skip
#: Tells of tasks that hold up the page, from its first moment on.
WATCH = """
window.longTasks = [];
const note = (list) => window.longTasks.push(...list.getEntries().map((e) => e.duration));
new PerformanceObserver(note).observe({ type: "longtask", buffered: true });
window.shift = 0;
const add = (list) => list.getEntries().forEach((e) => {
  if (!e.hadRecentInput) window.shift += e.value;
});
new PerformanceObserver(add).observe({ type: "layout-shift", buffered: true });
"""


def program() -> str:
    """The browser; without one the test is skipped, and fails where CI should have brought it."""
    found = next((path for name in NAMES if (path := shutil.which(name))), None)
    if found is None:
        if os.environ.get("CI"):
            pytest.fail("no Chromium: .ci/run installs it")
        pytest.skip("no Chromium is installed")
    return found


INK = """(selector) => {
  const drawn = document.querySelector(selector);
  const copy = new OffscreenCanvas(drawn.width, drawn.height);
  const context = copy.getContext("2d", { willReadFrequently: true });
  context.drawImage(drawn, 0, 0);
  const all = new Uint32Array(context.getImageData(0, 0, copy.width, copy.height).data.buffer);
  return all.filter((px) => px !== all[0]).length / all.length;
}"""
SETTLE = "() => new Promise((done) => requestAnimationFrame(() => setTimeout(done, 60)))"


@dataclass
class Opened:
    """A page, and what it said and asked for while it was open."""

    page: Any
    said: list[str] = field(default_factory=list)
    asked: list[str] = field(default_factory=list)

    def text(self, selector: str) -> str:
        return str(self.page.inner_text(selector))

    def settle(self) -> None:
        """Wait until what was asked for is drawn."""
        self.page.evaluate(SETTLE)

    def ink(self, selector: str) -> float:
        """Share of a canvas that is drawn on: px that differ from its first."""
        return float(self.page.evaluate(INK, selector))

    def check(self) -> None:
        """Nothing was said, and nothing asked for beyond the page and what stands beside it."""
        assert self.said == []
        assert [url for url in self.asked if not url.startswith(("data:", "blob:"))] == []


@contextmanager
def opened(
    path: Path, size: tuple[int, int] = (1280, 800), theme: str = "light", *, served: bool = False
) -> Iterator[Opened]:
    """A page opened from disk, or as a web server of its folder serves it."""
    context = _browser().new_context(
        viewport={"width": size[0], "height": size[1]}, color_scheme=theme, offline=True,
        accept_downloads=True,
    )  # fmt: skip
    one = Opened(context.new_page())
    address = f"http://pages.test/{path.name}" if served else path.resolve().as_uri()
    if served:
        folder = path.parent

        def answer(route: Any) -> None:
            route.fulfill(path=folder / route.request.url.removeprefix("http://pages.test/"))

        context.route("http://pages.test/**", answer)
    one.page.add_init_script(WATCH)
    one.page.on("console", lambda message: one.said.append(message.text))
    one.page.on("pageerror", lambda error: one.said.append(str(error)))
    one.page.on("request", lambda asked: asked.url == address or one.asked.append(asked.url))
    one.page.goto(address)
    one.page.wait_for_selector("html[data-ready=yes]")
    yield one
    context.close()


@lru_cache(maxsize=1)
def _browser() -> Any:
    """One browser for all pages of a process."""
    from playwright.sync_api import sync_playwright

    found = program()
    playwright = sync_playwright().start()
    browser = playwright.chromium.launch(executable_path=found, args=FLAGS)
    atexit.register(playwright.stop)
    return browser


def accessible(one: Opened) -> list[str]:
    """What breaks a rule of WCAG 2.2, level A or AA."""
    from axe_playwright_python.sync_playwright import Axe

    tags = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
    found = Axe().run(one.page, options={"runOnly": {"type": "tag", "values": tags}})
    return [f"{v['id']}: {v['nodes'][0]['html'][:200]}" for v in found.response["violations"]]
