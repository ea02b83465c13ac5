"""The surface that one kept in tiles is compared with: kept in tiles as well, or in one piece."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from evrin.large.running.job import Job
from evrin.large.running.tile_folder import load, save
from evrin.large.tiled_surface import TiledSurface
from evrin.large.tiles.tile_index import Index, Window
from evrin.recipe.store.digests import digest_of
from evrin.surface.frame import Frame, check_same_frame
from evrin.surface.surface import Surface


@dataclass(frozen=True)
class Against:
    """A surface of which a worker takes the part that it needs.

    Attributes
    ----------
    name, digest : str
        What it is called, and a digest of what it holds.
    frame : Frame
        Unit and reference system.
    place : Path
        Where it is kept.
    job : Job or None
        None for one in one piece.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import against, tiled, workers
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     against(field, field).name
    'field'
    """

    name: str
    digest: str
    frame: Frame
    place: Path
    job: Job | None

    def within(self, window: Window) -> Surface | None:
        """Return the triangles that touch a window; None where there are none.

        Parameters
        ----------
        window : tuple of float
            West, south, east, north.

        Returns
        -------
        Surface or None
        """
        if self.job is not None:
            return Index.opened(self.job, self.place).within(window)
        vertices = load(self.place.with_suffix(".vertices.npy"))
        triangles = load(self.place.with_suffix(".triangles.npy"))
        places = vertices[:, :2][triangles]
        low, high = places.min(axis=1), places.max(axis=1)
        touching = np.asarray(triangles[(low <= window[2:]).all(axis=1) & (high >= window[:2]).all(axis=1)])
        if len(touching) == 0:
            return None
        rows, corners = np.unique(touching, return_inverse=True)
        made = Surface.from_arrays(np.asarray(vertices[rows]), corners.reshape(-1, 3), name=self.name)
        return made.renamed(units=self.frame.units, crs=self.frame.crs)


def against(surface: TiledSurface, other: TiledSurface | Surface) -> Against:
    """Keep a surface where the workers of another find it.

    Parameters
    ----------
    surface : TiledSurface
        The surface in tiles.
    other : TiledSurface or Surface
        The surface to compare with.

    Returns
    -------
    Against

    Raises
    ------
    DataError
        For unlike units or reference systems.

    Examples
    --------
    >>> import evrin
    >>> from evrin.demo import small_site
    >>> from evrin.large import against, tiled, workers
    >>> path = small_site()
    >>> _ = path.write_text(path.read_text().replace('"points"', '"cloud"'))
    >>> with workers(1) as crew:
    ...     field = tiled(evrin.Recipe.read(path), path.with_name("kept"), crew, tile=20.0)
    ...     against(field, field).within((0, 0, 5, 5))
    <Surface 'field': 4 vertices, 2 triangles>
    """
    if isinstance(other, TiledSurface):
        frame = other.job.frame
        check_same_frame([(surface.name, surface.job.frame), (other.name, frame)])
        return Against(other.name, other.digest, frame, other.index.save(other.digest), other.job)
    check_same_frame([(surface.name, surface.job.frame), (other.name, other.frame)])
    digest = digest_of(other.vertices.tobytes(), other.triangles.tobytes())[:24]
    place = surface.job.at("against", digest)
    save(place.with_suffix(".vertices.npy"), other.vertices)
    save(place.with_suffix(".triangles.npy"), other.triangles)
    return Against(other.name, digest, other.frame, place, None)
