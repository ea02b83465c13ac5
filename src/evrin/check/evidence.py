"""What the rules look at, and what they give."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from evrin.analysis.quality.check_point_fit import CheckPoints
from evrin.check.fixes import Place, acceptance
from evrin.kernels import Flags, Floats
from evrin.making.merged_places import LineCrossing, LineMiss, UnlikeHeights
from evrin.making.numberings import SurfaceVertexOfRow
from evrin.surface.provenance import Shots
from evrin.surface.surface import SourceLine, Surface
from evrin.survey.contents import Refusal
from evrin.survey.doubts.height_busts import Busts, find_busts
from evrin.survey.file_inventory import box_of_most
from evrin.survey.unset_heights import UnsetHeights, find_unset_heights, levels_of
from evrin.tin.mesh.limiting import Limit

Severity = Literal["error", "warning", "note"]
LISTED = 1000
"""So many findings of a kind, and shots of a finding, are listed; the rest are counted."""


@dataclass(frozen=True)
class Finding:
    """Something that looks wrong.

    Attributes
    ----------
    code : str
        The rule that found it.
    severity : {"error", "warning", "note"}
        A note leaves nothing open.
    place : (float, float) or None
        Easting and northing.
    message : str
        What is wrong, in numbers.
    shots : tuple of str
        The shots concerned, as the surveyor knows them.
    fix : str
        How to fix it.
    snippet : str
        The fix as tables to add at the end of a recipe; empty where it takes a decision.
    accepted : str or None
        The reason, where the recipe accepts it.

    Examples
    --------
    >>> from evrin.check import RULES
    >>> found = RULES["hollow"].finding((10.0, 20.0), "water collects 0.30 m deep")
    >>> found.severity, found.is_open
    ('note', False)
    """

    code: str
    severity: Severity
    place: Place | None
    message: str
    shots: tuple[str, ...] = ()
    fix: str = ""
    snippet: str = ""
    accepted: str | None = None

    @property
    def is_open(self) -> bool:
        """Whether someone still has to fix or accept it."""
        return self.severity != "note" and self.accepted is None

    @property
    def acceptance(self) -> str:
        """The table that accepts it, to be given a reason and pasted at the end of a recipe."""
        return acceptance(self.code, self.place)


@dataclass(frozen=True)
class Acceptance:
    """An accepted finding: its code, its place (None for one without), how near it must be, and why.

    Parameters
    ----------
    code : str
        Code of the finding.
    place : (easting, northing), optional
        Its place.
    reach : float
        How far the finding may be from that place.
    why : str
        The reason.

    Examples
    --------
    >>> from evrin.check import Acceptance
    >>> Acceptance("hollow", (10.0, 20.0), 1.0, "a pond").why
    'a pond'
    """

    code: str
    place: Place | None
    reach: float
    why: str


@dataclass(frozen=True)
class RingGap:
    """A boundary that does not end where it began: its name, the gap and where it ends.

    Parameters
    ----------
    name : str
        Of the boundary.
    gap : float
        Distance between its ends.
    place : (easting, northing)
        Where it ends.

    Examples
    --------
    >>> from evrin.check import RingGap
    >>> RingGap("limit", 0.42, (10.0, 20.0)).gap
    0.42
    """

    name: str
    gap: float
    place: Place


@dataclass(frozen=True)
class Unfit:
    """An edit that could not be applied: its number from 1, what it does, where, and the reason.

    Parameters
    ----------
    number : int
        Of the edit, from 1.
    what : str
        What it does.
    place : (easting, northing), optional
        Where.
    reason : str
        Why it does not fit.

    Examples
    --------
    >>> from evrin.check import Unfit
    >>> Unfit(2, "flip", (10.0, 20.0), "outside the surface").number
    2
    """

    number: int
    what: str
    place: Place
    reason: str


@dataclass(frozen=True, eq=False)
class Evidence:
    """All that a build knows, in the terms the rules need.

    Attributes
    ----------
    surface : Surface
        The surface as built.
    xyz : (n, 3) float64
        Every row that was selected; NaN where a line vertex has no height.
    shots : Shots
        What those rows are.
    surface_vertex_of : (n,) int64
        Vertex of *surface* of each row, -1 where it is in no triangle.
    is_outside : (n,) bool
        Rows beyond the boundaries.
    unlike, crossings, rings, gaps, unfit, refused
        What came up on the way.
    lines : tuple of SourceLine
        Breaklines and contours that went into it.
    longest_edge : float or None
        As `[trim]` states it.
    height_tolerance : float
        Heights that differ by no more than this agree.
    noted : list of Finding
        What came up while the sources were opened, cleaned and limited.
    misses : list of LineMiss
        Where lines pass vertices at other heights.
    duplicate_policy, crossing_policy : str
        Which height is used where they are unlike.
    fate : (n,) int8 or None
        What became of rows before anything was triangulated; -1 where nothing.
    checked : list of (str, CheckPoints)
        Independent check points, by the name of what holds them.
    accept_reach : float
        How near a finding must be to the place of an acceptance.
    limits : list of Limit
        What boundaries keep and cut, in turn.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> evidence = evrin.Recipe.read(small_site()).evidence()
    >>> evidence.length(0.1472)
    '0.147 m'
    """

    surface: Surface
    xyz: Floats
    shots: Shots
    surface_vertex_of: SurfaceVertexOfRow
    is_outside: Flags
    unlike: list[UnlikeHeights]
    crossings: list[LineCrossing]
    lines: tuple[SourceLine, ...]
    rings: tuple[SourceLine, ...]
    gaps: list[RingGap]
    unfit: list[Unfit]
    refused: list[Refusal]
    longest_edge: float | None
    height_tolerance: float
    noted: list[Finding] = field(default_factory=list)
    misses: list[LineMiss] = field(default_factory=list)
    duplicate_policy: str = "mean"
    crossing_policy: str = "mean"
    fate: NDArray[np.int8] | None = None
    checked: list[tuple[str, CheckPoints]] = field(default_factory=list)
    accept_reach: float = 1.0
    limits: list[Limit] = field(default_factory=list)

    def length(self, value: float, digits: int = 3) -> str:
        """Return a length in words, as in ``0.147 m``.

        Parameters
        ----------
        value : float
            In units of the site.
        digits : int
            Digits after the point.

        Returns
        -------
        str
        """
        return f"{value:,.{digits}f} {self.surface.units}"

    def place(self, row: int) -> tuple[float, float]:
        """Easting and northing of a row.

        Parameters
        ----------
        row : int
            A row of all sources.

        Returns
        -------
        easting, northing : float
        """
        return float(self.xyz[row, 0]), float(self.xyz[row, 1])

    @cached_property
    def box(self) -> tuple[Floats, Floats] | None:
        """The box beyond which shots are far away, low and high corner; None for few shots."""
        return box_of_most(self.xyz[:, :2])

    @cached_property
    def unset(self) -> list[UnsetHeights]:
        """Rows whose height was never set, among those that nothing was settled about before."""
        rows = np.flatnonzero(self.is_open_row())
        levels = levels_of(line.points for line in self.surface.lines)
        unset_heights = find_unset_heights(self.xyz[rows, 2], self.surface.units, levels)
        return [replace(each, rows=rows[each.rows]) for each in unset_heights]

    @cached_property
    def is_unset_vertex(self) -> Flags:
        """Which vertices of the surface have a height that was never set."""
        out = np.zeros(len(self.surface.vertices) + 1, np.bool_)
        for each in self.unset:
            out[self.surface_vertex_of[each.rows]] = True
        return out[:-1]

    @cached_property
    def busts(self) -> Busts:
        """Vertices that differ from the ground around them, those whose height was never set left aside."""
        return find_busts(self.surface, ignored=self.is_unset_vertex)

    def is_open_row(self) -> Flags:
        """Return which rows nothing was settled about before the triangulation.

        Returns
        -------
        (n,) bool
        """
        return np.ones(len(self.xyz), np.bool_) if self.fate is None else self.fate < 0

    def named(self, vertices: NDArray[np.int64] | list[int], most: int = 6) -> tuple[str, ...]:
        """Describe the shots at vertices of the surface.

        Parameters
        ----------
        vertices : (k,) array of int
            Vertices of the surface.
        most : int
            After so many the rest are counted.

        Returns
        -------
        tuple of str
        """
        provenance = self.surface.provenance
        if provenance is None:
            return ()
        return tuple(provenance.describe(int(v)) for v in list(vertices)[:most])
