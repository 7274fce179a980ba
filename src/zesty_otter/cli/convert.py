"""`zesty-otter convert`: one file through the usual steps."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

from zesty_otter import audit, formats, steps, targets
from zesty_otter.audit.arrival import Arrival
from zesty_otter.audit.surveying import triangles_in_words
from zesty_otter.cli import console
from zesty_otter.cli.console import format_bytes, format_size, results
from zesty_otter.cli.survey import unit_table
from zesty_otter.errors import UnknownUnitError, UsageError
from zesty_otter.formats.files import save
from zesty_otter.jobs.delivery import deliver
from zesty_otter.jobs.framing import frame_in
from zesty_otter.jobs.split import Piece, levels_apart
from zesty_otter.model import Frame, Node, Note, Renamed, Scene

_MOST_NAMES = 20


def command(
    source: Annotated[Path, typer.Argument(help="The file to read.", show_default=False)],
    out: Annotated[Path, typer.Argument(help="The file to write; its ending says the format.", show_default=False)],
    unit: console.Unit = None,
    axes: console.Axes = None,
    pose: console.Pose = None,
    scene_name: console.SceneName = None,
    target: Annotated[str | None, typer.Option(metavar="NAME", help="What receives the file.")] = None,
    to_unit: Annotated[str | None, typer.Option(metavar="UNIT", help="Unit of the output.")] = None,
    to_axes: Annotated[str | None, typer.Option(metavar="'X Y Z'", help="Axes of the output.")] = None,
    keep: Annotated[
        str | None, typer.Option(metavar="WORDS", help="Nodes to keep: gate*, role:collision, group:quay, kind:mesh.")
    ] = None,
    drop: Annotated[str | None, typer.Option(metavar="WORDS", help="Nodes to drop, for example hidden.")] = None,
    lights: Annotated[bool, typer.Option("--lights", help="Keep lights.")] = False,
    cameras: Annotated[bool, typer.Option("--cameras", help="Keep cameras.")] = False,
    scale: Annotated[str | None, typer.Option(metavar="FACTOR", help="Multiply all sizes: 0.5 or 50%.")] = None,
    height: Annotated[str | None, typer.Option(metavar="LENGTH", help="Make it this tall: 1.8m.")] = None,
    bake: Annotated[bool, typer.Option("--bake", help="Bake rotation and scale of nodes into the meshes.")] = False,
    weld: Annotated[str | None, typer.Option(metavar="LENGTH", help="Make points closer than this one: 0.1mm.")] = None,
    clean: Annotated[
        bool, typer.Option("--clean", help="Drop flat, double and loose things; turn faces outward.")
    ] = False,
    normals: Annotated[
        str, typer.Option(metavar="HOW", help="keep, hard, smooth, groups, or degrees up to which edges are smooth.")
    ] = "keep",
    materials: Annotated[
        str, typer.Option(metavar="HOW", help="keep, plain (base colour texture only) or metal-rough.")
    ] = "keep",
    textures: Annotated[
        str, typer.Option(metavar="HOW", help="keep, none, or the most pixels a side may have.")
    ] = "keep",
    textures_from: Annotated[
        list[Path] | None, typer.Option(metavar="FOLDER", help="A further folder to find files in; may come again.")
    ] = None,
    pivot: Annotated[
        str, typer.Option(metavar="WHERE", help="keep, origin, base, centre and more: `zesty-otter steps pivot`.")
    ] = "keep",
    pivot_of: Annotated[str, typer.Option(metavar="WHAT", help="object: a pivot each; scene: one for all.")] = "object",
    place: Annotated[str, typer.Option(metavar="WHERE", help="keep, or origin to move pivots there.")] = "keep",
    budget: Annotated[
        int | None, typer.Option(metavar="TRIANGLES", help="The most a mesh may have; heavier ones are made lighter.")
    ] = None,
    levels: Annotated[
        str | None,
        typer.Option(
            metavar="CHAIN", help="Levels of detail: 50,25,10 (percent), 'screen 0.5 0.2', 'deviation 1mm 5mm'."
        ),
    ] = None,
    card: Annotated[
        int | None,
        typer.Option(metavar="PLANES", help="Add a flat picture as the last level, of 1 to 4 crossing rectangles."),
    ] = None,
    collision: Annotated[
        str | None,
        typer.Option(
            metavar="SHAPE", help="auto, box, hull, parts, surface, none and more: `zesty-otter steps collision`."
        ),
    ] = None,
    collision_tolerance: Annotated[
        str, typer.Option(metavar="LENGTH", help="How far collision may be from the mesh.")
    ] = "2cm",
    shadow: Annotated[
        str | None, typer.Option(metavar="LENGTH", help="Add shadow meshes, pulled inward by so much: 1cm.")
    ] = None,
    names: Annotated[
        str, typer.Option(metavar="TEMPLATE", help="Template for node names, or keep to leave them.")
    ] = "{name}",
    names_table: Annotated[
        Path | None, typer.Option(metavar="FILE.csv", help="Write the table of old and new names here.")
    ] = None,
    triangulate: Annotated[
        str, typer.Option(metavar="RULE", help="shortest-diagonal, best-angle or fixed.")
    ] = "shortest-diagonal",
    tangents: Annotated[str, typer.Option(metavar="OF", help="normal-mapped, all or none.")] = "normal-mapped",
    quantized: Annotated[
        bool, typer.Option("--quantized", help="For glTF: positions in 16 bits, normals in 8, UVs in 16.")
    ] = False,
    step: Annotated[
        list[str] | None,
        typer.Option(metavar="'STEP KEY=VALUE'", help="Any other step, before names are given; may come again."),
    ] = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Read a file, mend it, write it, and read it back to see that it arrived."""
    frame = _wanted_frame(out, target, to_unit, to_axes)
    if target is not None and frame != targets.load(target).space and not (quiet or json):
        console.messages.print(
            f"[guess]assumed[/] a {out.suffix} file is always in {frame}; '{target}' turns it when it reads it",
            soft_wrap=True,
        )
    extras = [word for word, kept in (("kind:light", lights), ("kind:camera", cameras)) if not kept]
    chosen: list[steps.Step] = [steps.Roles(), steps.Select(keep=keep or (), drop=[*_words(drop), *extras])]
    if scale is not None:
        chosen.append(steps.Scale(factor=scale))
    if height is not None:
        chosen.append(steps.Scale(height=height))
    if bake:
        chosen.append(steps.BakeTransforms())
    if weld is not None:
        chosen.append(steps.Weld(distance=weld))
    if clean:
        chosen.append(steps.CleanUp())
    chosen += [*_normals(normals), *_materials(materials), *_textures(textures)]
    chosen += [steps.step_from_text(text) for text in step or ()]
    chosen.append(steps.Pivot(at=pivot, of=pivot_of, place=place))
    if budget is not None:
        chosen.append(steps.Lighten(triangles=budget))
    if levels is not None:
        chosen.append(steps.Levels(chain=levels))
    if card is not None:
        chosen.append(steps.Card(planes=card))
    if collision is not None:
        chosen.append(steps.Collision(shape=collision, tolerance=collision_tolerance))
    if shadow is not None:
        chosen.append(steps.Shadow(inward=shadow))
    if names != "keep":
        chosen.append(steps.Names(template=names))
    chosen.append(steps.Triangulate(diagonal=triangulate))
    if tangents != "none":
        chosen.append(steps.Tangents(of=tangents))
    folders = textures_from or []
    try:
        scene, notes, arrivals = convert(
            source,
            out,
            unit,
            axes,
            frame,
            chosen,
            target=targets.load(target) if target else None,
            folders=folders,
            pose=pose,
            scene_name=scene_name,
            quantized=quantized,
            quiet=quiet or json,
        )
    except UnknownUnitError:
        _say_unit_is_needed(source, unit, axes, json=json)
        return UnknownUnitError.exit_status
    if names_table is not None:
        from zesty_otter.steps.names import table_text

        save({names_table.name: [table_text(scene.renamed).encode()]}, names_table, inputs=[source])
    if json:
        console.print_json(
            {
                "source": str(source),
                **asdict(arrivals[0]),
                "size": _sides(scene, arrivals[0]),
                "further": [asdict(one) for one in arrivals[1:]],
                "levels": [asdict(one) for one in steps.level_facts(scene)],
                "collision": [asdict(one) for one in audit.collision_facts(scene)],
                "renamed": [asdict(one) for one in scene.renamed],
                "notes": [asdict(note) for note in (*scene.notes, *notes)],
            }
        )
    else:
        show(source, scene, arrivals)
        console.print_notes((*scene.notes, *notes), verbose=verbose, quiet=quiet)
    return 1 if any(arrival.problems for arrival in arrivals) else 0


