"""`zesty-otter convert`: one file through the usual steps."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict
from json import dumps
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

from zesty_otter import audit, formats, steps, targets
from zesty_otter.audit import Arrival
from zesty_otter.audit.surveying import triangles_in_words
from zesty_otter.cli import console
from zesty_otter.cli.console import format_bytes, format_size, option, results
from zesty_otter.cli.survey import unit_table
from zesty_otter.errors import UnknownUnitError, UsageError, ZestyOtterError
from zesty_otter.formats.files import save
from zesty_otter.model import Node, Renamed, Scene, count_of
from zesty_otter.pipeline import Conversion, SourceFile, Wanted, convert, selection, target_steps
from zesty_otter.pipeline.framing import frame_in, worked_in
from zesty_otter.pipeline.watching import stamp_of

_MOST_NAMES = 20
_BAKED = ("normal", "occlusion")


_SPACE = "Space of the output"
_NODES = "What is written"
_PLACE = "Size and place"
_SHAPE = "Shape"
_LOOK = "Look"
_BESIDE = "What stands beside it"
_NAMES = "Names"
_MORE = "More"

Source = Annotated[Path, typer.Argument(help="The file to read.", show_default=False)]
Out = Annotated[Path, typer.Argument(help="The file to write; its ending sets the format.", show_default=False)]
Colors = Annotated[
    str | None,
    option("Source", metavar="screen|linear", help="Read its colours as sRGB (screen) or as linear."),
]
TexturesFrom = Annotated[
    list[Path] | None,
    option("Source", metavar="FOLDER", help="Another folder to search for textures; repeatable."),
]
Target = Annotated[
    str | None,
    option(_SPACE, metavar="NAME", help="Target of the file: sets space, names, limits and more."),
]
ToUnit = Annotated[str | None, option(_SPACE, metavar="UNIT", help="Unit of the output.")]
ToAxes = Annotated[str | None, option(_SPACE, metavar="'X Y Z'", help="Axes of the output.")]
Keep = Annotated[
    str | None,
    option(
        _NODES,
        metavar="WORDS",
        help="Nodes to keep: gate*, role:collision, group:quay, hidden.",
    ),
]
Drop = Annotated[str | None, option(_NODES, metavar="WORDS", help="Nodes to drop, for example hidden.")]
Lights = Annotated[bool, option(_NODES, "--lights", help="Keep lights.")]
Cameras = Annotated[bool, option(_NODES, "--cameras", help="Keep cameras.")]
Gather = Annotated[
    bool, option(_NODES, "--gather", help="Turn copies of one thing, also those stored separately, into scatters.")
]
StandIns = Annotated[
    str | None, option(_NODES, metavar="WORDS", help="Put boxes in place of these nodes: gate*, visible for all.")
]
SwapTable = Annotated[
    Path | None, option(_NODES, "--swap", metavar="TABLE", help="Exchange meshes by a table, .csv or .toml.")
]
Cells = Annotated[str | None, option(_NODES, metavar="LENGTH", help="Cut it into square cells of the ground: 20m.")]
Scale = Annotated[str | None, option(_PLACE, metavar="FACTOR", help="Multiply all sizes: 0.5 or 50%.")]
Height = Annotated[str | None, option(_PLACE, metavar="LENGTH", help="Make it this tall: 1.8m.")]
Bake = Annotated[bool, option(_PLACE, "--bake", help="Bake rotation and scale of nodes into the meshes.")]
Pivot = Annotated[
    str, option(_PLACE, metavar="WHERE", help="keep, origin, base, centre and more: `zesty-otter steps pivot`.")
]
PivotOf = Annotated[str, option(_PLACE, metavar="WHAT", help="object: a pivot each; scene: one for all.")]
Place = Annotated[str, option(_PLACE, metavar="WHERE", help="keep, or origin to move pivots there.")]
Weld = Annotated[str | None, option(_SHAPE, metavar="LENGTH", help="Merge points closer than this: 0.1mm.")]
Clean = Annotated[
    bool, option(_SHAPE, "--clean", help="Remove faces without area, duplicates and loose points; turn faces outward.")
]
Normals = Annotated[
    str,
    option(_SHAPE, metavar="HOW", help="keep, hard, smooth, groups, or degrees up to which edges are smooth."),
]
Triangulate = Annotated[
    str | None,
    option(
        _SHAPE,
        metavar="RULE",
        help="shortest-diagonal, best-angle or fixed; shortest-diagonal where target or format needs triangles.",
    ),
]
Tangents = Annotated[
    str | None,
    option(_SHAPE, metavar="OF", help="normal-mapped, all or none; as the target says, else normal-mapped."),
]
Budget = Annotated[
    int | None,
    option(_SHAPE, metavar="TRIANGLES", help="Maximum triangles of a mesh; heavier ones are reduced."),
]
Materials = Annotated[str, option(_LOOK, metavar="HOW", help="keep, plain (base colour texture only) or metal-rough.")]
Textures = Annotated[str, option(_LOOK, metavar="HOW", help="keep, none, or the maximum pixels along a side.")]
Unwrap = Annotated[
    str | None,
    option(_LOOK, metavar="light|paint", help="Make UVs without overlap: a second set for light, or the first anew."),
]
Atlas = Annotated[
    int | None, option(_LOOK, metavar="PIXELS", help="One material, and one page of textures of at most this size.")
]
BakeFrom = Annotated[
    Path | None,
    option(_LOOK, metavar="FILE", help="Bake normals and occlusion from this file onto the mesh and its levels."),
]
Levels = Annotated[
    str | None,
    option(
        _BESIDE,
        metavar="CHAIN",
        help="Levels of detail: 50,25,10 (percent), 'screen 0.5 0.2', 'deviation 1mm 5mm'.",
    ),
]
Card = Annotated[
    int | None,
    option(_BESIDE, metavar="PLANES", help="Add a flat picture as the last level, of 1 to 4 crossing rectangles."),
]
Collision = Annotated[
    str | None,
    option(
        _BESIDE,
        metavar="SHAPE",
        help="auto, box, hull, parts, surface, none and more: `zesty-otter steps collision`.",
    ),
]
CollisionTolerance = Annotated[
    str, option(_BESIDE, metavar="LENGTH", help="Maximum distance of collision from the mesh.")
]
Shadow = Annotated[str | None, option(_BESIDE, metavar="LENGTH", help="Add shadow meshes, pulled inward by this: 1cm.")]
Names = Annotated[
    str | None,
    option(_NAMES, metavar="TEMPLATE", help="Template for node names, or keep to leave them; {name} when absent."),
]
NamesTable = Annotated[
    Path | None, option(_NAMES, metavar="FILE.csv", help="Write the table of old and new names here.")
]
Quantized = Annotated[
    bool, option(_MORE, "--quantized", help="For glTF: positions in 16 bits, normals in 8, UVs in 16.")
]
Writing = Annotated[
    list[str] | None,
    option(_MORE, metavar="KEY=VALUE", help="A setting of the format, as `formats` lists them: copies=plain."),
]
Step = Annotated[
    list[str] | None,
    option(_MORE, metavar="'STEP KEY=VALUE'", help="Any other step, applied before naming; repeatable."),
]
Watch = Annotated[
    bool, option(_MORE, "--watch", help="Keep running and convert again whenever the file changes; Ctrl-C ends it.")
]


def command(
    source: Source,
    out: Out,
    unit: console.Unit = None,
    axes: console.Axes = None,
    pose: console.Pose = None,
    scene_name: console.SceneName = None,
    facets: console.FacetsText = None,
    colors: Colors = None,
    textures_from: TexturesFrom = None,
    target: Target = None,
    to_unit: ToUnit = None,
    to_axes: ToAxes = None,
    keep: Keep = None,
    drop: Drop = None,
    lights: Lights = False,
    cameras: Cameras = False,
    gather: Gather = False,
    swap: SwapTable = None,
    stand_ins: StandIns = None,
    cells: Cells = None,
    scale: Scale = None,
    height: Height = None,
    bake: Bake = False,
    pivot: Pivot = "keep",
    pivot_of: PivotOf = "object",
    place: Place = "keep",
    weld: Weld = None,
    clean: Clean = False,
    normals: Normals = "keep",
    triangulate: Triangulate = None,
    tangents: Tangents = None,
    budget: Budget = None,
    materials: Materials = "keep",
    textures: Textures = "keep",
    unwrap: Unwrap = None,
    atlas: Atlas = None,
    bake_from: BakeFrom = None,
    levels: Levels = None,
    card: Card = None,
    collision: Collision = None,
    collision_tolerance: CollisionTolerance = "2cm",
    shadow: Shadow = None,
    names: Names = None,
    names_table: NamesTable = None,
    quantized: Quantized = False,
    writing: Writing = None,
    step: Step = None,
    watch: Watch = False,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Read a file, mend it, write it, and read it back to check that it arrived."""
    kind = formats.format_of(out)
    asked = targets.load(target) if target else None
    space = asked.space if asked else None
    frame = frame_in(kind, space, to_axes, to_unit)
    if asked is not None and frame != asked.space and not (quiet or json):
        console.messages.print(
            f"[assumed]assumed[/] a {out.suffix} file is written in {frame}; '{target}' turns it when it reads it",
            soft_wrap=True,
        )
    # Without a target, an output is as most engines want it and its format allows.
    receiver = asked or targets.Target(triangulate="polygons" not in kind.carries, tangents="normal-mapped")
    kept = [word for word, wanted in (("kind:light", lights), ("kind:camera", cameras)) if wanted]
    dropped = [word for word in ("kind:light", "kind:camera", *receiver.drop) if word not in kept]
    ready = worked_in([kind], space, to_axes, to_unit)
    choice, keep_hidden = selection(_words(keep), [*_words(drop), *dropped])
    wanted = Wanted(
        ready,
        asked,
        tuple(
            target_steps(
                receiver, [kind], names=names or (None if asked else "{name}"), diagonal=triangulate, tangents=tangents
            )
        ),
        writing={**_settings(writing), **({"quantized": True} if quantized else {})},
        keep_hidden=keep_hidden,
    )
    chosen: list[steps.Step] = [
        *([choice] if choice else []),
        *_placing(scale, height, bake=bake),
        *_shaping(weld, clean=clean),
        *_normals(normals),
        *_materials(materials),
        *_textures(textures),
        *(steps.step_from_text(text) for text in step or ()),
        *([steps.Gather()] if gather else []),
        *([steps.Swap(table=swap)] if swap is not None else []),
        steps.Pivot(at=pivot, of=pivot_of, place=place),
        *([steps.Atlas(size=atlas)] if atlas is not None else []),
        *([steps.Unwrap(purpose=unwrap)] if unwrap is not None else []),
        *_beside(budget, levels, card, collision, collision_tolerance, shadow),
        *([steps.BakeMaps(file=bake_from, unit=unit, axes=axes, maps=_BAKED)] if bake_from is not None else []),
        *([steps.StandIns(only=stand_ins)] if stand_ins is not None else []),
        *([steps.Cells(size=cells)] if cells is not None else []),
    ]
    given = SourceFile(
        source, unit, axes, tuple(textures_from or ()), pose=pose, scene=scene_name, colors=colors, facets=facets
    )

    def once(*, quiet: bool = quiet or json) -> Conversion:
        with console.stages(quiet=quiet) as told:
            done = convert(given, out, chosen, wanted, frame=space or ready, watch=told)
        if names_table is not None:
            from zesty_otter.steps.names import table_text

            save({names_table.name: [table_text(done.scene.renamed).encode()]}, names_table, inputs=[source])
        return done

    stamps = {source.absolute(): stamp_of(source)}
    try:
        done = once()
    except UnknownUnitError:
        _say_unit_is_needed(source, unit, axes, json=json)
        return UnknownUnitError.exit_status
    if json:
        console.print_json(as_json(source, done))
    else:
        show(source, done)
        console.print_findings((("", one) for one in done.findings), verbose=verbose, quiet=quiet)
        console.print_notes(done.notes, verbose=verbose, quiet=quiet)
    if watch:
        _watch(source, stamps, done, once, json=json)
        return 0
    errors = any(one.severity == "error" for one in done.findings)
    return 1 if errors or any(arrival.problems for arrival in done.arrivals) else 0


