"""What a scene has too much or too little of for a target."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_otter import pixels
from zesty_otter.audit.findings import Finding
from zesty_otter.model import Mesh, Placed, Scene, Texture
from zesty_otter.steps.assets import Asset, Roles, assets_of, level_of
from zesty_otter.targets import Target


def over_budget(scene: Scene, target: Target) -> list[Finding]:
    """Every limit of the target that a scene breaks, and everything it asks for that is not there."""
    scene = Roles().apply(scene)
    findings: list[Finding] = []
    for asset in assets_of(scene):
        findings += _of_asset(asset, target)
    for mesh in scene.meshes:
        findings += _of_mesh(mesh, target)
    for texture in scene.textures:
        findings += _of_texture(texture, target)
    return findings


def _of_asset(asset: Asset, target: Target) -> Iterator[Finding]:
    limits, require = target.limits, target.require
    triangles = _triangles(asset.main)
    if limits.triangles is not None and triangles > limits.triangles:
        text = f"{triangles:,} triangles, {limits.triangles:,} are allowed"
        yield Finding("triangles", "warning", text, asset.name)
    levels: dict[int, int] = {}
    for placed in (*asset.main, *asset.rest):
        if placed.node.role == "level":
            number = level_of(placed.node)
            if number in levels:
                text = f"is one more level {number}"
                yield Finding("level-doubled", "warning", text, placed.node.name, "names")
            levels[number] = levels.get(number, 0) + _triangles((placed,))
    yield from _order_of_levels(asset, levels, triangles)
    for number, count in sorted(levels.items()):
        if number < len(limits.triangles_per_level) and count > limits.triangles_per_level[number]:
            text = f"level {number} has {count:,} triangles, {limits.triangles_per_level[number]:,} are allowed"
            yield Finding("level-triangles", "warning", text, asset.name)
    if not asset.main:
        return
    if len(levels) < require.levels:
        text = f"{len(levels)} levels of detail, {require.levels} are wanted"
        yield Finding("levels-missing", "warning", text, asset.name)
    if require.collision and not any(placed.node.role == "collision" for placed in asset.rest):
        yield Finding("collision-missing", "warning", "no collision mesh", asset.name)
    if limits.hull_vertices is not None:
        for placed in asset.rest:
            mesh = placed.node.mesh
            if placed.node.role == "collision" and mesh is not None and mesh.point_count > limits.hull_vertices:
                text = f"{mesh.point_count:,} points, {limits.hull_vertices:,} are allowed in a collision part"
                yield Finding("hull-vertices", "warning", text, placed.node.name)
    for placed in asset.main:
        have = len(placed.node.drawn.uv_sets) if placed.node.drawn else 0
        if have < require.uv_sets:
            text = f"{have} UV sets, {require.uv_sets} are wanted"
            yield Finding("uv-sets-missing", "warning", text, placed.node.name)


def _order_of_levels(asset: Asset, levels: dict[int, int], triangles: int) -> Iterator[Finding]:
    """Numbers that are missing, and levels that are no lighter than the one before."""
    count, before = triangles, 0
    for number, own in sorted(levels.items()):
        if number == 0 or number == before:
            continue
        if number > before + 1:
            text = f"level {before + 1} is missing, level {number} is there"
            yield Finding("level-gap", "warning", text, asset.name, "levels")
        if own >= count:
            text = f"level {number} has {own:,} triangles, no fewer than the {count:,} before it"
            yield Finding("level-not-lighter", "warning", text, asset.name, "levels")
        count, before = own, number


def _of_mesh(mesh: Mesh, target: Target) -> Iterator[Finding]:
    limits = target.limits
    if limits.slots is not None and len(mesh.slots) > limits.slots:
        text = f"{len(mesh.slots)} material slots, {limits.slots} are allowed"
        yield Finding("slots", "warning", text, mesh.name, "materials")
    if limits.vertices is not None and mesh.point_count > limits.vertices:
        text = f"at least {mesh.point_count:,} vertices, {limits.vertices:,} are allowed"
        yield Finding("vertices", "warning", text, mesh.name, f"divide by=size vertices={limits.vertices}")


def _of_texture(texture: Texture, target: Target) -> Iterator[Finding]:
    if not texture.found:
        yield Finding("texture-missing", "warning", "was not found", texture.name, "textures search=[...]")
        return
    largest = target.limits.texture_size
    if largest is None and not target.textures.power_of_two:
        return
    try:
        info = pixels.inspect(texture.read())
    except (pixels.ImageError, OSError):
        return
    if largest is not None and max(info.width, info.height) > largest:
        text = f"{info.width} × {info.height} pixels, {largest} along a side are allowed"
        yield Finding("texture-size", "warning", text, texture.name, f"textures largest={largest}")
    if target.textures.power_of_two and (info.width & (info.width - 1) or info.height & (info.height - 1)):
        text = f"{info.width} × {info.height} pixels are no powers of two"
        yield Finding("texture-size", "warning", text, texture.name, "textures power_of_two=lower")


def _triangles(placed: tuple[Placed, ...]) -> int:
    return sum(one.node.drawn.triangle_count for one in placed if one.node.drawn is not None)
