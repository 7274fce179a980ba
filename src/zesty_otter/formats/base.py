"""What a file format is, as it declares itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError, ModelError, OutputError, UsageError, closest
from zesty_otter.formats.colors import as_light, as_seen
from zesty_otter.formats.files import Encoded, is_text
from zesty_otter.formats.placement import in_uvs, with_one_set
from zesty_otter.model import LARGEST, ROLES, Frame, Material, Mesh, Node, Note, Scene, count_of, expanded, shortened

Progress = Callable[[float], None]
"""Called with the share of the work that is done, 0 to 1."""

COLORS = ("screen", "linear")
"""What numbers of colours mean: how bright they look on screen (sRGB), or amounts of light, as the model has them."""

CARRIES = (
    "names",
    "tree",
    "polygons",
    "smoothing groups",
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
    "embedded textures",
    "texture placement",
    "scatters",
    "properties",
    "mesh properties",
    "lights and cameras",
    "visibility",
    "unit",
    "axes",
)
"""What a format may be able to carry; the columns of the table of formats."""


@dataclass(frozen=True)
class Setting:
    """Something to choose when a file of a format is written: its ``values``, the first by default."""

    name: str
    values: tuple[Any, ...]
    description: str


@dataclass(frozen=True)
class Format:
    """One file format, as it declares itself.

    It stands in the ``FORMATS`` of a package below `zesty_otter.formats`, or an entry point in the group
    ``zesty_otter.formats`` of any other package names it.

    Parameters
    ----------
    name : str
        The short name, such as ``collada``.
    title : str
        What people call it.
    suffixes : tuple of str
        The endings of its files, with their dots; the first is the one that is written.
    frame : Frame
        The space its files are in: axes, and the unit when the format fixes one.
    carries : set of str
        Entries of `CARRIES`.
    reader : str or None
        A module with a function ``read(path, *, progress, folders)`` that returns a `Scene`; None where it is
        only written.
    writer : str or None
        A module with a function ``encode(scene, name)`` that returns what is in each file (`Encoded`); None
        where it is only read.
    magic : tuple of bytes
        What its files may begin with.
    axes_vary : bool
        Whether files say no axes and may be in any.
    spaces : tuple of str
        Further axes that a file can say.
    chooses : set of str
        What a reader lets one choose: a pose, a scene, facets.
    settings : tuple of Setting
        What one can choose when a file is written; ``encode`` takes them as keywords.
    colors : str
        One of `COLORS`.
    plain_faces : bool
        Whether its readers take triangles and convex quads only, whatever it allows.
    pieces : bool
        Whether a scene can place other files, by the property ``piece`` of nodes.
    only_places : bool
        Whether its files hold places of things and no meshes. They are not taken from folders of sources.
    """

    name: str
    title: str
    suffixes: tuple[str, ...]
    frame: Frame
    carries: frozenset[str]
    reader: str | None = None
    writer: str | None = None
    magic: tuple[bytes, ...] = ()
    axes_vary: bool = False
    spaces: tuple[str, ...] = ()
    chooses: frozenset[str] = frozenset()
    settings: tuple[Setting, ...] = ()
    colors: str = "linear"
    plain_faces: bool = False
    pieces: bool = False
    only_places: bool = False

    def read(
        self,
        path: Path,
        progress: Progress | None = None,
        folders: Sequence[Path] = (),
        colors: str | None = None,
        **chosen: Any,
    ) -> Scene:
        """Read a file whose colours are one of `COLORS`; what is ``chosen`` from it is one of `CHOICES`.

        Parameters
        ----------
        path : Path
        progress : callable, optional
            Called with the share that is done.
        folders : sequence of Path
            Further folders in which files it refers to may be looked for.
        colors : str, optional
            As usual for the format when absent.
        **chosen
            What to take of several things in it, or how: ``pose=``, ``scene=``, ``facets=``.

        Returns
        -------
        Scene
            In the file's own frame.

        Raises
        ------
        InputError
            When the file is damaged or cannot be read.
        UsageError
            When the format has nothing to choose there.

        Examples
        --------
        >>> from pathlib import Path
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
        >>> zo.formats.format_named("gltf").read(Path("sail.glb"))
        Scene 'sail': 1 node, 1 mesh, left up forward, m
        """
        if colors is not None and colors not in COLORS:
            raise UsageError(f"colours cannot be '{colors}'.", remedy=f"Say {' or '.join(COLORS)}.")
        if self.reader is None:
            raise InputError(
                f"{self.title} files cannot be read yet, only written.",
                file=path,
                remedy="`zesty-otter formats` lists what can be read.",
            )
        more = {what: which for what, which in chosen.items() if which is not None}
        for what in more.keys() - self.chooses:
            able = _endings(lambda one, what=what: what in one.chooses)  # type: ignore[misc]
            raise UsageError(
                f"{CHOICES[what]} of {self.title} files are not read, so {what} cannot be chosen.",
                file=path,
                remedy=f"It can be in {able}.",
            )
        try:
            # What becomes too large for a number the model refuses, with the place.
            with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
                scene: Scene = import_module(self.reader).read(path, progress=progress, folders=folders, **more)
        except ModelError as error:
            raise InputError(error.problem, file=path, place=error.place, remedy=error.remedy) from None
        if (colors or self.colors) == "screen":
            scene = as_light(scene)
        scene = _straightened(scene)
        return scene.map_nodes(_with_told_role) if "properties" in self.carries else scene

    def carried(self, scene: Scene, *, keep_hidden: bool = False) -> tuple[Scene, list[Note]]:
        """What a file gets of a scene, and notes.

        No hidden nodes where it cannot hide them, unless ``keep_hidden``; textures placed by their UVs where it
        cannot place them.

        Parameters
        ----------
        scene : Scene
        keep_hidden : bool

        Returns
        -------
        scene : Scene
        notes : list of Note

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> hidden = zo.Scene.from_nodes(zo.Node("sail", content=sail, visible=False))
        >>> scene, notes = zo.formats.format_named("stl").carried(hidden)
        >>> scene.roots, notes[0].text
        ((), 'STL cannot hide nodes; left out 1 hidden node: sail (keep = hidden writes them)')
        """
        if self.only_places and self.writer is not None:
            made: tuple[Scene, list[Note]] = import_module(self.writer).as_places(scene)
            return made
        scene, notes = self._with_core_materials(scene)
        notes += self._derived(scene)
        if "texture placement" not in self.carries and "materials" in self.carries:
            scene, placed = in_uvs(scene, self.name)
            notes += placed
        if "UV sets" in self.carries and "further UV sets" not in self.carries:
            scene, lost = with_one_set(scene, self.name, self.title, textured="textures" in self.carries)
            notes += lost
        if self.plain_faces:
            scene, split = _with_plain_faces(scene)
            text = f"{count_of(split, 'face')} of more than four corners or concave split into triangles"
            notes += [Note("done", text, self.name)] if split else []
        scene, more = self._shown(scene, keep_hidden=keep_hidden)
        return scene, notes + more

    def _derived(self, scene: Scene) -> Iterator[Note]:
        """Notes on what others make anew from what the file does hold."""
        if "polygons" not in self.carries and not self.plain_faces:
            split = sum(int((mesh.face_size > 3).sum()) for mesh in scene.meshes)
            if split:
                text = f"{count_of(split, 'face')} of more than three corners became triangles"
                yield Note("done", text, self.name)
        if "normals" in self.carries and "smoothing groups" not in self.carries:
            grouped = [mesh.name for mesh in scene.meshes if mesh.face_smoothing is not None]
            if grouped:
                yield Note("done", f"smoothing groups became normals: {shortened(grouped)}", self.name)
        if "tangents" not in self.carries and "normals" in self.carries:
            bent = [mesh.name for mesh in scene.meshes if any(mesh.layers_of("tangent"))]
            if bent:
                text = f"tangents have no place in {self.title}; receivers make them from normals and UVs"
                yield Note("lost", f"{text}: {shortened(bent)}", self.name)
        if "properties" not in self.carries and "names" in self.carries:
            ruled = [one.node.name for one in scene.walk() if one.node.role != "visible"]
            if ruled:
                text = f"what is collision, level or shadow is told by names only: {shortened(ruled)}"
                yield Note("done", text, self.name)

    def _with_core_materials(self, scene: Scene) -> tuple[Scene, list[Note]]:
        """The scene with what glTF's extensions say of materials turned into what every format knows, or left out."""
        if "material extensions" in self.carries or "materials" not in self.carries:
            return scene, []
        from zesty_otter.metal_rough import GLOSS, with_metal_rough

        older = [one.name for one in scene.materials if "glossiness" in one.shading]
        notes = []
        if older:
            scene, lost = with_metal_rough(scene, lambda material: "glossiness" in material.shading)
            notes = [Note("done", f"specular and glossiness became metal and roughness: {shortened(older)}", self.name)]
            notes += [Note("lost", text, self.name) for text in lost]
        left: dict[str, list[str]] = {}
        for material in scene.materials:
            for name in material.shading.get("extensions", {}).keys() - {GLOSS}:
                left.setdefault(name, []).append(material.name)
        kinds = ("unlit",) if "metal/rough" in self.carries else ("unlit", "clearcoat")
        for kind in kinds:
            owners = [one.name for one in scene.materials if one.shading.get(kind)]
            if owners:
                left[kind] = owners
        scene = scene.map_materials(_without_extensions)
        for name, owners in sorted(left.items()):
            what = f"the extension {name}" if "_" in name else f"'{name}'"
            text = f"{what} of materials has no place in {self.title}: {shortened(owners)}"
            notes.append(Note("lost", text, self.name))
        return scene, notes

    def _shown(self, scene: Scene, *, keep_hidden: bool) -> tuple[Scene, list[Note]]:
        """The scene without hidden nodes, where the format cannot hide them."""
        if "visibility" in self.carries:
            return scene, []
        hidden = {one.number for one in scene.walk() if not one.visible}
        names = [one.node.name for one in scene.walk() if not one.visible and one.node.content is not None]
        if not hidden:
            return scene, []
        shown = f"{count_of(len(names), 'hidden node')}: {shortened(names)}"
        if keep_hidden:
            seen = scene.map_nodes(lambda node: node if node.visible else replace(node, visible=True))
            return seen, [Note("lost", f"{self.title} cannot hide nodes; written visible, {shown}", self.name)]
        left = scene.rebuilt(lambda n, node: None if n in hidden else node)
        text = f"{self.title} cannot hide nodes; left out {shown} (keep = hidden writes them)"
        return left, [Note("lost", text, self.name)] if names else []

    def known(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Those of some settings that the format has.

        Parameters
        ----------
        given : mapping of str to object

        Returns
        -------
        dict of str to object

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.formats.format_named("gltf").known({"quantized": True, "binary": False})
        {'quantized': True}
        """
        there = {one.name for one in self.settings}
        return {key: value for key, value in given.items() if key in there}

    def checked(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Settings as the writer takes them, all of them.

        Parameters
        ----------
        given : mapping of str to object

        Returns
        -------
        dict of str to object

        Raises
        ------
        UsageError
            When the format has no such setting, or not with this value.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.formats.format_named("gltf").checked({"quantized": "yes"})["quantized"]
        True
        """
        there = {one.name: one for one in self.settings}
        found = {}
        for key, value in given.items():
            if key not in there:
                able = _endings(lambda one, key=key: any(key == own.name for own in one.settings))  # type: ignore[misc]
                raise UsageError(
                    f"{self.title}: no setting is called '{key}'.{closest(key, list(there))}",
                    remedy=f"Only {able} files have it." if able else "`zesty-otter formats` lists what there is.",
                )
            words = {_word(one): one for one in there[key].values}
            if _word(value) not in words:
                raise UsageError(
                    f"setting '{key}' of {self.title} files cannot be '{_word(value)}'.",
                    remedy=f"Say {' or '.join(words)}.",
                )
            found[key] = words[_word(value)]
        return {name: found.get(name, one.values[0]) for name, one in there.items()}

    def encode(self, scene: Scene, name: str, *, keep_hidden: bool = False, **given: Any) -> Encoded:
        """What is in each file of a scene, ``given`` some of its settings.

        Parameters
        ----------
        scene : Scene
        name : str
            Of the file, without folder.
        keep_hidden : bool
            Write hidden nodes even where the format shows them.
        **given
            Some of the format's `settings`.

        Returns
        -------
        Encoded

        Raises
        ------
        InputError
            When there is nothing to write, or it stands too far away.
        UsageError
            When the format cannot be written, or has no such setting.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> list(zo.formats.format_named("obj").encode(zo.Scene.from_mesh(sail), "sail.obj").joined())
        ['sail.obj']
        """
        if self.writer is None:
            raise UsageError(
                f"{self.title} files cannot be written yet, only read.",
                remedy="`zesty-otter formats` lists what can be written.",
            )
        settings = self.checked(given)
        if not is_text(name):
            raise OutputError("its name is not text in UTF-8.", file=name, remedy="Write to another name.")
        scene, notes = self.carried(scene, keep_hidden=keep_hidden)
        _refuse_far_away(scene)
        copies = 0
        if "scatters" not in self.carries:
            try:
                scene, copies = expanded(scene)
            except ModelError as error:
                problem = f"{self.title} has no scatters: {error.problem}"
                raise OutputError(problem, file=name, place=error.place, remedy=error.remedy) from None
        if "properties" in self.carries:
            scene = scene.map_nodes(_telling_its_role)
        if self.colors == "screen":
            scene = as_seen(scene)
        encoded: Encoded = import_module(self.writer).encode(scene, name, **settings)
        encoded.notes += notes
        owners = [mesh.name for mesh in scene.meshes if mesh.properties]
        owners += ["the scene"] if scene.properties else []
        if owners and "mesh properties" not in self.carries:
            text = f"properties of meshes and scenes have no place in {self.title}: those of {shortened(owners)}"
            encoded.notes.append(Note("lost", text, self.name))
        if copies:
            text = f"{self.title} has no scatters; their copies became {count_of(copies, 'node')}"
            encoded.notes.append(Note("lost", text, self.name))
        return encoded


def _word(value: Any) -> str:
    """A value as it is typed."""
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)


