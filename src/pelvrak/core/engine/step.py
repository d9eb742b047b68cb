"""What is a step? A pure function of one frozen input, kept under the hash of all of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Generic, Protocol, TypeVar

from pelvrak.core.engine.digest import digest_of

T = TypeVar("T")
G = TypeVar("G")


@dataclass(frozen=True)
class Piece(Generic[T]):
    """One named piece of results: how its value becomes bytes and comes back."""

    name: str
    encode: Callable[[T], bytes]
    decode: Callable[[bytes], T]


@dataclass(frozen=True)
class Content:
    """A piece of another step's result as it stands in an input: by the name of its content.

    Where a step comes to the same content from another input, nothing after it is computed again.
    """

    digest: str


class Reader(Protocol):
    """Who gives the value of a content."""

    def read(self, content: Content, piece: Piece[T]) -> T:
        """The value of a content. Raises LookupError when it is kept nowhere."""
        ...


class Reads(Reader, Protocol):
    """What a step may ask for while it computes: the contents its input names, and to be heard of."""

    def file(self, sha256: str | None, name: str) -> bytes:
        """A file from outside that the input names by its SHA-256. Raises BadInput when it is not there."""
        ...

    def tell(self, share: float) -> None:
        """Say how far the step is, 0…1; may raise Stopped."""
        ...


Pieces = dict[Piece[Any], Any]


@dataclass(frozen=True)
class Kind(Generic[G]):
    """A kind of result. version: raised when there is another for the same input; given: the type of its
    input.
    """

    name: str
    version: int
    given: type[G]

    def key(self, given: G) -> str:
        """What a result is kept under: nothing of the input is left out."""
        return digest_of((self.name, self.version, given))


@dataclass(frozen=True)
class Step(Kind[G]):
    """A kind of computing: a pure function of the input."""

    compute: Callable[[G, Reads], Pieces] = field(repr=False)
