"""A job that is watched: what changes is made, what breaks leaves the last good files in place."""

from __future__ import annotations

import os
import queue
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS
from zesty_otter.jobs import watching

JOB = '[[sources]]\nfiles = "in/*.obj"\nunit = "m"\n[[outputs]]\nfolder = "out"\n'


def obj_text(size: float = 1.0, more: str = "") -> str:
    points = "".join(f"v {' '.join(str(size * one) for one in point)}\n" for point in CUBE_POINTS)
    faces = "".join(f"f {' '.join(str(n + 1) for n in face)}\n" for face in CUBE_FACES)
    return f"{more}o cube\n{points}{faces}"


class Watching:
    """A job with two sources, watched by a thread."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.stop = folder, threading.Event()
        (folder / "in").mkdir()
        for name in "ab":
            (folder / "in" / f"{name}.obj").write_text(obj_text())
        (folder / "job.toml").write_text(JOB)
        self.seen: object = None
        self.rounds: queue.Queue[zo.jobs.Round] = queue.Queue()
        self.thread = threading.Thread(target=self._watch, daemon=True)
        self.thread.start()

    def _watch(self) -> None:
        for one in zo.watch_job(self.folder / "job.toml", stop=self.stop):
            self.rounds.put(one)

    def next(self) -> tuple[dict[str, str], zo.jobs.Round]:
        """What became of assets in the next round that tells anything new, and that round.

        A slow machine may see one save as two; the second makes nothing.
        """
        while True:
            found = self.rounds.get(timeout=60)
            made = {Path(one.name).name: one.state for one in found.assets}
            seen = made, found.recovered, str(found.error)
            if seen != self.seen:
                self.seen = seen
                return made, found

    def file(self, name: str) -> Path:
        return next(self.folder.rglob(f"{name}.glb"))

    def close(self) -> None:
        self.stop.set()
        self.thread.join(60)
        assert not self.thread.is_alive()
        while not self.rounds.empty():
            assert not self.rounds.get().assets  # nothing is made that no test waited for


@pytest.fixture
def watched(tmp_path):
    found = Watching(tmp_path)
    assert found.next()[0] == {"a.obj": "written", "b.obj": "written"}
    yield found
    found.close()


def test_what_is_saved_is_made_and_nothing_else(watched):
    source = watched.folder / "in" / "a.obj"
    other = watched.file("b").stat().st_mtime_ns
    source.write_text(obj_text(2.0))
    made, found = watched.next()
    assert made == {"a.obj": "written"} and found.changed == (source,)
    assert zo.read(watched.file("a")).bounds()[1].max() == 2
    assert watched.file("b").stat().st_mtime_ns == other
    # As editors save: beside, and renamed over.
    (watched.folder / "in" / "a.tmp").write_text(obj_text(3.0))
    (watched.folder / "in" / "a.tmp").replace(source)
    watched.seen = None
    assert watched.next()[0] == {"a.obj": "written"}
    assert zo.read(watched.file("a")).bounds()[1].max() == 3


def test_a_broken_save_leaves_the_last_good_file(watched):
    source, good = watched.folder / "in" / "a.obj", watched.file("a").read_bytes()
    source.write_text("v 0 0\nf 1 2 3\n")
    made, found = watched.next()
    assert made == {"a.obj": "failed"} and "a.obj" in str(found.assets[0].error)
    assert watched.file("a").read_bytes() == good
    # What goes on failing is told once.
    (watched.folder / "in" / "b.obj").write_text(obj_text(2.0))
    assert watched.next()[0] == {"b.obj": "written"}
    source.write_text(obj_text())
    made, found = watched.next()
    assert made == {} and [Path(one).name for one in found.recovered] == ["a.obj"]


def test_libraries_and_textures_new_and_deleted_sources_count(watched):
    folder = watched.folder / "in"
    (folder / "c.obj").write_text(obj_text(1.0, "mtllib c.mtl\nusemtl oak\n"))
    assert watched.next()[0] == {"c.obj": "written"}
    watched.seen = None
    (folder / "c.mtl").write_text("newmtl oak\nKd 1 0 0\n")
    assert watched.next()[0] == {"c.obj": "written"}
    assert zo.read(watched.file("c")).materials[0].base_color[:3] == (1, 0, 0)
    (folder / "c.obj").unlink()
    made, found = watched.next()
    assert made == {}
    assert [one.partition(" is left")[2] for one in found.result.remarks] == [
        " from an earlier run; in/c.obj is no longer in the job"
    ]
    (folder / "a.obj").write_text(obj_text(2.0))
    watched.seen = None
    assert "a.obj" in watched.next()[0]
    assert [Path(one.name).name for one in found.result.assets] == ["a.obj", "b.obj"]


def test_a_source_that_appears_before_the_watching_begins_is_seen(tmp_path, monkeypatch):
    wait, late = watching.wait_for_change, [obj_text()]

    def waiting(*given, **more):
        if late:
            (tmp_path / "in" / "c.obj").write_text(late.pop())
            time.sleep(0.1)  # as long as its news takes to go round, with nobody listening
        return wait(*given, **more)

    monkeypatch.setattr(watching, "wait_for_change", waiting)
    watched = Watching(tmp_path)
    assert watched.next()[0] == {"a.obj": "written", "b.obj": "written"}
    assert watched.next()[0] == {"c.obj": "written"}
    watched.close()


def test_a_mistake_in_the_job_is_said_and_the_old_one_goes_on(watched):
    job = watched.folder / "job.toml"
    job.write_text(JOB.replace('unit = "m"', 'unit = "metre-ish"'))
    made, found = watched.next()
    assert made == {} and "line 3" in str(found.error)
    (watched.folder / "in" / "a.obj").write_text(obj_text(2.0))
    made, found = watched.next()
    assert made == {"a.obj": "written"} and found.error is not None
    job.write_text(JOB.replace('unit = "m"', 'unit = "cm"'))
    made, found = watched.next()
    assert set(made) == {"a.obj", "b.obj"} and found.error is None
    assert zo.read(watched.file("b")).bounds()[1].max() == pytest.approx(0.01)


def test_a_job_without_sense_is_refused_at_once(tmp_path, run):
    (tmp_path / "job.toml").write_text("[[sources]]\n")
    assert run("run", tmp_path / "job.toml", "--watch").status == 2
    (tmp_path / "job.toml").write_text(JOB)
    assert "--watch does not go with --dry-run" in " ".join(
        run("run", tmp_path / "job.toml", "--watch", "--dry-run").err.split()
    )


@pytest.mark.skipif(sys.platform == "win32", reason="has no interrupts between processes")
@pytest.mark.parametrize("what", ["run", "convert"])
def test_the_command_line_tells_each_round_and_ends_cleanly(tmp_path, what):
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.obj").write_text(obj_text())
    (tmp_path / "job.toml").write_text(JOB)
    arguments = ["run", "job.toml"] if what == "run" else ["convert", "in/a.obj", "a.glb", "--unit", "m"]
    program = [sys.executable, "-m", "zesty_otter", *arguments, "--watch"]
    with subprocess.Popen(
        program, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    ) as process:
        assert process.stdout is not None
        lines = iter(process.stdout.readline, "")
        assert any("watching; Ctrl-C ends it" in line for line in lines)
        (tmp_path / "in" / "a.obj").write_text(obj_text(2.0))
        assert "as meant" in next(lines)
        (tmp_path / "in" / "a.obj").write_text("v 0\n")
        assert "failed" in next(lines)
        os.kill(process.pid, signal.SIGINT)
        assert "no longer watching" in "".join(lines)
        assert process.wait(60) == 0
    assert zo.read(next(tmp_path.rglob("a.glb"))).bounds()[1].max() == 2