def _watch(
    source: Path, stamps: Mapping[Path, Any], done: Conversion, once: Callable[..., Conversion], *, json: bool
) -> None:
    """Convert again whenever the source, or what it refers to, changes; a line or a document for each time."""
    from zesty_otter.formats.files import inputs_of
    from zesty_otter.pipeline.watching import wait_for_change

    if not json:
        console.results.print("watching; Ctrl-C ends it")
    files = dict(stamps)
    with contextlib.suppress(KeyboardInterrupt):
        while True:
            files |= {one: stamp_of(one) for path in inputs_of(done.scene) if (one := path.absolute()) not in files}
            if not wait_for_change(files, [], ()):
                continue
            files = {path: stamp_of(path) for path in files}
            started = time.monotonic()
            now = time.strftime("%H:%M:%S")
            try:
                done = once(quiet=True)
            except ZestyOtterError as error:
                stays = "The file of the last good time stays."
                console.messages.print(f"{now} [problem]failed[/] {escape(str(error))} {stays}", soft_wrap=True)
                continue
            if json:
                text = dumps(as_json(source, done), default=str)
                console.results.print(text, soft_wrap=True, highlight=False, markup=False)
                continue
            problems = [problem for one in done.arrivals for problem in one.problems]
            said = f"[problem]differs[/]: {escape('; '.join(problems[:2]))}" if problems else "[done]as meant[/]"
            files_made = count_of(len(done.arrivals), "file")
            took = time.monotonic() - started
            text = f"{now} {escape(source.name)} written, {files_made} in {took:.2f} s, {said}"
            console.results.print(text, soft_wrap=True)
    if not json:
        console.results.print("\nno longer watching")


