"""What a command loads before it does anything, and that its help needs none of it."""

from __future__ import annotations

import subprocess
import sys

import pytest
import typer

import zesty_otter as zo
from build import cube, scene_of
from zesty_otter.cli import COMMANDS, app

HEAVY = (
    "scipy",
    "PIL",
    "lxml",
    "zesty_otter.geometry.solids.decompose",
    "zesty_otter.pictures",
    "zesty_otter.jobs",
)


def loaded_by(*arguments: object) -> set[str]:
    code = "import sys; from zesty_otter.cli import main\ntry: main(sys.argv[1:])\nexcept SystemExit: pass\n"
    code += "print(*sorted(sys.modules), sep=chr(10), file=sys.stderr)"
    done = subprocess.run(
        [sys.executable, "-c", code, *map(str, arguments)], capture_output=True, text=True, check=True
    )
    return set(done.stderr.split("\n"))


@pytest.mark.parametrize(
    ("arguments", "none_of"),
    [
        (["--help"], (*HEAVY, "numpy", "pydantic", "rich.console")),
        (["--version"], (*HEAVY, "numpy", "pydantic", "rich.console")),
        (["formats"], (*HEAVY, "pydantic")),
        (["targets"], (*HEAVY, "numpy", "zesty_otter.steps")),
        (["steps"], (*HEAVY, "numpy", "pydantic")),
        (
            ["steps", "weld"],
            ("scipy", "PIL", "lxml", "zesty_otter.geometry.solids.decompose", "zesty_otter.pictures"),
        ),
        (
            ["survey", "a.glb"],
            (*HEAVY, "pydantic", "zesty_otter.geometry.curves.faceting"),
        ),
        (
            ["survey", "a.obj"],
            (*HEAVY, "pydantic", "zesty_otter.geometry.curves.faceting"),
        ),
        (
            ["convert", "a.glb", "b.glb"],
            ("scipy", "lxml", "zesty_otter.geometry.solids.decompose", "numpy.ma"),
        ),
        (["convert", "a.glb", "b.glb", "--collision", "turned-box"], ("scipy", "lxml")),
        (["convert", "a.glb", "b.glb", "--collision", "parts"], ("scipy", "lxml")),
        (["convert", "a.glb", "b.glb", "--step", "unwrap for=light", "--step", "shadow inward=1cm"], ("scipy", "lxml")),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) else "",
)
def test_a_command_loads_only_what_it_uses(tmp_path, monkeypatch, arguments, none_of):
    monkeypatch.chdir(tmp_path)
    for name in ("a.glb", "a.obj"):
        zo.write(scene_of(cube()), name)
    loaded = loaded_by(*arguments)
    assert "zesty_otter.cli" in loaded
    assert not loaded & set(none_of)


@pytest.mark.parametrize("name", COMMANDS)
def test_help_of_all_commands_says_what_the_command_itself_says(name):
    command = typer.main.get_command(app).get_command(None, name)
    assert " ".join(command.help.split("\n\n")[0].split()) == COMMANDS[name]


def test_names_of_rooms_are_found_wherever_they_live():
    for room in (zo.steps, zo.audit, zo.jobs):
        for name in room.__all__:
            assert getattr(room, name) is not None
    with pytest.raises(AttributeError, match="has no attribute 'Wled'"):
        zo.steps.Wled  # noqa: B018


def test_steps_are_listed_with_what_they_say_of_themselves():
    assert zo.steps.summaries() == {slug: zo.steps.first_line(step) for slug, step in zo.steps.STEPS.items()}
