"""What somebody else's package may bring: two formats, a step, a rule, a target and a role."""

import numpy as np

from zesty_otter.audit.rules import rule
from zesty_otter.formats.base import Format
from zesty_otter.formats.files import Encoded, load
from zesty_otter.model import Frame, Mesh, Node, Role, Scene
from zesty_otter.steps import Step
from zesty_otter.targets import Target

FORMATS = (
    Format(
        "tri", "Triangles as text", (".tri",), Frame("left up forward"), frozenset(),
        reader="otter_extra", writer="otter_extra", axes_vary=True,
    ),
    Format("count", "How many faces there are", (".count",), Frame("left up forward"), frozenset(), writer="otter_extra"),
)  # fmt: skip

SOUND = Role("sound", "Where something is heard from.", ("{name}_sound",), is_guide=True, has_look=False)
RIVER = Target(name="river", title="what floats", formats=("tri",))


def read(path, *, progress=None, folders=()):
    numbers = np.array(load(path).tobytes().split(), float).reshape(-1, 3)
    faces = np.arange(len(numbers)).reshape(-1, 3)
    return Scene((Node("tri", content=Mesh.from_arrays(numbers, faces, name="tri")),), Frame("left up forward"))


def encode(scene, name):
    placed = list(scene.placed_meshes())
    if name.endswith(".count"):
        return Encoded({name: [str(sum(mesh.triangle_count for _, mesh in placed)).encode()]})
    corners = [mesh.points[mesh.corner_point] @ one.world[:3, :3].T + one.world[:3, 3] for one, mesh in placed]
    return Encoded({name: [" ".join(map(repr, np.concatenate(corners).ravel().tolist())).encode()]})


class Raise(Step):
    """Lift everything by a metre."""

    slug = "raise"

    def change(self, scene):
        lift = np.eye(4)
        lift[1, 3] = 1.0
        return scene.map_nodes(lambda node: Node(node.name, lift @ node.transform, node.children, node.content))


@rule("sunk", "error", "raise")
def _sunk(subject):
    """What lies below the water."""
    for placed in subject.shown:
        if subject.scene.bounds()[0, 1] < 0:
            yield placed.node.name, "lies below the water"
