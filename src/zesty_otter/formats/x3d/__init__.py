"""X3D in XML."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "x3d",
        "X3D in XML",
        (".x3d",),
        Frame("left up forward"),
        frozenset(
            {"names", "tree", "polygons", "normals", "UV sets", "colours", "materials", "textures", "unit", "axes"}
            | {"lights and cameras", "visibility"}
        ),
        reader="zesty_otter.formats.x3d.reader",
        writer="zesty_otter.formats.x3d.writer",
        colors="screen",
    ),
)
