"""Which values the JSON of a glTF file may hold where the reader looks (specification, chapter 5)."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

from zesty_otter.formats.gltf.compressed import PACKED_MESH, PACKED_VIEW
from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.metal_rough import GLOSS

Rule = Callable[[Any, str], None]
"""Raises UnsoundError when a value, found at a place, is not what may stand there."""

_LARGEST = 1 << 53  # whole numbers that JSON can be trusted with


def anything(value: Any, place: str) -> None:
    """Nothing is asked."""


def index(value: Any, place: str) -> None:
    """The number of something in one of the lists of the file."""
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < _LARGEST:
        raise _wrong(value, place, "a whole number of 0 or more")


def _count(value: Any, place: str) -> None:
    # Some programs write them with a decimal point.
    index(int(value) if isinstance(value, float) and value.is_integer() else value, place)


def _number(value: Any, place: str) -> None:
    if isinstance(value, bool) or not isinstance(value, int | float) or (isinstance(value, int) and abs(value) > 1e300):
        raise _wrong(value, place, "a number")


def _finite(value: Any, place: str) -> None:
    _number(value, place)
    if not math.isfinite(value):
        raise _wrong(value, place, "a finite number")


def _text(value: Any, place: str) -> None:
    if not isinstance(value, str):
        raise _wrong(value, place, "a text")


def _one_of(*words: Any) -> Rule:
    def check(value: Any, place: str) -> None:
        if value not in words or isinstance(value, bool):
            raise _wrong(value, place, f"one of {', '.join(map(str, words))}")

    return check


def _numbers(least: int, most: int | None = None) -> Rule:
    def check(value: Any, place: str) -> None:
        if not isinstance(value, list) or len(value) < least or (most is not None and len(value) > most):
            raise _wrong(value, place, f"a list of {least} numbers" if least else "a list of numbers")
        if not all(type(one) is float for one in value):  # most are, and pass at once
            for n, one in enumerate(value):
                _number(one, f"{place}[{n}]")

    return check


def _list_of(rule: Rule) -> Rule:
    def check(value: Any, place: str) -> None:
        if not isinstance(value, list):
            raise _wrong(value, place, "a list")
        for n, one in enumerate(value):
            rule(one, f"{place}[{n}]")

    return check


def _map_of(rule: Rule) -> Rule:
    def check(value: Any, place: str) -> None:
        if not isinstance(value, dict):
            raise _wrong(value, place, "an object")
        for key, one in value.items():
            rule(one, f"{place}.{key}")

    return check


def _object(needed: Mapping[str, Rule] | None = None, /, **fields: Rule) -> Rule:
    """An object with some fields, of which those in ``needed`` must be there; others are not looked at."""
    rules = {**(needed or {}), **fields}

    def check(value: Any, place: str) -> None:
        if not isinstance(value, dict):
            raise _wrong(value, place, "an object")
        for key in needed or ():
            if key not in value:
                raise UnsoundError(f"{place} has no '{key}'")
        for key, one in value.items():
            if key in rules:
                rules[key](one, f"{place}.{key}" if place else key)

    return check


def _wrong(value: Any, place: str, wanted: str) -> UnsoundError:
    if isinstance(value, list):
        shown = f"a list of {len(value)}"
    else:
        shown = "an object" if isinstance(value, dict) else f"{value!r:.40}"
    return UnsoundError(f"{place} is {shown}, not {wanted}")


def _extended(**fields: Rule) -> Rule:
    return _object(None, **fields)


_PLACEMENT = _object(offset=_numbers(2), scale=_numbers(2), rotation=_finite, texCoord=_count)
TEXTURE_INFO = _object(
    {"index": index},
    texCoord=_count,
    scale=_number,
    strength=_number,
    extensions=_extended(KHR_texture_transform=_PLACEMENT),
)
_SOURCE = _object(source=index)
_COMPONENTS = _one_of(5120, 5121, 5122, 5123, 5125, 5126)
_BLOCK = {"bufferView": index, "componentType": _COMPONENTS}
_VIEW = {"buffer": index, "byteLength": _count}
_LENS = {"znear": _number}

PARTS: dict[str, Rule] = {
    "accessors": _object(
        {
            "componentType": _COMPONENTS,
            "count": _count,
            "type": _one_of("SCALAR", "VEC2", "VEC3", "VEC4", "MAT2", "MAT3", "MAT4"),
        },
        bufferView=index,
        byteOffset=_count,
        sparse=_object(
            {
                "count": _count,
                "indices": _object(_BLOCK, byteOffset=_count),
                "values": _object({"bufferView": index}, byteOffset=_count),
            }
        ),
    ),
    "animations": _object(
        {
            "channels": _list_of(
                _object({"sampler": index, "target": _object(path=_text, node=index)}),
            ),
            "samplers": _list_of(_object({"input": index, "output": index}, interpolation=_text)),
        }
    ),
    "bufferViews": _object(
        _VIEW,
        byteOffset=_count,
        byteStride=_count,
        extensions=_extended(
            **{
                PACKED_VIEW: _object(
                    {**_VIEW, "byteStride": _count, "count": _count, "mode": _text}, byteOffset=_count, filter=_text
                )
            }
        ),
    ),
    "buffers": _object({"byteLength": _count}, uri=_text, extensions=_extended(**{PACKED_VIEW: _object()})),
    "cameras": _object(
        {"type": _one_of("perspective", "orthographic")},
        perspective=_object({"yfov": _number, **_LENS}, aspectRatio=_number, zfar=_number),
        orthographic=_object({"xmag": _number, "ymag": _number, "zfar": _number, **_LENS}),
    ),
    "images": _object(bufferView=index, uri=_text, mimeType=_text),
    "lights": _object(
        {"type": _text},
        color=_numbers(3),
        intensity=_number,
        range=_number,
        spot=_object(innerConeAngle=_number, outerConeAngle=_number),
    ),
    "materials": _object(
        pbrMetallicRoughness=_object(
            baseColorTexture=TEXTURE_INFO,
            metallicRoughnessTexture=TEXTURE_INFO,
            baseColorFactor=_numbers(4),
            metallicFactor=_number,
            roughnessFactor=_number,
        ),
        normalTexture=TEXTURE_INFO,
        occlusionTexture=TEXTURE_INFO,
        emissiveTexture=TEXTURE_INFO,
        emissiveFactor=_numbers(3),
        alphaCutoff=_number,
        extensions=_extended(
            KHR_materials_emissive_strength=_object(emissiveStrength=_number),
            KHR_materials_clearcoat=_object(clearcoatFactor=_number, clearcoatRoughnessFactor=_number),
            **{
                GLOSS: _object(
                    specularFactor=_numbers(3),
                    glossinessFactor=_number,
                    diffuseFactor=_numbers(4),
                    diffuseTexture=TEXTURE_INFO,
                )
            },
        ),
    ),
    "meshes": _object(
        {
            "primitives": _list_of(
                _object(
                    {"attributes": _map_of(index)},
                    mode=_count,
                    indices=index,
                    material=index,
                    targets=_list_of(_map_of(index)),
                    extensions=_extended(
                        **{PACKED_MESH: _object({"bufferView": index, "attributes": _map_of(_count)})}
                    ),
                )
            )
        },
        weights=_numbers(0),
    ),
    "nodes": _object(
        mesh=index,
        skin=index,
        camera=index,
        children=_list_of(index),
        weights=_numbers(0),
        matrix=_numbers(16, 16),
        translation=_numbers(3, 3),
        rotation=_numbers(4, 4),
        scale=_numbers(3, 3),
        extensions=_extended(
            KHR_lights_punctual=_object({"light": index}),
            EXT_mesh_gpu_instancing=_object({"attributes": _map_of(index)}),
            KHR_node_visibility=_object(),
        ),
    ),
    "samplers": _object(),
    "scenes": _object(nodes=_list_of(index)),
    "skins": _object({"joints": _list_of(index)}, inverseBindMatrices=index),
    "textures": _object(
        source=index,
        sampler=index,
        extensions=_extended(EXT_texture_avif=_SOURCE, EXT_texture_webp=_SOURCE, KHR_texture_basisu=_SOURCE),
    ),
}
"""What one entry of each list must look like."""

DOCUMENT = _object(
    asset=_object(),
    scene=index,
    extensionsUsed=_list_of(anything),
    extensionsRequired=_list_of(anything),
    extensions=_extended(KHR_lights_punctual=_object(lights=_list_of(anything))),
    **{name: _list_of(anything) for name in PARTS if name != "lights"},
)
"""What the whole must look like, but for the entries of its lists."""
