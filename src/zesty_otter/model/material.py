"""What a surface looks like: metal/rough materials and the textures they use."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

TEXTURE_ROLES = ("base_color", "alpha", "metallic", "roughness", "normal", "occlusion", "emissive")
"""What a texture may drive, in the order in which materials list them."""

COLOR_ROLES = frozenset({"base_color", "emissive"})
"""Roles whose pixels are colours (sRGB); the pixels of all others are plain numbers."""


@dataclass(frozen=True, eq=False)
class Texture:
    """An image file, found or missing.

    Parameters
    ----------
    name : str
        The name to write it under, without folder.
    path : Path or None
        Where it was found on disk, if it was.
    data : bytes or None
        Its bytes, when it came embedded or was made in memory; otherwise they are read from ``path``.
    wanted : str
        The reference as the source spelled it, for messages.
    looked_in : tuple of Path
        Where it was looked for.
    """

    name: str
    path: Path | None = None
    data: bytes | None = field(default=None, repr=False)
    wanted: str = ""
    looked_in: tuple[Path, ...] = ()

    @property
    def found(self) -> bool:
        return self.path is not None or self.data is not None

    def read(self) -> bytes:
        """The file's bytes; raises FileNotFoundError when the texture is missing."""
        if self.data is not None:
            return self.data
        if self.path is None:
            raise FileNotFoundError(self.wanted or self.name)
        return self.path.read_bytes()


@dataclass(frozen=True, eq=False)
class TextureUse:
    """How a material uses a texture.

    ``channel`` is the colour channel (``r g b a``) that single-number roles read, or None for the usual
    one. ``offset`` and ``scale`` place the image on the UVs, whose origin is the lower left corner.
    ``strength`` is the normal map's scale or the occlusion's strength.
    """

    texture: Texture
    uv_set: int = 0
    channel: str | None = None
    offset: tuple[float, float] = (0.0, 0.0)
    scale: tuple[float, float] = (1.0, 1.0)
    rotation: float = 0.0
    clamp: bool = False
    strength: float = 1.0


@dataclass(frozen=True, eq=False)
class Material:
    """A metal/rough material.

    Colours are linear, 0 to 1. ``alpha_mode`` is ``opaque``, ``mask`` (cut out where alpha is below
    ``alpha_cutoff``) or ``blend``. ``textures`` maps a role of `TEXTURE_ROLES` to its `TextureUse`.
    ``shading`` keeps what the source said in an older shading model (``specular``, ``shininess``, ...).
    """

    name: str
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 0.0
    roughness: float = 1.0
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    alpha_mode: str = "opaque"
    alpha_cutoff: float = 0.5
    two_sided: bool = False
    textures: Mapping[str, TextureUse] = field(default_factory=lambda: MappingProxyType({}))
    shading: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))

    def with_textures(self, textures: Mapping[str, TextureUse]) -> Material:
        """The same material with these textures, listed in the order of `TEXTURE_ROLES`."""
        ordered = {role: textures[role] for role in TEXTURE_ROLES if role in textures}
        return replace(self, textures=MappingProxyType(ordered))


def roughness_of_shininess(exponent: float) -> float:
    """The roughness whose highlight is as wide as that of a Phong exponent: (2 / (n + 2)) ** (1/4).

    References
    ----------
    B. Walter, S. R. Marschner, H. Li and K. E. Torrance (2007), Microfacet models for refraction through
    rough surfaces (equation for alpha); roughness is the square root of alpha, as glTF 2.0 defines it.
    """
    return (2.0 / (max(exponent, 0.0) + 2.0)) ** 0.25
