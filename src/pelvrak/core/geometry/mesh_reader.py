"""The protected process that reads STL and 3MF files: `read` one part, or `take` a solid or a mesh in another
unit out.
"""

from __future__ import annotations

import json

from pelvrak.core.geometry.mesh_file import read_mesh, taken_out_of_mesh
from pelvrak.core.geometry.part import packed


def read(data: bytes, name: str, words: list[str]) -> bytes:
    """The packed model of the part, or an STL file of what was taken out with its name before it, as JSON
    line.
    """
    if words[0] == "read":
        return packed(read_mesh(data, name))
    solid, unit = json.loads(words[1])
    body, called = taken_out_of_mesh(data, name, solid, unit)
    return json.dumps(called).encode() + b"\n" + body
