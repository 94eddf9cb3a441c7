"""Runs of studies: at once where they are quick, else beside the service, with progress and cancel."""

from ._jobs import Job, JobState, Runner

__all__ = ["Job", "JobState", "Runner"]
