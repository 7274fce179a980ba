"""Free-form surfaces of OBJ with their trimming curves (the "Object Files" specification, "Free-form geometry")."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from math import comb

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves.curves import Curve, Floats, Piece, Polyline, Spline
from zesty_otter.geometry.curves.patches import Patches
from zesty_otter.geometry.curves.splines import bezier_knots, even_knots
from zesty_otter.geometry.curves.surfaces import SplineSurface

Note = Callable[[str, str, int], None]

_STATEMENT = re.compile(
    rb"^[ \t]*(o|g|usemtl|cstype|deg|bmat|step|vp|curv2|curv|surf|parm|trim|hole|end|scrv|sp|con)(?:[ \t]+([^\n\r#]*))?"
    rb"[\r]?$",
    re.M,
)
_POINT = re.compile(rb"^[ \t]*v[ \t]+([^\n\r#]*)", re.M)
_CARDINAL = np.array([(0, -0.5, 1, -0.5), (1, 0, -2.5, 1.5), (0, 0.5, 2, -1.5), (0, 0, -0.5, 0.5)])
_KINDS = ("bmatrix", "bezier", "bspline", "cardinal", "taylor")


@dataclass
class Sheet:
    """Patches of one name and material."""

    name: str
    material: str
    patches: Patches = field(default_factory=Patches)


@dataclass
class _Block:
    """A curve of parameters or a surface, between its statement and ``end``."""

    kind: str
    words: list[str]
    line: int
    before: int  # points, or parameter points, that stand before it
    parm: dict[str, list[float]] = field(default_factory=dict)
    loops: list[tuple[str, list[str]]] = field(default_factory=list)


@dataclass
class _Basis:
    kind: str
    rational: bool = False
    degree: tuple[int, int] = (3, 3)
    matrix: dict[str, list[float]] = field(default_factory=dict)
    step: tuple[int, int] = (1, 1)


def sheets_of(text: bytes, points: Floats, note: Note) -> list[Sheet]:
    """The surfaces of a file by name and material, in their order.

    Parameters
    ----------
    text : bytes
    points : (V, 3) float64
        The points of the file.
    note : callable
        Called with a kind, a text and a line about what cannot be read.
    """
    return list(_Reading(text, points, note).sheets())


class _Reading:
    def __init__(self, text: bytes, points: Floats, note: Note) -> None:
        self.text = re.sub(rb"\\\r?\n", lambda found: b" " * len(found[0]), text)
        self.points, self.note = points, note
        self.weights = np.ones(len(points))
        self.starts = np.array([found.start() for found in _POINT.finditer(self.text)], np.int64)
        if b"rat" in text:
            for n, found in enumerate(_POINT.finditer(self.text)):
                words = found[1].split()
                if n < len(points) and len(words) == 4:
                    self.weights[n] = _float(words[3].decode("latin-1"), 1.0)
        self.flat: list[tuple[float, float, float]] = []
        self.curves: list[Curve | None] = []
        self.basis = _Basis("bspline")
        self.name, self.material = "", ""
        self.found: dict[tuple[str, str], Sheet] = {}

    def sheets(self) -> Iterator[Sheet]:
        block: _Block | None = None
        for found in _STATEMENT.finditer(self.text):
            key = found[1].decode()
            words = (found[2] or b"").decode("utf-8", "replace").split()
            if key in ("o", "g"):
                self.name = " ".join(words) or self.name
            elif key == "usemtl":
                self.material = " ".join(words)
            elif key == "cstype":
                kind = words[-1] if words else ""
                if kind not in _KINDS:
                    self.note("lost", f"'{kind}' is not a kind of curve", self._line(found.start()))
                self.basis = _Basis(kind, "rat" in words)
            elif key == "deg":
                own = [_whole(word) for word in words[:2]] or [1]
                self.basis.degree = own[0], own[-1]
            elif key == "step":
                own = [max(_whole(word), 1) for word in words[:2]] or [1]
                self.basis.step = own[0], own[-1]
            elif key == "bmat" and words:
                self.basis.matrix[words[0]] = [_float(word, 0.0) for word in words[1:]]
            elif key == "vp":
                said = [_float(word, 0.0) for word in words[:3]]
                u, v, w = (*said, 0.0, 0.0)[0], (*said, 0.0, 0.0)[1], said[2] if len(said) > 2 else 1.0
                self.flat.append((u, v, w))
            elif key in ("surf", "curv2"):
                before = len(self.flat) if key == "curv2" else int(np.searchsorted(self.starts, found.start()))
                block = _Block(key, words, self._line(found.start()), before)
            elif block is not None and key == "parm" and words:
                block.parm.setdefault(words[0], []).extend(_float(word, 0.0) for word in words[1:])
            elif block is not None and key in ("trim", "hole"):
                block.loops.append((key, words))
            elif block is not None and key == "end":
                try:
                    self._finish(block)
                except (ValueError, IndexError) as error:
                    if block.kind == "curv2":
                        self.curves.append(None)
                    self.note("lost", f"{block.kind} cannot be read ({error}); it is left out", block.line)
                block = None
        yield from self.found.values()

    def _line(self, at: int) -> int:
        return self.text.count(b"\n", 0, at) + 1

    def _finish(self, block: _Block) -> None:
        if block.kind == "curv2":
            index = self._index(block.words, block.before, len(self.flat))
            places = np.array([self.flat[k] for k in index], float).reshape(-1, 3)
            weight = (
                np.where(places[:, 2:] > 0, places[:, 2:], 1.0) if self.basis.rational else np.ones((len(places), 1))
            )
            control = np.concatenate([places[:, :2], np.zeros((len(places), 1)), np.ones((len(places), 1))], axis=1)
            knots, degree, control = self._axis(control * weight, 0, block.parm.get("u", []))
            self.curves.append(Spline(knots, degree, control))
            return
        s0, s1, t0, t1 = (_float(word, 0.0) for word in block.words[:4])
        index = self._index(block.words[4:], block.before, len(self.points))
        places = self.points[index]
        weight = self.weights[index] if self.basis.rational else np.ones(len(index))
        if not (np.isfinite(places).all() and (weight > 0).all()):
            raise ValueError("its points are not finite")
        u_parm, v_parm = block.parm.get("u", []), block.parm.get("v", [])
        wide = self._count(0, u_parm, len(index))
        if wide < 1 or len(index) % wide:
            raise ValueError("its points do not fill a grid")
        control = np.concatenate([places * weight[:, None], weight[:, None]], axis=1)
        control = control.reshape(-1, wide, 4).transpose(1, 0, 2)
        u_knots, p, control = self._axis(control, 0, u_parm)
        v_knots, q, turned = self._axis(control.transpose(1, 0, 2), 1, v_parm)
        surface = SplineSurface((u_knots, v_knots), (p, q), np.ascontiguousarray(turned.transpose(1, 0, 2)))
        loops = [self._loop(words) for _, words in block.loops]
        whole = not any(kind == "trim" for kind, _ in block.loops)
        low, high = np.array([(s0, t0), (s1, t1)])
        inside = (low > surface.box[0] + 1e-9) | (high < surface.box[1] - 1e-9)
        if whole and inside.any() and (low < high).all():
            low, high = np.maximum(low, surface.box[0]), np.minimum(high, surface.box[1])
            corners = [(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1])]
            ring = np.array([(*one, 0.0) for one in (*corners, corners[0])])
            loops, whole = [[Polyline(ring)], *loops], False
        key = self.name, self.material
        if key not in self.found:
            self.found[key] = Sheet(*key)
        self.found[key].patches.add(surface, [loop for loop in loops if loop], whole=whole)

    def _loop(self, words: list[str]) -> list[Curve]:
        found: list[Curve] = []
        for k in range(0, len(words) - 2, 3):
            number = int(words[k + 2])
            number = number - 1 if number > 0 else len(self.curves) + number
            curve = self.curves[number] if 0 <= number < len(self.curves) else None
            if curve is None:
                raise ValueError("a curve that trims it is missing")
            first, last = float(words[k]), float(words[k + 1])
            if abs(last - first) > 1e-12:
                found.append(Piece(curve, first, last))
        return found

    def _index(self, words: list[str], before: int, count: int) -> NDArray[np.int64]:
        numbers = np.array([int(word.split("/")[0]) for word in words], np.int64)
        index = np.where(numbers > 0, numbers - 1, before + numbers)
        if not len(index) or index.min() < 0 or index.max() >= count:
            raise ValueError("a point is missing")
        return index

    def _count(self, axis: int, parm: list[float], total: int) -> int:
        """How many control points stand in a row along u, told from the parameters and the degree."""
        degree = self.basis.degree[axis]
        pieces = max(len(parm) - 1, 1)
        match self.basis.kind:
            case "bspline":
                return len(parm) - degree - 1
            case "bezier":
                return pieces * degree + 1
            case "cardinal":
                return pieces + 3
            case "taylor":
                return pieces * (degree + 1)
        return (pieces - 1) * self.basis.step[axis] + degree + 1

    def _axis(self, control: Floats, axis: int, parm: list[float]) -> tuple[Floats, int, Floats]:
        """Knots, degree and control points along the first axis, of a B-spline that is the same."""
        basis, degree, count = self.basis, self.basis.degree[axis], len(control)
        if not 1 <= degree <= 32:
            raise ValueError("its degree is out of range")
        if basis.kind == "bspline":
            knots = np.array(parm, float)
            if len(knots) != count + degree + 1:
                knots = even_knots(degree, count, held=True)
            if count <= degree or (np.diff(knots) < 0).any() or not knots[degree] < knots[count]:
                raise ValueError("its knots do not fit its points")
            return knots, degree, control
        if basis.kind != "bezier":
            control, degree = self._as_bezier(control, axis)
        count = len(control)
        pieces = (count - 1) // degree
        if pieces < 1:
            raise ValueError("it has too few points")
        knots = bezier_knots(degree, count)
        ends = np.array(parm, float)
        if len(ends) == pieces + 1 and (np.diff(ends) > 0).all():
            knots = ends[knots.astype(np.int64)]
        return knots, degree, control[: pieces * degree + 1]

    def _as_bezier(self, control: Floats, axis: int) -> tuple[Floats, int]:
        """Pieces of another basis, each as a Bezier curve, one after the other."""
        basis, degree = self.basis, self.basis.degree[axis]
        if basis.kind == "cardinal":
            degree, matrix, step = 3, _CARDINAL, 1
        elif basis.kind == "taylor":
            matrix, step = np.eye(degree + 1), degree + 1
        else:
            own = basis.matrix.get("uv"[axis], basis.matrix.get("u", []))
            if len(own) != (degree + 1) ** 2:
                raise ValueError("its basis matrix does not fit its degree")
            matrix, step = np.array(own, float).reshape(degree + 1, degree + 1), basis.step[axis]
        powers = np.array(
            [[comb(k, j) / comb(degree, j) if j <= k else 0.0 for j in range(degree + 1)] for k in range(degree + 1)]
        )
        change = powers @ matrix.T
        starts = range(0, len(control) - degree, step)
        pieces = [np.tensordot(change, control[at : at + degree + 1], axes=1) for at in starts]
        if not pieces:
            raise ValueError("it has too few points")
        made = np.concatenate([pieces[0][:1], *(piece[1:] for piece in pieces)])
        if not basis.rational:
            made[..., 3] = 1.0
        return made, degree


def _float(word: str, missing: float) -> float:
    try:
        return float(word)
    except ValueError:
        return missing


def _whole(word: str) -> int:
    value = _float(word, 1.0)
    return int(value) if abs(value) < 1e6 else 1