def _without_extensions(material: Material) -> Material:
    left = material.shading.keys() & {"extensions", "unlit"}
    if not left:
        return material
    return replace(material, shading={key: one for key, one in material.shading.items() if key not in left})


def _with_plain_faces(scene: Scene) -> tuple[Scene, int]:
    """The scene with triangles and convex quads only, and how many faces were others."""
    from zesty_otter.polygons import hard_to_fan, triangulated

    split = 0

    def plain(mesh: Mesh) -> Mesh:
        nonlocal split
        hard = hard_to_fan(mesh)
        split += int(hard.sum())
        return triangulated(mesh, "shortest-diagonal", hard) if hard.any() else mesh

    return scene.map_meshes(plain), split


def _straightened(scene: Scene) -> Scene:
    """The scene without the shear that few digits make of rotations."""
    order = [placed.node for placed in scene.walk()]
    turned = [n for n, node in enumerate(order) if node.transform[:3, :3].any() and not _is_plain(node.transform)]
    if not turned:
        return scene
    from zesty_otter.geometry.surface.placing import straightened

    found, changed = straightened(np.array([order[n].transform for n in turned]))
    new = {n: found[k] for k, n in enumerate(turned) if changed[k]}
    if not new:
        return scene
    return scene.rebuilt(lambda n, node: replace(node, transform=new[n]) if n in new else node)


