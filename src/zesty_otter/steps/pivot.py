"""Pivots: the point an asset turns about and is placed by."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from zesty_otter.errors import ModelError, UsageError, closest
from zesty_otter.geometry.surface.measure import centre_of_area, centre_of_volume
from zesty_otter.model import Content, Mesh, Note, Placed, Scene, count_of, format_length, is_within, parse_length
from zesty_otter.steps.assets import Asset, assets_of, usual_templates
from zesty_otter.steps.base import Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.words import chosen_numbers

_PLAIN = ("keep", "origin", "base", "centre", "area", "volume")
_WITH_VALUE = ("grid", "marker", "point", "vertex")
_SIDES = ("left", "right", "up", "down", "forward", "back", "centre")

_HELP = (
    "keep; origin (of the world); base (middle of the underside); centre (of the bounds); area or volume"
    " (centre of it); an anchor on the bounds as three words ('left down back', 'centre' where it is in the"
    " middle) or three shares along X, Y and Z ('0 0.5 1'); grid:2m (the left, down, back corner snapped to"
    " a module grid); marker:NAME (a node); point:X Y Z (lengths); vertex:N (a point of the mesh)"
)


class Pivot(Step):
    """Put the pivot of every asset where it belongs, without moving what is seen.

    Looks at the bounds of the visible mesh (or of the one with the role of bounds) in world space. The levels,
    collision, shadow and bounds of an asset get the same pivot. Changes the transforms of these nodes and the
    points of their meshes by opposite amounts; child nodes stay where they are. Refuses nodes with zero scale, and
    markers that do not exist.
    """

    slug: ClassVar[str] = "pivot"
    example: ClassVar[dict[str, Any]] = {"at": "base", "place": "origin"}

    at: str = Field("keep", description=_HELP)
    of: Literal["object", "scene"] = Field(
        "object", description="object: each asset has its own pivot; scene: all share one for the whole scene."
    )
    place: Literal["keep", "origin"] = Field(
        "keep",
        description="keep: nothing moves; origin: assets move so that their pivots are at the world's origin.",
    )

    templates: dict[str, tuple[str, ...]] = Field(
        default_factory=usual_templates,
        description="Name templates by which levels, collision and so on are found, as in the step roles.",
    )

    @field_validator("at")
    @classmethod
    def _readable(cls, at: str) -> str:
        _parsed(at)
        return at.strip()

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        if self.at == "keep" and self.place == "keep":
            return scene
        # Roles serve to find what belongs together; the nodes keep those they have.
        with_roles = Roles(templates=self.templates).apply(scene)
        assets = [
            asset
            for asset in assets_of(with_roles)
            if any(one.number in numbers and one.node.mesh is not None for one in asset.main)
        ]
        if self.of == "scene":
            assets = [
                Asset(scene.name, tuple(p for a in assets for p in a.main), tuple(p for a in assets for p in a.rest))
            ]
        kind, value = _parsed(self.at)
        places: dict[int, NDArray[np.float64]] = {}
        farthest = 0.0
        for asset in assets:
            own = asset.main[0].world[:3, 3]
            pivot = own if kind == "keep" else _Finder(scene, asset, own).find(kind, value)
            for placed in (*asset.main, *(one for one in asset.rest if one.node.mesh is not None)):
                if kind != "keep":
                    places[placed.number] = pivot
                    farthest = max(farthest, float(np.linalg.norm(pivot - placed.world[:3, 3])))
                else:
                    places[placed.number] = placed.world[:3, 3]
        followers = _followers(scene, assets, places) if self.place == "origin" else {}
        changed = _with_pivots(scene, places, followers, to_origin=self.place == "origin")
        return changed.with_notes(*self._notes(len(assets), farthest * (scene.frame.unit or 0.0)))

    def _notes(self, count: int, farthest: float) -> list[Note]:
        notes = []
        if self.at != "keep":
            away = f"; the farthest was {format_length(farthest)} away" if farthest else ""
            notes.append(self.note(f"pivot of {count_of(count, 'asset')} set to {self.at}{away}"))
        if self.place == "origin":
            notes.append(self.note(f"{count_of(count, 'asset')} placed at the world's origin"))
        return notes


def _parsed(at: str) -> tuple[str, Any]:
    """The kind of a pivot and what comes with it."""
    text = at.strip()
    key, colon, value = text.partition(":")
    if not colon and text in _PLAIN:
        return text, None
    if colon and key == "grid":
        return key, parse_length(value)
    if colon and key == "marker" and value.strip():
        return key, value.strip()
    if colon and key == "vertex" and value.strip().isdecimal():
        return key, int(value)
    words = (value if colon else text).replace(",", " ").split()
    if colon and key == "point" and len(words) == 3:
        return key, [parse_length(word) for word in words]
    if not colon and len(words) == 3:
        if all(word in _SIDES for word in words):
            return "sides", words
        try:
            return "shares", [float(word) for word in words]
        except ValueError:
            pass
    known = [*_PLAIN, *(f"{one}:" for one in _WITH_VALUE), *_SIDES]
    raise ValueError(
        f"'{at}' is not a place for a pivot; there are {', '.join(_PLAIN)}, three of {' '.join(_SIDES)}, three shares,"
        f" {', '.join(f'{one}:' for one in _WITH_VALUE)}.{closest(words[0] if words else at, known)}"
    )


@dataclass(frozen=True, eq=False)
class _Finder:
    """Finds the pivot of one asset, in world space and the scene's unit."""

    scene: Scene
    asset: Asset
    own: NDArray[np.float64]

    def find(self, kind: str, value: Any) -> NDArray[np.float64]:
        if kind == "origin":
            return np.zeros(3)
        if kind == "point":
            return np.array(value) / self.scene.unit_for("a point in metres")
        if kind == "marker":
            return self._marker(value)
        if kind == "vertex":
            return self._vertex(value)
        box = self.asset.bounds()
        if not np.isfinite(box).all():
            return self.own
        if kind in ("area", "volume"):
            return self._centre(kind, box)
        if kind == "shares":
            return np.asarray(box[0] + np.array(value) * (box[1] - box[0]))
        if kind == "grid":
            step = value / self.scene.unit_for("a grid in metres")
            corner = self._anchor(box, ["left", "down", "back"])
            return np.asarray(np.round(corner / step) * step) + 0.0
        return self._anchor(box, {"base": ["down"], "centre": []}.get(kind, value))

    def _anchor(self, box: NDArray[np.float64], sides: list[str]) -> NDArray[np.float64]:
        point = box.mean(axis=0)
        for side in sides:
            if side != "centre":
                axis, sign = self.scene.frame.towards(side)
                point[axis] = box[1 if sign > 0 else 0, axis]
        return np.asarray(point)

    def _marker(self, name: str) -> NDArray[np.float64]:
        """The place of the marker: one of the asset's own when there is one, else any in the scene."""
        everything = list(self.scene.walk())
        own = {placed.number for placed in self.asset.main}
        below = [one for one in everything if self._is_below(one, own, everything)]
        for candidates in ((*self.asset.rest, *below), everything):
            for placed in candidates:
                if fnmatch.fnmatchcase(placed.node.name, name):
                    return np.asarray(placed.world[:3, 3])
        raise UsageError(
            f"there is no node called '{name}' to take as the pivot.{closest(name, [p.node.name for p in everything])}",
            file=self.scene.source,
            remedy="`zesty-otter survey` lists the nodes.",
        )

    def _is_below(self, placed: Placed, above: set[int], everything: list[Placed]) -> bool:
        while placed.parent >= 0:
            if placed.parent in above:
                return True
            placed = everything[placed.parent]
        return False

    def _vertex(self, number: int) -> NDArray[np.float64]:
        placed = self.asset.main[0]
        mesh = placed.node.mesh
        if mesh is None or number >= mesh.point_count:
            count = mesh.point_count if mesh else 0
            raise UsageError(
                f"there is no vertex {number}; the mesh has {count_of(count, 'point')}.",
                file=self.scene.source,
                place=f"node {placed.node.name}",
            )
        return np.asarray(placed.world[:3, :3] @ mesh.points[number] + placed.world[:3, 3])

    def _centre(self, kind: str, box: NDArray[np.float64]) -> NDArray[np.float64]:
        weights, centres = [], []
        for placed in self.asset.main:
            mesh = placed.node.mesh
            if mesh is None or not mesh.face_count:
                continue
            points = mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]
            measure = centre_of_area if kind == "area" else centre_of_volume
            weight, centre = measure(points, mesh.face_start, mesh.corner_point)
            weights.append(weight)
            centres.append(centre)
        total = sum(weights)
        if not centres or abs(total) <= 1e-12 * float(np.abs(box).max()) ** (2 if kind == "area" else 3):
            return np.asarray(box.mean(axis=0))
        return np.asarray(np.average(centres, axis=0, weights=weights))


