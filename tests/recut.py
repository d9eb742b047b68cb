"""An independent cutter: a program's text, read word by word, cut out of an exact solid by mesh booleans.

Nothing of the planner, the post or the stock engine cuts here: words by pygcode, sweeps as hulls by
manifold3d, turning by scipy, registers as the operator types them from the program's head.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field

import manifold3d
import numpy as np
from pygcode import Line
from scipy.spatial.transform import Rotation

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.store import Store
from pelvrak.core.geometry.mesh import Mesh, mesh_of, to_solid, transformed
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import mesh_from_bytes
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport
from pelvrak.core.stock.compare import signed_distance

SLIVER_MM = 2e-4
FACETS, ARC_DEG, TURN_DEG, BATCH = 64, 4.0, 1.0, 150
CYCLES = (81.0, 83.0, 84.0, 85.0)
_RING = np.column_stack(
    [
        np.cos(np.linspace(0, 2 * np.pi, FACETS, endpoint=False)),
        np.sin(np.linspace(0, 2 * np.pi, FACETS, endpoint=False)),
    ]
)


def outline_of(tool: Tool) -> np.ndarray:
    """Corners of what cuts, tip in the origin, axis up; all convex. A tap cuts its tapping drill."""
    radius = (tool.DC - (tool.TP or 0.0) if tool.kind == "tap" else tool.DC) / 2
    point = (
        radius / math.tan(math.radians(tool.SIG / 2))
        if tool.kind in ("drill", "spot_drill", "chamfer_mill") and tool.SIG
        else 0.0
    )
    # Corners on the circle leave a little; half of that is put outside.
    rim = radius * (1 + (1 / math.cos(math.pi / FACETS) - 1) / 2) * _RING
    rings = [np.column_stack([rim, np.full(FACETS, z)]) for z in (point, max(tool.LCF, point + 1))]
    return np.concatenate([[[0.0, 0.0, 0.0]], *rings]) if point else np.concatenate(rings)


@dataclass
class Cutter:
    """The control and the machine. axes: letter, direction and a point (machine coordinates) of every rotary
    axis that carries the work, from the base to the table, as they lie at 0; found: the register of the
    work's zero; plane: of G68.2, its zero and turn.
    """

    work: manifold3d.Manifold
    tools: dict[int, Tool]
    found: np.ndarray
    axes: list[tuple[str, np.ndarray, np.ndarray]] = field(default_factory=list)
    plane: tuple[np.ndarray, Rotation] | None = None
    registers: dict[str, np.ndarray] = field(default_factory=dict)
    at: dict[str, float] = field(default_factory=lambda: dict.fromkeys("XYZABCIJKRFSPQ", 0.0))
    register: str = ""
    motion: float = 0.0
    cycle: float | None = None
    length: int | None = None
    spindle: int | None = None
    swept: list[manifold3d.Manifold] = field(default_factory=list)
    moves: int = 0
    plain: int = 0
    # The work is cut as it lies under the tool, so that what is square to the tool stays exactly so.
    frame: np.ndarray = field(default_factory=lambda: np.eye(3))

    def lie(self, frame: np.ndarray) -> None:
        """Turn the work under the tool: columns are the tool's axes as the work's zero has them."""
        if np.array_equal(frame, self.frame):
            return
        self.cut()
        self.work = self.work.transform(np.column_stack([frame.T @ self.frame, np.zeros(3)]))
        self.frame = frame

    def turn(self, angles: dict[str, float]) -> tuple[np.ndarray, np.ndarray]:
        """What the rotary axes do to a place on the machine, as the work sees it: matrix and shift."""
        turn, shift = np.eye(3), np.zeros(3)
        for letter, direction, point in self.axes:
            own = Rotation.from_rotvec(angles[letter] * direction, degrees=True).as_matrix()
            turn, shift = own @ turn, own @ (shift - point) + point
        return turn, shift

    def pose(self, place: np.ndarray, angles: dict[str, float]) -> tuple[np.ndarray, np.ndarray]:
        """Where the tip is and how the tool leans, as the work sees it in its zero."""
        turn, shift = self.turn(angles)
        if self.plane is not None:
            # The control knows how the work has been turned: its plane is laid into the register as it was
            # found.
            at, leans = self.plane
            missed = np.degrees(np.linalg.norm(np.cross(turn[:, 2], leans.as_matrix()[:, 2])))
            assert missed < 0.01, f"the axes stand {missed:.3f} degrees off the plane"
            return leans.apply(place) + at + self.registers[self.register] - self.found, leans.as_matrix()
        return turn @ (self.registers[self.register] + place) + shift - self.found, turn

    def sweep(self, start: np.ndarray, end: np.ndarray, before: dict[str, float] | None = None) -> None:
        """A straight move; before: where the rotary axes stood at its start, when they turn on the way."""
        assert self.spindle is not None and self.length == self.spindle, (
            "a cut without its tool or its length"
        )
        self.moves += 1
        first, last = before or self.at, self.at
        body = outline_of(self.tools[self.spindle])
        turning = max((abs(last[letter] - first[letter]) for letter, _, _ in self.axes), default=0.0)
        shares = np.linspace(0, 1, max(1, math.ceil(turning / TURN_DEG)) + 1)
        poses = [
            self.pose(
                start + (end - start) * s, {c: first[c] + (last[c] - first[c]) * s for c, _, _ in self.axes}
            )
            for s in shares
        ]
        self.lie(poses[0][1] if turning == 0 else np.eye(3))
        for (a, ra), (b, rb) in zip(poses, poses[1:], strict=False):
            ends = (
                [body + self.frame.T @ a, body + self.frame.T @ b]
                if turning == 0
                else [body @ ra.T + a, body @ rb.T + b]
            )
            self.swept.append(manifold3d.Manifold.hull_points(np.concatenate(ends)))
        if len(self.swept) >= BATCH:
            self.cut()

    def cut(self) -> None:
        if self.swept:
            self.work -= manifold3d.Manifold.batch_boolean(self.swept, manifold3d.OpType.Add)
            self.swept = []
            # Cuts that almost lie in each other leave slivers, and slivers make more: they go, by no more
            # than is known anyway.
            if self.work.num_tri() > 1.2 * self.plain:
                self.work = self.work.as_original().simplify(SLIVER_MM)
                self.plain = self.work.num_tri()

    def run(self, text: str) -> manifold3d.Manifold:
        """What the program leaves."""
        for line in text.splitlines():
            head = re.fullmatch(r"\((G5\d(?:\.1 P\d+)?) X(\S+) Y(\S+) Z(\S+)\)", line)
            if head:
                self.registers[head[1]] = np.array([float(v) for v in head.groups()[1:]])
            plain = re.sub(r"\(.*?\)", "", line).strip()
            if plain and not plain.startswith(("%", "O")):
                self.block([(w.letter, float(w.value)) for w in Line(plain).block.words])
        self.cut()
        self.lie(np.eye(3))
        return self.work

    def block(self, words: list[tuple[str, float]]) -> None:
        codes = [value for letter, value in words if letter == "G"]
        given = {letter: value for letter, value in words if letter in self.at}
        if 53.0 in codes:
            return
        for letter, value in words:
            if letter == "T":
                self.ready = int(value)
            elif letter == "M" and value == 6:
                self.spindle, self.length = self.ready, None
            elif letter == "H":
                self.length = int(value)
        for code in codes:
            if code in (0.0, 1.0, 2.0, 3.0):
                self.motion, self.cycle = code, None
            elif code in CYCLES:
                self.cycle = code
            elif code == 80.0:
                self.cycle = None
            elif 54.0 <= code <= 59.0:
                self.register = f"G{code:.0f}"
        if 69.0 in codes:
            self.plane = None
        if 68.2 in codes:
            at = np.array([given.get(letter, 0.0) for letter in "XYZ"])
            self.plane = (
                at,
                Rotation.from_euler("ZXZ", [given.get(letter, 0.0) for letter in "IJK"], degrees=True),
            )
            return
        before = dict(self.at)
        self.at |= {letter: value for letter, value in given.items() if letter not in "IJK"}
        if not set(given) & set("XYZABC"):
            return
        start, end = (np.array([one[c] for c in "XYZ"]) for one in (before, self.at))
        if self.cycle is not None:
            # Down from the approach plane and up to where it came from.
            top = np.array([self.at["X"], self.at["Y"], self.at["R"]])
            self.sweep(top, np.array([self.at["X"], self.at["Y"], self.at["Z"]]))
            return
        if self.motion == 0.0:
            return
        if self.motion == 1.0:
            self.sweep(start, end, before)
            return
        self.arc(start, end, start[:2] + [given.get("I", 0.0), given.get("J", 0.0)])

    def arc(self, start: np.ndarray, end: np.ndarray, middle: np.ndarray) -> None:
        radius = float(np.linalg.norm(start[:2] - middle))
        first, last = (math.atan2(*(p[:2] - middle)[::-1]) for p in (start, end))
        turn = (first - last if self.motion == 2.0 else last - first) % (2 * math.pi)
        turn = 2 * math.pi if turn < 1e-6 else turn
        steps = max(2, math.ceil(math.degrees(turn) / ARC_DEG))
        sign = -1 if self.motion == 2.0 else 1
        points = [start]
        for i in range(1, steps + 1):
            angle = first + sign * turn * i / steps
            z = start[2] + (end[2] - start[2]) * i / steps
            points.append(np.array([*(middle + radius * np.array([math.cos(angle), math.sin(angle)])), z]))
        points[-1] = end
        for a, b in zip(points, points[1:], strict=False):
            self.sweep(a, b)


@dataclass(frozen=True)
class Laid:
    """The recut stock and the planned one laid over each other: mean and largest distance between their
    surfaces, mm.
    """

    mean_mm: float
    most_mm: float
    volume_ratio: float
    removed_mm3: float
    moves: int


def samples(mesh: Mesh, count: int = 3000) -> np.ndarray:
    """Places spread evenly over a surface."""
    corners = mesh.vertices[mesh.triangles]
    areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rng = np.random.default_rng(4)
    which = rng.choice(len(areas), count, p=areas / areas.sum())
    a, b = np.sqrt(rng.random(count)), rng.random(count)
    weights = np.column_stack([1 - a, a * (1 - b), a * b])
    return np.einsum("ni,nij->nj", weights, corners[which])


def rotary_axes(machine: Machine) -> list[tuple[str, np.ndarray, np.ndarray]]:
    """Letter, direction and point of what turns the work, base first. The slides run along X, Y and Z, so
    what the control shows with the nose on a point of an axis is that point.
    """
    return [(axis.name, np.array(axis.direction), np.array(axis.point)) for axis in machine.rotary[::-1]]


def recut(store: Store, plan: Plan, setup: SetupReport) -> Laid:
    """A setup's program cut into what comes in."""
    zero_from_work = np.array(setup.zero_from_work)
    incoming, planned = (
        transformed(mesh_from_bytes(piece_of(store, key, "surface.npz")), zero_from_work)
        for key in (setup.incoming_key, setup.outgoing_key)
    )
    text = store.get(setup.program_key, "program.nc").decode()
    machine = machine_of(setup.machine, plan.machines)
    found = np.array([one.value for one in setup.register_value])
    cutter = Cutter(to_solid(incoming), {t.place: t for t in plan.tools}, found, rotary_axes(machine))
    left = mesh_of(cutter.run(text))
    away = [np.abs(signed_distance(samples(one), other)) for one, other in ((left, planned), (planned, left))]
    volume = to_solid(planned).volume()
    return Laid(
        max(float(one.mean()) for one in away),
        max(float(one.max()) for one in away),
        to_solid(left).volume() / volume,
        to_solid(incoming).volume() - volume,
        cutter.moves,
    )
