"""Failures played through: sections and doors of a network, stories, and what they come to. No study of its own."""

from .course import Course
from .events import KINDS, SAID, Event, Ready, every
from .indices import INDICES, indices
from .tally import MEASURES, Tally
from .weather import HOURS

__all__ = ["HOURS", "INDICES", "KINDS", "MEASURES", "SAID", "Course", "Event", "Ready", "Tally", "every", "indices"]
