"""Looking without touching: what is in a scene, and whether what was written is what was meant."""

from zesty_otter.audit.arrival import Arrival, arrived
from zesty_otter.audit.facts import FileFacts
from zesty_otter.audit.glb import inspect_glb
from zesty_otter.audit.sizes import SizeGuess, likeness, size_guesses
from zesty_otter.audit.survey import Survey, survey

__all__ = [
    "Arrival",
    "FileFacts",
    "SizeGuess",
    "Survey",
    "arrived",
    "inspect_glb",
    "likeness",
    "size_guesses",
    "survey",
]
