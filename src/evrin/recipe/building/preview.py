"""What one more edit would do, before it is written down."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from evrin.base.named_values import Row
from evrin.recipe.building.pipeline import run
from evrin.recipe.building.stage_log import Stages
from evrin.recipe.building.work import Work
from evrin.recipe.edits import Edit
from evrin.recipe.steps.edit import EDIT, editor_of
from evrin.recipe.store.kept_results import NoStore, Store
from evrin.recipe.tables import Tables


@dataclass(frozen=True)
class EditPreview:
    """What an edit would do, in words, and keys that make it independent of the vertices around it.

    Parameters
    ----------
    did : str
        What the edit does, in words.
    keys : dict
        The keys of the edit, completed.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> recipe = evrin.Recipe.read(small_site())
    >>> recipe.preview_edit(evrin.checked_edit({"do": "raise", "at": (10.0, 10.0), "by": 0.1})).did
    'raised shot 5, code GRASS, shots.csv line 5 by 0.1'
    """

    did: str
    keys: Row = field(default_factory=dict)


def preview_edit(folder: Path, tables: Tables, edit: Edit, stages: Stages, store: Store | None = None) -> EditPreview:
    """Try one more edit on the mesh that a recipe gives.

    Raises
    ------
    EditError
        Where it does not fit.
    """
    work = Work(folder, tables, stages, store or NoStore())
    run(work)
    editor = editor_of(work)
    keys = edit.completed(editor)
    return EditPreview(edit.apply(editor, len(tables.every(EDIT)) + 1), keys)
