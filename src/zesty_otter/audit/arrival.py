"""The comparison of what was written and read back with what was meant."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter import formats
from zesty_otter.audit.copies import copies_apart
from zesty_otter.audit.corners import Corners, Slack, corners_of, differences, end_to_end
from zesty_otter.audit.facts import FileFacts, facts_of
from zesty_otter.audit.glb import inspect_glb
from zesty_otter.audit.lights import light_differences
from zesty_otter.formats.placement import with_one_set
from zesty_otter.geometry.surface.placing import sheared
from zesty_otter.model import COLOR_ROLES, Material, Mesh, Scatter, Scene, TextureUse, expanded, reframed, shortened
from zesty_otter.shading import with_implied_normals

_FLOAT = float(np.finfo(np.float32).eps)


@dataclass(frozen=True)
class Arrival:
    """What stands in a written file, and every way in which it differs from what was meant.

    Parameters
    ----------
    path : str
    facts : FileFacts
    problems : tuple of str
        Each way in which it differs, in words.
    compared : tuple of str
        What could be compared, as the format carries it; nothing where it can only be written.
    """

    path: str
    facts: FileFacts
    problems: tuple[str, ...]
    compared: tuple[str, ...] = ()


def arrived(
    scene: Scene,
    path: Path,
    found: Scene | None = None,
    carries: Container[str] | None = None,
    *,
    quantized: bool = False,
) -> Arrival:
    """Compare a written file with the scene it was written from.

    Parameters
    ----------
    scene : Scene
        What was meant.
    path : Path
        What was written.
    found : Scene, optional
        What was read back; read here when absent. A glTF file is besides taken apart by code that shares nothing with
        its writer.
    carries : container of str, optional
        What the format carries, as `zesty_otter.formats.CARRIES` names it, by which alone it is judged.
    quantized : bool
        Whether positions were meant to be rounded to 16 bits.

    Returns
    -------
    Arrival

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> _ = zo.write(scene, "sail.glb")
    >>> arrived(scene, Path("sail.glb")).problems
    ()
    """
    kind = formats.format_of(path)
    if kind.reader is None:
        return Arrival(str(path), facts_of(scene, path.stat().st_size), (), ())
    found = formats.read(path) if found is None else found
    carries = kind.carries if carries is None else carries
    in_gltf = kind.name in ("glb", "gltf")
    facts = inspect_glb(path) if in_gltf else facts_of(found, path.stat().st_size)
    scene = scene if scene.frame == found.frame else reframed(scene, found.frame)
    if "further UV sets" not in carries:
        scene, _ = with_one_set(scene, "", "", textured=False)
    # What a format does not scatter, and copies with shear, are nodes of their own there.
    scatters = "scatters" in carries
    scene, _ = expanded(scene, lambda one: not scatters or bool(sheared(one.transforms).any()))
    meant = facts_of(scene)
    # What is there to be seen nobody can tell from every format; the whole is compared below.
    facts = replace(facts, seen=meant.seen, seen_triangles=meant.seen_triangles)
    problems = list(_problems(scene, meant, facts, carries, quantized))
    if not any("triangles" in one for one in problems):
        problems += _of_corners(scene, found, carries, quantized)
    if "materials" in carries:
        problems += _of_materials(scene.materials, found.materials, carries)
    if "lights and cameras" in carries:
        # How far they reach and how soft their cones are, few formats say; writers note it.
        problems += light_differences(scene, found, only=frozenset({"colour", "intensity", "height of view"}))
    words = ("normals", "tangents", "UV sets", "colours", "materials", "lights and cameras", "names")
    there = {word for word in words if word in carries and (word not in _ONLY_WHERE or _ONLY_WHERE[word](scene))}
    return Arrival(str(path), facts, tuple(problems), ("size", "faces", *(one for one in words if one in there)))


_MOST_PROBLEMS = 6
_ONLY_WHERE: dict[str, Callable[[Scene], bool]] = {
    "tangents": lambda scene: any(True for mesh in scene.meshes for _ in mesh.layers_of("tangent")),
    "lights and cameras": lambda scene: any(one.node.kind in ("light", "camera") for one in scene.walk()),
}
"""What is only named as compared where there is any."""


def _of_corners(scene: Scene, found: Scene, carries: Container[str], quantized: bool) -> Iterator[str]:
    """What differs at single corners, mesh by mesh where both have as many, else in all of them together."""
    ours, theirs = _drawn(scene), _drawn(found)
    unit = " m" if scene.frame.unit == 1.0 else " units"
    polygons = "polygons" in carries
    box = found.bounds()
    if not np.isfinite(box).all():
        return
    length = 16 * _FLOAT * max(float(np.abs(box).max()), 1e-30)
    slack = Slack(length)
    if quantized:
        slack = Slack(length + float(np.linalg.norm(box[1] - box[0])) / 65535, angle=1.5, uv=3e-5)
    yield from _of_copies(scene, found, slack.length, unit)
    meant = [_carried(mesh, world, carries, polygons) for _, mesh, world in ours]
    got = [_carried(mesh, world, carries, polygons) for _, mesh, world in theirs]
    if len(meant) != len(got) or any(a.face_count != b.face_count for a, b in zip(meant, got, strict=False)):
        names, meant, got = [""], [end_to_end(meant)], [end_to_end(got)]
    else:
        names = [name for name, _, _ in ours]
    said = 0
    for name, one, other in zip(names, meant, got, strict=True):
        for text in differences(one, other, slack, unit):
            said += 1
            if said <= _MOST_PROBLEMS:
                yield f"{name}: {text}" if name else text
    if said > _MOST_PROBLEMS:
        yield f"and {said - _MOST_PROBLEMS} more differences at corners"


def _drawn(scene: Scene) -> list[tuple[str, Mesh, NDArray[np.float64]]]:
    """Every mesh with faces that is drawn, the name of its node, and where; of a scatter its first copy."""
    found = []
    for placed in scene.walk():
        mesh, content = placed.node.drawn, placed.node.content
        if mesh is not None and mesh.face_count and not (isinstance(content, Scatter) and not content.count):
            world = placed.world @ content.transforms[0] if isinstance(content, Scatter) else placed.world
            found.append((placed.node.name, mesh, world))
    return found


def _of_copies(scene: Scene, found: Scene, length: float, unit: str) -> Iterator[str]:
    """Scatters whose copies are not as many, or stand elsewhere."""
    meant, got = ([one for one in every.walk() if isinstance(one.node.content, Scatter)] for every in (scene, found))
    for one, other in zip(meant, got, strict=False):
        a, b = one.node.content, other.node.content
        assert isinstance(a, Scatter)
        assert isinstance(b, Scatter)
        if a.count != b.count:
            yield f"{one.node.name}: expected {a.count:,} copies, found {b.count:,}"
            continue
        off, allowed = copies_apart(a, one.world, b, other.world)
        if off > length + allowed:
            yield f"{one.node.name}: copies are up to {off:.3g}{unit} away"
        lost = [key for key, values in a.properties.items() if not _is_kept(values, b.properties.get(key))]
        if lost:
            yield f"{one.node.name}: of its copies differ: {shortened(lost)}"


def _is_kept(meant: NDArray[Any], found: NDArray[Any] | None) -> bool:
    """Whether what copies have of their own came through, but for what 32-bit numbers round off."""
    if found is None or found.shape != meant.shape:
        return False
    return bool(np.allclose(found, meant, rtol=4 * _FLOAT, atol=0))


def _carried(mesh: Mesh, world: NDArray[np.float64], carries: Container[str], polygons: bool) -> Corners:
    """The corners of a mesh with what a format carries of them."""
    if "normals" in carries:
        mesh = with_implied_normals(mesh)
    corners = corners_of(mesh, world, triangles=not polygons)
    named = "materials" in carries and "names" in carries
    return Corners(
        corners.points,
        corners.start,
        corners.normals if "normals" in carries else None,
        corners.uvs[: _most("UV sets", carries)],
        corners.colors[: _most("colours", carries)],
        corners.material if named else np.zeros(0, object),
        corners.tangents if "tangents" in carries else None,
    )


def _most(sets: str, carries: Container[str]) -> int | None:
    """How many sets of UVs or colours a format carries; all when None."""
    if f"further {sets}" in carries:
        return None
    return 1 if sets in carries else 0


def _of_materials(meant: Iterable[Material], found: Iterable[Material], carries: Container[str]) -> Iterator[str]:
    """Values and textures of materials that did not come through, of those a format carries."""
    there: dict[str, list[Material]] = {}
    for one in found:
        there.setdefault(one.name, []).append(one)
    for one in meant:
        # Where several have a name, the one that comes nearest is it.
        lost = [list(_lost(one, other, carries)) for other in there.get(" ".join(one.name.split()), ())]
        yield from min(lost, key=len, default=[])


def _lost(one: Material, other: Material, carries: Container[str]) -> Iterator[str]:
    if one.shading.get("unlit"):
        return
    if "textures" in carries:
        there = {role for role, use in other.textures.items() if use.texture.found}
        lost = [role for role in COLOR_ROLES if role in one.textures and one.textures[role].texture.found]
        if lost := sorted(set(lost) - there):
            yield f"material '{one.name}' lacks its texture for {', '.join(lost)}"
    if "texture placement" in carries:
        for role in sorted(one.textures.keys() & other.textures.keys()):
            was, now = one.textures[role], other.textures[role]
            if not np.allclose(_looked_up(was), _looked_up(now), atol=1e-3):
                word = role.replace("_color", " colour")
                yield f"material '{one.name}': its {word} texture lies elsewhere on the UVs"
    if "metal/rough" in carries:
        for key in ("metallic", "roughness"):
            was, now = getattr(one, key), getattr(other, key)
            if abs(was - now) > 0.01 and key not in one.textures:
                yield f"material '{one.name}': {key} {was:.3g} became {now:.3g}"


def _looked_up(use: TextureUse) -> NDArray[np.float64]:
    """Where three UVs are looked up in an image."""
    c, s = np.cos(use.rotation), np.sin(use.rotation)
    uvs = np.array([(0.0, 0.0), (1.0, 0.0), (0.0, 1.0)]) * use.scale
    return np.asarray(uvs @ np.array([(c, s), (-s, c)]) + use.offset)


def _problems(
    scene: Scene, meant: FileFacts, found: FileFacts, carries: Container[str], quantized: bool
) -> Iterator[str]:
    box = np.array([meant.lowest, meant.highest])
    got = np.array([found.lowest, found.highest])
    # Sizes may differ by what 32-bit numbers round off at that distance from the origin.
    slack = 4 * np.finfo(np.float32).eps * max(float(np.abs(box).max()), 1e-30)
    if quantized:
        slack += float(np.linalg.norm(box[1] - box[0])) / 65535
    if np.abs(got - box).max() > slack:
        yield f"expected bounds {box.tolist()}, found {got.tolist()}"
    for what, have, wanted in (
        ("triangles", found.triangles, meant.triangles),
        ("material sections", found.sections, meant.sections),
    ):
        if have != wanted and (what == "triangles" or "materials" in carries):
            yield f"expected {wanted:,} {what}, found {have:,}"
    if "tree" in carries:
        # Lights and cameras may have got a node of their own to aim them, rounded meshes one to spread them.
        known = set(meant.paths)
        paths = tuple(one for one in found.paths if one in known or not one[-1].endswith(("_aim", "_quantized")))
        wanted_paths = meant.paths
    else:
        paths = tuple(one[-1:] for one in found.paths)
        wanted_paths = tuple(
            (one.node.name,) for one in scene.walk() if one.node.drawn is not None and one.node.drawn.face_count
        )
    if paths != wanted_paths and "names" in carries:
        yield _first_difference(paths, wanted_paths)
    missing = [name for name in meant.materials if " ".join(name.split()) not in found.materials]
    if missing and "materials" in carries:
        yield f"it lacks the materials {shortened(missing)}"


def _first_difference(found: tuple[tuple[str, ...], ...], meant: tuple[tuple[str, ...], ...]) -> str:
    for have, wanted in zip(found, meant, strict=False):
        if have != wanted:
            return f"expected node {'/'.join(wanted)}, found {'/'.join(have)}"
    return f"expected {len(meant)} nodes, found {len(found)}"
