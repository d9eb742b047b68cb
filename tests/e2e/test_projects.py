"""The list of projects."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser


class WholeProjects(Browser):
    """A project as a whole, from the list."""

    def test_copied_renamed_put_away_and_deleted(self):
        page = self.page
        self.new_project("whole", solids.box((0, 0, 0), (30, 20, 9)))
        self.go(page, "/")
        menu = lambda name: page.get_by_role("button", name=f"More for {name}", exact=True)  # noqa: E731
        pick = lambda word: page.get_by_role("menuitem", name=word).click()  # noqa: E731
        menu("whole").click()
        pick("Copy")
        menu("whole copy").click()
        pick("Rename")
        page.get_by_label("New name of whole copy").fill("another")
        page.get_by_role("button", name="Rename", exact=True).click()
        for name in ("another", "whole"):
            menu(name).click()
            pick("Put away")
            expect(page.get_by_role("link", name=re.compile(f"^{name} "))).to_have_count(0)
        page.get_by_role("button", name="what was put away").click()
        for name in ("another", "whole"):
            menu(name).click()
            pick("Delete for good")
            page.get_by_role("button", name="Delete it").click()
            expect(menu(name)).to_have_count(0)


if __name__ == "__main__":
    unittest.main()
