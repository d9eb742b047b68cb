"""How is a computation stopped within a second, whatever it is doing? It runs in a process of its own."""

from __future__ import annotations

import multiprocessing
import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import CancelledError, TimeoutError
from functools import cache
from typing import Any

from pebble import ProcessExpired, ProcessPool

from pelvrak.core.errors import Stopped

WATCH_S = 0.1
# A computation that is asked to stop may end by itself this long; then its process is killed.
GRACE_S = 0.5


class BrokeDown(Exception):
    """The computation's process ended without an answer."""


def _follow_parent() -> None:
    """End this process soon after the one that started it is gone."""
    parent = os.getppid()

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(WATCH_S)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


@cache
def _pool() -> ProcessPool:
    context = multiprocessing.get_context("forkserver")
    return ProcessPool(max_workers=1, context=context, initializer=_follow_parent)


def _scheduled(compute: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    """The computation handed to the other process; a pool that broke, as when a process died while starting,
    is made anew.
    """
    if not _pool().active:
        _pool.cache_clear()
    try:
        return _pool().schedule(compute, args=list(arguments))
    except RuntimeError:
        _pool.cache_clear()
        return _pool().schedule(compute, args=list(arguments))


def _nothing() -> None:
    """What the first process does, to be there."""


def prepare(module: str) -> None:
    """Start the process ahead of the first computation, forked from one that has a module loaded: the next
    one, after it was killed, is there at once.
    """
    multiprocessing.get_context("forkserver").set_forkserver_preload(["__main__", module])
    _pool().schedule(_nothing)


def run(compute: Callable[..., Any], arguments: tuple[Any, ...], wanted: Callable[[], bool]) -> Any:
    """What compute(*arguments) returns or raises, computed in the other process.

    wanted is asked every WATCH_S; once it says no, the computation has GRACE_S to notice by itself,
    then it is killed. Raises Stopped when killed so, BrokeDown when the process died by itself
    (memory, a fault in a library).
    """
    future = _scheduled(compute, arguments)
    unwanted_since = None
    while True:
        try:
            return future.result(timeout=WATCH_S)
        except TimeoutError:
            if future.done():  # the computation's own
                raise
        except CancelledError:
            raise Stopped from None
        except ProcessExpired as ended:
            raise BrokeDown(f"its process ended with code {ended.exitcode}") from ended
        if unwanted_since is None and not wanted():
            unwanted_since = time.monotonic()
        if unwanted_since is not None and time.monotonic() - unwanted_since > GRACE_S:
            future.cancel()