def _settings(given: list[str] | None) -> dict[str, Any]:
    """Settings from KEY=VALUE."""
    found = {}
    for text in given or ():
        key, equals, value = text.partition("=")
        if not equals:
            raise UsageError(f"'{text}' is not a setting.", remedy=f"Write: --writing {key}=VALUE")
        found[key] = value
    return found


def _placing(scale: str | None, height: str | None, *, bake: bool) -> Iterator[steps.Step]:
    if scale is not None:
        yield steps.Scale(factor=scale)
    if height is not None:
        yield steps.Scale(height=height)
    if bake:
        yield steps.BakeTransforms()


def _shaping(weld: str | None, *, clean: bool) -> Iterator[steps.Step]:
    if weld is not None:
        yield steps.Weld(distance=weld)
    if clean:
        yield steps.CleanUp()


def _beside(
    budget: int | None,
    levels: str | None,
    card: int | None,
    collision: str | None,
    tolerance: str,
    shadow: str | None,
) -> Iterator[steps.Step]:
    """The steps that make something beside the visible mesh, after the one that makes that light enough."""
    if budget is not None:
        yield steps.Lighten(triangles=budget)
    if levels is not None:
        yield steps.Levels(chain=levels)
    if card is not None:
        yield steps.Card(planes=card)
    if collision is not None:
        yield steps.Collision(shape=collision, tolerance=tolerance)
    if shadow is not None:
        yield steps.Shadow(inward=shadow)


