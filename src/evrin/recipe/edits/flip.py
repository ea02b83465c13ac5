"""An edge flipped: the two triangles beside it share the other diagonal."""

from __future__ import annotations

from typing import ClassVar, Literal

from evrin.making.editor import Editor
from evrin.recipe.edits import Edit, edit_kind
from evrin.recipe.tables import Place


@edit_kind
class Flip(Edit):
    """`do = "flip"`: the edge at a place becomes the other diagonal of the two triangles beside it."""

    help: ClassVar[str] = "Flip the edge at a place."
    undone: ClassVar[str] = "the edge is as the triangulation chose it"
    do: Literal["flip"]
    at: Place
    """A place near the middle of the edge."""
    joins: tuple[Place, Place] | None = None
    """The two vertices that the new edge joins; found and written by the command line."""

    def apply(self, editor: Editor, number: int) -> str:
        """Flip the edge."""
        return editor.flip(self.at, self.joins or ())

    def completed(self, editor: Editor) -> dict[str, object]:
        """Return the two vertices that the new edge joins."""
        mesh = editor.work.mesh
        if self.joins is not None:
            return {}
        a, b = mesh.flip_ends(mesh.edge_near(*self.at))
        if min(a, b) < 0:
            return {}
        ends = sorted((float(mesh.xy[v, 0]), float(mesh.xy[v, 1])) for v in (a, b))
        return {"joins": [[round(x, 3), round(y, 3)] for x, y in ends]}
