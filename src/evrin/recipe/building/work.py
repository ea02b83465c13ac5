"""A build in progress: what it rests on, and what its steps have made of it so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from evrin.base.errors import DataError
from evrin.check import Finding, RingGap, Unfit
from evrin.formats.door.intake import Transformation, take_in_lines
from evrin.kernels import Flags
from evrin.making.triangulation import Triangulation
from evrin.recipe.building.rows import Gathered, Rows
from evrin.recipe.building.stage_log import Stages
from evrin.recipe.sources.frame_findings import off_site
from evrin.recipe.store.digests import FileDigests
from evrin.recipe.store.kept_results import NoStore, Store
from evrin.recipe.tables import FileTable, Selecting, Tables, selection_of
from evrin.surface.frame import Frame
from evrin.surface.surface import SourceLine
from evrin.survey.contents import Line
from evrin.survey.mismatch import Extent


@dataclass(eq=False)
class Shaped:
    """A mesh, the rings that limit it, and what came up on the way.

    Attributes
    ----------
    triangulation : Triangulation
        The mesh.
    limits : list of (list of SourceLine)
        The rings that limit it, those of one table or source together, in turn.
    cutting : list of (list of SourceLine)
        The same as the mesh is cut along them, with the vertices that the ground was extended to.
    gaps : list of RingGap
        Boundaries that do not end where they began.
    findings : list of Finding
        What came up.
    did : list of (str, str)
        By step, what it did.
    """

    triangulation: Triangulation
    limits: list[list[SourceLine]] = field(default_factory=list)
    cutting: list[list[SourceLine]] = field(default_factory=list)
    gaps: list[RingGap] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    did: list[tuple[str, str]] = field(default_factory=list)

    @property
    def rings(self) -> list[SourceLine]:
        """All rings, in turn."""
        return [ring for group in self.limits for ring in group]


@dataclass(eq=False)
class Work:
    """A build in progress: what it rests on, and what each phase has made of it.

    Attributes
    ----------
    folder : Path
        Files of the recipe are relative to it.
    tables : Tables
        What the recipe states.
    stages : Stages
        The log.
    store : Store
        Where results are kept.
    rows : Rows
        While rows and lines change.
    gathered : Gathered
        What they became.
    shaped : Shaped
        The mesh, from the phase EXTENT on.
    unfit : list of Unfit
        Edits that could not be applied.
    edits : list of str
        What each of the others did.
    edited_out : (n,) bool
        Mesh vertices that edits took out of the surface.
    files : FileDigests
        Digests of the files that were read.
    restored : int
        The last phase whose result was kept and is used again; 0 for none.
    """

    folder: Path
    tables: Tables
    stages: Stages
    store: Store = field(default_factory=NoStore)
    rows: Rows = field(init=False)
    gathered: Gathered = field(init=False)
    shaped: Shaped = field(init=False)
    unfit: list[Unfit] = field(default_factory=list)
    edits: list[str] = field(default_factory=list)
    edited_out: Flags = field(init=False)
    files: FileDigests = field(init=False)
    restored: int = 0

    def __post_init__(self) -> None:
        self.files = FileDigests(self.folder, self.store.stamped())

    @property
    def frame(self) -> Frame:
        """What the site's coordinates mean."""
        return self.tables.site.frame

    def lines_of(
        self, table: FileTable, keep: Selecting, what: str, least: int
    ) -> tuple[list[Line], list[Finding], Transformation]:
        """Return the lines that a table selects in its file, on the site, with findings and the transformation.

        Parameters
        ----------
        table : FileTable
            The table that names the file.
        keep : Selecting
            Which of its lines are meant.
        what : str
            What the lines are to be, for messages.
        least : int
            How many vertices each needs.

        Raises
        ------
        DataError
            Where the file cannot be read, no line is selected, or one has too few vertices.
        """
        taken = take_in_lines(self.folder / table.file, self.frame, table.claim)
        lines = list(taken.contents.lines)
        is_inside = selection_of(self.folder, keep, self.frame).all_met(lines)
        kept = [line for line, is_meant in zip(lines, is_inside, strict=True) if is_meant]
        if not kept:
            raise DataError(f"{self.folder / table.file}: no line is selected for {what}. Check keep")
        for line in kept:
            count = len(line.xyz)
            if count < least:
                raise DataError(f"{self.folder / table.file}: {line.name} has {count} vertices; {what} needs {least}")
        located = self.rows.extents if hasattr(self, "rows") else self.gathered.extents
        off = off_site(table.title, Extent.of(np.concatenate([line.xyz for line in kept])), located)
        findings = [*taken.findings, *([off] if off is not None else [])]
        return kept, findings, taken.transformation
