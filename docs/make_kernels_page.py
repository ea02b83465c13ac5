"""Write docs/kernels.md: which compiled kernels each command calls on the demo, and what they are for."""

import importlib
import subprocess
import sys
import tempfile
from pathlib import Path

from evrin.demo import lay_out

HEAD = """\
# Which kernels a command needs

A kernel is compiled on a machine [when it pays](large-work.md#at-the-first-key), kept, and loaded by later commands
at their first call of it: about 4 ms each, and 0.3 s once for what all of them share. No command loads one that it
does not call, and a command that calls none does not load the compiler. These are the kernels that commands call on
the demo's recipe, built before and unchanged. The workers of `evrin tiles` call those of reading, the ground filter,
triangulating and what is asked for. This page is made by `docs/make_kernels_page.py`, by running the commands.

"""
COMMANDS = [
    ["edit", "clean.toml", "list"],
    ["check", "clean.toml"],
    ["figures", "clean.toml"],
    ["build", "clean.toml"],
    ["height", "clean.toml", "--at", "4120,2877"],
    ["contours", "clean.toml", "-o", "c.geojson"],
    ["map", "clean.toml", "-o", "m.png"],
    ["profile", "clean.toml", "--along", "4060,2840 4160,2900", "-o", "p.png"],
    ["water", "clean.toml", "--at", "4120,2877"],
    ["volume", "clean.toml", "--to-level", "43"],
    ["build", "clean.toml", "--fresh"],
]
PROBE = """
import sys
from evrin.kernels.decorators import CallableKernel
from evrin.cli.start import main
called, call = {}, CallableKernel.__call__
def noted(self, *arguments):
    called.setdefault(f"{self.__module__} {self.__name__}")
    return call(self, *arguments)
CallableKernel.__call__ = noted
try:
    main()
except SystemExit:
    pass
Path = __import__("pathlib").Path
Path("called.txt").write_text("\\n".join(called))
"""


def called_by(words: list[str], folder: Path) -> list[tuple[str, str]]:
    """Return module and name of each kernel that a command calls, in the order of their first calls."""
    done = subprocess.run(
        [sys.executable, "-c", PROBE, *words], cwd=folder, capture_output=True, text=True, check=False
    )
    if not (folder / "called.txt").exists():
        raise SystemExit(done.stderr)
    rows = (folder / "called.txt").read_text(encoding="utf-8").splitlines()
    (folder / "called.txt").unlink()
    return [(module, name) for module, _, name in (row.partition(" ") for row in rows)]


def meaning(module: str, name: str) -> str:
    """Return what a kernel is for: the first line of what is written in it."""
    text = getattr(importlib.import_module(module), name).__doc__ or ""
    first = text.strip().split("\n")[0].split(". ")[0].rstrip(".")
    return f": {first[0].lower()}{first[1:]}" if first else ""


def main() -> None:
    """Run the commands and write the page."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "site"
        lay_out(folder)
        called_by(["build", "clean.toml"], folder)
        parts, known = [HEAD], set[tuple[str, str]]()
        for words in COMMANDS:
            kernels = called_by(words, folder)
            shown = " ".join(f'"{word}"' if " " in word else word for word in words)
            parts.append(f"## `evrin {shown}`\n\n")
            before = [f"`{name}`" for module, name in kernels if (module, name) in known]
            new = [f"- `{m.removeprefix('evrin.')}.{n}`{meaning(m, n)}\n" for m, n in kernels if (m, n) not in known]
            known |= set(kernels)
            parts.append("None: the compiler is not loaded.\n" if not kernels else "")
            parts += [*new, "\nAs above: " + ", ".join(before) + ".\n" if before else "", "\n"]
    page = "".join(parts).replace("\n\n\n", "\n\n").rstrip() + "\n"
    (Path(__file__).parent / "kernels.md").write_text(page, encoding="utf-8")


if __name__ == "__main__":
    main()
