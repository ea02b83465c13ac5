"""`evrin demo`: the made-up site, laid out, built raw and clean, and compared with its true ground."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import Annotated

import typer

from evrin.base.wording import counted
from evrin.cli.options.shared_options import AsJson
from evrin.cli.options.what_is_written import WRITES
from evrin.cli.terminal import DONE, output, print_answer, print_rows, progress, progress_by_parts, say_written


def demo(
    folder: Annotated[Path, WRITES, typer.Argument(metavar="DIR", help="Where to lay out the site.")] = Path(
        "ostrel-weir"
    ),
    as_json: AsJson = False,
) -> int:
    """Lay out the demo site Ostrel Weir and run the whole example on it."""
    from evrin.demo.example import TALLIED, run

    with progress() as step:
        story = run(folder, step)
    if as_json:
        answer = story.record()
        print_answer(answer.pop("stages"), story.builds["clean"].surface, **answer)
        return DONE
    console = output()
    console.print("Ostrel Weir: a made-up site whose true ground is known everywhere.\n")
    rows = [[name, *cells] for name, *cells in story.rows()]
    print_rows(["", "raw", "clean"], rows, numeric=[False, True, True])
    console.print()
    heads = ["clean, a group at a time", *(name.replace("_", " ") for name in TALLIED), "open", "RMSE, m", "largest, m"]
    print_rows(
        heads, story.stage_rows(), "Tally, open findings and errors against the true ground", [False, *[True] * 10]
    )
    console.print()
    heads = ["m³", "measured", "± 95 %", "true", "difference"]
    print_rows(heads, story.volume_rows(), "Volumes beside the truth", [False] + [True] * 4)
    console.print()
    print_rows(["", "found", "true", "difference"], story.work_rows(), "Works beside the truth", [False] + [True] * 3)
    console.print("\nWhy:")
    for line in story.steps:
        console.print(f"  • {line}")
    for path in story.written:
        say_written(path)
    console.print("\nLook at before-after.png first, then open report.html and look.html.")
    console.print("Then try, for example:")
    called = Path(sys.argv[0])
    program = str(called) if called.name == "evrin" and not shutil.which("evrin") else "evrin"
    for words in story.suggestions:
        console.print(f"  {program} {words}", soft_wrap=True)
    return DONE


def prepare(as_json: AsJson = False) -> int:
    """Compile all kernels ahead, on all cores, so that no later command has to wait for them."""
    from evrin.kernels.kept import kernels_folder
    from evrin.kernels.preparing import prepare as compile_all

    with progress_by_parts() as step:
        prepared = compile_all(lambda done, count: step("compile kernels", done, count))
    spent = sum(prepared.seconds.values())
    if as_json:
        rows = [{"kernel": name, "seconds": round(seconds, 3)} for name, seconds in prepared.seconds.items()]
        print_answer(rows, compiled=prepared.kernels, kept=prepared.kept, folder=str(kernels_folder()))
        return DONE
    output().print(
        f"{counted(prepared.kernels, 'kernel')} compiled in {spent:.0f} s of processor time, {prepared.kept} were "
        f"there before; they are kept in {kernels_folder()}",
        soft_wrap=True,
    )
    return DONE


COMMANDS = (demo, prepare)
