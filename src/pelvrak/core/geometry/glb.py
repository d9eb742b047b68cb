"""What does a picture look like on its way to the browser? Triangles and ink lines as binary glTF 2.0."""

from __future__ import annotations

from typing import Any

import numpy as np
import pygltflib
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Floats, Mesh, with_corner_normals


def to_glb(mesh: Mesh, lines: Floats, values: Floats | None = None) -> bytes:
    """GlTF binary: the triangles with normals and a `_label` per vertex, and the ink lines.

    Positions are quantised to int16 over the box (KHR_mesh_quantization): 2 µm on 130 mm. values:
    an optional number per mesh vertex, kept as `_value` (float32).
    """
    vertices, normals, triangles, label = with_corner_normals(mesh)
    everything = np.concatenate([vertices, lines.reshape(-1, 3)]) if len(vertices) else np.zeros((1, 3))
    out = _Glb(everything)
    if len(triangles):
        attributes = pygltflib.Attributes(POSITION=out.positions(vertices), NORMAL=out.normals(normals))
        attributes._LABEL = out.numbers(label)
        if values is not None:
            per_vertex = np.zeros(len(vertices), np.float32)
            per_vertex[triangles.ravel()] = values[mesh.triangles.ravel()]
            attributes._VALUE = out.numbers(per_vertex)
        out.add("surface", pygltflib.Primitive(attributes=attributes, indices=out.corners(triangles)))
    if len(lines):
        ends = pygltflib.Attributes(POSITION=out.positions(lines.reshape(-1, 3)))
        out.add("lines", pygltflib.Primitive(attributes=ends, mode=pygltflib.LINES))
    return out.written()


class _Glb:
    """A glTF file being written. Positions are counted in steps over the box of all points (n, 3), mm."""

    def __init__(self, points: Floats) -> None:
        self.low, high = points.min(axis=0), points.max(axis=0)
        self.step = max(float((high - self.low).max()) / 65534, 1e-9)
        self.blob = bytearray()
        self.gltf = pygltflib.GLTF2()
        self.gltf.asset.generator = "pelvrak"
        self.gltf.extensionsUsed = self.gltf.extensionsRequired = ["KHR_mesh_quantization"]

    def positions(self, points: Floats) -> int:
        """Points (n, 3) as int16."""
        packed = np.zeros((len(points), 4), np.int16)
        packed[:, :3] = np.rint((points - self.low) / self.step) - 32767
        number = self._kept(packed, pygltflib.SHORT, "VEC3", stride=8)
        entry = self.gltf.accessors[number]
        entry.min = [int(x) for x in packed[:, :3].min(axis=0)]
        entry.max = [int(x) for x in packed[:, :3].max(axis=0)]
        return number

    def normals(self, directions: Floats) -> int:
        """Unit vectors (n, 3) as int8."""
        packed = np.zeros((len(directions), 4), np.int8)
        packed[:, :3] = np.rint(directions * 127)
        number = self._kept(packed, pygltflib.BYTE, "VEC3", stride=4)
        self.gltf.accessors[number].normalized = True
        return number

    def numbers(self, values: NDArray[Any]) -> int:
        """One float32 for each vertex."""
        return self._kept(values.astype(np.float32), pygltflib.FLOAT, "SCALAR")

    def corners(self, triangles: NDArray[np.int64]) -> int:
        """Which vertices the triangles (n, 3) have."""
        flat = triangles.astype(np.uint32).ravel()
        return self._kept(flat, pygltflib.UNSIGNED_INT, "SCALAR", pygltflib.ELEMENT_ARRAY_BUFFER)

    def _kept(
        self,
        data: NDArray[Any],
        component: int,
        kind: str,
        target: int = pygltflib.ARRAY_BUFFER,
        stride: int | None = None,
    ) -> int:
        """The number of an accessor to data laid behind what is there."""
        while len(self.blob) % 4:
            self.blob.append(0)
        raw = data.tobytes()
        view = pygltflib.BufferView(buffer=0, byteOffset=len(self.blob), byteLength=len(raw), target=target)
        if stride:
            view.byteStride = stride
        self.gltf.bufferViews.append(view)
        self.blob.extend(raw)
        self.gltf.accessors.append(
            pygltflib.Accessor(
                bufferView=len(self.gltf.bufferViews) - 1, componentType=component, count=len(data), type=kind
            )
        )
        return len(self.gltf.accessors) - 1

    def add(self, name: str, primitive: pygltflib.Primitive) -> None:
        """A mesh in the scene."""
        self.gltf.meshes.append(pygltflib.Mesh(name=name, primitives=[primitive]))
        self.gltf.nodes.append(
            pygltflib.Node(
                name=name,
                mesh=len(self.gltf.meshes) - 1,
                translation=(self.low + 32767 * self.step).tolist(),
                scale=[self.step] * 3,
            )
        )

    def written(self) -> bytes:
        """The file."""
        gltf = self.gltf
        gltf.scenes = [pygltflib.Scene(nodes=list(range(len(gltf.nodes))))]
        gltf.scene = 0
        gltf.buffers = [pygltflib.Buffer(byteLength=len(self.blob))]
        gltf.set_binary_blob(bytes(self.blob))
        return b"".join(gltf.save_to_bytes())
