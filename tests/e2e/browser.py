"""A page on the shared server, for tests that use it as people do."""

from __future__ import annotations

import atexit
import itertools
import re
import tempfile
import unittest
from functools import cache
from pathlib import Path

import numpy as np
import playwright.sync_api
from playwright.sync_api import Page, expect, sync_playwright

from tests import solids
from tests.serving import shared, wait

CHROMIUM = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    # Edges need not be smooth for what is tested, and cost a fifth of each test in software.
    "--webgl-antialiasing-mode=none",
    "--disable-background-networking",
    "--disable-sync",
    "--no-first-run",
    "--disable-component-update",
    # Without a graphics card only the pictures are worth drawing with one in software.
    "--disable-gpu-compositing",
]

# What is computed takes its time on two cores that also run the other half of the tests.
expect.set_options(timeout=30_000)


@cache
def chromium() -> playwright.sync_api.Browser:
    """The browser of all tests; each has a context of its own in it."""
    driver = sync_playwright().start()
    atexit.register(driver.stop)
    # Scrollbars as users see them.
    return driver.chromium.launch(
        executable_path="/usr/bin/chromium", args=CHROMIUM, ignore_default_args=["--hide-scrollbars"]
    )


class Browser(unittest.TestCase):
    """A page on the shared server; page errors fail the test."""

    @classmethod
    def setUpClass(cls):
        cls.server = shared()
        cls.browser = chromium()

    def setUp(self):
        self.errors: list[str] = []
        self.page = self.open()

    def tearDown(self):
        self.page.context.close()
        self.assertEqual(self.errors, [])

    def open(self) -> Page:
        context = self.browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
        page = context.new_page()
        page.set_default_timeout(20_000)
        page.on("pageerror", lambda error: self.errors.append(f"{error} {(error.stack or '')[:600]}"))
        return page

    def demo_copy(self) -> int:
        """A copy of the demo to be changed; its number."""
        with self.server.client() as client:
            wait(client, 1)
            number = int(client.post("/api/projects/1/copy", json={}).json()["id"])
            wait(client, number)
        return number

    def coarse_copy(self) -> int:
        """The same at rays 2 mm apart, to be computed anew with every change."""
        number = self.demo_copy()
        with self.server.client() as client:
            made = client.get(f"/api/projects/{number}").json()
            plan = made["plan"] | {"resolution_mm": 2.0}
            told = {"based_on": made["revision"], "what": "coarser", "plan": plan}
            answer = client.put(f"/api/projects/{number}/plan", json=told)
            self.assertEqual(answer.status_code, 200, answer.text)
            wait(client, number)
        return number

    def go(self, page: Page, path: str) -> None:
        page.goto(self.server.url + path)

    def stage(self, page: Page, name: str) -> None:
        page.get_by_role("list", name="Stages").get_by_role("button", name=name).click()

    def card(self, page: Page, name: str) -> None:
        page.get_by_role("navigation", name="Route").get_by_role("button", name=name, exact=True).click()

    def current(self, page: Page) -> None:
        expect(page.get_by_role("status", name="Computing")).to_have_text("current", timeout=180_000)

    def settled(self, page: Page) -> bytes:
        """The bench as a picture, once everything it shows is there and drawn."""
        bench = page.get_by_label("Bench")
        expect(bench).to_have_attribute("aria-busy", "false")
        page.evaluate("new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))")
        expect(bench).to_have_attribute("aria-busy", "false")
        return bench.screenshot()

    def other_picture(self, page: Page, before: bytes) -> bytes:
        """The bench as a picture, once it is another than before."""
        for _ in range(100):
            now = self.settled(page)
            if now != before:
                return now
        raise AssertionError("the picture stays as it was")

    def point(self, page: Page, place: tuple[float, float], shown: str) -> None:
        """Move onto a place of the picture where the tooltip says what is there, and click it."""
        self.settled(page)
        page.mouse.move(*place)
        expect(page.get_by_role("tooltip")).to_contain_text(shown)
        page.mouse.click(*place)

    def new_project(self, name: str, shape: object) -> int:
        """Bring in a part through the page; gives the project's number."""
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{name}.step"
            path.write_bytes(solids.step_bytes(shape))
            self.go(page, "/")
            page.get_by_label("Part file").set_input_files(path)
            page.get_by_role("button", name="Start planning").click(timeout=60_000)
        page.wait_for_url(re.compile(r"/project/\d+"))
        self.current(page)
        return int(page.url.rsplit("/", 1)[1])


# The demo's route, as the rail names it.
CARDS = (
    "Billet",
    "OP10 Top",
    "OP20-JAWS Jaws for OP20",
    "OP20 Underneath",
    "OP30 Sensor and end face",
    "Part rev C",
)


def on_screen(page: Page, point: tuple[float, float, float], low: tuple, high: tuple) -> tuple[float, float]:
    """Where a point of the zero frame stands in the window, looked at as the operator, the box low…high
    fitted.
    """
    direction = np.array([0.62, -1, 0.78]) / np.linalg.norm([0.62, -1, 0.78])
    right = np.cross([0, 0, 1], direction)
    right /= np.linalg.norm(right)
    axes = np.array([right, np.cross(direction, right)])
    middle = (np.array(low) + np.array(high)) / 2
    corners = np.array(list(itertools.product(*zip(low, high, strict=True)))) - middle
    wide, tall = 2 * np.abs(corners @ axes.T).max(axis=0)
    box = page.get_by_label("Bench").locator("canvas").bounding_box()
    zoom = min(box["width"] / wide, (box["height"] - 50) / tall) * 0.86
    x, y = axes @ (np.array(point) - middle) * zoom
    return box["x"] + box["width"] / 2 + x, box["y"] + box["height"] / 2 - y
