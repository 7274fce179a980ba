"""`zesty-otter survey`: what is in a file."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.markup import escape

from zesty_otter import audit, formats
from zesty_otter.audit.sizes import SizeGuess
from zesty_otter.audit.surveying import FaceCounts, NodeFacts, Survey
from zesty_otter.cli import console
from zesty_otter.cli.console import format_size, results
from zesty_otter.errors import InputError
from zesty_otter.formats.facets import EXACT
from zesty_otter.model import count_of, format_length, format_unit, shortened
from zesty_otter.steps.assets import with_roles

if TYPE_CHECKING:
    from zesty_otter.formats.facets import ExactFacts

_MOST_NODES = 40


def command(
    files: Annotated[list[Path], typer.Argument(help="Files to show.", show_default=False)],
    unit: console.Unit = None,
    axes: console.Axes = None,
    pose: console.Pose = None,
    facets: console.FacetsText = None,
    scene: console.SceneName = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Show what is in a file: sizes, tree, counts, materials, textures, and what looks wrong."""
    documents: list[Any] = []
    status = 0
    for number, path in enumerate(files):
        try:
            with console.progress(f"Reading {path.name}", quiet=quiet or json) as progress:
                whole = formats.read(path, unit, axes, progress=progress, pose=pose, scene=scene, facets=facets)
            exact = None
            if any(one.text.startswith(EXACT) for one in whole.notes):
                with console.progress("Trying densities", quiet=quiet or json) as progress:
                    exact = formats.exact_facts(path, progress)
            found = audit.survey(with_roles(whole))
        except InputError as error:
            if len(files) == 1:
                raise
            # One bad file does not keep the others from being looked at.
            status = error.exit_status
            documents.append({"source": str(path), "error": str(error)})
            console.messages.print(f"[problem]zesty-otter:[/] {escape(str(error))}", soft_wrap=True)
            continue
        documents.append(found.as_dict() | ({"exact": asdict(exact)} if exact is not None else {}))
        if not json:
            if number:
                results.print()
            show(found, verbose=verbose)
            if exact is not None and exact.surfaces:
                results.print()
                kinds = ", ".join(count_of(count, f"{kind} surface") for kind, count in exact.surfaces)
                size = [("exact size", format_size(exact.size, 1.0))] if exact.size else []
                results.print(console.facts([("exact", kinds), *size]))
                results.print()
                results.print(_density_table(exact))
            console.print_findings((("", one) for one in found.findings), verbose=verbose, quiet=quiet)
            console.print_notes(found.notes, verbose=verbose, quiet=quiet)
    if json:
        console.print_json(documents[0] if len(files) == 1 else documents)
    return status


def show(found: Survey, *, verbose: bool) -> None:
    """Print a survey as tables."""
    results.print(f"[title]{escape(Path(found.source).name)}[/]")
    results.print(console.facts(_summary(found)))
    if found.guesses:
        results.print()
        results.print(unit_table(found.guesses))
    if found.nodes:
        results.print()
        results.print(_node_table(found, len(found.nodes) if verbose else _MOST_NODES))
    if found.levels:
        results.print()
        results.print(console.level_table(found.levels))
    if found.collision:
        results.print()
        results.print(console.collision_table(found.collision))
    if found.materials:
        results.print()
        results.print(_material_table(found))
    if found.textures:
        results.print()
        results.print(_texture_table(found))


def _density_table(exact: ExactFacts) -> Any:
    """What each density makes of exact surfaces."""
    made = console.table("--facets", "triangles")
    for density, count in exact.triangles:
        made.add_row(f"density={density:g}", f"{count:,}")
    return made


def unit_table(guesses: tuple[SizeGuess, ...]) -> Any:
    """The table that settles which unit a file is in."""
    made = console.table(
        "--unit", "size", "tall", "about as large as", title="The file has no unit. Its size in each unit:"
    )
    for guess in guesses:
        made.add_row(guess.unit, format_size(guess.size, 1.0), format_length(guess.height), guess.like)
    return made


