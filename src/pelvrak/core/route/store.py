"""Where are results kept? Content-addressed: a key names what a result was computed from."""

from __future__ import annotations

import hashlib
import json
from typing import Any, Protocol

from pydantic import BaseModel


class Store(Protocol):
    """Results by key; each has named pieces. A piece, once put, never changes."""

    def get(self, key: str, piece: str) -> bytes | None: ...

    def put(self, key: str, pieces: dict[str, bytes]) -> None:
        """Keep all pieces of one result, or none."""
        ...


class MemoryStore:
    """Results of one process."""

    def __init__(self) -> None:
        self.kept: dict[tuple[str, str], bytes] = {}

    def get(self, key: str, piece: str) -> bytes | None:
        return self.kept.get((key, piece))

    def put(self, key: str, pieces: dict[str, bytes]) -> None:
        for piece, data in pieces.items():
            self.kept[(key, piece)] = data


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    return value


def key_of(step: str, version: int, *inputs: Any) -> str:
    """The key of a step's result: hash of its name, version and inputs."""
    text = json.dumps([step, version, [_plain(item) for item in inputs]], sort_keys=True, allow_nan=False)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
