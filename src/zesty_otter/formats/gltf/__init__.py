"""glTF 2.0, as one .glb file or as .gltf with files beside it."""

from zesty_otter.formats.base import Format, Setting
from zesty_otter.model import Frame

_CARRIES = frozenset(
    {
        "names",
        "tree",
        "normals",
        "tangents",
        "UV sets",
        "further UV sets",
        "colours",
        "further colours",
        "materials",
        "metal/rough",
        "material extensions",
        "textures",
        "texture placement",
        "unit",
        "axes",
        "lights and cameras",
        "scatters",
        "visibility",
        "properties",
        "mesh properties",
    }
)

_SETTINGS = (
    Setting(
        "quantized",
        (False, True),
        "Positions in 16 bits, normals in 8, UVs in 16: about half the size. The note says how far positions move.",
    ),
    Setting(
        "compressed",
        (False, True),
        "Geometry packed without loss, smallest with quantized as well; readers must know EXT_meshopt_compression.",
    ),
)

FORMATS = (
    Format(
        "glb",
        "glTF 2.0, one file",
        (".glb",),
        Frame("left up forward", "m"),
        _CARRIES | {"embedded textures"},
        reader="zesty_otter.formats.gltf.reader",
        writer="zesty_otter.formats.gltf.writer",
        pieces=True,
        chooses=frozenset({"pose", "scene"}),
        settings=_SETTINGS,
        magic=(b"glTF",),
    ),
    Format(
        "gltf",
        "glTF 2.0, with files beside it",
        (".gltf",),
        Frame("left up forward", "m"),
        _CARRIES,
        reader="zesty_otter.formats.gltf.reader",
        writer="zesty_otter.formats.gltf.writer",
        pieces=True,
        chooses=frozenset({"pose", "scene"}),
        settings=_SETTINGS,
    ),
)
