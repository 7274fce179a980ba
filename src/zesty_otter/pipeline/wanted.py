"""What an output is to be, and a scene made so: its steps, its target's wishes, the pieces that become files."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from zesty_otter import steps
from zesty_otter.audit.findings import Finding
from zesty_otter.errors import FindingsError
from zesty_otter.formats import Format
from zesty_otter.model import Frame, Scene, count_of
from zesty_otter.pipeline.pieces import Piece, at_origin, has_mesh, joined, split
from zesty_otter.pipeline.source import in_frame
from zesty_otter.steps.base import Step, apply
from zesty_otter.targets import Target

NAMED_BY_ROLE = "{name}"
"""The template of names where a target has none."""


@dataclass(frozen=True)
class Wanted:
    """What one output is to be.

    Parameters
    ----------
    frame : Frame or None
        The space of the files; that of the format or the source when None.
    target : Target or None
    steps : tuple of Step
        Taken on the whole scene in ``frame``, the target's wishes among them (see `target_steps`).
    split : str
        As in a job file, like the next three.
    meshes : str
    place : str
    common : tuple of str
    check : {"limits", "all", "stop"}
    writing : mapping of str to object
        Settings of formats; each takes those it has.
    keep_hidden : bool
        Whether hidden nodes are written where a format cannot hide them.
    """

    frame: Frame | None = None
    target: Target | None = None
    steps: tuple[Step, ...] = ()
    split: str = "scene"
    meshes: str = "separate"
    place: str = "keep"
    common: tuple[str, ...] = ()
    check: Literal["limits", "all", "stop"] = "limits"
    writing: Mapping[str, Any] = field(default_factory=dict)
    keep_hidden: bool = False


def target_steps(
    target: Target,
    kinds: Collection[Format],
    *,
    names: str | None = None,
    diagonal: str | None = None,
    tangents: str | None = None,
) -> Iterator[Step]:
    """What a target asks of every scene it gets, but for what it drops.

    Parameters
    ----------
    target : Target
    kinds : collection of Format
        What is written; tangents, which take triangles, are made only where one of these holds them.
    names, diagonal, tangents : str, optional
        What is asked for instead: a template for names, or "keep" to leave them; how faces are split, also where
        the target does not want it; which meshes get tangents.

    Yields
    ------
    Step

    Examples
    --------
    >>> from zesty_otter.targets import load
    >>> from zesty_otter.formats import format_named
    >>> [step.slug for step in target_steps(load("cm-forward-right-up"), [format_named("gltf")])]
    ['names', 'triangulate', 'tangents']
    >>> [step.slug for step in target_steps(load("cm-forward-right-up"), [format_named("obj")])]
    ['names', 'triangulate']
    """
    textures = target.textures
    if target.limits.texture_size or textures.power_of_two or textures.normal_green == "down":
        yield steps.Textures(
            largest=target.limits.texture_size,
            power_of_two="lower" if textures.power_of_two else "no",
            flip_green=textures.normal_green == "down",
        )
    if names != "keep" and (names or target.names):
        roles = {role: template for role, template in target.names.items() if role != "visible"}
        visible = names or target.names.get("visible", NAMED_BY_ROLE)
        yield steps.Names(template=visible, roles=roles, longest=target.longest_name, allowed=target.allowed_characters)
    if diagonal or target.triangulate:
        yield steps.Triangulate(**({"diagonal": diagonal} if diagonal else {}))
    elif target.polygons == "convex-quads":
        yield steps.Triangulate(keep_quads=True)
    if tangents is None:
        tangents = target.tangents if any("tangents" in kind.carries for kind in kinds) else "none"
    if tangents != "none":
        yield steps.Tangents(of=tangents)


def selection(keep: Sequence[str], drop: Sequence[str]) -> tuple[steps.Select | None, bool]:
    """The step that words for what to keep and to drop come to, and whether hidden nodes are among what is kept.

    ``hidden`` alone keeps everything, hidden nodes as well.

    Parameters
    ----------
    keep, drop : sequence of str
        Words that choose nodes.

    Returns
    -------
    step : Select or None
    hidden : bool

    Examples
    --------
    >>> step, hidden = selection(["gate*"], [])
    >>> step.keep, hidden
    (('gate*',), False)
    """
    words = () if set(keep) == {"hidden"} else tuple(keep)
    step = steps.Select(keep=words, drop=tuple(dict.fromkeys(drop))) if words or drop else None
    return step, "hidden" in keep


def prepare(scene: Scene, wanted: Wanted) -> Scene:
    """The scene as an output wants it, before it is taken apart.

    Parameters
    ----------
    scene : Scene
    wanted : Wanted

    Returns
    -------
    Scene

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> prepare(scene, Wanted())
    Scene 'sail': 1 node, 1 mesh, left up forward, m
    """
    return apply(in_frame(scene, wanted.frame), *wanted.steps)


def pieces_of(scene: Scene, name: str, wanted: Wanted) -> list[Piece]:
    """What goes into each file of an output; pieces without a face are left out.

    Parameters
    ----------
    scene : Scene
    name : str
        Of the file, where all goes into one.
    wanted : Wanted

    Returns
    -------
    list of Piece

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> [piece.name for piece in pieces_of(scene, "sail.glb", Wanted())]
    ['sail.glb']
    """
    pieces = split(scene, wanted.split, name, wanted.common)
    if wanted.meshes == "joined":
        pieces = [joined(piece, wanted.split) for piece in pieces]
    if wanted.target is not None and wanted.target.limits.index_bits == 16:
        cut = steps.Divide(by="size", vertices=65535)
        pieces = [replace(piece, scene=cut.apply(piece.scene)) for piece in pieces]
    if wanted.place == "origin":
        pieces = [at_origin(piece, wanted.common) for piece in pieces]
    return [piece for piece in pieces if piece.places or has_mesh(piece.scene)]


def checked(piece: Piece, wanted: Wanted, output: str = "") -> Sequence[Finding]:
    """What a target objects to, as much of it as an output asks for.

    Parameters
    ----------
    piece : Piece
    wanted : Wanted
    output : str
        What the output is called in messages.

    Returns
    -------
    sequence of Finding

    Raises
    ------
    FindingsError
        When a finding is an error and the output stops at these.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> wanted = Wanted()
    >>> checked(pieces_of(scene, "sail.glb", wanted)[0], wanted)
    []
    """
    from zesty_otter.audit.checks import check, of_levels, over_limits

    if wanted.target is None:
        return of_levels(piece.scene)
    if wanted.check == "limits":
        return over_limits(piece.scene, wanted.target)
    found = check(piece.scene, wanted.target)
    errors = [one for one in found if one.severity == "error"]
    if errors and wanted.check == "stop":
        error = FindingsError(
            f"is not written: {count_of(len(errors), 'error')}, {errors[0]}.",
            place=f"output {output}" if output else None,
            remedy="`zesty-otter check` shows all of them.",
        )
        error.findings = tuple(found)
        raise error
    return found
