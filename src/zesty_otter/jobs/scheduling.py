"""In which order the tasks of a job are handed out, and which of them fit beside each other in memory."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zesty_otter.jobs.planning import Task
from zesty_otter.jobs.work import LONG

_BYTES_A_SECOND = 4e6  # of sources, where nothing was measured
_BASE, _TIMES = 100e6, 12.0  # memory that a task takes: so much, and so many times the size of its sources
_BATCH = 16  # tasks of one batch
_SHARES = 16  # of a worker's tasks, one of which the last may wait for


@dataclass(frozen=True)
class Load:
    """What a task is likely to take: seconds, and bytes of memory."""

    number: int
    seconds: float
    memory: float


@dataclass(frozen=True)
class Batch:
    """Tasks that are done one after the other by the same worker, and the bytes of memory they take together."""

    numbers: tuple[int, ...]
    memory: float


def heaviest_first(tasks: Sequence[Task], seconds: Mapping[str, float]) -> list[Load]:
    """The tasks of a job, those first that take longest, so that no worker is left with one at the end.

    Parameters
    ----------
    tasks : sequence of Task
    seconds : mapping of str to float
        How long assets took the last time; of others the size of their sources tells.

    Returns
    -------
    list of Load
        With their numbers among ``tasks``.

    Examples
    --------
    >>> heaviest_first([], {})
    []
    """
    loads = []
    for number, task in enumerate(tasks):
        size = sum(_size(part.file.path) for part in task.parts)
        loads.append(Load(number, seconds.get(task.name) or size / _BYTES_A_SECOND, _BASE + _TIMES * size))
    return sorted(loads, key=lambda load: (-load.seconds, load.number))


def batches(loads: Sequence[Load], workers: int) -> Iterator[Batch]:
    """Tasks as they are handed out: of very many, light ones several at a time, the others alone.

    Parameters
    ----------
    loads : sequence of Load
    workers : int

    Yields
    ------
    Batch

    Examples
    --------
    >>> [batch.numbers for batch in batches([Load(0, 2.0, 1e8), *(Load(n, 0.01, 1e8) for n in range(1, 49))], 1)][:3]
    [(0,), (1, 2, 3), (4, 5, 6)]
    """
    most = max(min(_BATCH, len(loads) // (_SHARES * workers)), 1)
    batch: list[Load] = []
    seconds = 0.0
    for load in loads:
        if batch and (len(batch) == most or seconds + load.seconds > LONG):
            yield _batch(batch)
            batch, seconds = [], 0.0
        batch.append(load)
        seconds += load.seconds
    if batch:
        yield _batch(batch)


def _batch(loads: Sequence[Load]) -> Batch:
    return Batch(tuple(load.number for load in loads), _BASE + sum(load.memory - _BASE for load in loads))


def fits(memory: float, beside: float, room: float) -> bool:
    """Whether what takes so many bytes may be begun beside others that take ``beside``; alone it always may."""
    return beside <= 0 or beside + memory <= room


def memory_of_machine() -> float:
    """Bytes of memory that are free for tasks on this machine; infinite where it does not tell."""
    try:
        lines = Path("/proc/meminfo").read_text("ascii").splitlines()
        free = next(line for line in lines if line.startswith("MemAvailable:"))
        return 0.8 * 1024 * float(free.split()[1])
    except (OSError, StopIteration, ValueError, IndexError):
        return float("inf")


def _size(path: Path) -> int:
    try:
        return os.stat(path).st_size  # noqa: PTH116
    except OSError:
        return 0
