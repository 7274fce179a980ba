"""Where animated nodes stand at one time (specification, section 3.11 and appendix C)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import UsageError, closest
from zesty_otter.formats.gltf.errors import UnsoundError

_FIELDS = ("translation", "rotation", "scale")


def parse_pose(pose: str) -> tuple[str, float]:
    """The name of an animation, empty for the first, and a time in seconds, from ``"walk@1.5"`` or ``"1.5"``."""
    name, at, time = pose.rpartition("@")
    try:
        seconds = float(time)
    except ValueError:
        seconds = float("nan")
    if not np.isfinite(seconds):
        raise UsageError(
            f"'{pose}' is not a pose.", remedy="Write NAME@SECONDS, or SECONDS for the first animation: walk@1.5"
        )
    return name if at else "", seconds


def posed(
    animations: Sequence[Mapping[str, Any]], pose: str, accessor: Callable[..., NDArray[Any]]
) -> dict[int, dict[str, list[float]]]:
    """The translation, rotation and scale of every node that an animation moves, by number.

    Parameters
    ----------
    animations : sequence of mapping
        The animations of the document.
    pose : str
        As `parse_pose` takes it; times before the first key or after the last stand at these.
    accessor : callable
        Gives the values of an accessor, (count, width), for its number and the type it must have.
    """
    wanted, seconds = parse_pose(pose)
    names = [str(one.get("name", "")) for one in animations]
    if not animations or (wanted and wanted not in names):
        there = ", ".join(name or f"number {n}" for n, name in enumerate(names)) or "none"
        raise UsageError(f"there is no animation '{wanted}'.{closest(wanted, names)}", remedy=f"There are: {there}.")
    animation = animations[names.index(wanted) if wanted else 0]
    found: dict[int, dict[str, list[float]]] = {}
    for channel in animation["channels"]:
        target = channel["target"]
        if target.get("path") in _FIELDS and isinstance(target.get("node"), int):
            if channel["sampler"] >= len(animation["samplers"]):
                raise UnsoundError(f"an animation has no sampler {channel['sampler']}")
            sampler = animation["samplers"][channel["sampler"]]
            times = accessor(sampler["input"], "SCALAR")[:, 0].astype(np.float64)
            values = accessor(sampler["output"], "VEC4" if target["path"] == "rotation" else "VEC3").astype(np.float64)
            how = sampler.get("interpolation", "LINEAR")
            if len(times) and len(values) >= len(times) * (3 if how == "CUBICSPLINE" else 1):
                sample = _sampled(times, values, seconds, how, turns=target["path"] == "rotation")
                found.setdefault(target["node"], {})[target["path"]] = sample.tolist()
    return found


def _sampled(
    times: NDArray[np.float64], values: NDArray[np.float64], seconds: float, how: str, *, turns: bool
) -> NDArray[np.float64]:
    """A value between two keys."""
    cubic = how == "CUBICSPLINE"
    at = values[: 3 * len(times)].reshape(len(times), 3, -1) if cubic else values[: len(times), None]
    keys = at[:, 1 if cubic else 0]
    n = int(np.clip(np.searchsorted(times, seconds, side="right") - 1, 0, len(times) - 1))
    if n + 1 >= len(times) or not times[n] < seconds < times[n + 1] or how == "STEP":
        return np.asarray(keys[n])
    span = float(times[n + 1] - times[n])
    t = (seconds - float(times[n])) / span
    a, b = keys[n], keys[n + 1]
    if cubic:
        # Hermite: each key has the slopes before and after it beside its value.
        t2, t3 = t * t, t * t * t
        mixed = (2 * t3 - 3 * t2 + 1) * a + span * (t3 - 2 * t2 + t) * at[n, 2]
        mixed = mixed + (3 * t2 - 2 * t3) * b + span * (t3 - t2) * at[n + 1, 0]
        return np.asarray(mixed / np.linalg.norm(mixed) if turns and np.any(mixed) else mixed)
    if not turns:
        return np.asarray(a + t * (b - a))
    return _between(a, b, t)


def _between(a: NDArray[np.float64], b: NDArray[np.float64], t: float) -> NDArray[np.float64]:
    """The rotation a share of the way from one to another, the short way round (K. Shoemake, 1985)."""
    along = float(a @ b)
    if along < 0:
        b, along = -b, -along
    if along > 0.9995:
        mixed = a + t * (b - a)
        return np.asarray(mixed / np.linalg.norm(mixed))
    angle = np.arccos(along)
    return np.asarray((np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle))
