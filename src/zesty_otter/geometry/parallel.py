"""Work on independent things, shared among the cores."""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from itertools import chain, islice
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

T = TypeVar("T")

_NAME = "zesty-otter"
_pool: ThreadPoolExecutor | None = None
_shared = False


def cores_are_shared() -> None:
    """Say that other processes work on the same thing: from now on this one does its work alone."""
    global _shared
    _shared = True


def in_pieces(work: Callable[[int, int], None], count: int, piece: int) -> None:
    """Calls ``work(first, stop)`` for pieces of some things, several at a time where there are cores.

    Parameters
    ----------
    work : callable
        Lets go of the interpreter, as kernels do, and writes only what belongs to its piece.
    count : int
    piece : int
        The size of a piece: the same whatever the number of cores, so that results are.
    """
    ends = [(first, min(first + piece, count)) for first in range(0, count, piece)]
    if len(ends) < 2 or _cores() < 2 or _is_worker():
        for first, stop in ends:
            work(first, stop)
        return
    for done in [_workers().submit(work, first, stop) for first, stop in ends]:
        done.result()


def in_order(work: Callable[[int, int], T], pieces: Iterable[tuple[int, int]]) -> Iterator[T]:
    """What ``work(first, stop)`` gives for pieces, one after the other, while the next ones are worked on already."""
    coming = iter(pieces)
    begun = [*islice(coming, 2)]
    if len(begun) < 2 or _cores() < 2:
        yield from (work(first, stop) for first, stop in chain(begun, coming))
        return
    waiting: deque[Future[T]] = deque()
    for first, stop in chain(begun, coming):
        waiting.append(_workers().submit(work, first, stop))
        if len(waiting) > _cores():
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()


def _is_worker() -> bool:
    """Whether this is one of the workers, who must not wait for each other."""
    return threading.current_thread().name.startswith(_NAME)


def _cores() -> int:
    if _shared:
        return 1
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _workers() -> ThreadPoolExecutor:
    global _pool
    if _pool is None:
        from concurrent.futures import ThreadPoolExecutor

        _pool = ThreadPoolExecutor(_cores(), thread_name_prefix=_NAME)
    return _pool


def _forget() -> None:
    global _pool
    _pool = None


# A copy of the process has no threads.
if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget)
