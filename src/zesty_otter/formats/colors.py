"""Colours at the border of formats: the model holds amounts of light, many formats how bright it looks on screen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Layer, Light, Material, Mesh, Node, Scene

Colour = tuple[float, float, float]
DIELECTRIC = (0.2227, 0.2227, 0.2227)
"""What all but metals reflect, 0.04 of the light (glTF 2.0, appendix B), as it looks on screen."""

_DIGITS = 7  # of colours as they are seen; what is lost by going to light and back is less


def as_light(scene: Scene) -> Scene:
    """A scene whose colours are as seen on screen, with amounts of light instead."""
    from zesty_otter.geometry.raster.colors import table_to_linear, to_linear

    return _with_colors(scene, lambda values: to_linear(values), table_to_linear)


def as_seen(scene: Scene) -> Scene:
    """A scene whose colours are amounts of light, with colours as seen on screen instead."""
    from zesty_otter.geometry.raster.colors import to_srgb

    def seen(values: NDArray[Any]) -> NDArray[np.float64]:
        return np.round(to_srgb(values), _DIGITS)

    return _with_colors(scene, seen, lambda values: seen(values).astype(np.float32))


def strong(color: Colour, intensity: float) -> Colour:
    """A colour as seen, as strong as its light, for formats that have no other place for that."""
    from zesty_otter.geometry.raster.colors import to_linear, to_srgb

    if intensity >= 1.0:
        red, green, blue = color
        return red * intensity, green * intensity, blue * intensity
    red, green, blue = np.round(to_srgb(to_linear(np.array(color)) * intensity), _DIGITS).tolist()
    return red, green, blue


Turn = Callable[[NDArray[Any]], NDArray[np.float64]]


def _with_colors(scene: Scene, turn: Turn, turn_many: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> Scene:
    lights: dict[int, Light] = {}

    def of_node(node: Node) -> Node:
        if not isinstance(node.content, Light):
            return node
        light = lights.setdefault(id(node.content), replace(node.content, color=_turned(node.content.color, turn)))
        return replace(node, content=light)

    changed = scene.map_materials(lambda material: _of_material(material, turn))
    return changed.map_meshes(lambda mesh: _of_mesh(mesh, turn_many)).map_nodes(of_node)


def _of_material(material: Material, turn: Turn) -> Material:
    old = {
        key: _turned(value, turn) if isinstance(value, list | tuple) and len(value) == 3 else value
        for key, value in material.shading.items()
    }
    color = (*_turned(material.base_color[:3], turn), material.base_color[3])
    return replace(material, base_color=color, emissive=_turned(material.emissive, turn), shading=old)


def _of_mesh(mesh: Mesh, turn: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> Mesh:
    if not mesh.layers_of("color"):
        return mesh
    return mesh.replace(layers=tuple(_of_layer(one, turn) if one.kind == "color" else one for one in mesh.layers))


def _of_layer(layer: Layer, turn: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> Layer:
    values = layer.values.copy()
    values[:, :3] = turn(np.ascontiguousarray(layer.values[:, :3]))
    return Layer.taking("color", values, layer.index, layer.name)


def _turned(color: Sequence[float], turn: Turn) -> Colour:
    """A colour turned; of one that is brighter than white its hue, at the same brightness."""
    values = np.asarray(color, np.float64)
    brightest = max(1.0, float(values.max(initial=0.0)))
    red, green, blue = (turn(np.maximum(values / brightest, 0.0)) * brightest).tolist()
    return red, green, blue
