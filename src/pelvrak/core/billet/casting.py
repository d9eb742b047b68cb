"""How does a rough casting lie best round the part, so that every face has material?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize
from scipy.spatial.transform import Rotation
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkFiltersCore import vtkImplicitPolyDataDistance

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import PartModel, Vector, as_vector
from pelvrak.core.geometry.visibility import places_on
from pelvrak.core.stock.compare import poly_data

MOST_POINTS = 1500
# How sharply the least cover counts above the others while searching, 1/mm, in turn.
SHARPNESS = (1.0, 4.0, 20.0)


@dataclass(frozen=True)
class Placement:
    """Where to put the casting (degrees about x, then y, then z, then mm) and the least cover it then gives,
    mm (below 0: missing).
    """

    turn: Vector
    move: Vector
    cover: float
    thinnest_at: Vector


def best_place(part: PartModel, casting: Mesh, turn: Vector, move: Vector) -> Placement:
    """The placement near a first one at which the thinnest cover over the whole part is greatest.

    Searched by Nelder and Mead's simplex over a smooth minimum of the signed distances, sharpened in steps.
    Raises BadInput when the casting is smaller than the part in every position (its volume is).
    """
    from pelvrak.core.geometry.mesh import volume

    if volume(casting) < part.part.volume_mm3:
        raise BadInput(
            "billet.less_than_part",
            "billet",
            f"it holds {volume(casting) / 1000:.2f} cm³, the part {part.part.volume_mm3 / 1000:.2f} cm³",
            "choose the casting of this part, in its unit",
        )
    points, _, _ = places_on(part.mesh, len(part.part.faces))
    points = np.concatenate([points, part.mesh.vertices[np.unique(part.mesh.triangles)]])
    points = points[:: max(1, len(points) // MOST_POINTS)]
    distance = vtkImplicitPolyDataDistance()
    distance.SetInput(poly_data(casting))
    middle, size = points.mean(axis=0), float(np.ptp(points, axis=0).max())
    out = numpy_to_vtk(np.zeros(len(points)), deep=True)

    def covers(place: Floats) -> Floats:
        # The part is taken back into the casting's frame; turning is about the part's middle, in units of the
        # size.
        rotation = Rotation.from_rotvec(place[:3] / size * 2)
        back = rotation.inv().apply(points - middle - place[3:]) + middle
        back = (back - np.array(move)) @ Rotation.from_euler("xyz", turn, degrees=True).as_matrix()
        distance.FunctionValue(numpy_to_vtk(np.ascontiguousarray(back), deep=True), out)
        return -np.asarray(vtk_to_numpy(out), float)

    best = np.zeros(6)
    start = np.vstack([np.zeros(6), np.eye(6) * max(0.5, 0.02 * size)])
    for sharp in SHARPNESS:

        def thinness(place: Floats, sharp: float = sharp) -> float:
            cover = covers(place)
            least = float(cover.min())
            return -least + float(np.log(np.exp(-sharp * (cover - least)).mean())) / sharp

        result = minimize(
            thinness,
            best,
            method="Nelder-Mead",
            options={"initial_simplex": best + start, "maxfev": 400, "xatol": 0.002, "fatol": 0.001},
        )
        best, start = result.x, start / 4
    if covers(best).min() < covers(np.zeros(6)).min():
        best = np.zeros(6)
    cover = covers(best)
    rotation = Rotation.from_rotvec(best[:3] / size * 2)
    whole = rotation * Rotation.from_euler("xyz", turn, degrees=True)
    shift = rotation.apply(np.array(move) - middle) + middle + best[3:]
    return Placement(
        as_vector(np.round(whole.as_euler("xyz", degrees=True), 5) + 0.0),
        as_vector(np.round(shift, 4) + 0.0),
        float(cover.min()),
        as_vector(points[int(np.argmin(cover))]),
    )