def _words(text: str | None) -> list[str]:
    return [word.strip() for word in (text or "").split(",") if word.strip()]


def _normals(how: str) -> list[steps.Step]:
    """The step an answer to --normals asks for."""
    if how == "keep":
        return []
    try:
        return [steps.Normals(by="angle", angle=float(how))]
    except ValueError:
        return [steps.Normals(by=how)]


def _materials(how: str) -> list[steps.Step]:
    if how == "keep":
        return []
    if how == "plain":
        return [steps.Materials(plain=True)]
    return [steps.Materials(shading=how)]


def _textures(how: str) -> list[steps.Step]:
    if how == "keep":
        return []
    return [steps.Textures(leave_out=True) if how == "none" else steps.Textures(largest=how)]


def _say_unit_is_needed(source: Path, unit: str | None, axes: str | None, *, json: bool) -> None:
    guesses = audit.survey(formats.read(source, unit, axes)).guesses
    if json:
        console.print_json({"error": "the file names no unit; give --unit", "guesses": [asdict(g) for g in guesses]})
        return
    console.messages.print(unit_table(guesses))
    console.messages.print(
        f"[problem]zesty-otter:[/] {escape(str(source))}: say which unit it is in, for example --unit cm.",
        soft_wrap=True,
    )


def convert(
    source: Path,
    out: Path,
    unit: str | None,
    axes: str | None,
    frame: Frame,
    chosen: list[steps.Step],
    *,
    folders: Sequence[Path] = (),
    pose: str | None = None,
    scene_name: str | None = None,
    target: targets.Target | None = None,
    quantized: bool = False,
    quiet: bool = False,
) -> tuple[Scene, list[Note], list[Arrival]]:
    """The scene as written, the writer's notes, and the comparison with each file read back.

    There is more than one file when the target wants levels of detail apart.
    """
    with console.progress(f"Reading {source.name}", quiet=quiet) as progress:
        scene = formats.read(source, unit, axes, progress=progress, folders=folders, pose=pose, scene=scene_name)
    with console.progress("Mending", quiet=quiet) as progress:
        scene = steps.Reframe(axes=" ".join(frame.axes), unit=frame.unit).apply(scene)
        for number, step in enumerate(chosen, 1):
            scene = step.apply(scene, _part_of(progress, number - 1, len(chosen)))
            progress(number / len(chosen))
    with console.progress(f"Writing {out.name}", quiet=quiet) as progress:
        whole = Piece(out.stem, "", scene)
        pieces = levels_apart(whole, target) if target is not None else [whole]
        notes: list[Note] = []
        arrivals = []
        for number, piece in enumerate(pieces, 1):
            path = out if piece.name == whole.name else out.with_name(piece.name + out.suffix)
            written, arrival = deliver(piece.scene, path, quantized=quantized)
            notes += written
            arrivals.append(arrival)
            progress(number / len(pieces))
    return scene, notes, arrivals