def _is_plain(transform: NDArray[np.float64]) -> bool:
    """Whether a transform does not turn anything."""
    return np.count_nonzero(transform[:3, :3]) == np.count_nonzero(transform.diagonal()[:3])


def _refuse_far_away(scene: Scene) -> None:
    """Complains about a mesh that is out of the numbers that files can hold, by itself or where it stands."""
    for placed in scene.walk():
        mesh = placed.node.mesh
        if mesh is None or not mesh.corner_count:
            continue
        # Only where a point is far away it matters whether it is used.
        farthest = max(float(mesh.points.max()), -float(mesh.points.min()))
        if _is_far(np.full((2, 3), farthest), placed.world) and _is_far(mesh.surface_bounds, placed.world):
            raise InputError(
                f"stands beyond {LARGEST:g} units from the origin, or from its own pivot.",
                file=scene.source,
                place=f"node '{placed.node.name}'",
                remedy="Look at its scale and at those above it: `zesty-otter survey` lists the nodes.",
            )


def _is_far(box: NDArray[np.float64], world: NDArray[np.float64]) -> bool:
    """Whether a box (2, 3) is out of the numbers that files can hold, by itself or under a transform."""
    reach = np.abs(box).max(axis=0)
    with np.errstate(over="ignore", invalid="ignore"):
        farthest = (np.abs(world[:3, :3]) @ reach + np.abs(world[:3, 3])).max()
    return not (farthest <= LARGEST and reach.max() <= LARGEST)


ROLE = "role"
"""The property of a node that tells its role, in formats that carry properties of nodes and not roles."""


def _telling_its_role(node: Node) -> Node:
    if node.role == "visible":
        return node
    return replace(node, properties={**node.properties, ROLE: node.role})


def _with_told_role(node: Node) -> Node:
    role = node.properties.get(ROLE)
    if role not in ROLES:
        return node
    rest = {key: value for key, value in node.properties.items() if key != ROLE}
    return replace(node, role=str(role), properties=rest)


CHOICES = {"pose": "animations", "scene": "several scenes", "facets": "exact surfaces"}


def _endings(wanted: Callable[[Format], bool]) -> str:
    """The endings of the formats that can do something."""
    from zesty_otter.formats import FORMATS

    return ", ".join(suffix for one in FORMATS if wanted(one) for suffix in one.suffixes)
