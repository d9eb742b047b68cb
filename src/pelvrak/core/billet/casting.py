"""How does a rough casting lie best round the part, so that every face has material?"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.spatial.transform import Rotation
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkFiltersCore import vtkImplicitPolyDataDistance

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import PartModel, Vector, as_vector
from pelvrak.core.geometry.visibility import places_on
from pelvrak.core.stock.compare import Rough, poly_data

MOST_POINTS = 1500
# How sharply the least cover counts above the others while searching, 1/mm, in turn.
SHARPNESS = (1.0, 4.0, 20.0)
# What a millimetre of datums off their rough faces counts against one of cover.
DATUM = 10.0
# What lies nearer to a face that stays as it came is not asked for its cover, mm.
BESIDE_MM = 4.0


@dataclass(frozen=True)
class Placement:
    """Where to put the casting (degrees about x, then y, then z, then mm) and the least cover it then gives,
    mm (below 0: missing). datums_off: how far the faces that stay as they came lie off it in the root of the
    mean square, mm; None where there are none.
    """

    turn: Vector
    move: Vector
    cover: float
    thinnest_at: Vector
    datums_off: float | None = None


def best_place(
    part: PartModel,
    casting: Mesh,
    turn: Vector,
    move: Vector,
    as_came: Collection[int] = (),
    weights: Mapping[int, float] = MappingProxyType({}),
) -> Placement:
    """The placement near a first one at which the thinnest cover over all faces to be cut is greatest, and
    those that stay as they came (as_came) lie on the casting's own: a millimetre of theirs counts DATUM
    times one of cover. weights: of faces, by which their cover is divided before it is compared.

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
    points, rough, times = _places(part, as_came, weights)
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

    best = _searched(covers, rough, times, size)
    if not rough.any() and (covers(best) / times).min() < (covers(np.zeros(6)) / times).min():
        best = np.zeros(6)
    cover = covers(best)
    thinnest = int(np.argmin(np.where(rough, np.inf, cover)))
    return _told(best, size, middle, (turn, move), (float(cover[thinnest]), points[thinnest], cover[rough]))


def _searched(
    covers: Callable[[Floats], Floats], rough: NDArray[np.bool_], times: Floats, size: float
) -> Floats:
    """The place (6,), turn and then shift, at which the thinnest cover counts most."""
    best = np.zeros(6)
    start = np.vstack([np.zeros(6), np.eye(6) * max(0.5, 0.02 * size)])
    for sharp in SHARPNESS:

        def thinness(place: Floats, sharp: float = sharp) -> float:
            cover = covers(place)
            off = float(np.sqrt((cover[rough] ** 2).mean())) if rough.any() else 0.0
            cut = (cover / times)[~rough]
            least = float(cut.min())
            return DATUM * off - least + float(np.log(np.exp(-sharp * (cut - least)).mean())) / sharp

        result = minimize(
            thinness,
            best,
            method="Nelder-Mead",
            options={"initial_simplex": best + start, "maxfev": 400, "xatol": 0.002, "fatol": 0.001},
        )
        best, start = result.x, start / 4
    return np.asarray(best)


def _told(
    best: Floats,
    size: float,
    middle: Floats,
    before: tuple[Vector, Vector],
    found: tuple[float, Floats, Floats],
) -> Placement:
    """What was found, as the plan says it. before: turn and move it was searched from; found: the least
    cover, where, and the cover of the faces that stay as they came.
    """
    (turn, move), (cover, thinnest_at, off) = before, found
    rotation = Rotation.from_rotvec(best[:3] / size * 2)
    whole = rotation * Rotation.from_euler("xyz", turn, degrees=True)
    shift = rotation.apply(np.array(move) - middle) + middle + best[3:]
    return Placement(
        as_vector(np.round(whole.as_euler("xyz", degrees=True), 5) + 0.0),
        as_vector(np.round(shift, 4) + 0.0),
        cover,
        as_vector(thinnest_at),
        float(np.sqrt((off**2).mean())) if len(off) else None,
    )


def _places(
    part: PartModel, as_came: Collection[int], weights: Mapping[int, float]
) -> tuple[Floats, NDArray[np.bool_], Floats]:
    """Places on the part, (n, 3), which of them lie on faces that stay as they came, and the weight of each.
    Raises BadInput where no other face is left.
    """
    points, _, faces = places_on(part.mesh, len(part.part.faces))
    rough = np.isin(faces, list(as_came))
    if rough.all():
        raise BadInput(
            "billet.nothing_to_cut",
            "part.as_came",
            "every face stays as it came",
            "leave out those that are cut",
        )
    times = np.array([weights.get(int(face), 1.0) for face in faces])
    points = np.concatenate([points, part.mesh.vertices[np.unique(part.mesh.triangles)]])
    # A corner is of several faces: as much is wanted there as on the one that wants least.
    times = np.concatenate([times, np.full(len(points) - len(times), min([1.0, *weights.values()]))])
    rough = np.concatenate([rough, np.zeros(len(points) - len(rough), np.bool_)])
    if rough.any():
        # By a rough face the casting's own is the nearest: it says nothing of what covers the others.
        kept = rough | (Rough(part.mesh, as_came).nearer(points) < -BESIDE_MM)
        points, rough, times = points[kept], rough[kept], times[kept]
    step = max(1, len(points) // MOST_POINTS)
    return points[::step], rough[::step], times[::step]
