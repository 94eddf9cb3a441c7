"""Runs of studies beside the service: in worker processes or on a cluster, with progress, parts, cancel and a memory."""

from ._beside import run_beside
from ._cluster import ClusterPool, NoCluster, cluster_named
from ._job import Job, JobState
from ._pool import Answered, Event, Executor, Failed, LocalPool, Lost, Progressed, usual_size
from ._runner import AsideFailed, Runner, UnknownJob

__all__ = [
    "Answered",
    "AsideFailed",
    "ClusterPool",
    "Event",
    "Executor",
    "Failed",
    "Job",
    "JobState",
    "LocalPool",
    "Lost",
    "NoCluster",
    "Progressed",
    "Runner",
    "UnknownJob",
    "cluster_named",
    "run_beside",
    "usual_size",
]
