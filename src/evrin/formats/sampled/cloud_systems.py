"""What the records of a LAS or LAZ file state of its reference system and units, plan and heights apart.

References: ASPRS, *LAS Specification 1.4 – R15* (2019), section 3; OGC 19-008r4, *GeoTIFF Standard* (2019), chapter 7.
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, Any

from evrin.base.errors import DataError, MissingPackageError
from evrin.formats.door.format_registry import package
from evrin.formats.door.reference_systems import stated_system
from evrin.surface.frame import UNSTATED, Stated

if TYPE_CHECKING:
    from laspy import LasHeader

_DIRECTORY, _DOUBLES, _ASCII, _WKT = 34735, 34736, 34737, 2112
_LINEAR_UNIT, _VERTICAL_SYSTEM, _VERTICAL_UNIT = 3076, 4096, 4099
_UNIT_CODES = {9001: "m", 9002: "ft", 9003: "ftUS"}
_FIRST_EPSG, _LAST_EPSG = 1024, 32766
_SHORT, _LONG, _TEXT, _BYTE_SIZES = 3, 4, 2, {2: 1, 3: 2, 4: 4, 12: 8}
_DOUBLE = 12


def stated_of(header: LasHeader) -> tuple[Stated, tuple[str, ...]]:
    """Return what the header of a cloud states, and notes about what it states but cannot be used.

    Parameters
    ----------
    header : laspy.LasHeader
        Of the file.

    Raises
    ------
    DataError
        For a unit of length that is unsupported.
    """
    records = {each.record_id: each for each in (*header.vlrs, *(header.evlrs or ())) if _is_of_projection(each)}
    keys = _geo_keys(records.get(_DIRECTORY))
    try:
        system = _by_definition(records) or _by_keys(records, keys)
    except (DataError, MissingPackageError):
        raise
    except Exception as error:  # whatever a broken record raises: the cloud can be read without
        reason = " ".join(str(error).split())[:120]
        return UNSTATED, (f"its reference system is not understood: {reason}",)
    stated = system or UNSTATED
    units = stated.units or _UNIT_CODES.get(keys.get(_LINEAR_UNIT, 0), "")
    heights = _UNIT_CODES.get(keys.get(_VERTICAL_UNIT, 0), "") or stated.height_units or _vertical_by_number(keys)
    unread = (_DIRECTORY in records or _WKT in records) and not stated.crs
    notes = ("its reference system has no number and no definition that is understood",) if unread else ()
    return Stated(units, heights, stated.crs), notes


def _is_of_projection(record: Any) -> bool:
    user = record.user_id
    return str(user.decode("ascii", "replace") if isinstance(user, bytes) else user).strip("\0 ") == "LASF_Projection"


def _by_definition(records: dict[int, object]) -> Stated | None:
    text = str(getattr(records.get(_WKT), "string", "")).strip("\0 \n\r\t")
    return stated_system(package("pyproj").CRS.from_wkt(text)) if text else None


def _geo_keys(directory: object) -> dict[int, int]:
    """Keys whose value is in the directory itself."""
    return {key.id: key.value_offset for key in getattr(directory, "geo_keys", ()) if key.tiff_tag_location == 0}


def _vertical_by_number(keys: dict[int, int]) -> str:
    code = keys.get(_VERTICAL_SYSTEM, 0)
    if not _FIRST_EPSG <= code <= _LAST_EPSG:
        return ""
    pyproj = package("pyproj")
    try:
        return stated_system(pyproj.CRS.from_epsg(code)).height_units
    except pyproj.exceptions.CRSError:
        return ""


def _by_keys(records: dict[int, object], keys: dict[int, int]) -> Stated | None:
    """What the keys state, read as those of an image of one cell, since they are the keys of images."""
    if not keys:
        return None
    rasterio = package("rasterio")
    with (
        rasterio.Env(GTIFF_REPORT_COMPD_CS=True),
        rasterio.MemoryFile(_image_of_one_cell(records)) as memory,
        memory.open() as image,
    ):
        text = image.crs.to_wkt() if image.crs else ""
    return stated_system(package("pyproj").CRS.from_wkt(text)) if text else None


def _image_of_one_cell(records: dict[int, Any]) -> bytes:
    # Baseline tags of TIFF 6.0: size, bits, no compression, black is zero, one strip; then scale, tie point and keys.
    tags: list[tuple[int, int, bytes]] = [
        *((tag, _SHORT, struct.pack("<H", value)) for tag, value in ((256, 1), (257, 1), (258, 8), (259, 1), (262, 1))),
        (273, _LONG, struct.pack("<I", 8)),
        *((tag, _SHORT, struct.pack("<H", 1)) for tag in (277, 278, 279)),
        (33550, _DOUBLE, struct.pack("<3d", 1.0, 1.0, 0.0)),
        (33922, _DOUBLE, struct.pack("<6d", *[0.0] * 6)),
    ]
    for tag, kind in ((_DIRECTORY, _SHORT), (_DOUBLES, _DOUBLE), (_ASCII, _TEXT)):
        content = records[tag].record_data_bytes() if tag in records else b""
        if content:
            tags.append((tag, kind, content))
    directory = 16
    after = directory + 2 + 12 * len(tags) + 4
    rows, extra = b"", b""
    for tag, kind, content in tags:
        count = len(content) // _BYTE_SIZES[kind]
        if len(content) <= 4:
            value = content.ljust(4, b"\0")
        else:
            value = struct.pack("<I", after + len(extra))
            extra += content + b"\0" * (len(content) % 2)
        rows += struct.pack("<HHI", tag, kind, count) + value
    head = b"II*\0" + struct.pack("<I", directory) + b"\0" * 8
    return head + struct.pack("<H", len(tags)) + rows + b"\0" * 4 + extra
