"""The house keeps its own rules: no ring among the web's files, no function longer than can be read at
once.
"""

from __future__ import annotations

import ast
import re
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

from tests.serving import TOP

WEB = TOP / "web" / "src"
CORE = TOP / "src" / "pelvrak"
MOST_LINES, MOST_PARAMETERS, MOST_FILE = 60, 7, 800
# What is said beside a field, and the axes of a machine in an address: each has a name where it is called.
BY_NAME = ("asked", "jog_of")
IMPORT = re.compile(r"^(?:import|export)\s[^'\"]*?from\s+'(\.[^']+)'", re.MULTILINE)


def imports(file: Path) -> set[Path]:
    """The files of the web that one names."""
    found = set()
    for name in IMPORT.findall(file.read_text()):
        base = (file.parent / name).resolve()
        found |= {p for end in (".ts", ".tsx") if (p := base.with_name(base.name + end)).is_file()}
    return found


def compiled(function: ast.FunctionDef | ast.AsyncFunctionDef) -> bool:
    """Whether it is a kernel: what numba compiles has its arrays one by one, and its loops inside."""
    return any("njit" in ast.unparse(one) for one in function.decorator_list)


class HouseTest(unittest.TestCase):
    def test_no_file_of_the_web_needs_itself_through_others(self):
        graph = {file: imports(file) for file in WEB.rglob("*.ts*")}
        self.assertGreater(len(graph), 60)
        self.assertGreater(sum(map(len, graph.values())), 200)
        try:
            TopologicalSorter(graph).prepare()
        except CycleError as ring:
            self.fail(" → ".join(file.name for file in ring.args[1]))

    def test_functions_can_be_read_at_once(self):
        long, counted = [], 0
        for file in CORE.rglob("*.py"):
            for node in ast.walk(ast.parse(file.read_text())):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) or compiled(node):
                    continue
                counted += 1
                own = [one.arg for one in (*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs)]
                lines = (node.end_lineno or 0) - node.lineno + 1
                many = len([name for name in own if name not in ("self", "cls")]) > MOST_PARAMETERS
                if lines > MOST_LINES or (many and node.name not in BY_NAME):
                    long.append(
                        f"{file.relative_to(CORE)}: {node.name}: {lines} lines, {len(own)} parameters"
                    )
        self.assertGreater(counted, 1000)
        self.assertEqual(long, [])

    def test_files_are_not_too_long(self):
        for folder in (CORE, WEB, TOP / "tests"):
            for file in (*folder.rglob("*.py"), *folder.rglob("*.ts*")):
                if file.name not in ("schema.d.ts",):
                    self.assertLessEqual(len(file.read_text().splitlines()), MOST_FILE, file.name)


if __name__ == "__main__":
    unittest.main()
