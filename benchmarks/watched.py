"""Run many cases in a process of their own, and go on after one that stops responding or crashes."""

from __future__ import annotations

import multiprocessing
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection

LIMIT_S = 20.0
SLOW_S = 8.0
FIRST_LIMIT_S = 400.0
WARM_UP = 5

Judge = Callable[[str, int], list[str]]


Case = tuple[str, int]


def _judge_all(judge: Judge, cases: list[Case], pipe: Connection) -> None:
    for number, (kind, seed) in enumerate(cases):
        started = time.perf_counter()
        try:
            wrong = judge(kind, seed)
        except Exception as error:
            wrong = [f"{type(error).__name__}: {error}"]
        spent = time.perf_counter() - started
        # The first cases of a process may wait for kernels.
        if spent > SLOW_S and number > WARM_UP:
            wrong.append(f"slow: {spent:.1f} s")
        pipe.send((spent, wrong))


def _judged(judge: Judge, cases: list[Case]) -> Iterator[tuple[str, int, float, list[str]]]:
    """Yield each case with its time and what is wrong, in a new process after one that stops responding or crashes."""
    done = 0
    while done < len(cases):
        ours, theirs = multiprocessing.Pipe()
        process = multiprocessing.Process(target=_judge_all, args=(judge, cases[done:], theirs), daemon=True)
        process.start()
        theirs.close()
        first = done
        try:
            while done < len(cases):
                if not ours.poll(LIMIT_S if done > first + WARM_UP else FIRST_LIMIT_S):
                    yield *cases[done], LIMIT_S, [f"no end: within {LIMIT_S:.0f} s"]
                    break
                yield *cases[done], *ours.recv()
                done += 1
        except EOFError:
            yield *cases[done], 0.0, ["crash: the process ended"]
        process.kill()
        process.join()
        done += 1


def table(judge: Judge, kinds: list[str], count: int, show: int = 4) -> int:
    """Print a row for each kind, with what failed, and return how many cases did."""
    spent = dict.fromkeys(kinds, 0.0)
    found: dict[str, dict[int, list[str]]] = {kind: {} for kind in kinds}
    for kind, seed, seconds, wrong in _judged(judge, [(kind, seed) for kind in kinds for seed in range(count)]):
        spent[kind] += seconds
        if wrong:
            found[kind][seed] = wrong
    print(f"{'kind':12} {'cases':>7} {'wrong':>6} {'s':>7}")
    for kind in kinds:
        print(f"{kind:12} {count:7,} {len(found[kind]):6,} {spent[kind]:7.1f}")
        for what, number in Counter(w.split(":")[0] for ws in found[kind].values() for w in ws).most_common(6):
            print(f"    {number:5} {what}")
        for seed, wrong in list(found[kind].items())[:show]:
            print(f"    seed {seed}: {'; '.join(wrong)[:400]}")
    return sum(map(len, found.values()))


def main(judge: Judge, kinds: tuple[str, ...], about: str | None) -> None:
    """Read the command line, print the table, and exit with 1 where something failed."""
    import argparse

    multiprocessing.set_start_method("spawn")
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument("--count", type=int, default=2000, help="cases of each kind")
    parser.add_argument("--kinds", nargs="*", default=list(kinds), help=f"only these kinds, of {', '.join(kinds)}")
    parser.add_argument("--show", type=int, default=4, help="how many faults to print of each kind")
    asked = parser.parse_args()
    sys.exit(1 if table(judge, asked.kinds, asked.count, asked.show) else 0)
