"""Jobs on a cluster: a real scheduler and real workers, on this machine, which are killed now and then."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import pytest
from distributed import Client

import zesty_otter as zo
from test_jobs import contents, made, obj_cube
from zesty_otter.errors import InputError, OutputError, UsageError
from zesty_otter.jobs import Cluster, cluster, remote
from zesty_otter.jobs.scheduling import fits, heaviest_first

DASK = [sys.executable, "-m", "dask"]


@dataclass
class Yard:
    """A scheduler and its workers."""

    address: str
    folder: Path

    def pids(self) -> dict[str, int]:
        with Client(self.address, set_as_default=False) as client:
            return dict(client.run(os.getpid, on_error="ignore"))


@contextlib.contextmanager
def running(folder: Path, port: int, workers: int = 2):
    folder.mkdir(exist_ok=True)
    address = f"tcp://127.0.0.1:{port}"
    local = ["--local-directory", str(folder), "--no-dashboard"]
    own = ["--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show"]
    processes = [start([*DASK, "scheduler", *own, "--scheduler-file", str(folder / "scheduler.json")], folder)]
    if workers:
        processes.append(
            start([*DASK, "worker", address, "--nthreads", "1", "--nworkers", str(workers), *local], folder)
        )
    try:
        client = cluster._client(address, 60)
        with client:
            client.wait_for_workers(workers, timeout=60) if workers else None
        yield Yard(address, folder)
    finally:
        for process in reversed(processes):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()


def start(command: list[str], folder: Path) -> subprocess.Popen:
    log = (folder / f"{len(list(folder.iterdir()))}.log").open("w")
    return subprocess.Popen(command, stdout=log, stderr=log, start_new_session=True)


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


@pytest.fixture(scope="module")
def yard(tmp_path_factory):
    with running(tmp_path_factory.mktemp("yard"), free_port()) as found:
        yield found


STEP = '''
import os, pathlib, signal, time
from typing import ClassVar
import zesty_otter as zo

@zo.steps.register
class Dawdle(zo.steps.Step):
    """Take a while, and tell that one was here."""
    slug: ClassVar[str] = "dawdle"
    whole_scene: ClassVar[bool] = True
    log: str = ""  # no path, so that it is the same place for workers that are sent files
    seconds: float = 0.0
    deadly: bool = False

    def change(self, scene):
        if self.log:
            with pathlib.Path(self.log).open("a") as file:
                file.write(f"{scene.source.name}\\n")
        if self.deadly and scene.source.name == "oar3.obj":
            os.kill(os.getpid(), signal.SIGKILL)
        time.sleep(self.seconds)
        return scene
'''


def a_job(folder: Path, count: int = 6, step: str = "dawdle") -> Path:
    """Cubes with a texture and a step of their own."""
    (folder / "props").mkdir()
    (folder / "steps.py").write_text(STEP)
    (folder / "props" / "wood.png").write_bytes(zo.demo.textures.timber())
    (folder / "props" / "wood.mtl").write_text("newmtl wood\nmap_Kd wood.png\n")
    for k in range(count):
        text = f"mtllib wood.mtl\nusemtl wood\n{obj_cube(1 + k)}"
        (folder / "props" / f"oar{k}.obj").write_text(text)
    job = folder / "oars.toml"
    job.write_text(
        f'modules = "steps.py"\nsteps = ["weld", "{step}"]\n[[sources]]\nfiles = "props/*.obj"\nunit = "m"\n'
        'axes = "left up forward"\n[[outputs]]\nformats = ["glb", "obj"]\n'
    )
    return job


def states(result) -> set[str]:
    return {asset.state for asset in result.assets}


# What comes out


@pytest.mark.parametrize("how", ["shared", "elsewhere", "sent", "by a client", "by its file"])
@pytest.mark.parametrize("relative", [True, False])
def test_a_cluster_makes_the_same_bytes_as_one_machine(yard, tmp_path, monkeypatch, how, relative):
    job = a_job(tmp_path)
    monkeypatch.chdir(tmp_path)
    path = Path("oars.toml") if relative else job
    assert states(zo.run_job(path)) == {"written"}
    local = contents(tmp_path / "ready")
    if how == "elsewhere":
        (tmp_path.parent / f"{tmp_path.name}_there").symlink_to(tmp_path)
    with contextlib.ExitStack() as stack:
        ways = {
            "shared": lambda: Cluster(yard.address),
            "elsewhere": lambda: Cluster(yard.address, folders=((str(tmp_path), f"{tmp_path}_there"),)),
            "sent": lambda: Cluster(yard.address, ship=True),
            "by a client": lambda: Cluster(stack.enter_context(Client(yard.address, set_as_default=False))),
            "by its file": lambda: Cluster(str(yard.folder / "scheduler.json")),
        }
        events = []
        result = zo.run_job(path, way=ways[how](), fresh=True, on_progress=events.append)
    assert states(result) == {"written"}
    assert contents(tmp_path / "ready") == local
    assert all("tcp://" in event.worker for event in events)
    done = {event.asset for event in events}
    for number, event in enumerate(events, 1):
        under_way = {asset for _, asset in event.at_work}
        assert under_way <= done - {one.asset for one in events[:number]} and len(event.at_work) == len(under_way) <= 2
    assert events[0].at_work and not events[-1].at_work
    assert states(zo.run_job(path, cluster=yard.address)) == {"unchanged"}
    assert not [one.name for one in (tmp_path / "ready").iterdir() if "zesty-otter" in one.name or ".lock" in one.name]


def test_steps_of_scripts_and_files_that_steps_read_go_along(yard, tmp_path, monkeypatch):
    (tmp_path / "lib").mkdir()
    zo.write(zo.read(a_job(tmp_path).parent / "props" / "oar3.obj", unit="m"), tmp_path / "lib" / "post.glb")
    (tmp_path / "swaps.csv").write_text("name,file\noar*,lib/post.glb\n")
    job = tmp_path / "oars.toml"
    job.write_text(job.read_text().replace('"dawdle"', '"swap table=swaps.csv"'))
    assert states(zo.run_job(job)) == {"written"}
    local = contents(tmp_path / "ready")
    assert states(zo.run_job(job, way=Cluster(yard.address, ship=True), fresh=True)) == {"written"}
    assert contents(tmp_path / "ready") == local


def test_bad_assets_fail_alone_with_their_own_names(yard, tmp_path):
    job = a_job(tmp_path)
    (tmp_path / "props" / "oar2.obj").write_text("v 1 2\nf 1 2 3\n")
    for way in (Cluster(yard.address), Cluster(yard.address, ship=True)):
        local = [str(one.error) for one in zo.run_job(job, fresh=True).assets]
        result = zo.run_job(job, way=way, fresh=True)
        assert [str(one.error) for one in result.assets] == local
        assert sum(one.state == "failed" for one in result.assets) == 1


# Workers come and go


def test_killed_workers_cost_nothing_but_what_they_had(yard, tmp_path):
    job = a_job(tmp_path, 24, f"dawdle log={tmp_path / 'log'} seconds=0.4")
    stop = threading.Event()
    killed = []

    def kill():
        while not stop.wait(0.5) and len(killed) < 4:
            with contextlib.suppress(ProcessLookupError, OSError):
                for pid in sorted(yard.pids().values())[:1]:
                    os.kill(pid, signal.SIGKILL)
                    killed.append(pid)

    reaper = threading.Thread(target=kill)
    reaper.start()
    result = zo.run_job(job, way=Cluster(yard.address))
    stop.set()
    reaper.join()
    assert states(result) == {"written"} and len(killed) >= 2
    begun = (tmp_path / "log").read_text().split()
    assert 24 <= len(begun) <= 24 + len(killed)  # each of them worked on one
    assert states(zo.run_job(job)) == {"unchanged"}


@pytest.mark.parametrize("ship", [False, True])
def test_what_kills_every_worker_fails_after_three_and_says_where(yard, tmp_path, ship):
    job = a_job(tmp_path, 6, f"dawdle log={tmp_path / 'log'} deadly=true")
    result = zo.run_job(job, way=Cluster(yard.address, ship=ship))
    failed = [one for one in result.assets if one.state == "failed"]
    assert [one.name for one in failed] == ["props/oar3.obj"]
    assert "3 workers were lost while they worked on it" in str(failed[0].error) and "tcp://" in str(failed[0].error)
    begun = (tmp_path / "log").read_text().split()
    assert begun.count("oar3.obj") == 3 and len(begun) <= 5 + 3 * 2  # each had one more that was done, or waited


def test_a_scheduler_that_comes_back_is_found_again(tmp_path):
    job = a_job(tmp_path, 8, f"dawdle log={tmp_path / 'log'} seconds=0.5")
    port = free_port()
    with contextlib.ExitStack() as first:
        yard = first.enter_context(running(tmp_path / "one", port))
        found = []
        run = threading.Thread(target=lambda: found.append(zo.run_job(job, way=Cluster(yard.address, patience=20))))
        run.start()
        while not (tmp_path / "log").exists():
            time.sleep(0.05)
        first.close()
        with running(tmp_path / "two", port):
            run.join(120)
    assert found and states(found[0]) == {"written"}


def test_an_interrupted_run_leaves_nothing_half_and_the_next_completes(yard, tmp_path):
    job = a_job(tmp_path, 12, f"dawdle log={tmp_path / 'log'} seconds=1")
    command = [sys.executable, "-m", "zesty_otter", "run", str(job), "--cluster", yard.address]
    run = subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    while not (tmp_path / "log").exists():
        time.sleep(0.05)
    time.sleep(0.5)
    run.send_signal(signal.SIGINT)
    assert "Traceback" not in run.communicate(timeout=60)[1]
    assert run.returncode == 130
    for name in made(tmp_path / "ready") if (tmp_path / "ready").exists() else ():
        assert name.endswith((".mtl", ".png")) or zo.read(tmp_path / "ready" / name)
    begun = len((tmp_path / "log").read_text().split())
    time.sleep(1.0)
    assert len((tmp_path / "log").read_text().split()) <= begun + 2 < 12  # what was queued is not begun any more
    assert zo.run_job(job).status == 0


# One run at a time


def test_a_job_is_held_by_one_run_which_need_not_live(tmp_path):
    job = a_job(tmp_path, 2, f"dawdle log={tmp_path / 'log'} seconds=30")
    command = [sys.executable, "-c", "import sys, zesty_otter as zo; zo.run_job(sys.argv[1])", str(job)]
    run = subprocess.Popen(command)
    while not (tmp_path / "log").exists():
        time.sleep(0.05)
    with pytest.raises(OutputError, match=f"is being run by process {run.pid} on .*Wait until it is done"):
        zo.run_job(job)
    run.kill()
    run.wait()
    job.write_text(job.read_text().replace("seconds=30", "seconds=0"))
    assert states(zo.run_job(job)) == {"written"}


# What is wrong is said before anything is made


@pytest.mark.parametrize(
    ("scheduler", "words"),
    [
        ("tcp://127.0.0.1:9", "no scheduler answers at tcp://127.0.0.1:9: .*`dask scheduler` starts one"),
        ("tcp://no.such.host.invalid:8786", "no scheduler answers at tcp://no.such.host.invalid:8786"),
        ("none.json", "none.json: there is no such scheduler file"),
        ("tls://127.0.0.1:9", "no secure connection to tls://127.0.0.1:9: .*certificates under distributed.comm.tls"),
    ],
)
def test_schedulers_that_are_not_there(tmp_path, scheduler, words):
    with pytest.raises(UsageError, match=words):
        zo.run_job(a_job(tmp_path), way=Cluster(scheduler, patience=2))
    assert not (tmp_path / "ready").exists()


@pytest.mark.parametrize(
    "name", ["nowhere", "", "gopher://x", "http://127.0.0.1:80", "tcp://127.0.0.1", "ws://127.0.0.1:8786"]
)
def test_what_is_no_address_of_a_scheduler(tmp_path, run, name):
    ran = run("run", a_job(tmp_path), f"--cluster={name}")
    assert ran.status == 2 and f"'{name}' is not the address of a scheduler" in ran.err


@pytest.mark.parametrize("content", ["{", "[]", "{}", '{"address": 3}', '{"address": "nowhere"}'])
def test_files_that_no_scheduler_wrote(tmp_path, run, content):
    (tmp_path / "it.json").write_text(content)
    ran = run("run", a_job(tmp_path), "--cluster", tmp_path / "it.json")
    assert ran.status == 2 and "it.json: is not the file of a scheduler" in ran.err


def test_what_listens_and_is_no_scheduler(yard, tmp_path):
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        address = f"tcp://127.0.0.1:{silent.getsockname()[1]}"
        with pytest.raises(UsageError, match="what listens there does not speak as a scheduler does"):
            zo.run_job(a_job(tmp_path), way=Cluster(address, patience=1))
    with pytest.raises(UsageError, match="it is a worker"):
        zo.run_job(tmp_path / "oars.toml", way=Cluster(next(iter(yard.pids()))))


def test_a_scheduler_without_workers(tmp_path):
    with running(tmp_path / "one", free_port(), workers=0) as yard, pytest.raises(UsageError, match="has no workers"):
        zo.run_job(a_job(tmp_path), way=Cluster(yard.address, patience=1))


def test_workers_that_do_not_see_what_they_need(yard, tmp_path, monkeypatch):
    job = a_job(tmp_path)
    there = tmp_path.parent / f"{tmp_path.name}_other"
    way = Cluster(yard.address, folders=((str(tmp_path), str(there)),))
    with pytest.raises(UsageError, match=r"worker tcp://.* does not see .*_other/ready: No such file.*--ship files"):
        zo.run_job(job, way=way)
    (there / "ready").mkdir(parents=True)
    with pytest.raises(UsageError, match=r"worker tcp://.* does not see .*_other/ready: No such file"):
        zo.run_job(job, way=way)
    monkeypatch.setattr(cluster, "__version__", "99.0")
    with pytest.raises(UsageError, match=r"worker tcp://.* has zesty-otter .*, and this is 99\.0.*same version"):
        zo.run_job(job, cluster=yard.address)
    assert not (tmp_path / "ready").exists() or not made(tmp_path / "ready")


def test_what_cannot_be_sent(yard, tmp_path, monkeypatch):
    job = a_job(tmp_path)
    monkeypatch.setattr(cluster, "_SENT", 100)
    result = zo.run_job(job, way=Cluster(yard.address, ship=True))
    assert states(result) == {"failed"} and "more than the 0 MB that are sent" in str(result.assets[0].error)
    job.write_text(job.read_text() + 'on_existing = "number"\n')
    with pytest.raises(UsageError, match="on_existing looks at files that workers do not have"):
        zo.run_job(job, way=Cluster(yard.address, ship=True))


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (["--ship", "files"], "--ship is for runs on a cluster"),
        (["--worker-folder", "/a=/b"], "--worker-folder is for runs on a cluster"),
        (["--cluster", "tcp://x:1", "--ship", "boats"], "'boats' cannot be sent"),
        (["--cluster", "tcp://x:1", "--worker-folder", "/a"], "does not tell a folder here and where workers have it"),
    ],
)
def test_options_that_make_no_sense(tmp_path, run, options, words):
    ran = run("run", a_job(tmp_path), *options)
    assert ran.status == 2 and words in ran.err


def test_what_finds_no_room_on_a_worker_goes_to_another(tmp_path):
    job = a_job(tmp_path, 8)
    with running(tmp_path / "yard", free_port(), workers=1) as yard:
        able = list(yard.pids())
        worker = (
            f"ulimit -f 8; exec {sys.executable} -m dask worker {yard.address} --nthreads 1 --no-dashboard --no-nanny"
        )
        full = start(["bash", "-c", worker], yard.folder)
        while len(yard.pids()) < 2:
            time.sleep(0.1)
        events = []
        result = zo.run_job(job, way=Cluster(yard.address, ship=True), on_progress=events.append)
        assert states(result) == {"written"} and {event.worker.split()[1] for event in events} == set(able)
        os.killpg(full.pid, signal.SIGKILL)
        full.wait()


def test_a_full_disk_of_a_worker_is_its_assets_error(tmp_path, monkeypatch):
    def full(path, data):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "write_bytes", full)
    parcel = remote.Parcel({}, b"", (), False, {"/props/a.obj": b""}, 1)
    import pickle

    done, files = remote.unpacked(remote.run_remote(pickle.dumps(parcel)))
    assert "has no room for the files it was sent: No space left on device" in str(done.error) and not files


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("import nothing_of_the_kind", "line 1: the module fails: ModuleNotFoundError"),
        ("x = 1\nx = (", "line 2: the module fails: SyntaxError"),
        (None, "the module could not be read: No such file"),
    ],
)
def test_modules_that_fail(tmp_path, text, words):
    job = a_job(tmp_path)
    (tmp_path / "steps.py").unlink() if text is None else (tmp_path / "steps.py").write_text(text)
    with pytest.raises(InputError, match=words):
        zo.run_job(job)


def test_a_module_that_changes_makes_its_assets_anew(tmp_path):
    job = a_job(tmp_path, 3)
    assert states(zo.run_job(job, workers=2)) == {"written"}
    assert states(zo.run_job(job, workers=2)) == {"unchanged"}
    (tmp_path / "steps.py").write_text(STEP + "\n# better\n")
    assert states(zo.run_job(job, workers=2)) == {"written"}


# In which order


def test_heavy_tasks_come_first_and_do_not_stand_beside_each_other(tmp_path):
    job = a_job(tmp_path, 3)
    (tmp_path / "props" / "oar1.obj").write_bytes((tmp_path / "props" / "oar1.obj").read_bytes() + b"#" * 10_000)
    tasks = list(zo.jobs.plan(zo.jobs.load(job)).tasks)
    names = {Path(task.name).name: task.name for task in tasks}
    order = [Path(tasks[one.number].name).stem for one in heaviest_first(tasks, {})]
    assert order[0] == "oar1"
    slow = heaviest_first(tasks, {names["oar2.obj"]: 5.0})[0]
    assert Path(tasks[slow.number].name).stem == "oar2"
    assert fits(3e9, 0, 1e9) and not fits(3e9, 1e8, 3e9) and fits(1e8, 1e9, 2e9)
