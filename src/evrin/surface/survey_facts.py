"""Who surveyed a surface, for whom, when, and above what its heights are."""

from __future__ import annotations

from typing import NamedTuple


class SurveyFacts(NamedTuple):
    """What a client asks of a survey first; empty where it is not stated.

    Attributes
    ----------
    surveyor, client, job : str
        Who surveyed, for whom, and under what number.
    surveyed : str
        When, such as ``2026-05-12``.
    height_datum : str
        What heights are above.
    purpose : str
        What the surface may be used for.

    Examples
    --------
    >>> SurveyFacts(surveyor="A. Survey", job="26-014").line()
    'surveyed by A. Survey · job 26-014'
    """

    surveyor: str = ""
    client: str = ""
    job: str = ""
    surveyed: str = ""
    height_datum: str = ""
    purpose: str = ""

    def line(self) -> str:
        """Return who, for whom, when and under what number in one line.

        Returns
        -------
        str
        """
        by = f"surveyed by {self.surveyor}" if self.surveyor else ""
        when = f"surveyed {self.surveyed}" if self.surveyed else ""
        if by and self.surveyed:
            by, when = f"{by}, {self.surveyed}", ""
        parts = [f"for {self.client}" if self.client else "", by, when, f"job {self.job}" if self.job else ""]
        return " · ".join(part for part in parts if part)