def _followers(
    scene: Scene, assets: Sequence[Asset], places: dict[int, NDArray[np.float64]]
) -> dict[int, NDArray[np.float64]]:
    """Of each node that belongs to an asset or hangs below it, and has no pivot of its own, the pivot it goes with."""
    found: dict[int, NDArray[np.float64]] = {}
    for asset in assets:
        base = places.get(asset.main[0].number)
        if base is not None:
            found |= {one.number: base for one in (*asset.main, *asset.rest) if one.number not in places}
    for placed in scene.walk():  # parents come before what hangs below them
        if placed.number not in places and placed.number not in found:
            above = found.get(placed.parent, places.get(placed.parent))
            if above is not None:
                found[placed.number] = above
    return found


def _with_pivots(
    scene: Scene,
    places: dict[int, NDArray[np.float64]],
    followers: dict[int, NDArray[np.float64]],
    *,
    to_origin: bool,
) -> Scene:
    """The scene with the pivots of some placed meshes at ``places``, in world space, or moved from there to the origin;
    ``followers`` go along.
    """
    worlds: dict[int, NDArray[np.float64]] = {}
    contents: dict[int, Content | None] = {}
    shifted: dict[tuple[int, bytes], Mesh] = {}
    for placed, mesh in scene.placed_meshes():
        if placed.number not in places:
            continue
        offset = _offset(placed, places[placed.number])
        # Instances whose offsets differ by rounding alone go on sharing their mesh.
        size = float(np.ptp(mesh.surface_bounds, axis=0).max()) or 1.0
        key = (id(mesh), (offset / size).round(9).tobytes())
        if key not in shifted:
            shifted[key] = mesh.replace(points=mesh.points - offset) if offset.any() else mesh
        contents[placed.number] = shifted[key]
        worlds[placed.number] = placed.world.copy()
        worlds[placed.number][:3, 3] = 0.0 if to_origin else places[placed.number]
    for placed in scene.walk() if followers else ():
        if placed.number in followers:
            worlds[placed.number] = placed.world.copy()
            worlds[placed.number][:3, 3] -= followers[placed.number]
    return scene.with_worlds(worlds, contents)


def _offset(placed: Placed, pivot: NDArray[np.float64]) -> NDArray[np.float64]:
    """The pivot in the node's own space."""
    away = pivot - placed.world[:3, 3]
    if not away.any():
        return np.zeros(3)
    try:
        found = np.asarray(np.linalg.solve(placed.world[:3, :3], away)) + 0.0
    except np.linalg.LinAlgError:
        found = np.full(3, np.inf)
    if not is_within(found):
        raise ModelError(
            "has zero scale along some direction, so its pivot cannot be moved.",
            place=f"node {placed.node.name}",
            remedy="Give it a scale that is not zero.",
        )
    return found
