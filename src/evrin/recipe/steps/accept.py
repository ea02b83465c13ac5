"""`[[accept]]`: a finding that is accepted, with a reason."""

from __future__ import annotations

from evrin.check import Acceptance
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.check import CHECK
from evrin.recipe.tables import Kind, Place, Table, Tables


class Accept(Table):
    """`[[accept]]`: a finding that is accepted, with a reason."""

    finding: str
    """Code of the finding."""
    at: Place | None = None
    """Its place; none for a finding without one."""
    why: str
    """The reason."""
    on: bool = True


ACCEPT = Kind("accept", Accept, listed=True)
STEP = step(Step("accept", 230, Phase.CHECK, ACCEPT))


def acceptances(tables: Tables) -> list[Acceptance]:
    """Return the acceptances that are on."""
    reach = tables.settled(CHECK).accept_reach
    return [Acceptance(row.finding, row.at, reach, row.why) for row in tables.on(ACCEPT)]
