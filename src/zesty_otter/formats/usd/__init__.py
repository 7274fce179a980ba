"""USD text, and packages that hold it."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

_CARRIES = frozenset(
    {
        "names",
        "tree",
        "normals",
        "UV sets",
        "colours",
        "materials",
        "metal/rough",
        "textures",
        "texture placement",
        "unit",
        "axes",
        "lights and cameras",
        "scatters",
        "visibility",
        "properties",
        "polygons",
    }
)

FORMATS = (
    Format(
        "usda",
        "USD text",
        (".usda", ".usd"),
        Frame("left up forward"),
        _CARRIES,
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        writer="zesty_otter.formats.usd.writer",
        magic=(b"#usda", b"PXR-USDC"),  # of binary layers the reader says what to do
    ),
    Format(
        "usdz",
        "USD package",
        (".usdz",),
        Frame("left up forward"),
        _CARRIES | {"embedded textures"},
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        writer="zesty_otter.formats.usd.writer",
        magic=(b"PK\3\4",),
    ),
)
