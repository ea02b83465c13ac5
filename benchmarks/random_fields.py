"""Judge many random fields, each in a process that may not hang or crash, and print one table."""

from __future__ import annotations

import argparse
import multiprocessing
import sys
import time
from collections import Counter
from multiprocessing.connection import Connection
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

LIMIT_S = 20.0


def judge_all(kind: str, first: int, last: int, pipe: Connection) -> None:
    import fields

    fields.judge(fields.make("lattice", 0))
    for seed in range(first, last):
        pipe.send(("start", seed, []))
        started = time.perf_counter()
        try:
            field = fields.make(kind, seed)
            wrong = fields.judge(field)
            if seed % 4 == 0 and fields.differs_in_another_order(field):
                wrong.append("another order of rows or rings gives another surface")
        except Exception as error:
            wrong = [f"{type(error).__name__}: {error}"]
        if time.perf_counter() - started > 3.0:
            wrong.append(f"slow: {time.perf_counter() - started:.1f} s")
        pipe.send(("end", seed, wrong))


def judged(kind: str, count: int) -> dict[int, list[str]]:
    """Run the fields of a kind, starting again after any that hangs or crashes."""
    found: dict[int, list[str]] = {}
    seed = 0
    while seed < count:
        ours, theirs = multiprocessing.Pipe()
        process = multiprocessing.Process(target=judge_all, args=(kind, seed, count, theirs), daemon=True)
        process.start()
        theirs.close()
        at = seed
        limit = 240.0
        try:
            while seed < count:
                if not ours.poll(limit):
                    found[at] = [f"no end within {LIMIT_S:.0f} s"]
                    break
                what, at, wrong = ours.recv()
                limit = LIMIT_S
                if what == "end":
                    seed = at + 1
                    if wrong:
                        found[at] = wrong
        except EOFError:
            found[at] = ["the process crashed"]
        process.kill()
        process.join()
        if seed < count:
            seed = at + 1
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=2000, help="fields of each kind")
    parser.add_argument("--kinds", nargs="*", help="only these kinds")
    parser.add_argument("--show", type=int, default=4, help="how many faults to print of each kind")
    asked = parser.parse_args()
    import fields

    kinds = asked.kinds or list(fields.KINDS)
    print(f"{'kind':12} {'fields':>7} {'wrong':>6} {'s':>7}")
    total = 0
    for kind in kinds:
        started = time.perf_counter()
        found = judged(kind, asked.count)
        total += len(found)
        print(f"{kind:12} {asked.count:7,} {len(found):6,} {time.perf_counter() - started:7.1f}", flush=True)
        for what, number in Counter(w.split(":")[0].split(" ")[0] for ws in found.values() for w in ws).most_common(6):
            print(f"    {number:5} {what}")
        for seed, wrong in list(found.items())[: asked.show]:
            print(f"    seed {seed}: {'; '.join(wrong)[:300]}")
    sys.exit(1 if total else 0)


if __name__ == "__main__":
    multiprocessing.set_start_method("spawn")
    main()
