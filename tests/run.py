"""Runs the code checks and all unittest tests; prints "N passed, M failed" last.

Arguments choose tests by a part of their name; without any, checks and all tests run.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
import unittest
from pathlib import Path

TOP = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent


def checks() -> list[tuple[str, list[str], Path]]:
    """Name, command and folder of every check on the code."""
    web = TOP / "web"
    return [
        ("ruff", [str(BIN / "ruff"), "check", "src", "tests", "bench", "demo"], TOP),
        ("ruff format", [str(BIN / "ruff"), "format", "--check", "src", "tests", "bench", "demo"], TOP),
        ("mypy", [str(BIN / "mypy")], TOP),
        ("import-linter", [str(BIN / "lint-imports")], TOP),
        ("tsc", ["npx", "tsc", "--noEmit"], web),
        ("eslint", ["npx", "eslint", "src"], web),
        ("prettier", ["npx", "prettier", "--check", "src"], web),
    ]


def run_checks() -> tuple[int, int]:
    env = {**os.environ, "PATH": f"{BIN}:{os.environ['PATH']}"}
    passed = failed = 0
    running = [
        (name, subprocess.Popen(command, cwd=folder, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True))
        for name, command, folder in checks()
    ]  # fmt: skip
    for name, process in running:
        output, _ = process.communicate()
        good = process.returncode == 0
        print(f"check {name}: {'ok' if good else 'FAILED'}", flush=True)
        if not good:
            print(output[-4000:], flush=True)
        passed, failed = passed + good, failed + (not good)
    return passed, failed


class Counting(unittest.TextTestResult):
    """Counts passes and says how long each test took."""

    passed = 0

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic()
        super().startTest(test)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        super().addSuccess(test)
        took = time.monotonic() - self.began
        if took > 5:
            self.stream.writeln(f"  ({took:.1f} s)")


def main(words: list[str]) -> int:
    passed = failed = 0
    if not words:
        passed, failed = run_checks()
    loader = unittest.TestLoader()
    loader.testNamePatterns = [f"*{word}*" for word in words] or None
    suite = loader.discover(str(TOP / "tests"), pattern="test_*.py", top_level_dir=str(TOP))
    result = unittest.TextTestRunner(stream=sys.stdout, verbosity=2, resultclass=Counting).run(suite)
    assert isinstance(result, Counting)
    passed += result.passed
    failed += len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    if result.skipped:
        print("skipped:", ", ".join(str(test) for test, _ in result.skipped))
    print(f"{passed} passed, {failed} failed", flush=True)
    return 1 if failed or not result.passed else 0


if __name__ == "__main__":
    sys.path.insert(0, str(TOP))
    sys.exit(main(sys.argv[1:]))
