"""Material libraries: MTL statements to metal/rough materials."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

from zesty_otter import pixels
from zesty_otter.formats.bare import sound_material
from zesty_otter.formats.files import find_beside, load, missing_texture
from zesty_otter.model import Material, Note, Texture, TextureUse, roughness_of_shininess

# How many words follow each option of a texture statement; a range where the last are optional.
_MAP_OPTIONS = {
    "-blendu": (1, 1),
    "-blendv": (1, 1),
    "-boost": (1, 1),
    "-bm": (1, 1),
    "-cc": (1, 1),
    "-clamp": (1, 1),
    "-imfchan": (1, 1),
    "-mm": (1, 2),
    "-o": (1, 3),
    "-s": (1, 3),
    "-t": (1, 3),
    "-texres": (1, 1),
    "-type": (1, 1),
}

_MAP_ROLES = {
    "map_kd": "base_color",
    "map_d": "alpha",
    "map_pr": "roughness",
    "map_pm": "metallic",
    "map_ke": "emissive",
    "map_ao": "occlusion",
    "norm": "normal",
    "map_kn": "normal",
    "map_bump": "bump",
    "bump": "bump",
}

_LOST_MAPS = {
    "map_ka": "ambient",
    "map_ks": "specular colour",
    "map_ns": "highlight size",
    "map_ps": "sheen",
    "disp": "displacement",
    "map_disp": "displacement",
    "decal": "decal",
    "refl": "reflection",
    "map_refl": "reflection",
}

_NUMBERS = {
    "ns": "shininess",
    "ni": "refraction",
    "illum": "illumination",
    "pr": "roughness",
    "pm": "metallic",
    "ps": "sheen",
    "pc": "clearcoat",
    "pcr": "clearcoat_roughness",
    "aniso": "anisotropy",
    "anisor": "anisotropy_rotation",
    "d": "opacity",
    "tr": "transparency",
}

_COLORS = {"kd": "diffuse", "ka": "ambient", "ks": "specular", "ke": "emission", "tf": "filter"}

NO_MATERIAL = "# for faces without a material"
"""The comment before a material of our writer that stands for none."""

_SILENT = frozenset({"sharpness", "map_aat"})


@dataclass
class _Draft:
    """A material while its statements are read."""

    name: str
    values: dict[str, Any] = field(default_factory=dict)
    maps: dict[str, TextureUse] = field(default_factory=dict)


def read_library(path: Path, folders: Sequence[Path] = ()) -> tuple[dict[str, Material], list[Note]]:
    """The materials of an MTL file by name, and what was guessed or lost."""
    text = _decoded(load(path).tobytes())
    notes: list[Note] = []
    textures: dict[str, Texture] = {}
    drafts: dict[str, _Draft] = {}
    unknown: dict[str, int] = {}
    current: _Draft | None = None
    stands_for_none = False

    def note(kind: str, message: str, line: int) -> None:
        notes.append(Note(kind, message, "obj", str(path), f"line {line}"))

    for number, line in enumerate(re.split(r"\r\n|\r|\n", text), 1):
        words = line.split("#", 1)[0].split() if not re.match(r"\s*(newmtl|map_|bump|norm)", line) else line.split()
        if not words or words[0].startswith("#"):
            stands_for_none = stands_for_none or line.strip() == NO_MATERIAL
            continue
        key, rest = words[0].lower(), line.strip()[len(words[0]) :].strip()
        if key == "newmtl":
            if rest in drafts:
                note("assumed", f"material '{rest}' is defined twice; the later one counts", number)
            current = drafts[rest] = _Draft(rest, {"none": True} if stands_for_none else {})
            stands_for_none = False
        elif current is None:
            note("lost", f"'{words[0]}' stands before the first newmtl", number)
        elif key in _NUMBERS or key in _COLORS:
            value = _numbers(words[1:])
            if value is None:
                note("lost", f"'{line.strip()}' does not hold numbers", number)
            elif key in _NUMBERS:
                current.values[_NUMBERS[key]] = value[0]
            else:
                current.values[_COLORS[key]] = (value * 3)[:3] if len(value) < 3 else value[:3]
        elif key in _MAP_ROLES or key in _LOST_MAPS:
            role = _MAP_ROLES.get(key, "")
            if not role:
                note("lost", f"material '{current.name}': the {_LOST_MAPS[key]} map is not carried", number)
                continue
            use = _texture_use(path, rest, folders, textures, partial(note, line=number))
            if use is not None:
                current.maps[role] = use
        elif key not in _SILENT:
            unknown.setdefault(words[0], number)
    for word, number in unknown.items():
        note("lost", f"statement '{word}' is not known", number)
    materials = {name: _finished(draft, path, notes) for name, draft in drafts.items()}
    return materials, notes


def _decoded(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _numbers(words: Sequence[str]) -> list[float] | None:
    values = []
    for word in words:
        if word.lower() in ("-halo", "xyz"):
            continue
        try:
            values.append(float(word))
        except ValueError:
            return None
    return values if values and all(math.isfinite(v) for v in values) else None


def _texture_use(
    path: Path,
    rest: str,
    folders: Sequence[Path],
    textures: dict[str, Texture],
    note: Callable[[str, str], None],
) -> TextureUse | None:
    words = rest.split()
    options: dict[str, list[str]] = {}
    at = 0
    while at < len(words) and words[at].lower() in _MAP_OPTIONS:
        name = words[at].lower()
        least, most = _MAP_OPTIONS[name]
        taken = words[at + 1 : at + 1 + least]
        while len(taken) < most and _is_number(words[at + 1 + len(taken) : at + 2 + len(taken)]):
            taken.append(words[at + 1 + len(taken)])
        options[name] = taken
        at += 1 + len(taken)
    # File names may hold blanks: what is left of the line is the name.
    wanted = rest
    for word in words[:at]:
        wanted = wanted[len(word) :].lstrip()
    if not wanted:
        note("lost", "a texture statement names no file")
        return None
    if wanted not in textures:
        found = find_beside(path, wanted, also_in=folders)
        if found.remark:
            note("assumed", found.remark)
        if found.path is None:
            note("lost", missing_texture(wanted, found))
        name = found.path.name if found.path else re.split(r"[\\/]", wanted)[-1]
        textures[wanted] = Texture(name, found.path, None, wanted, found.looked_in)
    scale = _pair(options.get("-s"), 1.0)
    offset = _pair(options.get("-o"), 0.0)
    channel = options.get("-imfchan", [""])[0].lower()
    return TextureUse(
        textures[wanted],
        channel=channel if channel in ("r", "g", "b") else {"m": "a", "l": None}.get(channel),
        offset=offset,
        scale=scale,
        clamp=options.get("-clamp", ["off"])[0].lower() == "on",
        strength=(_numbers(options.get("-bm", [])) or [1.0])[0],
    )


def _is_number(words: Sequence[str]) -> bool:
    return bool(words) and _numbers(words) is not None


def _pair(words: list[str] | None, missing: float) -> tuple[float, float]:
    values = (_numbers(words) if words else None) or []
    return (values[0] if values else missing, values[1] if len(values) > 1 else missing)


def _finished(draft: _Draft, path: Path, notes: list[Note]) -> Material:
    values, maps = draft.values, dict(draft.maps)

    def note(kind: str, message: str) -> None:
        notes.append(Note(kind, f"material '{draft.name}': {message}", "obj", str(path)))

    color = values.get("diffuse", [1.0, 1.0, 1.0] if "base_color" in maps else [0.8, 0.8, 0.8])
    if "base_color" in maps and not any(color):
        note("assumed", "its colour is black, which would hide its texture; white is used")
        color = [1.0, 1.0, 1.0]
    opacity = values.get("opacity", 1.0 - values["transparency"] if "transparency" in values else 1.0)
    opacity = min(max(opacity, 0.0), 1.0)
    if opacity == 0.0:
        note("assumed", "it is fully transparent, which some programs write by mistake; taken as opaque")
        opacity = 1.0
    if "bump" in maps:
        _take_bump(maps, note)
    alpha_mode = "blend" if opacity < 1.0 else "opaque"
    two_sided = False
    if "alpha" in maps:
        alpha_mode = _alpha_mode_of_map(maps["alpha"])
        two_sided = alpha_mode == "mask"
        if two_sided:
            note("assumed", "it is cut out by a map, so both sides are shown")
    for key, name in (("sheen", "sheen"), ("anisotropy", "anisotropy")):
        if values.get(key):
            note("lost", f"{name} is not carried")
    emission = values.get("emission", [1.0, 1.0, 1.0] if "emissive" in maps else [0.0, 0.0, 0.0])
    if "emissive" in maps and not any(emission):
        emission = [1.0, 1.0, 1.0]
    return sound_material(
        draft.name,
        base_color=(*(_clamped(v) for v in color), opacity),
        metallic=_clamped(values.get("metallic", 1.0 if "metallic" in maps else 0.0)),
        roughness=_clamped(values.get("roughness", 1.0 if "roughness" in maps else _roughness(values))),
        emissive=tuple(max(0.0, v) for v in emission),
        alpha_mode=alpha_mode,
        two_sided=two_sided,
        shading=dict(values),
    ).with_textures(maps)


def _roughness(values: Mapping[str, Any]) -> float:
    highlight = values.get("illumination", 2) >= 2 and any(values.get("specular", (1.0,)))
    return roughness_of_shininess(values["shininess"]) if "shininess" in values and highlight else 1.0


def _take_bump(maps: dict[str, TextureUse], note: Callable[[str, str], None]) -> None:
    bump = maps.pop("bump")
    if "normal" in maps:
        return
    try:
        is_normal = bump.texture.found and pixels.looks_like_normal_map(bump.texture.read())
    except (pixels.ImageError, OSError):
        is_normal = False
    if is_normal:
        note("assumed", f"its bump map '{bump.texture.name}' holds normals and is used as a normal map")
        maps["normal"] = bump
    elif bump.texture.found:
        note("lost", f"its bump map '{bump.texture.name}' holds heights, which are not carried; bake normals")


def _alpha_mode_of_map(use: TextureUse) -> str:
    try:
        data = use.texture.read()
        channel = use.channel or ("a" if pixels.has_alpha(data) else "l")
        return "mask" if pixels.is_cut_out(data, channel) else "blend"
    except (pixels.ImageError, OSError):
        return "mask"


def _clamped(value: float) -> float:
    return min(max(float(value), 0.0), 1.0)
