"""Small strict receivers of written files, one for each format, by the specifications alone.

They share no code with readers and writers, so that what both understand in the same wrong way comes to light. Each
gives the faces in the world of the file, as a program without special knowledge would draw them.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from zipfile import BadZipFile

import numpy as np

from zesty_otter.rehearsal.receivers.faces import Faces, RefusedError, UnknownFormError

_BY_ENDING = {
    ".obj": "wavefront",
    ".ply": "ply",
    ".stl": "stl",
    ".glb": "gltf",
    ".gltf": "gltf",
    ".dae": "collada",
    ".x3d": "x3d",
    ".3mf": "threemf",
    ".usda": "usd",
    ".usdc": "usd",
    ".usdz": "usd",
}


_BROKEN = (
    KeyError,
    IndexError,
    ValueError,
    ArithmeticError,
    SyntaxError,
    RuntimeError,
    OSError,
    struct.error,
    BadZipFile,
)
"""What a file can cause that breaks its specification: what it names is not there, is not what it says, ends early."""


def take(path: Path) -> Faces:
    """The faces in a file.

    Parameters
    ----------
    path : Path

    Returns
    -------
    Faces

    Raises
    ------
    RefusedError
        When the file breaks its specification.
    UnknownFormError
        When it has a form that the receiver does not know, so that nothing can be said.

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> take(Path("sail.glb")).points.tolist()
    [[0.0, 0.0, 0.0], [2.0, 0.0, 0.0], [0.0, 3.0, 0.0]]
    """
    name = _BY_ENDING.get(path.suffix.lower())
    if name is None:
        raise UnknownFormError(f"{path.suffix} files")
    received: Callable[[Path], Faces] = import_module(f"{__name__}.{name}").received
    try:
        with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
            return received(path)
    except (RefusedError, UnknownFormError):
        raise
    except _BROKEN as error:
        raise RefusedError(f"{type(error).__name__}: {error}") from None


__all__ = ["Faces", "RefusedError", "UnknownFormError", "take"]
