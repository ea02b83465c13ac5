"""`[field_codes]`: what field codes mean, here or in a code book that a practice keeps."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Literal, Self

from pydantic import ValidationError, model_validator

from evrin.base.errors import RecipeError
from evrin.base.files import read_text
from evrin.base.tolerances import FIELD_CURVE_CHORD
from evrin.recipe.document.recipe_faults import faults_of
from evrin.recipe.steps import Phase, Step, step
from evrin.recipe.tables import InputFile, Kind, Number, Positive, Table, default_length
from evrin.survey.codes import CodeRule, CodeTable


class CodeMeaning(Table):
    """`[[field_codes.code]]`: what a code pattern means."""

    match: str
    """Pattern for the code without its string number; `*` matches anything."""
    means: Literal["spot", "line", "boundary", "hole", "water", "leave out"]
    """What such shots are: `boundary` joins them to a ring that is kept, `hole` to one that is cut out, `water` to the
    shore of an area held at `level`."""
    join: Literal["straight", "smooth"] = "straight"
    """How the shots of such a line are joined."""
    level: Number | None = None
    """Level of water."""

    @model_validator(mode="after")
    def _water_has_a_level(self) -> Self:
        if (self.means == "water") != (self.level is not None):
            raise ValueError('level is needed for means = "water", and allowed for nothing else')
        return self


class CodeBook(Table):
    """The marks, and a meaning for each code pattern."""

    start: str = ""
    """Mark that begins a line."""
    end: str = ""
    """Mark that ends a line."""
    close: str = ""
    """Mark that ends a line at its first shot."""
    arc: str = ""
    """Mark of a shot that an arc runs through."""
    smooth: str = ""
    """Mark of a shot that a smooth curve runs through."""
    code: tuple[CodeMeaning, ...] = ()


class FieldCodes(CodeBook):
    """`[field_codes]`: a code book, here or in a file that a practice keeps."""

    file: InputFile | None = None
    """A code book (.toml)."""
    chord: Positive = default_length(FIELD_CURVE_CHORD)
    """How far a curve may be from its chords."""
    on: bool = True


FIELD_CODES = Kind("field_codes", FieldCodes, default=FieldCodes())
STEP = step(Step("field codes", 20, Phase.ROWS, FIELD_CODES))


def code_table(folder: Path, table: FieldCodes) -> CodeTable:
    """Return what codes mean: what the recipe states comes before the code book, so that a site can differ.

    Raises
    ------
    DataError, RecipeError
        Where the code book cannot be read, or is faulty.
    """
    if not table.on:
        return CodeTable()
    book: CodeBook = _code_book(folder / table.file) if table.file else table
    codes = (*table.code, *book.code) if book is not table else table.code
    marks = {name: getattr(table, name) or getattr(book, name) for name in ("start", "end", "close", "arc", "smooth")}
    return CodeTable(tuple(CodeRule(row.match, row.means, row.join, row.level) for row in codes), **marks)


def _code_book(path: Path) -> CodeBook:
    text, _ = read_text(path)
    try:
        return CodeBook.model_validate(tomllib.loads(text))
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise RecipeError(str(path), [f"not valid TOML: {error}"]) from error
    except ValidationError as error:
        raise RecipeError(str(path), faults_of(text, error, CodeBook)) from error
