"""Findings: what does not fit, where, how bad it is, and what mends it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Finding:
    """One result of a check.

    Parameters
    ----------
    rule : str
        The name of the rule that is broken.
    severity : {"error", "warning"}
    text : str
        What is wrong.
    node : str
        Where.
    mend : str
        The step that mends it, as `--step` takes it, when one does.
    place : (float, float, float) or None
        Where to look, in the axes of the scene and in metres.
    """

    rule: str
    severity: str
    text: str
    node: str = ""
    mend: str = ""
    place: tuple[float, float, float] | None = None

    def __str__(self) -> str:
        where = f"{self.node}: " if self.node else ""
        return f"{where}{self.text}" + (f" ({self.mend} mends it)" if self.mend else "")
