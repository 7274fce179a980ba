"""Jobs: these sources, these steps, these outputs, again and again."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.jobs.cluster import Cluster
    from zesty_otter.jobs.job_file import Job, LayOut, Output, Source, load, schema
    from zesty_otter.jobs.planning import Plan, Task, plan
    from zesty_otter.jobs.record import Delivered
    from zesty_otter.jobs.run import AssetResult, Event, JobResult, run_job
    from zesty_otter.jobs.watching import Round, watch_job
    from zesty_otter.jobs.ways import Processes, Way, here
    from zesty_otter.jobs.work import Done

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        cluster="Cluster",
        job_file="Job LayOut Output Source load schema",
        planning="Plan Task plan",
        record="Delivered",
        run="AssetResult Event JobResult run_job",
        watching="Round watch_job",
        ways="Processes Way here",
        work="Done",
    ),
)

__all__ = [
    "AssetResult",
    "Cluster",
    "Delivered",
    "Done",
    "Event",
    "Job",
    "JobResult",
    "LayOut",
    "Output",
    "Plan",
    "Processes",
    "Round",
    "Source",
    "Task",
    "Way",
    "here",
    "load",
    "plan",
    "run_job",
    "schema",
    "watch_job",
]
