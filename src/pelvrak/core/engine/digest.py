"""What is a value called by its content? One hash over everything a step's input may hold."""

from __future__ import annotations

import dataclasses
import enum
import hashlib
import math
import struct
from collections.abc import Callable
from typing import Any

import numpy as np
from pydantic import BaseModel

Feed = Callable[[bytes], None]


def digest_of_bytes(data: bytes) -> str:
    """The name of some bytes: 128 bits of BLAKE2b (RFC 7693) as 32 hexadecimal digits."""
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def digest_of(value: Any) -> str:
    """The name of a value by its content.

    Two values have one name only when they are of the same types and every part of them is equal: frozen
    dataclasses, pydantic models, named and plain tuples, lists, mappings (by key, their order does not
    count), arrays, enums, text, bytes, numbers, None.

    Raises TypeError for anything else (a function, an open file: what cannot be told by its content),
    ValueError for a number that is not finite.
    """
    hashed = hashlib.blake2b(digest_size=16)
    _feed(value, hashed.update)
    return hashed.hexdigest()


def _text(tag: bytes, text: str, feed: Feed) -> None:
    data = text.encode()
    feed(tag + struct.pack("<q", len(data)) + data)


def _number(value: Any, feed: Feed) -> None:
    if isinstance(value, (bool, np.bool_)):
        feed(b"b1" if value else b"b0")
    elif isinstance(value, (int, np.integer)):
        _text(b"i", str(int(value)), feed)
    else:
        if not math.isfinite(value):
            raise ValueError(f"{value} is no input of a step")
        # Zero has one name, whatever its sign.
        feed(b"f" + struct.pack("<d", float(value) + 0.0))


def _fields(value: Any) -> list[tuple[str, Any]]:
    if isinstance(value, BaseModel):
        return [(name, getattr(value, name)) for name in type(value).model_fields]
    return [(field.name, getattr(value, field.name)) for field in dataclasses.fields(value)]


def _feed(value: Any, feed: Feed) -> None:
    if value is None:
        feed(b"n")
    elif isinstance(value, enum.Enum):
        _text(b"e", f"{type(value).__name__}.{value.name}", feed)
    elif isinstance(value, str):
        _text(b"s", value, feed)
    elif isinstance(value, (bytes, bytearray)):
        feed(b"y" + struct.pack("<q", len(value)) + value)
    elif isinstance(value, (bool, int, float, np.bool_, np.integer, np.floating)):
        _number(value, feed)
    elif isinstance(value, np.ndarray):
        _text(b"a", f"{value.dtype.str}{value.shape}", feed)
        feed(np.ascontiguousarray(value).tobytes())
    elif isinstance(value, BaseModel) or (dataclasses.is_dataclass(value) and not isinstance(value, type)):
        _text(b"o", type(value).__name__, feed)
        for name, item in _fields(value):
            _text(b"k", name, feed)
            _feed(item, feed)
    elif isinstance(value, (tuple, list)):
        feed(b"t" + struct.pack("<q", len(value)))
        for item in value:
            _feed(item, feed)
    elif isinstance(value, dict):
        feed(b"d" + struct.pack("<q", len(value)))
        for key, item in sorted(value.items()):
            _feed(key, feed)
            _feed(item, feed)
    else:
        raise TypeError(f"a {type(value).__name__} has no content to be named by")
