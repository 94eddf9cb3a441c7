"""What to build and when: proposals, plans, and the board that holds them side by side."""

from __future__ import annotations

from ..base import Study, register
from ._board import SPLIT as BOARD
from ._options import BoardOptions, ProposalOptions, SearchOptions
from ._proposals import SPLIT as PROPOSALS
from ._search import SPLIT as SEARCH
from ._workings import explain

__all__ = ["BoardOptions", "ProposalOptions", "SearchOptions"]

register(
    Study(
        name="board",
        label="Board",
        purpose="Schemes and plans over the years and conditions: losses, limits, outages, interruptions, and what each costs",
        options=BoardOptions,
        run=BOARD.run,
        split=BOARD,
        explain=explain,
        desk="plan",
    )
)
register(
    Study(
        name="proposals",
        label="Proposals",
        purpose="What could be built where the network is weak: each tried, ranked by what it cures for its cost",
        options=ProposalOptions,
        run=PROPOSALS.run,
        split=PROPOSALS,
        desk="plan",
    )
)
register(
    Study(
        name="best_plan",
        label="Best plan",
        purpose="Which schemes to build in which year, so that net present cost with the weight of broken limits is least",
        options=SearchOptions,
        run=SEARCH.run,
        split=SEARCH,
        desk="plan",
    )
)
