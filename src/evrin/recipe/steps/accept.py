"""`[[accept]]`: a finding that is accepted, with a reason."""

from __future__ import annotations

from pydantic import field_validator

from evrin.base.errors import DataError
from evrin.check import Acceptance
from evrin.check.rule_registry import check_codes
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.steps.check import CHECK
from evrin.recipe.tables import Kind, Place, Table, Tables


class Accept(Table):
    """`[[accept]]`: a finding that is accepted, with a reason."""

    finding: str
    """Code of the finding."""
    at: Place | None = None
    """Its place, if it has one."""
    why: str
    """The reason."""
    on: bool = True

    @field_validator("finding")
    @classmethod
    def _is_a_code(cls, code: str) -> str:
        try:
            check_codes([code])
        except DataError as error:
            raise ValueError(str(error)) from error
        return code


ACCEPT = Kind("accept", Accept, listed=True)
STEP = step(Step("accept", 230, Phase.CHECK, ACCEPT))


def acceptances(tables: Tables) -> list[Acceptance]:
    """Return the acceptances that are on."""
    reach = tables.settled(CHECK).accept_reach
    return [Acceptance(row.finding, row.at, reach, row.why) for row in tables.on(ACCEPT)]
