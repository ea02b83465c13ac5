"""`Recipe`: a checked recipe, ready to build."""

from __future__ import annotations

import os
import tomllib
from dataclasses import dataclass, replace
from pathlib import Path

from pydantic import ValidationError

from evrin.base.errors import DataError, RecipeError
from evrin.base.files import read_text
from evrin.base.written_files import note_inputs
from evrin.check import Evidence
from evrin.recipe.build import Build, build, evidence_for
from evrin.recipe.building.groups import steps_in_groups
from evrin.recipe.building.preview import EditPreview, preview_edit
from evrin.recipe.building.schema import files_named, tables_model, tables_of
from evrin.recipe.building.stage_log import Progress, Stages
from evrin.recipe.building.status import Status, status_of
from evrin.recipe.document.recipe_faults import Outline, faults_of
from evrin.recipe.edits import Edit
from evrin.recipe.steps import after_building
from evrin.recipe.store.kept_results import FOLDER, FolderStore
from evrin.recipe.tables import Tables, files_in
from evrin.recipe.tables.file_sets import expanded


@dataclass(frozen=True)
class Recipe:
    """A recipe read from a file.

    Attributes
    ----------
    path : Path
        Paths in the recipe are relative to its folder.
    tables : Tables
        What it states.
    text : str
        The recipe itself.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> recipe = evrin.Recipe.read(small_site())
    >>> recipe.tables.site.name
    'field'
    """

    path: Path
    tables: Tables
    text: str = ""

    def _repr_html_(self) -> str:
        from evrin.report.snippets import recipe_snippet

        return recipe_snippet(self)

    @classmethod
    def read(cls, path: str | os.PathLike[str]) -> Recipe:
        """Read and check a recipe.

        Parameters
        ----------
        path : path
            The recipe (.toml).

        Returns
        -------
        Recipe

        Raises
        ------
        DataError
            Where there is no such file.
        RecipeError
            With every fault at once, by line.
        """
        source = Path(path)
        try:
            text, _ = read_text(source)
            tables = checked_tables(source, text)
        except (DataError, RecipeError) as error:
            if source.suffix.lower() == ".toml" or not source.is_file():
                raise
            raise _no_recipe(source) from error
        note_inputs([source, *(path for name in files_named(tables) for path in expanded(source.parent, name))])
        return cls(source, tables, text)

    def build(
        self, progress: Progress | None = None, *, keep: bool | str | os.PathLike[str] = False, fresh: bool = False
    ) -> Build:
        """Build the surface and check it.

        Parameters
        ----------
        progress : callable, optional
            Called with the name of each stage as it starts.
        keep : bool or path
            Whether to keep the results of stages, and use those kept earlier whose files and tables have not changed:
            in a folder ``.evrin-cache`` beside the recipe, or in the folder named. It can be deleted at any time.
        fresh : bool
            Build everything again, and keep that.

        Returns
        -------
        Build

        Raises
        ------
        DataError, GeometryError
            Where a file cannot be read, or nothing can be triangulated.
        """
        store = self._store(keep, fresh)
        built = replace(build(self.path.parent, self.tables, progress, store), path=self.path, text=self.text)
        if store is None:
            return built
        before = store.remember(self.path.name, built.parts)
        store.tidy()
        changed = None if before is None else _changes(before, built.parts)
        return replace(built, changed=changed, results=_with_figures_before(store, self.path.name, built.results))

    def evidence(self, progress: Progress | None = None) -> Evidence:
        """Return what the rules look at, as it is in a build.

        Parameters
        ----------
        progress : callable, optional
            Called with the name of each stage as it starts.

        Returns
        -------
        Evidence

        Raises
        ------
        DataError, GeometryError
            As `build` does.
        """
        return evidence_for(self.path.parent, self.tables, progress)

    def status(self, *, keep: str | os.PathLike[str] = "") -> Status:
        """Return what is out of date, without building.

        Parameters
        ----------
        keep : path
            The folder where results are kept; ``.evrin-cache`` beside the recipe if not given.

        Returns
        -------
        Status
        """
        return status_of(self.path, self.tables, FolderStore(Path(keep) if keep else self.path.parent / FOLDER))

    def steps(self) -> list[tuple[str, Recipe]]:
        """Return the recipe group by group, from its sources alone to the whole; see `evrin.recipe.building.groups`.

        Returns
        -------
        list of (str, Recipe)
            What each group adds, and the recipe with it.
        """
        return [(label, replace(self, tables=tables)) for label, tables in steps_in_groups(self.tables)]

    def preview_edit(
        self, edit: Edit, progress: Progress | None = None, *, keep: bool | str | os.PathLike[str] = False
    ) -> EditPreview:
        """Return what one more edit would do, without writing it down.

        Parameters
        ----------
        edit : Edit
            As `evrin.checked_edit` returns it.
        progress : callable, optional
            Is called with what is being done.
        keep : bool or path
            As in `build`.

        Returns
        -------
        EditPreview

        Raises
        ------
        EditError
            Where it does not fit the surface as the recipe now makes it.
        """
        return preview_edit(self.path.parent, self.tables, edit, Stages(progress), self._store(keep))

    def _store(self, keep: bool | str | os.PathLike[str], fresh: bool = False) -> FolderStore | None:
        if keep is False:
            return None
        return FolderStore(self.path.parent / FOLDER if keep is True else Path(keep), fresh=fresh)


