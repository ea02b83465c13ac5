"""What a drawing holds before and around its entities: units, layers, blocks, paper space."""

from __future__ import annotations

import mmap
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from evrin.base.errors import DataError
from evrin.base.files import head_of
from evrin.base.wording import counted
from evrin.formats.door.format_registry import package

if TYPE_CHECKING:
    from ezdxf.document import Drawing

_UNITS = {1: "in", 2: "ft", 4: "mm", 5: "cm", 6: "m", 7: "km", 14: "dm", 21: "ftUS"}
_UNIT_WORDS = {3: "miles", 8: "microinches", 9: "mils", 10: "yards", 11: "angstroms", 12: "nanometres", 13: "microns"}
_FROZEN = 1
_LAYOUT_BLOCK = re.compile(r"^\*(model|paper)_space", re.IGNORECASE)
_ON_PAPER = re.compile(rb"\n[ \t]*67\r?\n[ \t]*1[ \t]*\r?\n")


@dataclass
class Prelude:
    """What comes before the entities.

    Attributes
    ----------
    version : str
        As ``$ACADVER``.
    units : int
        As ``$INSUNITS``.
    hidden, colours : dict of str to str
        By layer: how it is kept out of sight, and its true colour.
    has_contents : bool
        Whether some block holds more than definitions of attributes.
    on_paper : int
        Entities on layouts for printing.
    """

    version: str = "R12"
    units: int = 0
    hidden: dict[str, str] = field(default_factory=dict)
    colours: dict[str, str] = field(default_factory=dict)
    has_contents: bool = False
    on_paper: int = 0

    @property
    def unit(self) -> str:
        """The unit of length that the header states, empty if it states none that is read."""
        return _UNITS.get(self.units, "")

    def notes(self) -> Iterator[str]:
        """Yield what is kept out of sight or is not read, in words."""
        yield from (f"layer {name} is {how}" for name, how in self.hidden.items())
        if self.on_paper:
            several = counted(self.on_paper, "entity", "entities")
            yield f"{several} in paper space (layouts for printing) ignored"
        if self.units in _UNIT_WORDS:
            yield f"the drawing states the unit {_UNIT_WORDS[self.units]}"


def is_binary(path: Path) -> bool:
    """Whether a drawing is a binary one."""
    return b" Binary DXF" in head_of(path, 32)[0]


def prelude_of(path: Path) -> Prelude:
    """Walk through the tags before the entities.

    Raises
    ------
    DataError
        Where the drawing does not end with EOF.
    """
    prelude = Prelude()
    if is_binary(path):
        document = package("ezdxf").readfile(path)
        prelude.version, prelude.units, prelude.has_contents = document.acad_release, document.units, True
        prelude.on_paper = on_paper(document)
        for layer in document.layers:
            _note_layer(prelude, layer.dxf.name, layer.dxf.flags, layer.dxf.color, layer.dxf.get("true_color"))
        return prelude
    with path.open("rb") as stream:
        stream.seek(max(path.stat().st_size - 64, 0))
        if not stream.read().rstrip(b"\x00\x1a \r\n\t").endswith(b"EOF"):
            raise DataError(f"{path}: the drawing is cut short: it does not end with EOF")
    info = package("ezdxf.filemanagement").dxf_file_info(str(path))
    prelude.version = info.release
    loader = package("ezdxf.lldxf.tagger").ascii_tags_loader
    with path.open("rt", encoding=info.encoding, errors="surrogateescape") as stream:
        _walk(prelude, loader(stream))
    # Mapped, since a drawing can be larger than memory.
    with path.open("rb") as raw, mmap.mmap(raw.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        prelude.on_paper = len(_ON_PAPER.findall(whole, whole.rfind(b"ENTITIES")))
    return prelude


def on_paper(document: Drawing) -> int:
    """Count the entities on the layouts of a document that are for printing, their frames apart."""
    layouts = [layout for layout in document.layouts if not layout.is_modelspace]
    return sum(entity.dxftype() != "VIEWPORT" for layout in layouts for entity in layout)


def _walk(prelude: Prelude, tags: Iterator[tuple[int, str | int | float]]) -> None:
    layer: dict[int, str | int | float] = {}
    variable, in_blocks, counts = "", False, False
    for code, value in tags:
        if code == 0:
            if layer:
                true_colour = _whole(layer[420]) if 420 in layer else None
                _note_layer(
                    prelude, str(layer.get(2, "")), _whole(layer.get(70, 0)), _whole(layer.get(62, 7)), true_colour
                )
            layer = {-1: ""} if value == "LAYER" else {}
            if in_blocks and value not in ("BLOCK", "ENDBLK", "ATTDEF", "SEQEND", "ENDSEC") and counts:
                prelude.has_contents = True
            counts = counts and value != "BLOCK"
        elif layer:
            layer.setdefault(code, value)
        elif code == 9:
            variable = str(value)
        elif code == 70 and variable == "$INSUNITS":
            prelude.units, variable = _whole(value), ""
        elif code == 2 and in_blocks and not counts:
            counts = not _LAYOUT_BLOCK.match(str(value))
        if code == 2 and value == "BLOCKS":
            in_blocks = True
        if code == 2 and value == "ENTITIES":
            break


def _whole(value: str | int | float) -> int:
    try:
        return int(value)
    except (ValueError, OverflowError) as error:
        raise DataError(f"the drawing has {str(value)[:40]!r} where a whole number belongs; it is broken") from error


def _note_layer(prelude: Prelude, name: str, flags: int, colour: int, true_colour: int | None) -> None:
    if true_colour is not None:
        prelude.colours[name] = f"#{true_colour:06x}"
    if flags & _FROZEN:
        prelude.hidden[name] = "frozen"
    elif colour < 0:
        prelude.hidden[name] = "switched off"
