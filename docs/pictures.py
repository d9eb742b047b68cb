"""Takes the pictures of the main views anew, from demos that are running.

Run: python docs/pictures.py http://127.0.0.1:8600 [http://127.0.0.1:8700 [http://127.0.0.1:8800 [http://127.0.0.1:8900]]],
where the first serves the demo encoder-housing, the second float-carrier, the third latch-plate and the fourth carrier-lot, all as they
are loaded. With one address for all (bin/demo), each project is found by its name.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

HERE = Path(__file__).parent / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-gpu-compositing",
]


def settled(page: Page) -> None:
    page.wait_for_timeout(400)
    page.locator("section[aria-label=Bench][aria-busy=false]").wait_for(timeout=120_000)
    page.wait_for_timeout(500)


def look(page: Page, card: str, stage: str) -> None:
    page.get_by_role("navigation", name="Route").get_by_role("button", name=card, exact=True).click()
    if stage:
        page.get_by_role("list", name="Stages").get_by_role("button", name=stage).click()
    if stage != "Prove-out":
        page.get_by_role("tab", name="Time").click()
    settled(page)


def cut(page: Page) -> None:
    look(page, "OP10 Top", "Cut")
    page.get_by_role("group", name="Show").get_by_label("paths").check()
    page.get_by_role("button", name="Rough electronics pocket", exact=True).click()


def uncovered(page: Page) -> None:
    page.get_by_role("group", name="Show").get_by_label("paths").uncheck()


def turned(page: Page) -> None:
    look(page, "OP30 Sensor and end face", "Cut")
    page.get_by_role("button", name=re.compile("^Rough sensor window")).first.click()


def prove(page: Page) -> None:
    look(page, "OP20 Underneath", "Prove-out")
    text = page.locator(".cm-scroller")
    text.evaluate("e => e.scrollTop = 1180")
    page.wait_for_timeout(400)
    page.locator(".cm-line", has_text="N610").first.click()
    page.wait_for_timeout(400)
    box = page.locator(".cm-line", has_text="N640").first.bounding_box()
    assert box is not None
    page.mouse.click(box["x"] - 12, box["y"] + 8)


HOUSING: dict[str, Callable[[Page], None]] = {
    "seat": lambda page: look(page, "OP10 Top", "Seat"),
    "hold": lambda page: look(page, "OP20 Underneath", "Hold"),
    "cut": cut,
    "jaws": lambda page: (uncovered(page), look(page, "OP20-JAWS Jaws for OP20", "Outgoing"))[-1],
    "turned": turned,
    "outgoing": lambda page: look(page, "OP30 Sensor and end face", "Outgoing"),
    "prove": prove,
}
CARRIER: dict[str, Callable[[Page], None]] = {
    "nest": lambda page: look(page, "OP20 Shank side", "Hold"),
}


def probing(page: Page) -> None:
    look(page, "OP20 Underneath", "Reach")
    page.get_by_label("Offsets").scroll_into_view_if_needed()
    settled(page)


LATCH: dict[str, Callable[[Page], None]] = {"probing": probing}


def load(page: Page) -> None:
    page.get_by_role("navigation", name="Route").get_by_role("button", name="Load L1").click()
    page.get_by_role("listitem", name="OP30/2 Finish shank").click()
    page.locator('section[aria-label="The load as it stands"][aria-busy=false]').wait_for()
    page.wait_for_timeout(1500)


def billet(page: Page) -> None:
    page.get_by_role("navigation", name="Route").get_by_role("button", name="Billet", exact=True).click()
    page.get_by_text("Sawn at", exact=True).scroll_into_view_if_needed()
    settled(page)


LOT: dict[str, Callable[[Page], None]] = {"billet": billet, "load": load}


NAMES = ("Sluice-gate encoder housing", "Float-arm carrier", "Gate-latch plate", "Carriers, a lot of 12")


def taken(address: str, views: dict[str, Callable[[Page], None]], name: str) -> None:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(
            executable_path="/usr/bin/chromium", args=FLAGS, ignore_default_args=["--hide-scrollbars"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(60_000)
        page.goto(address)
        page.get_by_text(name, exact=True).first.click()
        page.get_by_role("status", name="Computing").get_by_text("current").wait_for(timeout=240_000)
        for name, show in views.items():
            show(page)
            if page.get_by_role("region", name="Bench").is_visible():
                settled(page)
            page.mouse.move(5, 795)
            page.screenshot(path=HERE / f"{name}.png")
        browser.close()


if __name__ == "__main__":
    every = (HOUSING, CARRIER, LATCH, LOT)
    addresses = sys.argv[1:] if len(sys.argv) > 2 else sys.argv[1:2] * len(every)
    for address, views, name in zip(addresses, every, NAMES, strict=False):
        taken(address.rstrip("/"), views, name)
