"""Pieces of the server that need no database: differences, what is stale, pictures, ports."""

from __future__ import annotations

import importlib
import io
import json
import socket
import unittest
from pathlib import Path

import numpy as np
from fastapi import FastAPI
from fastapi.testclient import TestClient
from PIL import Image
from psycopg.errors import DiskFull
from sqlalchemy.exc import OperationalError

from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import box
from pelvrak.core.holding.hold import Hold
from pelvrak.core.route.report import BilletReport, Maker, Report, SetupReport
from pelvrak.server.api import problems
from pelvrak.server.api.freshness import billet_late, called_now, laid_over, new_names, stale_from
from pelvrak.server.api.shapes import Edit
from pelvrak.server.app import app
from pelvrak.server.jobs.stills import HEIGHT, HUES, WIDTH, colours, draw
from pelvrak.server.postgres import free_port

TOP = Path(__file__).resolve().parents[2]


class LaidOver(unittest.TestCase):
    """What a page shows while a plan is computed: what is there already, and what it was before."""

    def report(self, volume: float, *names: str, begun: str | None = None) -> Report:
        billet = BilletReport(
            low=(0, 0, 0),
            high=(1, 1, 1),
            volume_mm3=volume,
            mass_kg=1,
            margins={},
            stated_error_mm=0.1,
            field_bytes=1,
        )
        setups = [
            SetupReport(
                name=name,
                title="",
                machine="m",
                offset_register="G54",
                incoming_volume_mm3=volume,
                outgoing_volume_mm3=0 if name == begun else volume,
                time_s=0 if name == begun else volume,
            )
            for name in names
        ]
        makers = tuple(
            Maker(number=256 * (i + 1), setup=name, operation=f"{volume:g}", tool="")
            for i, name in enumerate(names)
            if name != begun
        )
        return Report(
            version="1",
            plan="p",
            part_key="k",
            part_volume_mm3=1,
            part_mass_kg=1,
            billet=billet,
            setups=tuple(setups),
            makers=makers,
            begun=begun,
        )

    def test_the_first_time(self):
        report, late, seated = laid_over(None, None, self.report(2, "A", "B", begun="B"), ["A", "B", "C"])
        self.assertEqual(([one.name for one in report.setups], late, seated), (["A", "B"], 1, 1))

    def test_what_was_there_stays_until_its_successor_comes(self):
        done = self.report(1, "A", "B", "C", "gone")
        names = ["A", "B", "C"]
        report, late, seated = laid_over(done, 0, self.report(2), names)
        self.assertEqual(
            (report.billet.volume_mm3, [one.time_s for one in report.setups], late, seated),
            (2, [1, 1, 1], 0, None),
        )
        report, late, seated = laid_over(done, 0, self.report(2, "A", "B", begun="B"), names)
        # B is seated anew, and as it was cut.
        self.assertEqual(
            [(one.incoming_volume_mm3, one.time_s) for one in report.setups], [(2, 2), (2, 1), (1, 1)]
        )
        self.assertEqual((late, seated), (1, 1))
        self.assertEqual([one.operation for one in report.makers], ["2", "1", "1", "1"])

    def test_what_the_edit_does_not_touch_is_current(self):
        done = self.report(1, "A", "B", "C")
        self.assertEqual(laid_over(done, 2, self.report(2), ["A", "B", "C"])[1], 2)


class FullDisk(unittest.TestCase):
    def test_a_full_disk_is_said(self):
        """What PostgreSQL raises when there is no room (SQLSTATE 53100), as a problem a user can do something
        about.
        """
        full = FastAPI()
        problems.install(full)

        @full.put("/api/kept")
        def kept() -> None:
            raise OperationalError("INSERT", {}, DiskFull("could not extend file"))

        answer = TestClient(full).put("/api/kept")
        self.assertEqual((answer.status_code, answer.json()["code"]), (507, "server.disk_full"))
        self.assertIn("nothing was saved", answer.json()["what"])
        self.assertIn("make room", answer.json()["mend"])


