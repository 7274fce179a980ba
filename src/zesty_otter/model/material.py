"""What a surface looks like: metal/rough materials and the textures they use."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from zesty_otter.errors import ModelError
from zesty_otter.model.checking import LARGEST, NOTHING, flag, named, number, numbers, one_of, read_only
from zesty_otter.model.naming import count_of

TEXTURE_ROLES = ("base_color", "alpha", "metallic", "roughness", "normal", "occlusion", "emissive")
"""What a texture may drive, in the order in which materials list them."""

ALPHA_MODES = ("opaque", "mask", "blend")
"""How a material treats alpha."""

COLOR_ROLES = frozenset({"base_color", "emissive"})
"""Roles whose pixels are colours (sRGB); the pixels of all others are plain numbers."""


@dataclass(frozen=True, repr=False)
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
    data: bytes | None = None
    wanted: str = ""
    looked_in: tuple[Path, ...] = ()

    def __post_init__(self) -> None:
        named(self.name, "texture")
        place = f"texture {self.name}"
        if self.data is not None and not isinstance(self.data, bytes):
            raise ModelError(f"data must be bytes, not {type(self.data).__name__}.", place=place)
        if isinstance(self.path, str):
            object.__setattr__(self, "path", Path(self.path))
        elif self.path is not None and not isinstance(self.path, Path):
            raise ModelError(f"path must be a path, not {self.path!r}.", place=place)

    def __repr__(self) -> str:
        if self.data is not None:
            return f"Texture '{self.name}': {count_of(len(self.data), 'byte')}"
        return f"Texture '{self.name}': {self.path or 'not found'}"

    @property
    def found(self) -> bool:
        """Whether there is a file or are bytes to read."""
        return self.path is not None or self.data is not None

    def read(self) -> bytes:
        """The file's bytes; raises FileNotFoundError when the texture is missing.

        Returns
        -------
        bytes

        Raises
        ------
        FileNotFoundError
            When the texture is missing.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Texture("dot.png", data=b"...").read()
        b'...'
        """
        if self.data is not None:
            return self.data
        if self.path is None:
            raise FileNotFoundError(self.wanted or self.name)
        return self.path.read_bytes()


@dataclass(frozen=True)
class TextureUse:
    """How a material uses a texture.

    The image is looked up at ``offset + rotated(scale * uv)``, where UVs start in its lower left corner.

    Parameters
    ----------
    texture : Texture
    uv_set : int
        The number of the UV set, from 0.
    channel : str or None
        The colour channel (``r g b a``) that a single number is read from; the usual one when None.
    offset : (float, float)
    scale : (float, float)
    rotation : float
        In radians, to the left.
    clamp : bool
        Whether its edge goes on beyond it, instead of the image again.
    strength : float
        The scale of a normal map, or how much an occlusion map darkens.
    """

    texture: Texture
    uv_set: int = 0
    channel: str | None = None
    offset: tuple[float, float] = (0.0, 0.0)
    scale: tuple[float, float] = (1.0, 1.0)
    rotation: float = 0.0
    clamp: bool = False
    strength: float = 1.0

    def __post_init__(self) -> None:
        if not isinstance(self.texture, Texture):
            raise ModelError(f"must use a Texture, not {self.texture!r}.", place="texture use")
        place = f"use of texture {self.texture.name}"
        number(self.uv_set, "uv_set", place)
        if self.channel is not None:
            one_of(self.channel, "rgba", "channel", place)
        if self.uv_set != int(self.uv_set):
            raise ModelError(f"uv_set is {self.uv_set!r}. Use a whole number from 0.", place=place)
        flag(self.clamp, "clamp", place)
        numbers(self.offset, 2, "offset", place, -LARGEST)
        numbers(self.scale, 2, "scale", place, -LARGEST)
        number(self.rotation, "rotation", place, -LARGEST)
        number(self.strength, "strength", place, -LARGEST)


@dataclass(frozen=True, repr=False)
class Material:
    """A metal/rough material. Colours are linear, 0 to 1.

    Parameters
    ----------
    name : str
    base_color : (float, float, float, float)
        Red, green, blue, alpha.
    metallic : float
        0 to 1.
    roughness : float
        0 to 1, from mirror to chalk.
    emissive : (float, float, float)
        What it sends out itself.
    alpha_mode : str
        ``opaque``, ``mask`` (cut out where alpha is below ``alpha_cutoff``) or ``blend``.
    alpha_cutoff : float
    two_sided : bool
        Whether faces are seen from behind as well.
    textures : mapping of str to TextureUse
        By role, one of `TEXTURE_ROLES`.
    shading : mapping of str to object
        What the source said in an older shading model (``specular``, ``shininess``, ...).
    """

    name: str
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 0.0
    roughness: float = 1.0
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    alpha_mode: str = "opaque"
    alpha_cutoff: float = 0.5
    two_sided: bool = False
    textures: Mapping[str, TextureUse] = NOTHING
    shading: Mapping[str, Any] = NOTHING

    def __post_init__(self) -> None:
        named(self.name, "material")
        place = f"material {self.name}"
        checked = {
            "base_color": numbers(self.base_color, 4, "base_color", place),
            "emissive": numbers(self.emissive, 3, "emissive", place),
            "metallic": number(self.metallic, "metallic", place, 0.0, 1.0),
            "roughness": number(self.roughness, "roughness", place, 0.0, 1.0),
            "alpha_cutoff": number(self.alpha_cutoff, "alpha_cutoff", place),
            "textures": read_only(self.textures, "textures", place),
            "shading": read_only(self.shading, "shading", place),
        }
        one_of(self.alpha_mode, ALPHA_MODES, "alpha_mode", place)
        flag(self.two_sided, "two_sided", place)
        for role, use in self.textures.items():
            one_of(role, TEXTURE_ROLES, "the role of a texture", place)
            if not isinstance(use, TextureUse):
                raise ModelError(f"the texture for {role} must be a TextureUse, not {use!r}.", place=place)
        self.__dict__.update(checked)

    def __repr__(self) -> str:
        parts = ["base_color " + " ".join(f"{one:.3g}" for one in self.base_color)]
        parts += [count_of(len(self.textures), "texture")] if self.textures else []
        parts += [self.alpha_mode] if self.alpha_mode != "opaque" else []
        return f"Material '{self.name}': {', '.join(parts)}"

    def with_textures(self, textures: Mapping[str, TextureUse]) -> Material:
        """The same material with these textures, listed in the order of `TEXTURE_ROLES`.

        Parameters
        ----------
        textures : mapping of str to TextureUse
            By role, one of `TEXTURE_ROLES`.

        Returns
        -------
        Material

        Raises
        ------
        ModelError
            When a role is unknown.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> grain = zo.TextureUse(zo.Texture("timber.png"))
        >>> list(zo.Material("timber").with_textures({"normal": grain, "base_color": grain}).textures)
        ['base_color', 'normal']
        """
        ordered = {role: textures[role] for role in TEXTURE_ROLES if role in textures}
        return replace(self, textures=ordered)


def roughness_of_shininess(exponent: float) -> float:
    """The roughness whose highlight is as wide as that of a Phong exponent: (2 / (n + 2)) ** (1/4).

    Parameters
    ----------
    exponent : float
        Of Phong's highlight, 0 or more.

    Returns
    -------
    float
        0 to 1.

    References
    ----------
    B. Walter, S. R. Marschner, H. Li and K. E. Torrance (2007), Microfacet models for refraction through
    rough surfaces (equation for alpha); roughness is the square root of alpha, as glTF 2.0 defines it.

    Examples
    --------
    >>> round(roughness_of_shininess(30), 3)
    0.5
    """
    return (2.0 / (max(exponent, 0.0) + 2.0)) ** 0.25
