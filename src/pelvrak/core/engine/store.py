"""Where are results kept? Under the key of what they were computed from; their contents once, under the
contents' own name.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Protocol

from pelvrak.core.engine.digest import digest_of_bytes


class Store(Protocol):
    """Results by key; each has named pieces. A piece, once put, never changes."""

    def kept(self, key: str) -> bool:
        """Whether there is a result."""
        ...

    def digest(self, key: str, piece: str) -> str | None:
        """What a piece of a result is called by its content; None where there is none."""
        ...

    def content(self, digest: str) -> bytes | None:
        """Bytes by the name of their content."""
        ...

    def get(self, key: str, piece: str) -> bytes | None:
        """A piece of a result."""
        ...

    def put(self, key: str, pieces: dict[str, bytes], step: str = "") -> None:
        """Keep all pieces of one result of a step, or none."""
        ...

    def alone(self, key: str, waiting: Callable[[], None]) -> AbstractContextManager[None]:
        """Have a result's key to oneself while one computes it; who has it already is waited for.

        waiting: called again and again meanwhile; what it raises ends the waiting. Who had it may be done by
        then. Whoever has waited for MOST_WAIT_S goes on all the same: to compute twice costs time and nothing
        else.
        """
        ...


# Who waits for another's result looks again so often.
WAIT_S = 0.02
MOST_WAIT_S = 600.0


def waited_for(take: Callable[[], bool], waiting: Callable[[], None]) -> bool:
    """Whether what take() asks for was had in the end; waiting() and MOST_WAIT_S as in `Store.alone`."""
    until = time.monotonic() + MOST_WAIT_S
    while not take():
        if time.monotonic() > until:
            return False
        waiting()
        time.sleep(WAIT_S)
    return True


class MemoryStore:
    """Results of one process."""

    def __init__(self) -> None:
        self.named: dict[tuple[str, str], str] = {}
        self.contents: dict[str, bytes] = {}
        self.keys: set[str] = set()
        self.taken: dict[str, threading.Lock] = {}

    def kept(self, key: str) -> bool:
        """Whether there is a result."""
        return key in self.keys

    def digest(self, key: str, piece: str) -> str | None:
        """What a piece is called by its content."""
        return self.named.get((key, piece))

    def content(self, digest: str) -> bytes | None:
        """Bytes by the name of their content."""
        return self.contents.get(digest)

    def get(self, key: str, piece: str) -> bytes | None:
        """A piece of a result."""
        digest = self.named.get((key, piece))
        return None if digest is None else self.contents[digest]

    def put(self, key: str, pieces: dict[str, bytes], step: str = "") -> None:
        """Keep all pieces; those that are there stay."""
        for piece, data in pieces.items():
            digest = digest_of_bytes(data)
            self.contents.setdefault(digest, data)
            self.named.setdefault((key, piece), digest)
        self.keys.add(key)

    @contextmanager
    def alone(self, key: str, waiting: Callable[[], None]) -> Iterator[None]:
        """A lock for the key in this process."""
        mine = self.taken.setdefault(key, threading.Lock())
        taken = waited_for(lambda: mine.acquire(blocking=False), waiting)
        try:
            yield
        finally:
            if taken:
                mine.release()
