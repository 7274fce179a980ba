"""USD as text, binary, and packages of them."""

from zesty_otter.formats.base import Format, Setting
from zesty_otter.model import Frame

_CARRIES = frozenset(
    {
        "names",
        "tree",
        "normals",
        "UV sets",
        "further UV sets",
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

_SETTINGS = (
    Setting(
        "copies",
        ("instances", "plain"),
        "A mesh that several nodes show is written once, and instances refer to it; or plain, at each node again, for"
        " readers that know no references.",
    ),
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
        chooses=frozenset({"facets"}),
        writer="zesty_otter.formats.usd.writer",
        pieces=True,
        settings=_SETTINGS,
        magic=(b"#usda",),
    ),
    Format(
        "usdc",
        "USD binary",
        (".usdc", ".usd"),
        Frame("left up forward"),
        _CARRIES,
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        chooses=frozenset({"facets"}),
        writer="zesty_otter.formats.usd.writer",
        pieces=True,
        settings=_SETTINGS,
        magic=(b"PXR-USDC",),
    ),
    Format(
        "usdz",
        "USD package",
        (".usdz",),
        Frame("left up forward"),
        _CARRIES | {"embedded textures"},
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        chooses=frozenset({"facets"}),
        writer="zesty_otter.formats.usd.writer",
        settings=_SETTINGS,
        magic=(b"PK\3\4",),
    ),
)
