"""What of a recipe is out of date: its files and tables since the last build, and what was written from it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from evrin.recipe.building.pipeline import parts_of
from evrin.recipe.building.stage_log import Stages
from evrin.recipe.building.work import Work
from evrin.recipe.store.digests import digest_of, file_digest
from evrin.recipe.store.kept_results import FOLDER, FolderStore
from evrin.recipe.tables import Tables


class Written(NamedTuple):
    """A file that a command wrote from a recipe: its name from the recipe's folder, and how it is now.

    Attributes
    ----------
    file : str
        The file.
    state : {"up to date", "out of date", "not as written", "missing"}
        Against what the recipe states now; ``not as written`` where its content is another now.
    """

    file: str
    state: str


@dataclass(frozen=True)
class Status:
    """What is out of date.

    Attributes
    ----------
    is_built : bool
        Whether a build is on record.
    changed : list of str
        Files and tables that differ from those of the last build; ``the program`` where Evrin itself is another.
    written : list of Written
        Files that were written from the recipe.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> recipe = evrin.Recipe.read(small_site())
    >>> recipe.status().is_built, recipe.build(keep=True).surface.name, recipe.status().is_up_to_date
    (False, 'field', True)
    """

    is_built: bool
    changed: list[str]
    written: list[Written]

    @property
    def is_up_to_date(self) -> bool:
        """Whether the last build, and all that was written, is of what the recipe states now."""
        return self.is_built and not self.changed and all(each.state == "up to date" for each in self.written)


def status_of(path: Path, tables: Tables, store: FolderStore) -> Status:
    """Compare a recipe with its record; nothing is built.

    Parameters
    ----------
    path : Path
        Of the recipe.
    tables : Tables
        What the recipe states.
    store : FolderStore
        Where results are kept.

    Returns
    -------
    Status
    """
    parts = parts_of(Work(path.parent, tables, Stages(None), store))
    before = store.remembered(path.name)
    changed = [] if before is None else [n for n in sorted({*before, *parts}) if before.get(n) != parts.get(n)]
    now = digest_of(parts)
    written = []
    for file, (made_of, content) in sorted(store.written(path.name).items()):
        target = path.parent / file
        if not target.is_file():
            state = "missing"
        elif file_digest(target) != content:
            state = "not as written"
        else:
            state = "up to date" if made_of == now else "out of date"
        written.append(Written(file, state))
    return Status(before is not None, changed, written)


def note_written(path: Path, parts: dict[str, str], target: Path) -> None:
    """Note on record that a file was written from a recipe as it is.

    Parameters
    ----------
    path : Path
        Of the recipe.
    parts : dict of str to str
        What its build rests on.
    target : Path
        The file that was written.
    """
    from os.path import relpath

    try:
        name = relpath(target.resolve(), path.parent.resolve())
    except ValueError:
        # On another drive.
        name = str(target.resolve())
    store = FolderStore(path.parent / FOLDER)
    store.note_written(path.name, name, digest_of(parts), file_digest(target))
