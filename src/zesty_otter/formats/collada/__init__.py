"""COLLADA 1.4.1 and 1.5."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "collada",
        "COLLADA 1.4.1",
        (".dae",),
        Frame("left up forward"),
        frozenset(
            {
                "names",
                "tree",
                "polygons",
                "normals",
                "UV sets",
                "further UV sets",
                "further colours",
                "colours",
                "materials",
                "textures",
                "lights and cameras",
                "properties",
                "unit",
                "axes",
            }
        ),
        spaces=("left back up", "up right forward"),
        reader="zesty_otter.formats.collada.reader",
        writer="zesty_otter.formats.collada.writer",
        pieces=True,
        colors="screen",
    ),
)