class Differences(unittest.TestCase):
    def test_stale_from_names_the_first_touched_setup(self):
        plan = json.loads((TOP / "demo" / "encoder-housing" / "plan.json").read_text())

        def after(change) -> int | None:
            other = json.loads(json.dumps(plan))
            change(other)
            return stale_from(plan, other)

        self.assertIsNone(after(lambda p: p.update(name="another name")))
        self.assertEqual(after(lambda p: p["setups"][1].update(offset_register="G58")), 1)
        self.assertEqual(after(lambda p: p["setups"][0].update(offset_register="G58")), 0)
        self.assertEqual(after(lambda p: p["billet"].update(material="C45")), 0)
        # OP20's jaws are cut in the setup before it, and are solved from what OP20 says.
        self.assertEqual(after(lambda p: p["setups"][2].update(offset_register="G58")), 1)
        self.assertEqual(after(lambda p: p["setups"].pop()), 3)
        self.assertEqual(after(lambda p: p.update(resolution_mm=1.0)), 0)
        # What something is called makes nothing out of date, nor does a tool nobody uses.
        spare = {**plan["tools"][0], "id": "spare", "place": 19}
        for change in (
            lambda p: p["setups"][0].update(title="x"),
            lambda p: p["setups"][0].update(name="OP70"),
            lambda p: p["setups"][0]["operations"][0].update(name="x", id="x"),
            lambda p: p["tools"][0].update(name="x", place=18),
            lambda p: p["tools"].append(spare),
        ):
            self.assertIsNone(after(change))
        self.assertIsNotNone(after(lambda p: p["tools"][0].update(DC=9.0)))
        self.assertIsNotNone(
            after(lambda p: p["setups"][0]["operations"][0].update(tool=plan["tools"][1]["id"]))
        )

    def test_where_pieces_lie_and_how_they_come_apart(self):
        """Laid otherwise all is out of date, and the billet's own picture; divided otherwise what comes after
        that. Another name of the setup it is divided after is only a name.
        """
        plan = json.loads((TOP / "demo" / "carrier-lot" / "plan.json").read_text())

        def after(change) -> tuple[int | None, bool]:
            other = json.loads(json.dumps(plan))
            change(other)
            return stale_from(plan, other), billet_late(plan, other)

        division = plan["pieces"]["division"]
        self.assertEqual(after(lambda p: p["pieces"]["layout"].update(rows=3)), (0, True))
        self.assertEqual(after(lambda p: p.update(pieces=None)), (0, True))
        self.assertEqual(after(lambda p: p["pieces"].update(division={**division, "kerf": 2.0})), (1, False))
        later = {**division, "after": "OP20"}
        self.assertEqual(after(lambda p: p["pieces"].update(division=later)), (1, False))
        last = {**division, "after": "OP30", "kerf": 2.0}
        self.assertEqual(stale_from(plan | {"pieces": {**plan["pieces"], "division": last}}, plan), 1)
        both = [{**plan, "pieces": {**plan["pieces"], "division": one}} for one in (last, None)]
        self.assertEqual(stale_from(both[0], both[1]), len(plan["setups"]) - 1)

        def renamed(p: dict) -> None:
            p["setups"][0]["name"] = p["pieces"]["division"]["after"] = "OP70"

        self.assertEqual(after(renamed), (None, False))

    def test_a_chosen_stock_is_known_by_where_it_stood(self):
        """What the setup and the operation it is taken from are called makes nothing out of date; another
        moment does.
        """
        plan = json.loads((TOP / "demo" / "encoder-housing" / "plan.json").read_text())
        plan["setups"][3]["incoming"] = {"rule": "earlier", "setup": "OP10", "after": "face"}
        other = json.loads(json.dumps(plan))
        other["setups"][0]["name"] = other["setups"][3]["incoming"]["setup"] = "OP70"
        other["setups"][0]["operations"][0]["id"] = other["setups"][3]["incoming"]["after"] = "top"
        self.assertIsNone(stale_from(plan, other))
        other["setups"][3]["incoming"]["after"] = "outline"
        self.assertEqual(stale_from(plan, other), 3)
        other["setups"][3]["incoming"] = None
        self.assertEqual(stale_from(plan, other), 3)

    def test_what_a_renamed_setup_was_is_shown_under_its_new_name(self):
        plan = json.loads((TOP / "demo" / "encoder-housing" / "plan.json").read_text())
        other = json.loads(json.dumps(plan))
        other["setups"][2]["name"] = "OP70"
        other["setups"][1]["makes"]["setup"] = "OP70"
        self.assertEqual(new_names(plan, other), {"OP20": "OP70"})
        other["setups"][2]["offset_register"] = "G58"
        self.assertEqual(new_names(plan, other), {})
        found = Finding(code="cut.no_operations", severity="note", stage="cut", setup="A", sentence="…")
        setup = SetupReport(name="A", title="", machine="m", offset_register="G54", findings=(found,))
        jaws = SetupReport(name="J", title="", machine="m", offset_register="G54", makes="A")
        billet = BilletReport(
            low=(0, 0, 0),
            high=(1, 1, 1),
            volume_mm3=1,
            mass_kg=1,
            margins={},
            stated_error_mm=0.1,
            field_bytes=1,
        )
        report = Report(
            version="1",
            plan="p",
            part_key="k",
            part_volume_mm3=1,
            part_mass_kg=1,
            billet=billet,
            setups=(jaws, setup),
            makers=(Maker(number=256, setup="A", operation="o", tool=""),),
        )
        told = called_now(report, {"A": "OP70"})
        self.assertEqual([(one.name, one.makes) for one in told.setups], [("J", "OP70"), ("OP70", None)])
        self.assertEqual((told.setups[1].findings[0].setup, told.makers[0].setup), ("OP70", "OP70"))
        self.assertIs(called_now(report, {}), report)