def _summary(found: Survey) -> list[tuple[str, str]]:
    hand = "right-handed" if found.right_handed else "left-handed"
    rows = [
        ("axes", f"{found.axes} ({hand})"),
        ("unit", format_unit(found.unit) if found.unit else "not known"),
    ]
    if found.size is None:
        rows.append(("size", "nothing placed"))
    elif found.unit is None:
        sides = " × ".join(f"{side:.6g}" for side in found.size)
        rows.append(("size", f"{sides} units (width × height × depth)"))
    else:
        like = audit.likeness(max(found.size) * found.unit)
        rows.append(
            ("size", f"{format_size(found.size, found.unit)} (width × height × depth), about as large as {like}")
        )
    faces = found.faces
    points = f"{found.points:,}" + (f", of which {found.loose_points:,} loose" if found.loose_points else "")
    carried = [
        word
        for word, there in (
            ("normals", found.has_normals),
            ("smoothing groups", found.has_smoothing),
            ("vertex colours", found.has_colors),
        )
        if there
    ]
    rows += [
        ("faces", f"{count_of(faces.triangles, 'triangle')}, {count_of(faces.quads, 'quad')}, {_ngons(faces)}"),
        ("drawn", count_of(found.triangles, "triangle")),
        ("points", points),
        ("carries", ", ".join(carried) or "neither normals nor smoothing groups"),
    ]
    if found.clashing_names:
        rows.append(("names", f"clash when case is ignored: {escape(shortened(found.clashing_names, 6))}"))
    if found.default_names:
        rows.append(("names", f"look like defaults: {escape(shortened(found.default_names, 6))}"))
    for name, size in found.bounds:
        sides = format_size(size, found.unit) if found.unit else " × ".join(f"{side:.6g}" for side in size)
        rows.append(("bounds", f"{sides}, as {escape(name)} says"))
    hidden = sum(not node.visible for node in found.nodes)
    if hidden:
        rows.append(("hidden", count_of(hidden, "node")))
    return rows


def _ngons(faces: FaceCounts) -> str:
    return f"{count_of(faces.ngons, 'n-gon')} (up to {faces.largest} corners)" if faces.ngons else "no n-gons"


_NARROW = 100


def _node_table(found: Survey, most: int) -> Any:
    roles = any(node.role != "visible" for node in found.nodes)
    left = any(node.leftover for node in found.nodes)
    narrow = results.width < _NARROW
    columns = ("node", *(("role",) if roles else ()), "size", "triangles")
    columns += ("UVs",) if narrow else ("points", "slots", "UVs")
    columns += ("transform",) if left or not narrow else ()
    whole = ("node", "role", "size") if narrow else ("node", "role", "size", "transform")
    made = console.table(*columns, numbers=("triangles", "points", "UVs"), whole=whole)
    for node in found.nodes[:most]:
        size = ""
        if node.size and found.unit:
            size = format_size(node.size, found.unit, digits=3 if narrow else 4)
        elif node.size:
            size = " × ".join(f"{side:.4g}" for side in node.size)
        name = "  " * (len(node.path) - 1) + node.path[-1] + ("" if node.visible else " (hidden)")
        name += f" ({node.copies:,} copies)" if node.copies > 1 else ""
        shown = node.mesh is not None
        made.add_row(
            escape(name),
            *((node.role,) if roles else ()),
            size,
            f"{node.triangles:,}" if shown else "",
            # Where there is no room the table of materials has their names, and --json the rest.
            *(() if narrow else (f"{node.points:,}" if shown else "", escape(", ".join(node.slots) or node.about))),
            _uv_sets(node) if shown else "",
            *((", ".join(node.leftover) or "clean",) if left or not narrow else ()),
        )
    if len(found.nodes) > most:
        made.add_row(f"[faint]and {len(found.nodes) - most} more; --verbose shows all[/]")
    return made


def _uv_sets(node: NodeFacts) -> str:
    """How many UV sets there are, and their names where they have some."""
    names = [name or str(number) for number, name in enumerate(node.uv_names)] if any(node.uv_names) else []
    return escape(f"{node.uv_sets}: {', '.join(names)}" if names else str(node.uv_sets))


def _material_table(found: Survey) -> Any:
    made = console.table("material", "alpha", "sides", "textures")
    for one in found.materials:
        textures = escape(", ".join(one.textures)) or "none"
        made.add_row(escape(one.name), one.alpha_mode, "two" if one.two_sided else "one", textures)
    return made


def _texture_table(found: Survey) -> Any:
    made = console.table("texture", "found")
    for one in found.textures:
        where = escape(one.found) if one.found else f"[lost]missing[/]; looked in {escape(', '.join(one.looked_in))}"
        made.add_row(escape(one.name), where)
    return made
