"""The way that works on the tasks of a job on the workers of a cluster, by the scheduler of Dask.

The scheduler carries tasks to workers and what came of them back. Which worker gets which task, how often, and beside
what, is decided here: heavy ones first, no more than fit into a worker's memory, and again elsewhere when a worker is
lost.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import io
import itertools
import json
import logging
import pickle
import queue
import re
import time
import uuid
from collections import Counter, deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, Any

from zesty_otter import __version__
from zesty_otter.errors import InputError, OutputError, UsageError, ZestyOtterError
from zesty_otter.jobs import modules
from zesty_otter.jobs.planning import Task
from zesty_otter.jobs.remote import (
    NoRoomError,
    Parcel,
    Places,
    begun_key,
    begun_mark,
    files_to_send,
    look_at,
    moved,
    placed,
    run_remote,
    unpacked,
)
from zesty_otter.jobs.scheduling import Load, fits, heaviest_first
from zesty_otter.jobs.work import Done

if TYPE_CHECKING:
    from distributed import Client

_TRIES = 3  # a task is tried again at most twice
_LOSSES = 20  # nor is it handed out for ever where no worker can leave word that it began
_QUIET, _LONGEST_WAIT = 5.0, 60.0  # seconds without the loss of a worker before a last try, and the most to wait
_AHEAD = 2  # tasks for each thread of a worker, so that none waits for us
_LOOK_EVERY = 1.0  # seconds between looks at which workers there are
_TOLD = 8  # workers of which is told what they are at
_LATE = 10.0  # seconds in which files of a worker appear on a shared file system
_SPARED = 60.0  # seconds in which a worker without room gets nothing, if others can
_SENT = 1 << 30  # bytes of an asset that are sent at the most
_LARGE = 1 << 20  # bytes from which a parcel goes straight to its worker
_ADDRESS = re.compile(r"((tcp|tls)://)?([^\s/:\[\]]+|\[[0-9a-fA-F:.%\w]+\]):\d{1,5}")
_SHARE = 0.8  # of a worker's memory


@dataclass(frozen=True)
class Cluster:
    """The way that works on the workers of a cluster.

    Parameters
    ----------
    scheduler : str or distributed.Client
        Its address (``tcp://host:8786``, ``tls://...``), its file, or a client of it.
    ship : bool
        Send files to workers and back, rather than share a folder with them.
    folders : tuple of (str, str)
        Shared folders that workers have elsewhere: here, and there.
    patience : float
        Seconds to wait for a scheduler, and for workers.
    """

    scheduler: str | Client
    ship: bool = False
    folders: Places = ()
    patience: float = 15.0

    def __post_init__(self) -> None:
        if isinstance(self.scheduler, str) and not (_is_file(self.scheduler) or _ADDRESS.fullmatch(self.scheduler)):
            problem = f"'{self.scheduler}' is not the address of a scheduler."
            raise UsageError(problem, remedy="It is like tcp://HOST:8786 or tls://HOST:8786, or a scheduler file.")

    def __call__(
        self, tasks: list[Task], staging: Path, *, report: bool, seconds: Mapping[str, float]
    ) -> Iterator[tuple[Task, Done]]:
        if not tasks:
            return
        if self.ship and any(one.on_existing != "replace" for task in tasks for one in task.outputs):
            problem = "on_existing looks at files that workers do not have when files are sent."
            raise UsageError(problem, remedy="Share a folder with the workers, or let outputs be replaced.")
        with _quiet(), _connected(self.scheduler, self.patience) as client:
            _check(client, self, tasks, staging.parent)
            yield from _Dispatch(client, self, tasks, staging, report, heaviest_first(tasks, seconds)).results()


@contextlib.contextmanager
def _quiet() -> Iterator[None]:
    """What the scheduler's client says of lost connections is said by us."""
    logs = [logging.getLogger(name) for name in ("distributed", "asyncio")]
    before = [log.level for log in logs]
    for log in logs:
        log.setLevel(logging.CRITICAL)
    try:
        yield
    finally:
        gc.collect()  # what it has to say of tasks that it gave up
        for log, level in zip(logs, before, strict=True):
            log.setLevel(level)


@contextlib.contextmanager
def _connected(scheduler: str | Client, patience: float) -> Iterator[Client]:
    if not isinstance(scheduler, str):
        yield scheduler
        return
    client = _client(scheduler, patience)
    try:
        yield client
    finally:
        with contextlib.suppress(Exception):
            client.close(timeout=2)


def _client(scheduler: str, patience: float) -> Client:
    try:
        from distributed import Client, Security
    except ImportError:
        raise UsageError(
            "runs on a cluster need the package 'distributed'.", remedy="Install it: pip install 'zesty-otter[cluster]'"
        ) from None
    address = _address_in(scheduler) if _is_file(scheduler) else scheduler
    try:
        if address.startswith("tls://") and not Security().get_connection_args("client").get("ssl_context"):
            raise ValueError("TLS needs certificates, and none are set")
        # Asked first what it is: a client waits without end for what listens and does not answer.
        with ThreadPoolExecutor(1) as apart:
            kind = apart.submit(lambda: asyncio.run(asyncio.wait_for(_kind_of(address, patience), patience))).result()
        if kind != "Scheduler":
            raise ValueError(f"it is a {kind.lower()}")
        with contextlib.suppress(AssertionError):  # its greeting came together with news of a worker
            return Client(address, timeout=patience, set_as_default=False, name="zesty-otter")
        return Client(address, timeout=patience, set_as_default=False, name="zesty-otter")
    except Exception as error:  # of many kinds: name service, sockets, certificates, what does not speak the protocol
        raise _no_scheduler(address, error) from None


async def _kind_of(address: str, patience: float) -> str:
    """What answers at an address: a scheduler, a worker."""
    from distributed import Security
    from distributed.core import connect

    line = await connect(address, timeout=patience, **Security().get_connection_args("client"))
    try:
        await line.write({"op": "identity", "reply": True})
        return str((await line.read()).get("type"))
    finally:
        line.abort()


def _is_file(scheduler: str) -> bool:
    return "://" not in scheduler and (scheduler.endswith(".json") or Path(scheduler).is_file())


def _address_in(file: str) -> str:
    """The address that a scheduler wrote into a file."""
    if not Path(file).is_file():
        raise UsageError("there is no such scheduler file.", file=file, remedy="Start the scheduler.")
    try:
        address = json.loads(Path(file).read_text("utf-8"))["address"]
        if not _ADDRESS.fullmatch(address):
            raise ValueError
    except (OSError, ValueError, TypeError, KeyError):
        remedy = "`dask scheduler --scheduler-file FILE` writes one."
        raise UsageError("is not the file of a scheduler.", file=file, remedy=remedy) from None
    return str(address)


def _no_scheduler(scheduler: str, error: BaseException) -> UsageError:
    chain = [error]
    while (deeper := chain[-1].__cause__ or chain[-1].__context__) is not None and len(chain) < 8:
        chain.append(deeper)
    said = " ".join(f"{type(one).__name__} {one}" for one in chain)
    words = ("TLS", "ssl", "SSL", "certificate", "FileNotFoundError")
    if scheduler.startswith("tls://") and any(word in said for word in words):
        return UsageError(
            f"no secure connection to {scheduler}: {_short(chain[-1])}.",
            remedy="Check the certificates under distributed.comm.tls in Dask's configuration.",
        )
    why = _short(error) if str(error) else "what listens there does not speak as a scheduler does"
    return UsageError(
        f"no scheduler answers at {scheduler}: {why}.",
        remedy="Check the address, and that it runs: `dask scheduler` starts one.",
    )


def _short(error: BaseException) -> str:
    lines = str(error).strip().splitlines()
    return lines[0].rstrip(".") if lines else type(error).__name__


def _workers(client: Client) -> dict[str, Any]:
    """What the scheduler knows of its workers, by their addresses."""
    info = client.sync(client.scheduler.identity, n_workers=-1)
    return dict(info["workers"])


def _check(client: Client, cluster: Cluster, tasks: Sequence[Task], folder: Path) -> None:
    """Refuse to begin where workers are missing, of another version, or do not see what they need."""
    until = time.monotonic() + cluster.patience
    while not (workers := _workers(client)):
        if time.monotonic() > until:
            raise UsageError(
                "the scheduler has no workers.", remedy="Start some: `dask worker ADDRESS --nthreads 1 --nworkers 4`"
            )
        time.sleep(0.2)
    folder = folder.absolute()
    text = uuid.uuid4().hex
    mark = folder / f".zesty-otter-mark-{text}"
    try:
        if not cluster.ship:
            mark.write_text(text, "utf-8")
        there = None if cluster.ship else moved(str(mark), cluster.folders)
        found = client.run(look_at, there, text, _samples(tasks, cluster.folders), on_error="return")
        for address, said in found.items():
            _check_worker(f"{address} ({workers.get(address, {}).get('host', 'unknown')})", said, mark, cluster)
    finally:
        for one in folder.glob(f"{mark.name}*"):
            one.unlink(missing_ok=True)


def _check_worker(name: str, said: Any, mark: Path, cluster: Cluster) -> None:
    if isinstance(said, ImportError):
        remedy = f"Install the version {__version__} there."
        raise UsageError(f"the worker {name} does not have zesty-otter: {_short(said)}.", remedy=remedy)
    if isinstance(said, BaseException):
        raise UsageError(f"the worker {name} cannot be asked: {_short(said)}.", remedy="Look into its log.")
    version, own, unseen = said
    if version != __version__:
        problem = f"the worker {name} has zesty-otter {version}, and this is {__version__}."
        raise UsageError(problem, remedy="Install the same version on both.")
    remedy = (
        "Give workers the same folder at the same path, say where they have it (--worker-folder HERE=THERE), or send"
        " files (--ship files)."
    )
    if unseen:
        raise UsageError(f"the worker {name} does not see {unseen}.", remedy=remedy)
    if own and not cluster.ship:
        until = time.monotonic() + _LATE
        here = mark.with_name(PurePath(own).name)
        while not here.exists():
            if time.monotonic() > until:
                raise UsageError(f"what the worker {name} writes into {mark.parent} does not arrive.", remedy=remedy)
            time.sleep(0.1)


def _samples(tasks: Sequence[Task], folders: Places) -> list[tuple[str, int]]:
    """A source of each folder, as a worker has it, with its size."""
    found: dict[Path, tuple[str, int]] = {}
    for task in tasks:
        path = task.parts[0].file.path
        if path.parent not in found and len(found) < 100:
            with contextlib.suppress(OSError):
                found[path.parent] = moved(str(path.absolute()), folders), path.stat().st_size
    return list(found.values())


@dataclass
class _Worker:
    """A worker, and what it has to do."""

    address: str
    host: str
    threads: int
    room: float
    loads: dict[int, Load] = field(default_factory=dict)
    spared: float = 0.0  # until when others come first, as it had no room

    def takes(self, load: Load) -> bool:
        light = len(self.loads) < _AHEAD * self.threads
        return light and fits(load.memory, sum(one.memory for one in self.loads.values()), self.room)


@dataclass
class _Run:
    """A task that a worker has."""

    load: Load
    worker: _Worker
    future: Any
    staging: Path


class _Dispatch:
    """The tasks of a job on their way."""

    def __init__(
        self, client: Client, cluster: Cluster, tasks: list[Task], staging: Path, report: bool, loads: list[Load]
    ) -> None:
        self.client: Any = client
        self.own: Any = None  # a client that was made when the scheduler came back
        self.cluster, self.tasks, self.staging, self.report = cluster, tasks, staging, report
        self.waiting = deque(loads)
        self.workers: dict[str, _Worker] = {}
        self.running: dict[str, _Run] = {}
        self.tried: dict[int, list[str]] = {}  # what became of a task on workers that were lost and had begun it
        self.doubtful: dict[int, list[tuple[_Run, str]]] = {}  # what had not begun, as far as was known then
        self.losses: Counter[int] = Counter()  # how often a task was lost, begun or not
        self.lost_at = 0.0  # when a worker was lost last
        self.due: dict[int, float] = {}  # when a last try begins, even if workers still come and go
        self.been: dict[int, set[str]] = {}
        self.done: queue.Queue[str] = queue.Queue()
        self.id = uuid.uuid4().hex[:8]
        self.home = "" if staging.is_absolute() else str(Path().absolute())

    def results(self) -> Iterator[tuple[Task, Done]]:
        """Every task with what came of it."""
        due, alone_since = 0.0, None
        try:
            while self.waiting or self.running:
                now = time.monotonic()
                if now >= due:
                    yield from self._look_at_workers()
                    due = now + _LOOK_EVERY
                    alone_since = None if self.workers else alone_since or now
                    if alone_since is not None and now - alone_since > 4 * self.cluster.patience:
                        yield from self._without_workers()
                        return
                yield from self._hand_out()
                for task, done in self._next():
                    yield task, replace(done, at_work=self._at_work())
        finally:
            left = [one.future for one in self.running.values()]
            if left:
                with contextlib.suppress(Exception):
                    self.client.cancel(left, force=True)
            if self.cluster.ship:
                with contextlib.suppress(Exception):
                    self.client.set_metadata(begun_key(self.staging / f"-{self.id}-")[:1], None)
            self._close_own()

    def _at_work(self) -> tuple[tuple[str, str], ...]:
        """The first few workers, and what each is at."""
        found = [
            (worker.address, self.tasks[number].name)
            for worker in itertools.islice(self.workers.values(), _TOLD)
            for number in list(worker.loads)[: worker.threads]
        ]
        return tuple(found[:_TOLD])

    def _close_own(self) -> None:
        if self.own is not None:
            with contextlib.suppress(Exception):
                self.own.close(timeout=1)

    def _look_at_workers(self) -> Iterator[tuple[Task, Done]]:
        """Which workers there are now; what lost ones had is handed out anew."""
        try:
            there = _workers(self.client)
        except Exception:  # the scheduler is gone; its client tries to find it again
            there = self._found_again()
        for address in self.workers.keys() - there.keys():
            del self.workers[address]
            self.lost_at = time.monotonic()
        for address in there.keys() - self.workers.keys():
            about = there[address]
            limit = float(about.get("memory_limit") or 0)
            room = _SHARE * limit if limit else float("inf")
            host = str(about.get("host") or address)
            self.workers[address] = _Worker(address, host, max(int(about.get("nthreads", 1)), 1), room)
        gone = {
            key: self._is_begun(run)
            for key, run in self.running.items()
            if self.workers.get(run.worker.address) is not run.worker
        }
        for key, begun in gone.items():
            yield from self._lost(key, "was lost", begun=begun)

    def _found_again(self) -> dict[str, Any]:
        """The workers of a scheduler that was restarted; none until it answers."""
        scheduler = self.cluster.scheduler
        self.workers.clear()  # they know nothing of what they had
        try:
            if isinstance(scheduler, str):
                client = _client(scheduler, min(self.cluster.patience, 5.0))
                self._close_own()
                self.client = self.own = client
            return _workers(self.client)
        except Exception:
            return {}

    def _hand_out(self) -> Iterator[tuple[Task, Done]]:
        later: list[Load] = []
        while self.waiting and self.workers and len(later) < 64:
            load = self.waiting.popleft()
            if self._is_given_up(load.number):
                yield self._given_up(load.number)
                continue
            been = self.been.get(load.number, set())
            able = self._with_room()
            others = [one for one in able if one.address not in been]
            free = [one for one in others or able if one.takes(load)] if self._is_time_for(load) else []
            if not free:
                later.append(load)
                if all(len(one.loads) >= _AHEAD * one.threads for one in able):
                    break
                continue
            try:
                self._send(load, min(free, key=lambda one: len(one.loads) / one.threads))
            except ZestyOtterError as error:
                yield self.tasks[load.number], Done(error=error)
            except Exception:  # the scheduler is gone, which is looked after elsewhere
                later.append(load)
                break
        self.waiting.extendleft(reversed(later))

    def _is_time_for(self, load: Load) -> bool:
        """Whether a task may go out: the last try waits until no worker was lost for a while."""
        now = time.monotonic()
        if len(self._tries(load.number)) < _TRIES - 1:
            return True
        return now - self.lost_at > _QUIET or now > self.due.setdefault(load.number, now + _LONGEST_WAIT)

    def _with_room(self) -> list[_Worker]:
        """The workers that have not just been without room; all, if there are no others."""
        now = time.monotonic()
        return [one for one in self.workers.values() if one.spared < now] or list(self.workers.values())

    def _send(self, load: Load, worker: _Worker) -> None:
        task = self.tasks[load.number]
        files = files_to_send(task, _SENT) if self.cluster.ship else None
        key = f"zesty-otter-{uuid.uuid4().hex}"
        # Each time into a folder of its own: a worker that only seemed lost may still be writing.
        staging = self.staging / f"{load.number}-{self.id}-{key[-8:]}"
        data = _packed_here((task, staging))
        places = self.cluster.folders
        beside = sum(one.threads for one in self.workers.values() if one.host == worker.host)
        parcel = pickle.dumps(Parcel(dict(modules.loaded), data, places, self.report, files, beside, self.home))
        sent: Any = parcel
        if len(parcel) > _LARGE:
            sent = self.client.scatter(parcel, workers=[worker.address], hash=False, direct=False)
        future = self.client.submit(run_remote, sent, key=key, workers=[worker.address], pure=False, retries=0)
        worker.loads[load.number] = load
        self.running[key] = _Run(load, worker, future, staging)
        self.been.setdefault(load.number, set()).add(worker.address)
        future.add_done_callback(lambda future: self.done.put(future.key))

    def _next(self) -> Iterator[tuple[Task, Done]]:
        """What is done by now, or within a second."""
        try:
            key = self.done.get(timeout=_LOOK_EVERY if self.running else 0.2)
        except queue.Empty:
            return
        run = self.running.get(key)
        if run is None:
            return
        if run.future.status == "finished":
            try:
                done = self._arrived(unpacked(self._fetched(run)), run)
            except Exception as error:
                yield from self._lost(key, f"did not give back what it made ({_short(error)})", begun=True)
                return
            if isinstance(done.error, NoRoomError):
                run.worker.spared = time.monotonic() + _SPARED
                been = self.been[run.load.number]
                left = len(self.tried.get(run.load.number, ())) < _TRIES - 1
                if left and any(one.address not in been for one in self._with_room()):
                    yield from self._lost(key, f"had no room: {done.error.problem}", begun=True)
                    return
            self._forget(key)
            yield self.tasks[run.load.number], done
        elif run.future.status == "error":
            reason: Any = run.future.exception()
            killed = "Killed" in type(reason).__name__
            why = "was killed, perhaps for want of memory" if killed else _short(reason)
            yield from self._lost(key, why, begun=not killed or self._is_begun(run))
        else:
            yield from self._lost(key, "was lost", begun=self._is_begun(run))

    def _fetched(self, run: _Run) -> bytes:
        """What a worker gives back, for as long as it is there."""
        while True:
            try:
                data: bytes = run.future.result(timeout=3)
                return data
            except TimeoutError:
                if run.worker.address not in _workers(self.client):
                    raise

    def _arrived(self, result: tuple[Done, Mapping[str, bytes]], run: _Run) -> Done:
        """What came of a task, with its files on this side."""
        done, files = result
        for path, data in files.items():
            own = Path(path)
            try:
                own.parent.mkdir(parents=True, exist_ok=True)
                own.write_bytes(data)
            except OSError as error:
                problem = f"could not be written: {error.strerror or error}."
                return Done(error=OutputError(problem, file=own.parent, remedy="Make room, and run again."))
        until = time.monotonic() + _LATE
        for staged in [staged for one in done.made for staged, _ in one.files.values()] if not files else ():
            while not staged.exists():
                if time.monotonic() > until:
                    raise OSError(f"{staged.name} does not arrive on the shared file system")
                time.sleep(0.05)
        return replace(done, worker=f"{done.worker} {run.worker.address}".strip())

    def _lost(self, key: str, why: str, *, begun: bool) -> Iterator[tuple[Task, Done]]:
        """Hand a task out anew, or give it up; what its worker had not begun counts as not tried."""
        run = self.running[key]
        self._forget(key)
        number = run.load.number
        with contextlib.suppress(Exception):
            self.client.cancel([run.future], force=True)
        said = f"{time.strftime('%H:%M:%S')} {run.worker.address} {why}"
        if begun:
            self.tried.setdefault(number, []).append(said)
        else:
            self.doubtful.setdefault(number, []).append((run, said))
        self.losses[number] += 1
        if self._is_given_up(number):
            yield self._given_up(number)
        elif len(self._tries(number)) == _TRIES - 1:
            self.waiting.append(run.load)  # the last time at the end: what takes workers away may be over by then
        else:
            self.waiting.appendleft(run.load)

    def _tries(self, number: int) -> list[str]:
        """What became of a task on workers that had begun it. One that was told to go may have begun it after all."""
        found = self.tried.setdefault(number, [])
        for one in [one for one in self.doubtful.get(number, ()) if self._is_begun(one[0])]:
            self.doubtful[number].remove(one)
            found.append(one[1])
        return found

    def _is_given_up(self, number: int) -> bool:
        return len(self._tries(number)) >= _TRIES or self.losses[number] >= _LOSSES

    def _given_up(self, number: int) -> tuple[Task, Done]:
        tried = self._tries(number)
        problem = f"{len(tried)} workers were lost while they worked on it: {'; '.join(tried)}."
        if len(tried) < _TRIES:
            last = self.doubtful[number][-1][0].worker.address if self.doubtful.get(number) else tried[-1]
            problem = f"{self.losses[number]} workers were lost that had it in hand, the last one {last}."
        remedy = "Give workers more memory, look into their logs, or run it here with --only."
        return self.tasks[number], Done(error=InputError(problem, file=self.tasks[number].name, remedy=remedy))

    def _is_begun(self, run: _Run) -> bool:
        """Whether its worker left word that it is at a task."""
        if not self.cluster.ship:
            return begun_mark(run.staging).exists()
        with contextlib.suppress(Exception):  # the scheduler is gone, and what it knew
            return bool(self.client.get_metadata(begun_key(run.staging), default=False))
        return False

    def _without_workers(self) -> Iterator[tuple[Task, Done]]:
        numbers = [one.load.number for one in self.running.values()] + [one.number for one in self.waiting]
        self.running.clear()
        self.waiting.clear()
        for number in sorted(numbers):
            problem = "no worker of the cluster was left to work on it."
            remedy = "Start workers, and run again: what is done stays done."
            yield self.tasks[number], Done(error=InputError(problem, file=self.tasks[number].name, remedy=remedy))

    def _forget(self, key: str) -> _Run:
        run = self.running.pop(key)
        run.worker.loads.pop(run.load.number, None)
        return run


def _packed_here(value: Any) -> bytes:
    """What a worker is sent: with absolute paths, and classes of scripts as they are."""
    import cloudpickle

    class Packer(cloudpickle.Pickler):  # type: ignore[misc]
        def reducer_override(self, value: Any) -> Any:
            if isinstance(value, Path):
                return placed, (str(value.absolute()),)
            return super().reducer_override(value)

    out = io.BytesIO()
    Packer(out, protocol=5).dump(value)
    return out.getvalue()
