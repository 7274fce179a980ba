"""Ways of running the tasks of a job: here, one after the other, and in processes of this machine.

A way is anything that takes tasks, the folder files are made in and whether there is a report, and gives every task
with what came of it, as each is done. `zesty_otter.run_job` takes any.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from zesty_otter.errors import InputError
from zesty_otter.geometry.parallel import cores_are_shared
from zesty_otter.jobs.modules import Brought
from zesty_otter.jobs.planning import Task
from zesty_otter.jobs.scheduling import Batch, batches, fits, heaviest_first, memory_of_machine
from zesty_otter.jobs.work import Done, work_on_all

if TYPE_CHECKING:
    from concurrent.futures import Future, ProcessPoolExecutor

_AHEAD = 8  # tasks handed to each worker before it has done the last; two batches at least


class Way(Protocol):
    """How the tasks of a job are worked on."""

    def __call__(
        self, tasks: list[Task], staging: Path, *, report: bool, seconds: Mapping[str, float]
    ) -> Iterator[tuple[Task, Done]]:
        """Every task with what came of it, as each is done.

        Parameters
        ----------
        tasks : list of Task
        staging : Path
            The folder files are made in; each task has one of its own in it.
        report : bool
            Whether parts of the report are made.
        seconds : mapping of str to float
            How long assets took the last time, by the names of tasks.

        Yields
        ------
        task : Task
        done : Done
        """


def here(
    tasks: list[Task], staging: Path, *, report: bool, seconds: Mapping[str, float]
) -> Iterator[tuple[Task, Done]]:
    """The way that works on one task after the other, in this process.

    Parameters
    ----------
    tasks : list of Task
    staging : Path
        The folder files are made in; each task has one of its own in it.
    report : bool
        Whether parts of the report are made.
    seconds : mapping of str to float
        How long assets took the last time.

    Yields
    ------
    task : Task
    done : Done

    Examples
    --------
    >>> from pathlib import Path
    >>> list(here([], Path("staging"), report=False, seconds={}))
    []
    """
    loads = sorted(heaviest_first(tasks, seconds), key=lambda load: load.number)
    for batch in batches(loads, 1):
        left = batch.numbers
        while left:
            done = work_on_all([(tasks[number], staging / str(number)) for number in left], report=report)
            yield from ((tasks[number], one) for number, one in zip(left, done, strict=False))
            left = left[len(done) :]


@dataclass(frozen=True)
class Processes:
    """The way that works on several tasks at a time, each in a process of its own.

    Parameters
    ----------
    workers : int
        How many at a time.
    """

    workers: int

    def __call__(
        self, tasks: list[Task], staging: Path, *, report: bool, seconds: Mapping[str, float]
    ) -> Iterator[tuple[Task, Done]]:
        if self.workers == 1 or len(tasks) < 2:
            yield from here(tasks, staging, report=report, seconds=seconds)
            return
        from concurrent.futures import FIRST_COMPLETED, wait
        from concurrent.futures.process import BrokenProcessPool

        waiting, suspects = deque(batches(heaviest_first(tasks, seconds), self.workers)), list[int]()
        room = memory_of_machine()
        while waiting:
            before, broken = len(waiting), False
            running: dict[Future[list[Done]], Batch] = {}
            with _pool(tasks, staging, min(self.workers, len(waiting)), report) as pool:
                while running or (waiting and not broken):
                    while waiting and not broken and self._takes(waiting[0], running, room):
                        batch = waiting.popleft()
                        try:
                            running[pool.submit(_work_on, batch.numbers)] = batch
                        except BrokenProcessPool:
                            waiting.appendleft(batch)
                            broken = True
                    finished, _ = wait(running, return_when=FIRST_COMPLETED)
                    for future in finished:
                        batch = running.pop(future)
                        try:
                            done = future.result()
                        except BrokenProcessPool:
                            suspects.extend(batch.numbers)
                            broken = True
                            continue
                        yield from ((tasks[number], one) for number, one in zip(batch.numbers, done, strict=False))
                        if len(done) < len(batch.numbers):
                            waiting.appendleft(replace(batch, numbers=batch.numbers[len(done) :]))
            if len(waiting) == before:  # it broke before anything began
                suspects.extend(waiting.popleft().numbers)
        # A worker died and took the pool with it; alone it shows which asset it was.
        for number in suspects:
            with _pool(tasks, staging, 1, report) as pool:
                try:
                    yield tasks[number], pool.submit(_work_on, (number,)).result()[0]
                except BrokenProcessPool:
                    problem = "the process that worked on it was killed, perhaps for want of memory."
                    remedy = "Run it alone with --only."
                    yield tasks[number], Done(error=InputError(problem, file=tasks[number].name, remedy=remedy))

    def _takes(self, batch: Batch, running: Mapping[Future[list[Done]], Batch], room: float) -> bool:
        """Whether tasks may be handed out beside others: light ones some ahead, heavy ones as memory allows."""
        few = len(running) < max(_AHEAD // len(batch.numbers), 2) * self.workers
        return few and fits(batch.memory, sum(one.memory for one in running.values()), room)


@contextlib.contextmanager
def _pool(tasks: list[Task], staging: Path, workers: int, report: bool) -> Iterator[ProcessPoolExecutor]:
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    # Forked workers know the steps that a user's script made, without having to be told.
    context = multiprocessing.get_context("fork" if sys.platform == "linux" else None)
    if report:
        importlib.import_module("zesty_otter.page.report")  # once, not in every worker
    about = Brought(), os.getpid(), tasks, staging, report, workers >= (os.cpu_count() or 1)
    pool = ProcessPoolExecutor(workers, context, initializer=_begin, initargs=about)
    try:
        yield pool
    except BaseException:
        for process in list((pool._processes or {}).values()):
            process.kill()
        # One that was killed while it sent a result left half of it: with no other end open, nobody waits for the rest.
        with contextlib.suppress(AttributeError, OSError):
            pool._result_queue._writer.close()  # type: ignore[attr-defined]
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


_here: tuple[list[Task], Path, bool] = ([], Path(), False)  # in a worker: all tasks, where files go, and `report`


def _begin(_: object, parent: int, tasks: list[Task], staging: Path, report: bool, crowded: bool) -> None:
    """What a worker does first: it leaves interrupts to its parent and does not outlive it."""
    global _here
    _here = tasks, staging, report
    gc.freeze()  # what was there before is not looked through again and again
    if crowded:
        cores_are_shared()
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(0.2)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def _work_on(numbers: Sequence[int]) -> list[Done]:
    tasks, staging, report = _here
    return work_on_all([(tasks[number], staging / str(number)) for number in numbers], report=report)
