"""How does a step get its result? Out of the store, or computed once and kept."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
from cachetools import LRUCache

from pelvrak.core.engine.digest import digest_of_bytes
from pelvrak.core.engine.step import Content, Kind, Piece, Pieces, Reads, Step
from pelvrak.core.engine.store import Store

T = TypeVar("T")
G = TypeVar("G")
# Values that were made or read lately stay at hand, bounded by what they take in memory: a stock takes many
# times its bytes in the store.
AT_HAND_BYTES = 512 * 1024**2


def _at_hand() -> LRUCache[tuple[str, str], tuple[Any, int]]:
    return LRUCache(AT_HAND_BYTES, getsizeof=lambda kept: kept[1])


@dataclass(frozen=True)
class Result:
    """What a step gave for an input."""

    key: str
    engine: Engine

    def content(self, piece: Piece[Any]) -> Content:
        """A piece as the input of another step names it. Raises LookupError when the result has no such
        piece.
        """
        digest = self.engine.store.digest(self.key, piece.name)
        if digest is None:
            raise LookupError(f"result {self.key} has no {piece.name}")
        return Content(digest)

    def value(self, piece: Piece[T]) -> T:
        """The value of a piece."""
        return self.engine.read(self.content(piece), piece)


def weight(value: Any) -> int:
    """About how many bytes a value takes: its arrays, texts and bytes, however deep in dataclasses and tuples
    they are.
    """
    if isinstance(value, np.ndarray):
        return int(value.nbytes)
    if isinstance(value, (bytes, str)):
        return len(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return sum(weight(getattr(value, one.name)) for one in dataclasses.fields(value))
    if isinstance(value, (tuple, list)):
        return 8 * len(value) + sum(weight(one) for one in value)
    return 8


def no_files(sha256: str | None, name: str) -> bytes:
    """For steps that need no file. Raises LookupError."""
    raise LookupError(name)


@dataclass
class Engine:
    """Runs steps on a store, in one thread.

    files: bytes from outside by their SHA-256, with the name they came under. computed and reused: the names
    of the steps that ran, here or meanwhile elsewhere, and those whose result was there; keys: of all results
    that were used.
    """

    store: Store
    tell: Callable[[str, float], None] = lambda called, share: None
    computed: list[str] = field(default_factory=list)
    reused: list[str] = field(default_factory=list)
    keys: dict[str, str] = field(default_factory=dict)
    files: Callable[[str | None, str], bytes] = no_files
    at_hand: LRUCache[tuple[str, str], tuple[Any, int]] = field(default_factory=_at_hand)

    def read(self, content: Content, piece: Piece[T]) -> T:
        """The value of a content. Raises LookupError when it is kept nowhere."""
        found = self.at_hand.get((content.digest, piece.name))
        if found is not None:
            at_hand: T = found[0]
            return at_hand
        data = self.store.content(content.digest)
        if data is None:
            raise LookupError(f"there is no content {content.digest} ({piece.name})")
        value = piece.decode(data)
        self._keep(content.digest, piece, value, len(data))
        return value

    def _keep(self, digest: str, piece: Piece[T], value: T, size: int) -> None:
        size = max(size, weight(value))
        if size <= AT_HAND_BYTES:
            self.at_hand[(digest, piece.name)] = (value, size)

    def run(self, step: Step[G], given: G, called: str) -> Result:
        """The result of a step for an input; where another computes it already, that one's. called: the
        step's name in this plan, for who watches. Raises what the step raises.
        """
        key = step.key(given)
        result = Result(key, self)
        if key in self.keys:
            return result
        self.tell(called, 0.0)
        if self.store.kept(key):
            self.reused.append(called)
        else:
            with self.store.alone(key, lambda: self.tell(called, 0.0)):
                if not self.store.kept(key):
                    self._put(key, step.name, step.compute(given, _Within(self, called)))
            self.computed.append(called)
        self.keys[key] = step.name
        return result

    def keep(self, kind: Kind[G], given: G, make: Callable[[], Pieces]) -> Result:
        """A result of what is at hand and stands in no store, kept so that others find it by its key. make:
        where it is not kept yet.
        """
        key = kind.key(given)
        if not self.store.kept(key):
            self._put(key, kind.name, make())
        self.keys[key] = kind.name
        return Result(key, self)

    def _put(self, key: str, step: str, made: Pieces) -> None:
        pieces = {piece.name: piece.encode(value) for piece, value in made.items()}
        self.store.put(key, pieces, step)
        for piece, value in made.items():
            data = pieces[piece.name]
            self._keep(digest_of_bytes(data), piece, value, len(data))


@dataclass(frozen=True)
class _Within(Reads):
    """What a step that computes may ask for."""

    engine: Engine
    called: str

    def read(self, content: Content, piece: Piece[T]) -> T:
        return self.engine.read(content, piece)

    def file(self, sha256: str | None, name: str) -> bytes:
        return self.engine.files(sha256, name)

    def tell(self, share: float) -> None:
        self.engine.tell(self.called, share)
