"""Rules on what a target has a limit for, and on what it asks for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np

from zesty_otter import pixels
from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.model import Placed, Texture, content_bounds, count_of
from zesty_otter.steps.assets import Asset, level_of


@rule("triangles", "warning", "lighten triangles=...", limit=True)
def _triangles(subject: Subject) -> Found:
    """An asset with more triangles than the target allows."""
    most = subject.target.limits.triangles
    for asset in subject.assets if most is not None else ():
        count = _count(asset.main)
        if most is not None and count > most:
            yield asset.name, f"{count:,} triangles, {most:,} are allowed", f"lighten triangles={most}"


@rule("level-doubled", "warning", "names", limit=True)
def _level_doubled(subject: Subject) -> Found:
    """Two levels with the same number."""
    for asset in subject.assets:
        seen: Counter[tuple[int, object]] = Counter()
        for placed in _levels(asset):
            if placed.node.drawn is None:
                continue
            number = level_of(placed.node), placed.node.properties.get("piece")
            seen[number] += 1
            # Where the visible mesh is in pieces, each has levels.
            if seen[number] > (max(len(asset.main), 1) if number[1] is None else 1):
                yield placed.node.name, f"is a second level {number[0]}"


@rule("level-gap", "warning", "levels", limit=True)
def _level_gap(subject: Subject) -> Found:
    """A missing level between two others."""
    for asset in subject.assets:
        for before, (number, _) in _pairs(asset):
            if number > before[0] + 1:
                yield asset.name, f"level {before[0] + 1} is missing, level {number} is there"


@rule("level-not-lighter", "warning", "levels", limit=True)
def _level_not_lighter(subject: Subject) -> Found:
    """A level with no fewer triangles than the one before."""
    for asset in subject.assets:
        for before, (number, own) in _pairs(asset):
            if own >= before[1]:
                yield asset.name, f"level {number} has {own:,} triangles, no fewer than the {before[1]:,} before it"


@rule("level-looks", "warning", "levels by=appearance", limit=True)
def _level_looks(subject: Subject) -> Found:
    """A level that looks different from the visible mesh where it appears, by more pixels than the target allows."""
    most = subject.target.limits.appearance
    if most is None:
        return
    from zesty_otter.appearance import appearance

    for asset in subject.assets:
        main = [one for one in asset.main if one.node.drawn is not None and one.node.drawn.face_count]
        for number in sorted({level_of(one.node) for one in _levels(asset)}):
            level = [one for one in _levels(asset) if level_of(one.node) == number]
            level = [one for one in level if one.node.drawn is not None and one.node.drawn.face_count]
            heights = [one.node.properties.get("screen_height") for one in level]
            known = [float(one) for one in heights if isinstance(one, int | float) and one > 0]
            if not main or not level or not known:
                continue
            height = 1080 * min(max(known), 1.0)
            found = appearance(main, level, subject.scene.frame.basis, height)
            if found.share > most:
                text = f"{100 * found.share:.2g} % of its pixels look different at {height:.0f} pixels"
                yield level[0].node.name, f"{text}, {100 * most:.2g} % are allowed"


@rule("level-orphaned", "warning", "select drop=...", limit=True)
def _level_orphaned(subject: Subject) -> Found:
    """A level whose asset does not exist."""
    for asset in subject.assets:
        if not any(placed.node.is_shown for placed in asset.main):
            for placed in _levels(asset):
                yield (
                    placed.node.name,
                    f"is a level of '{asset.name}', which is not there",
                    f"select drop={placed.node.name}",
                )


@rule("level-displaced", "warning", "levels hand_made=false", limit=True)
def _level_displaced(subject: Subject) -> Found:
    """A level that is not where its asset is, or differs from it in size."""
    for asset in subject.assets:
        boxes = [content_bounds(placed) for placed in asset.main if placed.node.is_shown]
        boxes = [box for box in boxes if np.isfinite(box).all()]
        if not boxes:
            continue
        low, high = np.min([box[0] for box in boxes], axis=0), np.max([box[1] for box in boxes], axis=0)
        size = float((high - low).max())
        for placed in _levels(asset):
            box = content_bounds(placed)
            if np.isfinite(box).all() and len(boxes) == 1:
                off = float(np.abs(box - (low, high)).max())
                if off > 0.25 * size:
                    share = 100 * off / max(size, 1e-12)
                    yield placed.node.name, f"its bounds are {share:.0f} % of the size off those of {asset.name}"


@rule("level-triangles", "warning", "levels", limit=True)
def _level_triangles(subject: Subject) -> Found:
    """A level with more triangles than the target allows."""
    most = subject.target.limits.triangles_per_level
    for asset in subject.assets if most else ():
        for number, count in sorted(_counts(asset).items()):
            if number < len(most) and count > most[number]:
                yield asset.name, f"level {number} has {count:,} triangles, {most[number]:,} are allowed"


@rule("levels-missing", "warning", "levels", limit=True)
def _levels_missing(subject: Subject) -> Found:
    """Fewer levels of detail than the target requires."""
    wanted = subject.target.require.levels
    for asset in subject.assets if wanted else ():
        have = len(_counts(asset))
        if asset.main and have < wanted:
            yield asset.name, f"{have} levels of detail, {wanted} are wanted"


@rule("collision-missing", "warning", "collision", limit=True)
def _collision_missing(subject: Subject) -> Found:
    """No collision, although the target requires it."""
    for asset in subject.assets if subject.target.require.collision else ():
        if asset.main and not any(placed.node.role == "collision" for placed in asset.rest):
            yield asset.name, "no collision mesh"


@rule("hull-vertices", "warning", "collision existing=replace most_corners=...", limit=True)
def _hull_vertices(subject: Subject) -> Found:
    """A collision part with more corners than the target allows."""
    most = subject.target.limits.hull_vertices
    for placed in subject.solid if most is not None else ():
        mesh = placed.node.drawn
        if most is not None and mesh is not None and mesh.point_count > most:
            text = f"{mesh.point_count:,} points, {most:,} are allowed in a collision part"
            yield placed.node.name, text, f"collision existing=replace most_corners={max(most, 8)}"


@rule("uv-sets-missing", "warning", "unwrap set=1", limit=True)
def _uv_sets_missing(subject: Subject) -> Found:
    """Fewer UV sets than the target requires."""
    wanted = subject.target.require.uv_sets
    for asset in subject.assets if wanted else ():
        for placed in asset.main:
            have = len(placed.node.drawn.uv_sets) if placed.node.drawn else 0
            if have < wanted:
                yield placed.node.name, f"{count_of(have, 'UV set')}, {wanted} are wanted"


@rule("slots", "warning", "materials one=...", limit=True)
def _slots(subject: Subject) -> Found:
    """A mesh with more material slots than the target allows."""
    most = subject.target.limits.slots
    for mesh in subject.scene.meshes if most is not None else ():
        if most is not None and len(mesh.slots) > most:
            yield mesh.name, f"{len(mesh.slots)} material slots, {most} are allowed"


@rule("vertices", "warning", "divide by=size vertices=...", limit=True)
def _vertices(subject: Subject) -> Found:
    """A mesh with more vertices than the target allows."""
    most = subject.target.limits.vertices
    for mesh in subject.scene.meshes if most is not None else ():
        if most is not None and mesh.point_count > most:
            text = f"at least {mesh.point_count:,} vertices, {most:,} are allowed"
            yield mesh.name, text, f"divide by=size vertices={most}"


@rule("texture-missing", "warning", "textures search=[...]", limit=True)
def _texture_missing(subject: Subject) -> Found:
    """A texture that was not found."""
    for texture in subject.scene.textures:
        if not texture.found:
            yield texture.name, "was not found"


@rule("texture-size", "warning", "textures largest=...", limit=True)
def _texture_size(subject: Subject) -> Found:
    """A texture larger than the target allows, or with sides that are not powers of two."""
    largest, powers = subject.target.limits.texture_size, subject.target.textures.power_of_two
    for texture in subject.scene.textures if largest is not None or powers else ():
        wide, high = _pixels(texture)
        if largest is not None and max(wide, high) > largest:
            text = f"{wide} × {high} pixels, {largest} along a side are allowed"
            yield texture.name, text, f"textures largest={largest}"
        if powers and (wide & (wide - 1) or high & (high - 1)):
            yield texture.name, f"{wide} × {high} pixels are no powers of two", "textures power_of_two=lower"


def _pixels(texture: Texture) -> tuple[int, int]:
    try:
        info = pixels.inspect(texture.read())
    except (pixels.ImageError, OSError):
        return 0, 0
    return info.width, info.height


def _levels(asset: Asset) -> Iterator[Placed]:
    return (placed for placed in (*asset.main, *asset.rest) if placed.node.role == "level")


def _counts(asset: Asset) -> dict[int, int]:
    """The triangles of each level by its number."""
    counts: dict[int, int] = {}
    for placed in _levels(asset):
        counts[level_of(placed.node)] = counts.get(level_of(placed.node), 0) + _count((placed,))
    return counts


def _pairs(asset: Asset) -> Iterator[tuple[tuple[int, int], tuple[int, int]]]:
    """Each level and the one before it, the visible mesh first: number and triangles of both."""
    before = 0, _count(asset.main)
    for number, own in sorted(_counts(asset).items()):
        if number > 0:
            yield before, (number, own)
            before = number, own


def _count(placed: tuple[Placed, ...]) -> int:
    return sum(one.node.drawn.triangle_count for one in placed if one.node.drawn is not None)
