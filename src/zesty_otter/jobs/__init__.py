"""Jobs: these sources, these steps, these outputs, again and again."""

from zesty_otter.jobs.job_file import Job, LayOut, Output, Source, load, schema
from zesty_otter.jobs.plan import Plan, Task, plan
from zesty_otter.jobs.record import Delivered
from zesty_otter.jobs.run import AssetResult, Event, JobResult, run_job

__all__ = [
    "AssetResult",
    "Delivered",
    "Event",
    "Job",
    "JobResult",
    "LayOut",
    "Output",
    "Plan",
    "Source",
    "Task",
    "load",
    "plan",
    "run_job",
    "schema",
]
