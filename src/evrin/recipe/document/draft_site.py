"""The unit and reference system of a drafted site, and what each file then has to state, with the reasons."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np

from evrin.base.errors import EvrinError
from evrin.base.named_values import Row
from evrin.base.tolerances import FILE_METRES, METRES
from evrin.formats.door.claims import Claim
from evrin.formats.door.intake import Transformation, settled
from evrin.formats.door.reference_systems import units_of
from evrin.kernels import Floats
from evrin.surface.frame import DEGREES, UNIT_NAMES, Frame, system_name
from evrin.survey.contents import Contents
from evrin.survey.drawn_sizes import DrawnSizes, likely_unit
from evrin.survey.file_inventory import all_places
from evrin.survey.mismatch import Extent, Located, mismatches


@dataclass
class Looked:
    """A file that was looked at.

    Attributes
    ----------
    path : Path
        The file.
    name : str
        As the recipe names it.
    contents : Contents
        What it holds.
    keys : dict
        What its tables have to state of it.
    why : list of str
        The reasons, in words.
    off : str
        Why its tables are off, empty where they are on.
    has_unit_of_drawings : bool
        Whether its unit is stated for all drawings together.
    """

    path: Path
    name: str
    contents: Contents
    keys: Row = field(default_factory=dict)
    why: list[str] = field(default_factory=list)
    off: str = ""
    has_unit_of_drawings: bool = False

    @property
    def stated_keys(self) -> Row:
        """What its own tables have to state."""
        # Where columns are a guess, the guess is corrected instead.
        spared = {"exchanged"} if self.contents.guessed_columns else set()
        spared |= {"units"} if self.has_unit_of_drawings else set()
        return {key: value for key, value in self.keys.items() if key not in spared}

    @property
    def weight(self) -> int:
        """How much it counts where files disagree: points first."""
        held = self.contents
        surfaces = sum(len(surface.vertices) for surface in held.surfaces)
        lines = sum(len(line.xyz) for line in held.lines)
        grids = sum(int(grid.has_height.sum()) for grid in held.grids)
        return 10 * (len(held.points) + grids) + surfaces + lines

    @property
    def is_in_degrees(self) -> bool:
        """Whether it states that it is in degrees."""
        stated = self.contents.stated
        return stated.units == DEGREES or (bool(stated.crs) and units_of(stated.crs) == DEGREES)

    @cached_property
    def sizes(self) -> DrawnSizes:
        """How large things are in it."""
        return DrawnSizes.of(self.contents)

    @property
    def likely_unit(self) -> str:
        """The unit in its header, or another that its sizes speak for; empty if nothing is known of it."""
        hinted = self.contents.stated.hinted_units
        # New drawings state inches unless they are told not to; they may be in anything.
        is_unproved = hinted == "in" and self.sizes.prove_nothing and not self.sizes.written
        return "" if is_unproved or not hinted else likely_unit(self.sizes, hinted)

    @property
    def is_stated(self) -> bool:
        """Whether it states a unit or a reference system that counts."""
        return bool(self.contents.stated.units or self.contents.stated.crs)

    def places(self, frame: Frame) -> Floats:
        """Return its places in the site's coordinates, in its own where there is no way to them."""
        own = self.contents.stated._replace(hinted_units="")
        claim = Claim(**{key: value for key, value in self.keys.items() if key in Claim._fields})
        try:
            transformation, _, _ = settled(self.path, own, claim, frame)
        except EvrinError:
            transformation = Transformation()
        return transformation.places(all_places(self.contents))


@dataclass
class DraftedSite:
    """The unit and the system of a site, and why."""

    units: str = "m"
    crs: str = "local"
    why: list[str] = field(default_factory=list)
    drawing_units: str = ""

    @property
    def frame(self) -> Frame:
        """What its coordinates mean."""
        return Frame(self.units, self.crs)