def _part_of(progress: Callable[[float], None], done: int, of: int) -> Callable[[float], None]:
    """What a step tells its share to, of several steps."""
    return lambda share: progress((done + share) / of)


def _wanted_frame(out: Path, target: str | None, to_unit: str | None, to_axes: str | None) -> Frame:
    """The frame to write in: the format's own where it has only one."""
    space = targets.load(target).space if target else None
    try:
        return frame_in(formats.format_of(out), space, to_axes, to_unit)
    except UsageError as error:
        raise UsageError(
            error.problem,
            remedy="Leave --to-unit and --to-axes out; whatever reads the file turns it into its own frame.",
        ) from None


def show(source: Path, scene: Scene, arrivals: list[Arrival]) -> None:
    """Print what came of it."""
    arrival, *further = arrivals
    facts = arrival.facts
    results.print(f"[title]{escape(source.name)} → {escape(arrival.path)}[/]")
    found = steps.level_facts(scene)
    sides = _sides(scene, arrival)
    size = f"{format_size(sides, 1.0)} (width × height × depth), about as large as {audit.likeness(max(sides))}"
    results.print(
        console.facts(
            [
                ("size", size),
                ("triangles", _triangles(scene, facts.triangles)),
                ("vertices", f"{facts.vertices:,}"),
                ("slots", escape(_slots(scene))),
                ("file", format_bytes(facts.bytes)),
                ("arrival", verdict(arrival)),
                *((Path(one.path).name, verdict(one)) for one in further),
            ]
        )
    )
    if found:
        results.print()
        results.print(console.level_table(found))
    solid = audit.collision_facts(scene)
    if solid:
        results.print()
        results.print(console.collision_table(solid))
    if scene.renamed:
        results.print()
        results.print(name_table(scene.renamed))


def _sides(scene: Scene, arrival: Arrival) -> tuple[float, float, float]:
    """Width, height and depth in metres of what is seen near by; levels may reach a little farther."""
    near = audit.survey(scene).size if steps.level_facts(scene) else None
    if near is None:
        return arrival.facts.size
    width, height, depth = (side * (scene.frame.unit or 1.0) for side in near)
    return width, height, depth


def _triangles(scene: Scene, total: int) -> str:
    """What is seen near by, and everything, where that is more."""
    near = sum(node.mesh.triangle_count for node in _seen(scene) if node.mesh is not None)
    return triangles_in_words(near, total)


def _slots(scene: Scene) -> str:
    """How many slots what is seen near by uses, and the materials in them."""
    meshes = [node.drawn for node in _seen(scene) if node.drawn is not None]
    used = [mesh.slots[number] for mesh in meshes for number in mesh.used_slots]
    names = ", ".join(dict.fromkeys(material.name for material in used if material is not None))
    return f"{len(used):,} of {names}" if names else f"{len(used):,}, without material"


def _seen(scene: Scene) -> list[Node]:
    """The nodes that are seen near by."""
    return [placed.node for placed in scene.walk() if placed.node.role == "visible"]


def name_table(renamed: tuple[Renamed, ...]) -> Any:
    """Old and new names."""
    made = console.table("kind", "old name", "new name")
    for one in renamed[:_MOST_NAMES]:
        made.add_row(one.kind, escape(one.old), escape(one.new))
    if len(renamed) > _MOST_NAMES:
        made.add_row("", f"[faint]and {len(renamed) - _MOST_NAMES} more; --json lists all[/]")
    return made


def verdict(arrival: Arrival) -> str:
    """One line on whether what was written is what was meant."""
    if not arrival.problems:
        return "[done]read back: size, counts, slots and names as meant[/]"
    return "[problem]differs:[/] " + escape("; ".join(arrival.problems))