def _changes(before: dict[str, str], now: dict[str, str]) -> list[str]:
    """What of the files and tables behind a build is new, removed or different."""
    names = sorted({*before, *now})
    return [name for name in names if before.get(name) != now.get(name)]


def _with_figures_before(store: FolderStore, recipe: str, results: list[object]) -> list[object]:
    """Return results with their figures at the build before, and remember those of this one."""
    figures: dict[str, dict[str, dict[str, float]]] = {}
    for _, after in after_building():
        if after.figures is not None:
            figures[after.name] = {each.name: after.figures(each) for each in after.of(results)}
    before = store.remember_figures(recipe, figures)
    out = list(results)
    for _, after in after_building():
        for place, each in enumerate(results):
            known = before.get(after.name, {}).get(getattr(each, "name", "")) if after.of([each]) else None
            if known and after.with_before is not None:
                out[place] = after.with_before(each, known)
    return out


def _no_recipe(source: Path) -> DataError:
    """What to do with a file that is not meant as a recipe."""
    return DataError(
        f"{source}: this is not a recipe, which is a .toml file. `evrin draft {source} -o site.toml` writes a first "
        f"recipe that takes it in; `evrin inspect {source}` shows what is in it."
    )


def checked_tables(source: Path, text: str) -> Tables:
    """Return what a recipe's text states.

    Raises
    ------
    RecipeError
        With every fault at once, by line.
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RecipeError(str(source), [f"not valid TOML: {error}"]) from error
    except RecursionError as error:
        raise RecipeError(str(source), ["not valid TOML: its brackets nest deeper than those of any recipe"]) from error
    except ValueError as error:
        raise RecipeError(str(source), ["not valid TOML: a whole number has more digits than can be read"]) from error
    try:
        tables = tables_of(document)
    except ValidationError as error:
        raise RecipeError(str(source), faults_of(text, error, tables_model())) from error
    missing = _missing_files(source.parent, text, tables)
    if missing:
        raise RecipeError(str(source), missing)
    return tables


def _missing_files(folder: Path, text: str, tables: Tables) -> list[str]:
    outline = Outline(text)
    missing = []
    for name in type(tables).model_fields:
        for place, file, is_on in files_in(getattr(tables, name), (name,)):
            paths = expanded(folder, file)
            if is_on and not (paths and all(path.is_file() for path in paths)):
                words = [str(part + 1) if isinstance(part, int) else part for part in place]
                where = " ".join(words[:-1]) + f" → {words[-1]}"
                missing.append(f"line {outline.line_of(place)}: {where}: no file {folder / file}")
    return missing