class Stills(unittest.TestCase):
    def test_hues_are_the_okabe_ito_palette(self):
        # Okabe & Ito, "Color Universal Design", 2008: the seven colours besides black.
        published = {
            (0, 158, 115),
            (204, 121, 167),
            (230, 159, 0),
            (86, 180, 233),
            (213, 94, 0),
            (0, 114, 178),
            (240, 228, 66),
        }
        self.assertEqual({tuple(int(h[i : i + 2], 16) for i in (1, 3, 5)) for h in HUES}, published)

    def test_colours_by_maker(self):
        seen = colours(np.array([0, 256 + 1, 512 + 3, 256 + 9]))
        self.assertEqual(seen[0].tolist(), [0xB9, 0xC2, 0xC6])
        self.assertEqual(seen[1].tolist(), seen[3].tolist())
        self.assertNotEqual(seen[1].tolist(), seen[2].tolist())

    def test_a_picture_shows_the_body_in_its_colour(self):
        mesh = box(np.zeros(3), np.array([60.0, 40, 20]), 257)
        picture = Image.open(io.BytesIO(draw(mesh, colours(mesh.label)))).convert("RGB")
        self.assertEqual(picture.size, (WIDTH, HEIGHT))
        pixels = np.asarray(picture).reshape(-1, 3).astype(int)
        green = (pixels[:, 1] > pixels[:, 0] + 20) & (pixels[:, 1] > pixels[:, 2])
        self.assertGreater(green.mean(), 0.2)
        ground = np.abs(pixels - [0xF1, 0xED, 0xE3]).max(axis=1) < 4
        self.assertGreater(ground.mean(), 0.1)


class Interface(unittest.TestCase):
    def test_the_page_has_the_types_of_this_server(self):
        """web/openapi.json, from which the page's types are made, is this server's."""
        self.assertEqual(
            json.loads((TOP / "web" / "openapi.json").read_text()), json.loads(json.dumps(app.openapi()))
        )

    def test_an_edit_needs_a_word_for_what_was_done(self):
        with self.assertRaises(ValueError):
            Edit(based_on=1, what="", plan={})


class Migrations(unittest.TestCase):
    """Plans of before are not lost: what they said of holding is said in the new words."""

    def test_holdings_of_the_first_form(self):
        as_list = importlib.import_module("pelvrak.server.db.migrations.versions.0003_holding").as_list
        self.assertEqual(as_list({"kind": "none"}), {})
        old = {
            "kind": "vise",
            "vise": "bench-160",
            "jaws_close_along": "x",
            "parallels": 38.0,
            "parallel_width": 8.0,
            "along": 5.0,
            "table_x": 380.0,
            "table_y": 225.0,
        }
        new = as_list(old)
        hold = Hold.model_validate(new)
        self.assertEqual([item.fixture for item in hold.items], ["bench-160", "hard-160", "par-150x8"])
        self.assertEqual(
            (hold.items[0].turn_deg, hold.items[0].x, hold.items[2].height, hold.work.x),
            (90.0, 358.0, 38.0, 5.0),
        )
        self.assertEqual(as_list(new), new)


class Ports(unittest.TestCase):
    def test_the_next_free_port(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            self.assertNotEqual(free_port(port, "a test"), port)


if __name__ == "__main__":
    unittest.main()
