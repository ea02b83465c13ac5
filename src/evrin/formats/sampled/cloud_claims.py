"""What the header of a LAS or LAZ file claims, held against what the file has.

The package that reads clouds trusts a header, and would allocate memory for whatever it states.

Reference: ASPRS, *LAS Specification 1.4 – R15* (2019), tables 3 and 7.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

from evrin.base.errors import DataError
from evrin.base.files import head_of
from evrin.formats.door.format_registry import package

# Even points that are all alike take some bits of a compressed file.
_MOST_POINTS_A_BYTE = 1000
_VARIES, _MANY = 0xFFFFFFFF, 1 << 62
_LARGEST_CHUNK = 5_000_000
_LONGEST_RECORD = 1000
# Layers in which each item of a point is compressed, by the number of its kind; of extra bytes there is one a byte.
_LAYERS = {10: 9, 11: 1, 12: 2, 13: 1}
_EXTRA_BYTES = 14


def check_claims(path: Path) -> None:
    """Refuse a header that claims more than the file can hold, before anything is made of its claims.

    Raises
    ------
    DataError
        With the claim and what the file has.
    """
    head, size = head_of(path, 375)
    if len(head) < 227:
        raise DataError(f"{path}: the file ends within its header")
    size_of_header, first_point, records = struct.unpack_from("<HII", head, 94)
    form, length, points = struct.unpack_from("<BHI", head, 104)
    claims = {"its header": size_of_header, "its records": size_of_header + 54 * records, "its points": first_point}
    if len(head) == 375 and head[24:26] == b"\x01\x04":
        extended, more, points = struct.unpack_from("<QIQ", head, 235)
        claims["its extended records"] = extended + 60 * more if more else 0
    if not form & 0x80:
        claims["its points"] = first_point + points * length
    for what, end in claims.items():
        if end > size:
            raise DataError(f"{path}: {what} would end at byte {end:,}, but the file has {size:,}")
    if points > _MOST_POINTS_A_BYTE * max(size - first_point, 0):
        raise DataError(f"{path}: its header claims {points:,} points, far more than a file of {size:,} bytes can hold")
    if not 0 < length <= _LONGEST_RECORD:
        raise DataError(f"{path}: its header claims {length:,} bytes a point; at most {_LONGEST_RECORD:,} are read")
    if form & 0x80:
        _check_chunks(path, size, size_of_header, records, first_point, points)
        _check_layers(path, size_of_header, records, first_point, length)


def _check_chunks(path: Path, size: int, after_header: int, records: int, first_point: int, points: int) -> None:
    """Check how many chunks of points a compressed file claims, and how large it states they are."""
    with path.open("rb") as stream:
        content = _compression_record(stream, after_header, records)
        chunk = struct.unpack_from("<I", content, 12)[0] if content else 0
        stream.seek(first_point)
        (table,) = struct.unpack("<q", stream.read(8).ljust(8, b"\0"))
        if table == -1:
            stream.seek(size - 8)
            (table,) = struct.unpack("<q", stream.read(8))
        stream.seek(min(max(table, 0), size))
        version_and_count = stream.read(8)
    count = struct.unpack_from("<I", version_and_count, 4)[0] if len(version_and_count) == 8 else _MANY
    if count > points + 1 or count > size:
        raise DataError(f"{path}: its table of chunks is not where its header states, or claims far too many")
    if chunk != _VARIES and not 0 < chunk <= _LARGEST_CHUNK:
        raise DataError(f"{path}: it claims chunks of {chunk:,} points; at most {_LARGEST_CHUNK:,} are read at once")


def _compression_record(stream: BinaryIO, after_header: int, records: int) -> bytes:
    """Return the record that states how points are compressed, empty where there is none."""
    stream.seek(after_header)
    for _ in range(records):
        record = stream.read(54)
        length = struct.unpack_from("<H", record, 20)[0] if len(record) == 54 else 0
        content = stream.read(length)
        if record[2:18].startswith(b"laszip encoded") and length >= 34:
            return content
    return b""


def _check_layers(path: Path, after_header: int, records: int, first_point: int, length: int) -> None:
    """Check that the layers of each chunk are at most as large as the chunk: the decoder trusts their sizes."""
    lazrs = package("lazrs")
    with path.open("rb") as stream:
        content = _compression_record(stream, after_header, records)
        items = _items_in(content)
        if content and sum(size for _, size in items) != length:
            raise DataError(f"{path}: its points have {length:,} bytes, but its compression states another size")
        layers = sum(size if kind == _EXTRA_BYTES else _LAYERS.get(kind, 0) for kind, size in items)
        if not layers:
            return
        stream.seek(first_point)
        try:
            chunks = lazrs.read_chunk_table(stream, lazrs.LazVlr(content))
        except Exception as error:  # whatever the decoder raises about a broken table
            raise DataError(f"{path}: its table of chunks cannot be read: {error}") from error
        start = first_point + 8
        for _, held in chunks or ():
            stream.seek(start + length + 4)
            sizes = stream.read(4 * layers)
            if len(sizes) < 4 * layers or sum(struct.unpack(f"<{layers}I", sizes)) > held:
                raise DataError(f"{path}: a chunk of points claims to be larger than the {held:,} bytes it has")
            start += held


def _items_in(content: bytes) -> list[tuple[int, int]]:
    """Return kind and size of each item that a point is compressed as."""
    count = struct.unpack_from("<H", content, 32)[0] if len(content) >= 34 else 0
    return [struct.unpack_from("<HH", content, 34 + 6 * k) for k in range(min(count, (len(content) - 34) // 6))]
