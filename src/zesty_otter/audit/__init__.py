"""Looking without touching: what is in a scene, and whether what was written is what was meant."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.audit.appearances import Appearance, appearance
    from zesty_otter.audit.arrival import Arrival, arrived
    from zesty_otter.audit.checks import check, steps_that_mend
    from zesty_otter.audit.comparison import Comparison, compare
    from zesty_otter.audit.facts import FileFacts
    from zesty_otter.audit.findings import Finding
    from zesty_otter.audit.footing import CollisionFacts, collision_facts
    from zesty_otter.audit.glb import inspect_glb
    from zesty_otter.audit.sizes import SizeGuess, likeness, size_guesses
    from zesty_otter.audit.surveying import Survey, survey

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        appearances="Appearance appearance",
        arrival="Arrival arrived",
        checks="check steps_that_mend",
        comparison="Comparison compare",
        facts="FileFacts",
        findings="Finding",
        footing="CollisionFacts collision_facts",
        glb="inspect_glb",
        sizes="SizeGuess likeness size_guesses",
        surveying="Survey survey",
    ),
)

__all__ = [
    "Appearance",
    "Arrival",
    "CollisionFacts",
    "Comparison",
    "FileFacts",
    "Finding",
    "SizeGuess",
    "Survey",
    "appearance",
    "arrived",
    "check",
    "collision_facts",
    "compare",
    "inspect_glb",
    "likeness",
    "size_guesses",
    "steps_that_mend",
    "survey",
]
