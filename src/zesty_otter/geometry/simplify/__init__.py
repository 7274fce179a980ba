"""Lighter versions of meshes, and what they differ by."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.geometry.simplify.collapse import Attribute, Reduced, simplify

__getattr__ = loaded_when_asked(__name__, homes_of(collapse="Attribute Reduced simplify"))

__all__ = ["Attribute", "Reduced", "simplify"]
