"""X3D in XML, its classic encoding, and VRML97."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

_CARRIES = frozenset(
    {"names", "tree", "polygons", "normals", "UV sets", "colours", "materials", "textures", "unit", "axes"}
    | {"lights and cameras", "visibility"}
)
_FRAME = Frame("left up forward")
_CHOOSES = frozenset({"facets"})
_READER = "zesty_otter.formats.x3d.reader"

FORMATS = (
    Format(
        "x3d",
        "X3D in XML",
        (".x3d",),
        _FRAME,
        _CARRIES,
        reader=_READER,
        chooses=_CHOOSES,
        writer="zesty_otter.formats.x3d.writer",
        pieces=True,
        colors="screen",
    ),
    Format(
        "x3dv",
        "X3D in classic text",
        (".x3dv",),
        _FRAME,
        _CARRIES,
        reader=_READER,
        chooses=_CHOOSES,
        magic=(b"#X3D V",),
        colors="screen",
    ),
    Format(
        "vrml",
        "VRML97",
        (".wrl", ".vrml", ".wrz"),
        _FRAME,
        _CARRIES - {"unit"},
        reader=_READER,
        chooses=_CHOOSES,
        magic=(b"#VRML V",),
        colors="screen",
    ),
)
