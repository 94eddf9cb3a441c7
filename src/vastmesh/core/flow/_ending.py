from enum import StrEnum


class Ending(StrEnum):
    """How an iterative calculation ended."""

    CONVERGED = "converged"
    ITERATION_LIMIT = "iteration_limit"
    SINGULAR = "singular"
    NOTHING_TO_SOLVE = "nothing_to_solve"
    FAILED = "failed"  # the calculation itself broke off
