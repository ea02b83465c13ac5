"""Values of plain data classes as JSON and arrays, and back. Only classes that are listed here are ever restored."""

from __future__ import annotations

from functools import cache, cached_property, partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from evrin.base.named_values import Row
from evrin.kernels.text_column import KeptTexts, TextColumn
from evrin.surface.provenance import NamedShot, Shots

_KINDS: dict[str, type] = {}


def keep_classes(*kinds: type) -> None:
    """List classes among those that are kept and restored; no other ever is."""
    _KINDS.update({kind.__name__: kind for kind in kinds})


class Freezing:
    """Turns values into plain JSON, and their arrays into one array a kind."""

    def __init__(self) -> None:
        self._arrays: dict[str, list[NDArray[Any]]] = {}
        self._sizes: dict[str, int] = {}

    def value(self, value: Any) -> object:
        """Return a value as JSON has it.

        Raises
        ------
        TypeError
            For a class that is not listed.
        """
        if isinstance(value, NamedShot):
            return {"shot": list(value.record().values())}
        if value is None or isinstance(value, (bool, int, float, str)):
            return value.item() if isinstance(value, np.generic) else value
        if isinstance(value, np.generic):
            return value.item()
        if isinstance(value, np.ndarray):
            return self._array(value)
        if isinstance(value, TextColumn):
            return self._column(value)
        if isinstance(value, Shots):
            value = value.with_columns()
        if isinstance(value, Path):
            return {"path": str(value)}
        # What makes tables is not loaded to find out that there is none.
        if type(value).__name__ == "DataFrame":
            columns = [[str(name), str(value[name].dtype), self.value(value[name].to_numpy())] for name in value]
            return {"table": columns}
        if isinstance(value, tuple) and hasattr(value, "_fields"):
            return {"of": _name_of(type(value)), "items": [self.value(item) for item in value]}
        if isinstance(value, (list, tuple, set)):
            kind = type(value).__name__
            return {kind: [self.value(item) for item in value]}
        if isinstance(value, dict):
            return {"dict": [[self.value(key), self.value(inner)] for key, inner in value.items()]}
        cached = {
            name for kind in type(value).__mro__ for name, v in vars(kind).items() if isinstance(v, cached_property)
        }
        # Of what was worked out once, single numbers are kept; arrays are quickly worked out again.
        fields = {
            name: self.value(inner)
            for name, inner in vars(value).items()
            if name not in cached or isinstance(inner, float)
        }
        return {"of": _name_of(type(value)), "fields": fields}

    def _array(self, array: NDArray[Any]) -> object:
        if array.dtype != object:
            return {"array": self._append(array.dtype.str, array.ravel()), "shape": list(array.shape)}
        if array.size and array.strides == (0,):
            return {"repeated": self.value(array[0]), "count": len(array)}
        column = TextColumn.of(array)
        if column is None:
            return {"objects": [self.value(item) for item in array.tolist()]}
        return {"texts": self._append("|u1", column.kept.data), "count": len(column)}

    def _column(self, column: TextColumn) -> object:
        if len(column) < column.kept.count:
            # Of texts that are shared with others, its own.
            alone = TextColumn.of(column.all())
            column = column if alone is None else alone
        rows = None if column.rows is None else self.value(column.rows)
        return {"column": self._append("|u1", column.kept.data), "count": column.kept.count, "rows": rows}

    def _append(self, kind: str, flat: NDArray[Any]) -> list[object]:
        start = self._sizes.get(kind, 0)
        self._arrays.setdefault(kind, []).append(flat)
        self._sizes[kind] = start + len(flat)
        return [kind, start, len(flat)]

    def write(self, folder: Path) -> None:
        """Write the arrays into a folder."""
        for kind, parts in self._arrays.items():
            np.save(folder / f"{_file_of(kind)}.npy", np.concatenate(parts))


class Thawing:
    """Turns what `Freezing` wrote back into values."""

    def __init__(self, entry: Path) -> None:
        self._entry = entry
        self._loaded: dict[str, NDArray[Any]] = {}

    def value(self, stored: object) -> Any:
        """Return the value that JSON describes.

        Raises
        ------
        ValueError, KeyError, IndexError, TypeError, OSError
            Where it describes nothing that is ever kept.
        """
        if not isinstance(stored, dict):
            return stored
        if "shot" in stored:
            return NamedShot(*stored["shot"])
        if "array" in stored:
            return self._slice(stored["array"]).reshape(stored["shape"])
        if "repeated" in stored:
            return np.broadcast_to(np.array(self.value(stored["repeated"]), object), stored["count"])
        if "column" in stored:
            kept = KeptTexts(self._slice(stored["column"]), stored["count"])
            return TextColumn(kept, self.value(stored["rows"]))
        if "texts" in stored:
            return KeptTexts(self._slice(stored["texts"]), stored["count"]).all
        if "objects" in stored:
            out = np.empty(len(stored["objects"]), object)
            out[:] = [self.value(item) for item in stored["objects"]]
            return out
        if "table" in stored:
            import pandas as pd

            return pd.DataFrame(
                {name: pd.Series(self.value(inner), dtype=kind) for name, kind, inner in stored["table"]}
            )
        if "path" in stored:
            return Path(stored["path"])
        if "dict" in stored:
            return {self.value(key): self.value(inner) for key, inner in stored["dict"]}
        for kind in (list, tuple, set):
            if kind.__name__ in stored:
                return kind(self.value(item) for item in stored[kind.__name__])
        return self._object(stored)

    def _object(self, stored: Row) -> object:
        kind = _KINDS[stored["of"]]
        if "items" in stored:
            return kind(*(self.value(item) for item in stored["items"]))
        fields = stored["fields"]
        tables = {key for key, inner in fields.items() if isinstance(inner, dict) and "table" in inner}
        out: object = object.__new__(_with_tables_later(kind) if tables else kind)
        vars(out).update({key: self.value(inner) for key, inner in fields.items() if key not in tables})
        if tables:
            vars(out)["_tables_later"] = {key: partial(self.value, fields[key]) for key in tables}
        return out

    def _slice(self, where: tuple[str, int, int]) -> NDArray[Any]:
        kind, start, count = where
        if kind not in self._loaded:
            # Mapped, not read: what nobody looks at costs nothing, and what is changed is changed in memory alone.
            mapped = np.load(self._entry / f"{_file_of(kind)}.npy", mmap_mode="c", allow_pickle=False)
            self._loaded[kind] = mapped.view(np.ndarray)
        if start + count > len(self._loaded[kind]):
            raise ValueError("the entry is cut short")
        return self._loaded[kind][start : start + count]


@cache
def _with_tables_later(kind: type) -> type:
    """Return a class whose tables are made when they are asked for: what makes tables takes long to load."""

    def made(self: object, name: str) -> object:
        if name not in vars(self).get("_tables_later", {}):
            raise AttributeError(name)
        table = vars(self)[name] = vars(self)["_tables_later"][name]()
        return table

    return type(kind.__name__, (kind,), {"__getattr__": made})


def _name_of(kind: type) -> str:
    if _KINDS.get(kind.__name__) is not kind:
        raise TypeError(f"{kind.__qualname__} is not listed among what can be kept")
    return kind.__name__


def _file_of(kind: str) -> str:
    return kind.replace("<", "little-").replace(">", "big-").replace("|", "")
