"""How do the slides and rotary axes of a machine stand for a place in a plane that its control has turned?"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.rigid import rotation_about_z
from pelvrak.core.machine.kinematics import REACHED_DEG, missed_by, solve_direction, tip_by_slides
from pelvrak.core.machine.machine import Machine


@dataclass
class Plane:
    """A turned plane of a machine. turn: from the plane to the register, 3×3; at: its zero from the
    register's, mm; zero: of the register on the table, mm; angles: of the rotary axes once the tool is square
    to it.
    """

    machine: Machine
    turn: Floats
    at: Floats
    zero: Floats
    angles: dict[str, float] | None = None
    _by_length: dict[float, tuple[Floats, Floats]] = field(default_factory=dict)

    def square(self, now: dict[str, float]) -> dict[str, float]:
        """The rotary axes' angles that set the tool square to the plane: as they stand, where they do that.
        Raises ValueError where no angles do.
        """
        up = self.turn[:, 2]
        here = {str(axis.name): now[axis.name] for axis in self.machine.rotary}
        if missed_by(self.machine, here, up) > REACHED_DEG:
            solved = solve_direction(self.machine, (float(up[0]), float(up[1]), float(up[2])), here, False)
            if not solved.reachable:
                raise ValueError("no angles of its axes set the tool square to the plane")
            here = solved.solutions[0].angles
        self.angles, self._by_length = here, {}
        return here

    def slides(self, place: Floats, length: float) -> Floats:
        """X, Y and Z of the machine for a place of the plane, the tool's tip there. length: of the tool,
        mm.
        """
        start, slopes = self._tips(length)
        return np.asarray(np.linalg.solve(slopes, self.zero + self.at + self.turn @ place - start))

    def place(self, slides: Floats, length: float) -> Floats:
        """Where the tool's tip stands in the plane."""
        start, slopes = self._tips(length)
        return np.asarray(self.turn.T @ (start + slopes @ slides - self.zero - self.at))

    def keeps_arcs(self) -> bool:
        """Whether the plane's axes are the slides', so that an arc in it stays one of theirs."""
        _, slopes = self._tips(0.0)
        return bool(np.allclose(self.turn.T @ slopes, np.eye(3), atol=1e-9))

    def _tips(self, length: float) -> tuple[Floats, Floats]:
        assert self.angles is not None
        if length not in self._by_length:
            self._by_length[length] = tip_by_slides(self.machine, self.angles, length)
        return self._by_length[length]


@dataclass(frozen=True)
class Flat:
    """What lies in the XY plane turned about a place: G68. about: as the register counts, mm; turn: degrees
    to the left; zero: what the register holds, mm. angles: no axis turns for it.
    """

    about: tuple[float, float]
    turn: float
    zero: Floats
    angles: dict[str, float] = field(default_factory=dict)

    def _turned(self, place: Floats, turn: float) -> Floats:
        about = np.array([*self.about, 0.0])
        return np.asarray(rotation_about_z(turn) @ (place - about) + about)

    def slides(self, place: Floats, length: float) -> Floats:
        """X, Y and Z of the machine for a place as the program counts. length: of the tool, mm."""
        return np.asarray(self.zero + self._turned(place, self.turn) + np.array([0.0, 0.0, length]))

    def place(self, slides: Floats, length: float) -> Floats:
        """Where the tool's tip stands, as the program counts."""
        return self._turned(slides - self.zero - np.array([0.0, 0.0, length]), -self.turn)

    def keeps_arcs(self) -> bool:
        """An arc stays one."""
        return True


def plane_of(machine: Machine, register: dict[str, float], at: Floats, turns: Floats) -> Plane:
    """The plane that G68.2 tells. register: what is held in it, mm; at: X, Y and Z; turns: I, J and K,
    about Z, the new X and the new Z, degrees.
    """
    start, slopes = tip_by_slides(machine, {}, 0.0)
    zero = start + slopes @ np.array([register.get(axis, 0.0) for axis in "XYZ"])
    return Plane(machine, Rotation.from_euler("ZXZ", turns, degrees=True).as_matrix(), at, zero)
