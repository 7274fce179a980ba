"""Findings: what does not fit, where, how bad it is, and what mends it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Finding:
    """One result of a check.

    ``rule`` is its slug, ``severity`` is error or warning, ``node`` where it is, ``mend`` the step that
    mends it, as `--step` takes it, when one does.
    """

    rule: str
    severity: str
    text: str
    node: str = ""
    mend: str = ""

    def __str__(self) -> str:
        where = f"{self.node}: " if self.node else ""
        return f"{where}{self.text}" + (f" ({self.mend} mends it)" if self.mend else "")
