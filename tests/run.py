"""Runs the code checks and all unittest tests; prints "N passed, M failed" last.

Arguments choose tests by a part of their name; without any, checks and all tests run.
"""

from __future__ import annotations

import io
import os
import re
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path
from typing import TextIO

TOP = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent
# What waits for servers and browsers is one lane; the other tests, a file at a time, are two more.
SERVED = ["tests.server.", "tests.e2e."]
LANES = 2
# These compute the same routes, so one process has them together.
TOGETHER = ("test_recut", "test_turning", "test_wrapped")


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


Check = tuple[str, subprocess.Popen[str]]


def begin_checks() -> list[Check]:
    """All checks, under way."""
    env = {**os.environ, "PATH": f"{BIN}:{os.environ['PATH']}"}
    told = {"stdout": subprocess.PIPE, "stderr": subprocess.STDOUT, "text": True}
    return [
        (name, subprocess.Popen(command, cwd=folder, env=env, **told)) for name, command, folder in checks()
    ]


def end_checks(running: list[Check]) -> tuple[int, int]:
    """How the checks ended."""
    passed = failed = 0
    for name, process in running:
        output, _ = process.communicate()
        good = process.returncode == 0
        print(f"check {name}: {'ok' if good else 'FAILED'}", flush=True)
        if not good:
            print(output[-4000:], flush=True)
        passed, failed = passed + good, failed + (not good)
    return passed, failed


def processor_s() -> float:
    """Seconds of processor that this process has taken, and all that it has started, servers and browsers
    too.
    """
    taken, parents = {}, {}
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            told = (folder / "stat").read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        parents[int(folder.name)] = int(told[1])
        # Its own time, and that of those it has waited for.
        taken[int(folder.name)] = sum(int(one) for one in told[11:15])

    def mine(process: int) -> bool:
        while process not in (0, os.getpid()):
            process = parents.get(process, 0)
        return process != 0

    return sum(one for process, one in taken.items() if mine(process)) / os.sysconf("SC_CLK_TCK")


class Counting(unittest.TextTestResult):
    """Counts passes and says how long each test took, and of that its processor time, which other work does
    not change.
    """

    passed = 0

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic(), processor_s()
        super().startTest(test)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        super().addSuccess(test)
        took, worked = time.monotonic() - self.began[0], processor_s() - self.began[1]
        if took > 5 or worked > 1:
            self.stream.writeln(f"  ({took:.1f} s, {worked:.1f} s of processor)")


def run_here(
    words: list[str], folder: Path = TOP / "tests", stream: TextIO = sys.stdout
) -> tuple[int, int, int]:
    """Tests in a folder whose names hold one of the words, in this process: (passed, failed, skipped)."""
    loader = unittest.TestLoader()
    loader.testNamePatterns = [f"*{word}*" for word in words]
    suite = loader.discover(str(folder), pattern="test_*.py", top_level_dir=str(TOP))
    result = unittest.TextTestRunner(stream=stream, verbosity=2, resultclass=Counting).run(suite)
    assert isinstance(result, Counting)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return result.passed, failed, len(result.skipped)


def run_files(names: tuple[str, ...]) -> tuple[int, int, str]:
    """The tests of some files of the core: (passed, failed, what they printed)."""
    printed = io.StringIO()
    passed, failed, _ = run_here([f"tests.core.{name}." for name in names], TOP / "tests" / "core", printed)
    return passed, failed, printed.getvalue()


def core_files() -> list[tuple[str, ...]]:
    """Files of the core's tests, those that run together at once; the long ones first, so that the lanes end
    together.
    """
    files = sorted((TOP / "tests" / "core").glob("test_*.py"), key=lambda one: -one.stat().st_size)
    return [TOGETHER, *((one.stem,) for one in files if one.stem not in TOGETHER)]


def begin_lane() -> None:
    """A lane computes on one core, and leaves it to whoever waits for answers."""
    os.nice(10)
    os.environ["NUMBA_NUM_THREADS"] = "1"


def run_lanes() -> tuple[int, int]:
    """All tests in three processes side by side; what each printed comes after it has ended."""
    # The served lane is one long wait for answers: it goes first, and the others take what it leaves.
    with (
        tempfile.TemporaryFile("w+") as out,
        ProcessPoolExecutor(LANES, get_context("spawn"), begin_lane) as lanes,
    ):
        served = subprocess.Popen(
            [sys.executable, __file__, *SERVED], cwd=TOP, stdout=out, stderr=subprocess.STDOUT
        )
        passed = failed = 0
        began = time.monotonic()
        running = {lanes.submit(run_files, names): names for names in core_files()}
        for ended in as_completed(running):
            try:
                good, bad, printed = ended.result()
            except BrokenExecutor:
                good, bad, printed = 0, 1, f"FAILED: a process ended while it ran {running[ended]}\n"
            print(printed, flush=True)
            passed, failed = passed + good, failed + bad
        print(f"the core's tests took {time.monotonic() - began:.0f} s", flush=True)
        served.wait()
        print(f"the served lane took {time.monotonic() - began:.0f} s", flush=True)
        out.seek(0)
        text = out.read()
    # The count is the last line, unless a library has a word to say as its process ends.
    counts = list(re.finditer(r"^(\d+) passed, (\d+) failed$\n?", text, re.MULTILINE))
    counted = counts[-1] if counts else None
    print(text[: counted.start()] + text[counted.end() :] if counted else text, flush=True)
    good, bad = (int(counted[1]), int(counted[2])) if counted else (0, 1)
    return passed + good, failed + bad + (served.returncode != 0 and bad == 0)


def codes() -> set[str]:
    """The codes of all registered checks."""
    sys.path.insert(0, str(TOP / "src"))
    from pelvrak.core.checks import CHECKS

    return set(CHECKS)


def main(words: list[str]) -> int:
    if words:
        passed, failed, skipped = run_here(words)
        if skipped:
            print(f"skipped: {skipped}")
    else:
        running = begin_checks()
        # The kernels are compiled once, before two processes want them.
        subprocess.run([TOP / "bin" / "setup", "kernels"], check=True)
        with tempfile.TemporaryDirectory() as raised:
            os.environ["PELVRAK_RAISED"] = raised
            passed, failed = run_lanes()
            good, bad = end_checks(running)
            passed, failed = passed + good, failed + bad
            never = sorted(codes() - {path.name for path in Path(raised).iterdir()})
        print(
            "check every code is raised by a test:"
            f" {'ok' if not never else 'FAILED, never: ' + ', '.join(never)}"
        )
        passed, failed = passed + (not never), failed + bool(never)
    print(f"{passed} passed, {failed} failed", flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.path.insert(0, str(TOP))
    sys.exit(main(sys.argv[1:]))