def chosen_site(files: list[Looked]) -> DraftedSite:
    """Choose unit and system from what the files state; where they disagree, the points count most."""
    site = _site_from_systems(files) or _site_from_degrees(files) or _site_from_units(files)
    for looked in files:
        _settle_file(looked, site)
    _settle_drawings(files, site)
    _settle_silent(files, site)
    _state_once(files, site)
    return site


def _state_once(files: list[Looked], site: DraftedSite) -> None:
    """State the unit of drawings for all of them under the site, where it is one."""
    drawings = [looked for looked in files if looked.path.suffix.lower() == ".dxf"]
    units = {str(looked.keys.get("units", "")) for looked in drawings}
    if len(units) == 1 and "" not in units:
        site.drawing_units = units.pop()
        for looked in drawings:
            looked.has_unit_of_drawings = True


def _heaviest(files: list[Looked], stated: Callable[[Looked], str]) -> list[tuple[str, list[Looked]]]:
    """Files by what they state, that with the most points first."""
    groups: defaultdict[str, list[Looked]] = defaultdict(list)
    for looked in files:
        groups[stated(looked)].append(looked)
    return sorted(groups.items(), key=lambda group: -sum(looked.weight for looked in group[1]))


def _site_from_systems(files: list[Looked]) -> DraftedSite | None:
    stating = [looked for looked in files if looked.contents.stated.crs and not looked.is_in_degrees]
    if not stating:
        return None
    (crs, first), *others = _heaviest(stating, lambda looked: looked.contents.stated.crs)
    units = units_of(crs)
    site = DraftedSite(units if units in METRES else "m", crs, [f"{system_name(crs)} is stated by {_names(first)}"])
    site.why += [f"{_names(group)} states {system_name(other)}, and is transformed" for other, group in others]
    return site


