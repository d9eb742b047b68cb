"""Every main screen: nothing scrolls sideways, no two texts run into each other."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import CARDS, Browser

# Sideways scrollbars, and texts of one row or one line of fields that run into each other; the words of what
# is wrong.
CROWDED = """() => {
  const wrong = []
  for (const one of document.querySelectorAll('body, body *')) {
    const style = getComputedStyle(one)
    if (one.scrollWidth > one.clientWidth + 1 && ['auto', 'scroll'].includes(style.overflowX) && one.clientWidth > 0)
      wrong.push('scrolls sideways: ' + (one.getAttribute('aria-label') || one.className).slice(0, 80))
  }
  if (document.documentElement.scrollWidth > innerWidth) wrong.push('the page scrolls sideways')
  // Beside its sheet, which scrolls by itself, a project's page stands still.
  if (document.querySelector('main[aria-label=Sheet]') && document.documentElement.scrollHeight > innerHeight)
    wrong.push('the page scrolls beside its sheet')
  const boxOf = (node) => { const range = document.createRange(); range.selectNodeContents(node); return range.getBoundingClientRect() }
  const texts = [...document.querySelectorAll('td, th, h1, h2, h3, label, nav [class*=truncate], [role=tab]')]
    .filter((one) => one.textContent.trim() && one.checkVisibility())
  for (const row of document.querySelectorAll('tr')) {
    const cells = [...row.children].filter((one) => one.textContent.trim())
    for (let i = 1; i < cells.length; i += 1) {
      const [a, b] = [boxOf(cells[i - 1]), boxOf(cells[i])]
      if (a.right > b.left + 0.5 && a.bottom > b.top + 2 && b.bottom > a.top + 2)
        wrong.push('run together: ' + cells[i - 1].textContent + ' | ' + cells[i].textContent)
    }
  }
  for (let i = 1; i < texts.length; i += 1) {
    const [one, two] = [texts[i - 1], texts[i]]
    if (one.contains(two) || two.contains(one) || one.closest('tr')) continue
    const [a, b] = [one.getBoundingClientRect(), two.getBoundingClientRect()]
    if (Math.min(a.right, b.right) - Math.max(a.left, b.left) > 2 && Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top) > 4)
      wrong.push('lie over each other: ' + one.textContent.slice(0, 40) + ' | ' + two.textContent.slice(0, 40))
  }
  return wrong
}"""


class Crowding(Browser):
    """Nothing scrolls sideways and no two texts run into each other, on every main screen at 1280 × 800."""

    def test_every_stage_of_every_setup(self):
        page = self.page
        self.go(page, "/")
        expect(page.get_by_role("link", name=re.compile("Sluice-gate"))).to_be_visible()
        self.assertEqual(page.evaluate(CROWDED), [])
        self.go(page, "/project/1")
        self.current(page)
        for card in CARDS:
            self.card(page, card)
            stages = (
                ("Incoming", "Seat", "Hold", "Reach", "Cut", "Outgoing", "Prove-out")
                if card.startswith("OP")
                else ("",)
            )
            for stage in stages:
                if stage:
                    self.stage(page, stage)
                self.settled(page)
                for tab in ("Time", "Program", "Findings"):
                    page.get_by_role("tab", name=re.compile(tab)).click()
                    self.assertEqual(page.evaluate(CROWDED), [], (card, stage, tab))

    def test_the_rail_holds_eight_setups(self):
        page = self.page
        number = self.new_project("long-route", solids.box((0, 0, 0), (30, 20, 10)))
        for _ in range(7):
            page.get_by_role("button", name="+ setup").click()
            expect(page.get_by_role("status", name="Computing")).not_to_have_text("saving")
        self.assertEqual(page.evaluate(CROWDED), [])
        rail = page.get_by_role("navigation", name="Route")
        last = rail.get_by_role("button", name="+ setup").bounding_box()
        self.assertLessEqual(last["x"] + last["width"], 1280)
        with self.server.client() as client:
            client.patch(f"/api/projects/{number}", json={"archived": True})
            client.delete(f"/api/projects/{number}")

    def test_the_dock_is_pulled_larger_and_remembers_it(self):
        page = self.page
        self.go(page, "/project/1")
        dock = page.get_by_role("region", name="Dock")
        before = dock.bounding_box()["height"]
        page.get_by_role("separator", name="Height of the dock").focus()
        for _ in range(4):
            page.keyboard.press("ArrowUp")
        self.assertAlmostEqual(dock.bounding_box()["height"], before + 160, delta=2)
        page.reload()
        self.assertAlmostEqual(
            page.get_by_role("region", name="Dock").bounding_box()["height"], before + 160, delta=2
        )


if __name__ == "__main__":
    unittest.main()