def as_json(source: Path, done: Conversion) -> dict[str, Any]:
    """What came of a conversion as plain data."""
    first, *further = done.arrivals
    return {
        "source": str(source),
        **asdict(first),
        "size": first.facts.size,
        "further": [asdict(one) for one in further],
        "levels": [asdict(one) for one in steps.level_facts(done.scene)],
        "collision": [asdict(one) for one in audit.collision_facts(done.scene)],
        "renamed": [asdict(one) for one in done.scene.renamed],
        "findings": [asdict(one) for one in done.findings],
        "notes": [asdict(note) for note in done.notes],
    }


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
        console.print_json({"error": "the file has no unit; give --unit", "guesses": [asdict(g) for g in guesses]})
        return
    console.messages.print(unit_table(guesses))
    console.messages.print(
        f"[problem]zesty-otter:[/] {escape(str(source))}: say which unit it is in, for example --unit cm.",
        soft_wrap=True,
    )


def show(source: Path, done: Conversion) -> None:
    """Print what came of it."""
    scene = done.scene
    arrival, *further = done.arrivals
    facts = arrival.facts
    results.print(f"[title]{escape(source.name)} → {escape(arrival.path)}[/]")
    found = steps.level_facts(scene)
    sides = facts.size
    size = f"{format_size(sides, 1.0)} (width × height × depth), about as large as {audit.likeness(max(sides))}"
    results.print(
        console.facts(
            [
                ("size", size),
                ("triangles", triangles_in_words(facts.seen_triangles or 0, facts.triangles)),
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


def _slots(scene: Scene) -> str:
    """How many slots what is seen near by uses, and the materials in them."""
    meshes = [node.drawn for node in _seen(scene) if node.drawn is not None]
    used = [mesh.slots[number] for mesh in meshes for number in mesh.used_slots]
    names = ", ".join(dict.fromkeys(material.name for material in used if material is not None))
    return f"{len(used):,} of {names}" if names else f"{len(used):,}, without material"


def _seen(scene: Scene) -> list[Node]:
    """The nodes that are seen near by."""
    return [placed.node for placed in scene.walk() if placed.node.is_shown]


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
    if not arrival.compared:
        return "[finding]not read back: this format can only be written[/]"
    if not arrival.problems:
        return f"[done]read back: {', '.join(arrival.compared[:-1])} and {arrival.compared[-1]} as meant[/]"
    return "[problem]differs:[/] " + escape("; ".join(arrival.problems))
