"""A computation in a process of its own: stopped whatever it does, and missed when it dies."""

from __future__ import annotations

import os
import time
import unittest

from pelvrak.core.errors import BadInput, Stopped
from pelvrak.server.jobs.apart import BrokeDown, run


def answer(value: int) -> int:
    return 2 * value


def deaf(seconds: float) -> None:
    time.sleep(seconds)


def refuse() -> None:
    raise BadInput("code", "where", "what", "mend")


def late() -> None:
    raise TimeoutError("its own")


def die() -> None:
    os._exit(7)


def always() -> bool:
    return True


class Apart(unittest.TestCase):
    def test_answers_and_errors_come_back(self):
        self.assertEqual(run(answer, (21,), always), 42)
        with self.assertRaises(BadInput) as refused:
            run(refuse, (), always)
        self.assertEqual(refused.exception.told()["mend"], "mend")
        with self.assertRaisesRegex(TimeoutError, "its own"):
            run(late, (), always)

    def test_deaf_computation_is_killed_and_the_next_one_runs(self):
        run(answer, (1,), always)  # the process is there
        began = time.monotonic()
        with self.assertRaises(Stopped):
            run(deaf, (120.0,), lambda: False)
        self.assertLess(time.monotonic() - began, 30)
        self.assertEqual(run(answer, (4,), always), 8)

    def test_death_is_told(self):
        with self.assertRaisesRegex(BrokeDown, "7"):
            run(die, (), always)
        self.assertEqual(run(answer, (5,), always), 10)