def _site_from_degrees(files: list[Looked]) -> DraftedSite | None:
    """A grid for sites whose files are all in degrees: the zone of the transverse grid that they lie in."""
    degrees = [looked for looked in files if looked.is_in_degrees]
    if not degrees or any(not looked.is_in_degrees and looked.weight for looked in files):
        return None
    east, north = np.median(np.concatenate([all_places(looked.contents)[:, :2] for looked in degrees]), axis=0)
    zone = int((east + 180.0) // 6.0) % 60 + 1
    crs = f"EPSG:{(32600 if north >= 0.0 else 32700) + zone}"
    return DraftedSite(
        "m", crs, [f"{_names(degrees)} is in degrees; {crs} is the UTM zone {zone} that it lies in: a guess"]
    )


def _site_from_units(files: list[Looked]) -> DraftedSite:
    stating = [looked for looked in files if looked.contents.stated.units in METRES]
    if stating:
        (units, first), *others = _heaviest(stating, lambda looked: looked.contents.stated.units)
        site = DraftedSite(units, "local", [f"{UNIT_NAMES[units]} are stated by {_names(first)}"])
        site.why += [f"{_names(group)} states {UNIT_NAMES[other]}, and is converted" for other, group in others]
        return site
    hinting = [looked for looked in files if looked.likely_unit in METRES]
    if hinting:
        (units, first), *others = _heaviest(hinting, lambda looked: looked.likely_unit)
        stated = sorted({UNIT_NAMES[looked.contents.stated.hinted_units] for looked in first})
        why = f"{UNIT_NAMES[units]} are stated by the header of {_names(first)}; headers of drawings can be wrong"
        if stated != [UNIT_NAMES[units]]:
            why = f"the header of {_names(first)} states {' or '.join(stated)}; its sizes speak for {UNIT_NAMES[units]}"
        return DraftedSite(
            units, "local", [why, *(f"{_names(group)} is in {UNIT_NAMES[other]}" for other, group in others)]
        )
    return DraftedSite("m", "local", ["no file states a unit or a reference system: metres are a guess"])


def _names(files: list[Looked]) -> str:
    named = [looked.path.name for looked in files]
    return ", ".join(named[:3]) + (f" and {len(named) - 3} more" if len(named) > 3 else "")


def _settle_file(looked: Looked, site: DraftedSite) -> None:
    held = looked.contents
    if looked.is_in_degrees and site.frame.is_local:
        looked.off = "in degrees, and the site is local: no way is known from one to the other"
    if held.is_y_up:
        looked.keys["up"] = "y"
        looked.why.append("its faces look along the second axis: turned, so that heights are there")


def _settle_drawings(files: list[Looked], site: DraftedSite) -> None:
    """Decide whether what the header of a drawing states is meant."""
    for looked in files:
        hinted = looked.contents.stated.hinted_units
        if not hinted or hinted == site.units or looked.off:
            continue
        others = [other for other in files if other is not looked and not other.contents.stated.hinted_units]
        rest = [Extent.of(xyz) for xyz in (other.places(site.frame) for other in others) if len(xyz) > 2]
        own = Extent.of(looked.places(site.frame))
        factor = FILE_METRES[hinted] / METRES[site.units]
        stated = UNIT_NAMES[hinted]
        if any(own.overlaps(each) for each in rest):
            looked.keys["units"] = site.units
            looked.why.append(f"its header states {stated}, but its coordinates fit the other files as they are")
        elif any(own.scaled(factor).overlaps(each) for each in rest):
            looked.keys["units"] = hinted
            looked.why.append(f"its header states {stated}, and converted it fits the other files")
        else:
            against, likely = looked.sizes.contradict(hinted), looked.likely_unit
            if not likely:
                looked.why.append(f"its header states {stated}, which nothing proves: is it in {site.units}?")
                continue
            looked.keys["units"] = likely
            what = f"not used, since in it {'; '.join(against) or 'nothing proves it'}" if likely != hinted else "used"
            looked.why.append(f"its header states {stated}, which is {what}; nothing else proves it")


def _settle_silent(files: list[Looked], site: DraftedSite) -> None:
    """State what files that do not go with the rest have to state."""
    placed = [(looked, looked.places(site.frame)) for looked in files if not looked.off]
    placed = [(looked, xyz) for looked, xyz in placed if len(xyz)]
    located = [
        Located(looked.name, Extent.of(xyz), looked.weight, looked.is_stated or bool(looked.keys.get("units")))
        for looked, xyz in placed
    ]
    wrong = mismatches(located)
    _confirm_orders([looked for looked, _ in placed], located, {finding.source for finding in wrong})
    for finding in wrong:
        looked, other = placed[finding.source][0], placed[finding.beside][0].path.name
        unit = "ft" if finding.factor < 1.0 else "m"
        if finding.kind == "exchanged":
            looked.keys["exchanged"] = True
            looked.why.append(f"it fits {other} only with northing and easting exchanged")
        elif finding.kind == "feet-beside-metres":
            looked.keys["units"] = unit
            looked.why.append(f"it fits {other} only in {UNIT_NAMES[unit]}")
        elif finding.kind == "heights-in-feet":
            looked.keys["height_units"] = unit
            looked.why.append(f"its heights fit {other} only in {UNIT_NAMES[unit]}")
        elif finding.kind == "degrees" and not site.frame.is_local:
            looked.keys["crs"] = "EPSG:4326"
            looked.why.append("its coordinates look like longitude and latitude")
        elif finding.kind == "degrees":
            looked.off = "its coordinates look like longitude and latitude, and the site is local"
        else:
            # Of two that lie apart the larger is the site, whatever the smaller states.
            beside = placed[finding.beside][0]
            smaller, larger = sorted((looked, beside), key=lambda each: each.weight)
            smaller.off = f"it does not overlap {larger.path.name}"


def _confirm_orders(files: list[Looked], located: list[Located], wrong: set[int]) -> None:
    """Note of columns that were guessed whether other files prove their order."""
    for k, looked in enumerate(files):
        if not looked.contents.guessed_columns or k in wrong:
            continue
        for other, there in zip(files, located, strict=True):
            own = located[k].extent
            if other is not looked and own.overlaps(there.extent) and not own.exchanged().overlaps(there.extent):
                looked.why.append(f"in this order it fits {other.path.name}, and exchanged it would not")
                break
