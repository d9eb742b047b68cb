"""The commands `alone` and `stock`."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path

from pelvrak.cli import main
from tests.core.test_route import DEMO, STEP, computed, demo
from tests.solids import volumes_of_step


def run(*words: str) -> tuple[int, str, str]:
    said, wrong = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(said), contextlib.redirect_stderr(wrong):
        code = main(list(words))
    return code, said.getvalue(), wrong.getvalue()


class Commands(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.plan = Path(folder.name) / "plan.json"
        self.plan.write_text(json.dumps(demo().model_dump(mode="json")))
        (self.plan.parent / demo().part.file).write_bytes(STEP)
        self.assertTrue(DEMO.is_dir())

    def test_a_stock_is_saved_as_step(self):
        _, report = computed()
        out = self.plan.parent / "face.step"
        code, _, wrong = run("stock", str(self.plan), str(out), "--setup", "OP10", "--after", "face")
        self.assertEqual((code, wrong), (0, ""))
        faced = report.setups[0].operations[0].outgoing_volume_mm3
        self.assertAlmostEqual(volumes_of_step(out.read_bytes())[0], faced, delta=0.5)
        code, _, wrong = run("stock", str(self.plan), str(out.with_suffix(".obj")), "--setup", "OP10")
        self.assertEqual(code, 2)
        self.assertIn(".3mf", wrong)

    def test_an_operation_alone(self):
        words = ["alone", str(self.plan), "--setup", "OP10", "--operation", "face", "--json"]
        code, said, _ = run(*words)
        self.assertEqual(code, 0)
        found = json.loads(said)
        self.assertEqual([one["id"] for one in found["operations"]], ["face"])
        _, report = computed()
        self.assertAlmostEqual(
            found["removed_volume_mm3"], report.setups[0].operations[0].removed_volume_mm3, delta=0.01
        )
        code, _, wrong = run("alone", str(self.plan), "--setup", "OP10", "--operation", "none")
        self.assertEqual(code, 2)
        self.assertIn("no operation 'none'", wrong)
