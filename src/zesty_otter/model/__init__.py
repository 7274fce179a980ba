"""What a scene is. Data and its invariants; no files, no algorithms beyond bookkeeping."""

from zesty_otter.model.frame import (
    UNITS,
    Frame,
    all_axes,
    format_length,
    format_unit,
    parse_axes,
    parse_length,
    parse_unit,
)
from zesty_otter.model.joining import joined_meshes
from zesty_otter.model.material import COLOR_ROLES, TEXTURE_ROLES, Material, Texture, TextureUse, roughness_of_shininess
from zesty_otter.model.mesh import Layer, Mesh, all_finite, compact, corners_of_faces
from zesty_otter.model.naming import is_default_name
from zesty_otter.model.scene import (
    ROLES,
    Camera,
    Content,
    Light,
    Node,
    Note,
    Placed,
    Renamed,
    Scatter,
    Scene,
    content_bounds,
    count_of,
    expanded,
    placed_bounds,
)
from zesty_otter.model.transforms import reframed, transformed, turned_content

__all__ = [
    "COLOR_ROLES",
    "ROLES",
    "TEXTURE_ROLES",
    "UNITS",
    "Camera",
    "Content",
    "Frame",
    "Layer",
    "Light",
    "Material",
    "Mesh",
    "Node",
    "Note",
    "Placed",
    "Renamed",
    "Scatter",
    "Scene",
    "Texture",
    "TextureUse",
    "all_axes",
    "all_finite",
    "compact",
    "content_bounds",
    "corners_of_faces",
    "count_of",
    "expanded",
    "format_length",
    "format_unit",
    "is_default_name",
    "joined_meshes",
    "parse_axes",
    "parse_length",
    "parse_unit",
    "placed_bounds",
    "reframed",
    "roughness_of_shininess",
    "transformed",
    "turned_content",
]
