"""How soon does the picture follow a pulled side of the billet, and how soon are its facts there?

In headless Chromium on the demo: after each move of the pointer, how many frames go by until the handle in
the picture stands elsewhere, and how long the frames were; then, let go, how long until the billet's own
margins are told as computed. Run: PYTHONPATH=. python bench/pulling.py [--json]
"""

from __future__ import annotations

import argparse
import time

import numpy as np
from measuring import tell
from playwright.sync_api import sync_playwright
from tests.e2e.browser import CHROMIUM
from tests.serving import Server, wait

MOVES = 40
# Counts frames, and notes for each change of the handle how many there were since the last move.
WATCH = """() => {
  const seen = { frame: 0, moved: 0, at: 0, frames: [], late: [] }
  window.seen = seen
  const tick = () => { seen.frame += 1; requestAnimationFrame(tick) }
  requestAnimationFrame(tick)
  window.addEventListener('pointermove', () => { seen.moved = seen.frame; seen.at = performance.now() }, true)
  new MutationObserver(() => {
    if (!seen.at) return
    seen.frames.push(seen.frame - seen.moved)
    seen.late.push(performance.now() - seen.at)
    seen.at = 0
  }).observe(document.getElementById('pull-zp'), { attributes: true, attributeFilter: ['style'] })
}"""


def measured() -> dict[str, float]:
    """Frames and seconds."""
    server = Server(workers=1)
    server.start()
    try:
        with server.client() as client:
            wait(client, 1)
        with sync_playwright() as driver:
            browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(server.url + "/project/1")
            page.get_by_role("button", name="Billet").first.click()
            handle = page.get_by_role("button", name="Pull side z+", exact=True)
            handle.wait_for()
            page.wait_for_timeout(2000)
            page.evaluate(WATCH)
            box = handle.bounding_box()
            assert box is not None
            x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
            page.mouse.move(x, y)
            page.mouse.down()
            for step in range(1, MOVES + 1):
                page.mouse.move(x, y - 3 * step)
                page.wait_for_timeout(60)
            frames, late = (
                np.array(page.evaluate(f"() => window.seen.{name}")) for name in ("frames", "late")
            )
            with server.client() as client:
                before = client.get("/api/projects/1").json()["report"]["billet"]["margins"]["z+"]
            page.mouse.up()
            let_go = time.perf_counter()
            now = before
            while now == before and time.perf_counter() - let_go < 30:
                with server.client() as client:
                    now = client.get("/api/projects/1").json()["report"]["billet"]["margins"]["z+"]
                time.sleep(0.02)
            facts = time.perf_counter() - let_go
            browser.close()
    finally:
        server.stop()
        server.remove()
    return {
        "moves_seen": float(len(frames)),
        "frames_median": float(np.median(frames)),
        "frames_most": float(frames.max()),
        "follows_ms_median": float(np.median(late)),
        "facts_s": facts,
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    as_json = parser.parse_args().json
    tell(measured(), as_json)
