"""What does a load's picture cost to draw? One of twenty places against one with one, in headless Chromium:
how often the picture asks the graphics for something in each frame, and how long the frames are while it is
turned by the pointer; the graphics here are a processor's, which draw every triangle of every place.
Run: PYTHONPATH=. python bench/load_picture.py [--json]
"""

from __future__ import annotations

import argparse
import json

import numpy as np
from loads import with_places
from measuring import tell
from playwright.sync_api import Page, sync_playwright
from tests.core import test_removal as plate
from tests.e2e.browser import CHROMIUM
from tests.serving import Server, upload, wait

TURNS = 40
# Counts what is asked of the graphics, and notes of each drawn frame how much and when.
WATCH = """() => {
  const seen = { calls: 0, frames: [], at: [] }
  window.seen = seen
  for (const kind of [WebGLRenderingContext, WebGL2RenderingContext])
    for (const name of ['drawElements', 'drawArrays', 'drawElementsInstanced', 'drawArraysInstanced']) {
      const own = kind.prototype[name]
      if (own) kind.prototype[name] = function (...told) { seen.calls += 1; return own.apply(this, told) }
    }
  const tick = () => {
    if (seen.calls) { seen.frames.push(seen.calls); seen.at.push(performance.now()) }
    seen.calls = 0
    requestAnimationFrame(tick)
  }
  requestAnimationFrame(tick)
}"""


def turned(page: Page, address: str) -> tuple[float, float]:
    """What is asked in a frame, and how long one is, ms; the middle of all while it is turned."""
    page.goto(address)
    page.get_by_role("navigation", name="Route").get_by_role("button", name="Load L1").click()
    page.get_by_role("radio", name="as it is loaded").click()
    picture = page.locator('section[aria-label="The load as it stands"]')
    page.locator('section[aria-label="The load as it stands"][aria-busy=false]').wait_for()
    page.wait_for_timeout(3000)
    box = picture.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.evaluate("() => { window.seen.frames.length = 0; window.seen.at.length = 0 }")
    page.mouse.move(x, y)
    page.mouse.down()
    for step in range(1, TURNS + 1):
        page.mouse.move(x + 4 * step, y + step)
    page.mouse.up()
    page.wait_for_timeout(500)
    calls, at = (np.array(page.evaluate(f"() => window.seen.{name}")) for name in ("frames", "at"))
    return float(np.median(calls)), float(np.median(np.diff(at)))


def measured() -> dict[str, float]:
    """Of both loads, and their ratios."""
    server = Server(demo=False, workers=1)
    server.start()
    try:
        numbers = []
        with server.client() as client:
            upload(client, plate.DATA, "plate.step")
            for columns, rows in ((1, 1), (5, 4)):
                told = with_places(columns, rows).model_dump(mode="json")
                told["part"]["sha256"] = None
                files = {"file": ("plan.json", json.dumps(told).encode())}
                answer = client.post("/api/projects/plan.json", files=files)
                numbers.append(int(answer.raise_for_status().json()["id"]))
                wait(client, numbers[-1])
        with sync_playwright() as driver:
            browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(f"({WATCH})()")
            one, twenty = (turned(page, f"{server.url}/project/{number}") for number in numbers)
            browser.close()
    finally:
        server.stop()
        server.remove()
    return {
        "asked in a frame, one place": one[0],
        "asked in a frame, twenty": twenty[0],
        "frame, one place, ms": one[1],
        "frame, twenty, ms": twenty[1],
        "frame of twenty against one": twenty[1] / one[1],
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    tell(measured(), parser.parse_args().json)
