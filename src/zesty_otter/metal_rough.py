"""Materials of older models, of a diffuse and a specular colour, as metal and roughness.

Khronos Group (2017), glTF extension KHR_materials_pbrSpecularGlossiness, appendix: conversion.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter import pixels
from zesty_otter.geometry.raster.colors import to_linear, to_srgb
from zesty_otter.model import Material, Scene, Texture, TextureUse, roughness_of_shininess

GLOSS = "KHR_materials_pbrSpecularGlossiness"
"""Where the maps of a material of specular and glossiness stand among what its extensions say."""

_F0 = 0.04  # what a dielectric reflects, glTF 2.0 appendix B
_ROWS = 1 << 20  # pixels that are worked on at a time


@dataclass(frozen=True)
class Converted:
    """A material as metal and roughness, and why its specular and glossiness maps could not be; empty when they are."""

    material: Material
    maps_lost: str = ""


def metal_rough(material: Material) -> Converted:
    """A material whose metal, roughness and base colour follow from its diffuse, specular and shininess or glossiness.

    Metal solves how much of the specular colour a dielectric cannot explain; the base colour is what both then agree
    on; roughness is (2 / (shininess + 2)) ** (1/4), or 1 - glossiness. Maps of specular and glossiness are worked out
    pixel by pixel. A material without a specular colour, or with metal already given, is left alone.
    """
    shading = material.shading
    if "specular" not in shading or "metallic" in shading:
        # Where both models are said, the newer one is believed.
        has_both = GLOSS in shading.get("extensions", {})
        return Converted(replace(material, shading=_without_gloss(shading)) if has_both else material)
    maps = shading.get("extensions", {}).get(GLOSS, {})
    diffuse, gloss = maps.get("diffuseTexture"), maps.get("specularGlossinessTexture")
    lost = ""
    if isinstance(gloss, TextureUse):
        own = diffuse if isinstance(diffuse, TextureUse) else None
        lost = _obstacle(own, gloss)
        if not lost:
            made = _from_maps(material, own, gloss)
            if isinstance(made, Material):
                return Converted(made)
            lost = made
    base, metallic = converted(
        np.array([material.base_color[:3]]), np.clip(np.array([shading["specular"]], float), 0.0, 1.0)
    )
    rough = roughness_of_shininess(float(shading["shininess"])) if "shininess" in shading else 1.0
    if "glossiness" in shading:
        rough = 1.0 - min(max(float(shading["glossiness"]), 0.0), 1.0)
        material = replace(material, shading=_without_gloss(shading))
    color = tuple(base[0].tolist())
    return Converted(
        replace(
            material,
            base_color=(color[0], color[1], color[2], material.base_color[3]),
            metallic=float(metallic[0]),
            roughness=float(material.roughness if "roughness" in shading else rough),
        ),
        lost,
    )


def with_metal_rough(scene: Scene, wanted: Callable[[Material], bool]) -> tuple[Scene, list[str]]:
    """A scene whose materials, those that are wanted, are `metal_rough`, and remarks on maps that could not be."""
    lost: list[str] = []

    def change(material: Material) -> Material:
        if not wanted(material):
            return material
        done = metal_rough(material)
        if done.maps_lost:
            lost.append(f"'{material.name}': only the factors of specular and glossiness count; {done.maps_lost}")
        return done.material

    return scene.map_materials(change), lost


def converted(
    diffuse: NDArray[np.floating[Any]], specular: NDArray[np.floating[Any]]
) -> tuple[NDArray[np.floating[Any]], NDArray[np.floating[Any]]]:
    """Base colours and metal of pairs of colours.

    Parameters
    ----------
    diffuse, specular : (N, 3) float
        Amounts of light, 0 to 1.

    Returns
    -------
    base : (N, 3) float
    metallic : (N,) float
    """
    strongest = specular.max(axis=1)
    bright, shine = _brightness(diffuse), _brightness(specular)
    b = bright * (1.0 - strongest) / (1.0 - _F0) + shine - 2.0 * _F0
    root = np.sqrt(np.maximum(b * b - 4.0 * _F0 * (_F0 - shine), 0.0))
    metallic = np.where(shine < _F0, 0.0, np.clip((root - b) / (2.0 * _F0), 0.0, 1.0))
    rest = metallic[:, None]
    from_diffuse = diffuse * ((1.0 - strongest) / (1.0 - _F0))[:, None] / np.maximum(1.0 - rest, 1e-6)
    from_specular = (specular - _F0 * (1.0 - rest)) / np.maximum(rest, 1e-6)
    mix = rest * rest
    return np.clip(from_diffuse * (1.0 - mix) + from_specular * mix, 0.0, 1.0), metallic


def _brightness(color: NDArray[np.floating[Any]]) -> NDArray[np.floating[Any]]:
    """Perceived brightness of linear colours (weights of the HSP model)."""
    return np.sqrt(color**2 @ np.array([0.299, 0.587, 0.114], color.dtype))


def _without_gloss(shading: Mapping[str, Any]) -> dict[str, Any]:
    """What a material says beside its specular and glossiness."""
    kept = {name: one for name, one in shading.get("extensions", {}).items() if name != GLOSS}
    rest = {key: one for key, one in shading.items() if key not in ("specular", "glossiness", "extensions")}
    return {**rest, **({"extensions": kept} if kept else {})}


def _obstacle(diffuse: TextureUse | None, gloss: TextureUse) -> str:
    """Why two maps cannot be worked out pixel by pixel."""
    if diffuse is not None:
        places = [(use.uv_set, use.offset, use.scale, use.rotation) for use in (diffuse, gloss)]
        if places[0] != places[1]:
            return "its two maps lie on different UVs"
    return ""


def _from_maps(material: Material, diffuse: TextureUse | None, gloss: TextureUse) -> Material | str:
    """The material with maps of base colour, metal and roughness; or why there are none."""
    said = material.shading["extensions"][GLOSS]
    try:
        shiny = pixels.rgba(gloss.texture.read())
        plain = None if diffuse is None else pixels.rgba(diffuse.texture.read())
    except (OSError, pixels.ImageError):
        return "one of its maps cannot be read"
    if plain is not None and plain.shape != shiny.shape:
        size = max(plain.shape[1], shiny.shape[1]), max(plain.shape[0], shiny.shape[0])
        plain, shiny = pixels.resized(plain, size), pixels.resized(shiny, size)
    high, wide = shiny.shape[:2]
    color = np.array((*said.get("diffuseFactor", (1, 1, 1, 1)), 1.0)[:4], np.float32)
    specular = np.array(material.shading["specular"], np.float32)
    base, metal = np.empty((high * wide, 4), np.uint8), np.empty((high * wide, 4), np.uint8)
    shiny = shiny.reshape(-1, 4)
    flat = None if plain is None else plain.reshape(-1, 4)
    to_light = to_linear(np.arange(256) / 255).astype(np.float32)
    for first in range(0, high * wide, _ROWS):
        rows = slice(first, first + _ROWS)
        own = np.ones((len(shiny[rows]), 3), np.float32) if flat is None else to_light[flat[rows, :3]]
        found, metallic = converted(own * color[:3], np.clip(to_light[shiny[rows, :3]] * specular, 0, 1))
        base[rows, :3] = np.rint(255 * to_srgb(found))
        base[rows, 3] = 255 if flat is None else flat[rows, 3]
        metal[rows, 0], metal[rows, 3] = 255, 255
        metal[rows, 1] = np.rint(255 - shiny[rows, 3] * np.float32(material.shading["glossiness"]))
        metal[rows, 2] = np.rint(255 * metallic)
    stem = gloss.texture.name.rpartition(".")[0] or gloss.texture.name
    shared = Texture(f"{stem}_metal_rough.png", data=pixels.png_of(metal.reshape(high, wide, 4)))
    painted = Texture(f"{stem}_base_color.png", data=pixels.png_of(base.reshape(high, wide, 4)))
    uses = {
        **{role: use for role, use in material.textures.items() if role not in ("base_color", "metallic", "roughness")},
        "base_color": replace(diffuse or gloss, texture=painted),
        "metallic": replace(gloss, texture=shared, channel="b"),
        "roughness": replace(gloss, texture=shared, channel="g"),
    }
    return replace(
        material,
        base_color=(1.0, 1.0, 1.0, float(color[3])),
        metallic=1.0,
        roughness=1.0,
        shading=_without_gloss(material.shading),
    ).with_textures(uses)
