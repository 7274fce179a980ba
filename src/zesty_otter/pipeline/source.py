"""A file to read, with everything one must know to read it rightly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zesty_otter.formats import Progress, read
from zesty_otter.formats.files import in_tree
from zesty_otter.model import Frame, Note, Scene
from zesty_otter.steps import Reframe, Step, apply


@dataclass(frozen=True)
class SourceFile:
    """A file to read.

    Parameters
    ----------
    path : Path
    unit : str or float or None
        As its user says, where the file does not.
    axes : str or None
    folders : tuple of Path
        Further folders in which files it refers to may be looked for.
    steps : tuple of Step
        Those for it alone.
    below : str
        Its folder below the one its pattern starts from.
    pose : str or None
        What to take of several poses.
    scene : str or None
        What to take of several scenes.
    colors : str or None
        One of `COLORS`; as usual for the format when None.
    facets : str or None
        How exact curves and surfaces become polygons.
    """

    path: Path
    unit: str | float | None = None
    axes: str | None = None
    folders: tuple[Path, ...] = ()
    steps: tuple[Step, ...] = ()
    below: str = ""
    pose: str | None = None
    scene: str | None = None
    colors: str | None = None
    facets: str | None = None

    def read(self, progress: Progress | None = None) -> Scene:
        """The scene in the file, in the file's own frame; it may refer to files in the tree its pattern starts from.

        Parameters
        ----------
        progress : callable, optional
            Called with the share that is done.

        Returns
        -------
        Scene

        Raises
        ------
        InputError
            When the file is damaged or cannot be read.

        Examples
        --------
        >>> from pathlib import Path
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
        >>> SourceFile(Path("sail.glb")).read()
        Scene 'sail': 1 node, 1 mesh, left up forward, m
        """
        root = self.path.parent
        for _ in Path(self.below).parts:
            root = root.parent
        with in_tree(root):
            return self._read(progress)

    def _read(self, progress: Progress | None) -> Scene:
        return read(
            self.path,
            self.unit,
            self.axes,
            progress=progress,
            folders=self.folders,
            pose=self.pose,
            scene=self.scene,
            colors=self.colors,
            facets=self.facets,
        )

    def brought_into(self, frame: Frame | None, scene: Scene, then: Sequence[Step] = ()) -> Scene:
        """What was read, in the frame that is worked in, after the file's own steps.

        Parameters
        ----------
        frame : Frame or None
            The file's own stays when None.
        scene : Scene
        then : sequence of Step
            What is done next. A file without a unit needs none where the first that asks for lengths sets its height.

        Returns
        -------
        Scene

        Raises
        ------
        UnknownUnitError
            When the frame has a unit and the file's is unknown.

        Examples
        --------
        >>> from pathlib import Path
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
        >>> source = SourceFile(Path("sail.glb"))
        >>> source.brought_into(zo.Frame("right up back", "cm"), source.read())
        Scene 'sail': 1 node, 1 mesh, right up back, cm
        """
        if scene.frame.unit is None and _is_sized((*self.steps, *then)):
            text = "the file has no unit and needs none, as its height is set"
            scene = replace(scene, frame=Frame(scene.frame.axes, "m")).with_notes(
                Note("done", text, file=self.path.name)
            )
        return apply(in_frame(scene, frame), *self.steps)


_WITHOUT_LENGTHS = ("materials", "names", "roles", "select", "textures", "uv-sets")


def _is_sized(steps: Sequence[Step]) -> bool:
    """Whether the first step to which lengths matter sets the height of everything."""
    first = next((step for step in steps if step.slug not in _WITHOUT_LENGTHS), None)
    return first is not None and first.slug == "scale" and getattr(first, "height", None) is not None


def in_frame(scene: Scene, frame: Frame | None) -> Scene:
    """The scene in a frame; as it is where none is asked for."""
    return scene if frame is None else Reframe(axes=" ".join(frame.axes), unit=frame.unit).apply(scene)
