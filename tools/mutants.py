"""Plants faults in copies of the tree, one at a time, and names those that no test notices.

Without options these are the faults of tests/mutants.py, which were made by hand. With --sample they are generated
(mutation.py), and each is run against the tests that reach its line (reached.py).
"""

from __future__ import annotations

import argparse
import difflib
import json
import os
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate
from pathlib import Path
from typing import TypeVar

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "tools")]

from mutation import ROOMS, Fault, room_of, sample  # noqa: E402 - it is found by the line above
from planting import Tree, trees  # noqa: E402
from reached import FOLDER, Reached, record  # noqa: E402
from tests.mutants import MUTANTS, Mutant  # noqa: E402

TOP = ROOT / "src" / "usher_gate"
UNCHANGED = ROOT / "tests" / "unchanged.txt"  # faults that change no answer, each with its reason
NOTICED, SURVIVES, CHANGES_NOTHING = "noticed", "SURVIVES", "changes nothing"
_BUDGET = 15.0  # seconds of tests for one fault, as they took when they were recorded
_THOROUGH = 4  # times as long for one that survives these
_LONGEST = 8.0  # seconds that one test counts
_T = TypeVar("_T")


def in_trees(work: Callable[[Tree, _T], str], every: Sequence[_T]) -> Iterator[tuple[_T, str]]:
    """Yield each with what `work` says of it in a copy of the tree, as many at once as there are processors."""
    count = os.cpu_count() or 1
    with trees(count) as free, ThreadPoolExecutor(count) as pool:

        def one(each: _T) -> str:
            tree = free.get()
            try:
                return work(tree, each)
            finally:
                free.put(tree)

        yield from zip(every, pool.map(one, every), strict=True)


def by_hand(word: str) -> int:
    """Plant the faults that were made by hand, or those whose name or file holds a word."""

    def work(tree: Tree, mutant: Mutant) -> str:
        text = (TOP / mutant.file).read_text("utf-8")
        if text.count(mutant.old) != 1:
            count = text.count(mutant.old)
            raise SystemExit(f"{mutant.file}: {mutant.old!r} occurs {count} times; correct tests/mutants.py")
        return (
            NOTICED
            if tree.notices(mutant.file, text.replace(mutant.old, mutant.new), [mutant.tests], 900)
            else SURVIVES
        )

    chosen = [mutant for mutant in MUTANTS if word in mutant.what or word in mutant.file]
    survivors = 0
    for number, (mutant, verdict) in enumerate(in_trees(work, chosen), 1):
        print(f"{number}/{len(chosen)} {verdict:<8} {mutant.what} ({mutant.file})", flush=True)
        survivors += verdict == SURVIVES
    print(f"{survivors} of {len(chosen)} survive")
    return 1 if survivors else 0


def sampled(chosen: Sequence[Fault], budget: float, is_left: bool) -> int:
    """Plant generated faults, or only those not noticed before; print survivors as diffs, and counts by room."""
    if not (FOLDER / "reached.json").exists():
        print("recording which tests reach which lines: once, about 25 minutes on two cores", flush=True)
        with trees(1) as free:
            record(free.get())
    reached, reasons = Reached(), _reasons()
    if new := reached.new():
        print(f"recording {len(new):,} new tests", flush=True)
        with trees(1) as free:
            record(free.get(), new)
        reached = Reached()

    def work(tree: Tree, fault: Fault) -> str:
        if fault.name in reasons:
            return CHANGES_NOTHING
        if is_left and fault.name in noticed_by:
            return NOTICED
        text = (tree.top / fault.file).read_text("utf-8")  # as it was when the fault was generated
        tests = reached.tests(fault.file, None if fault.runs_once else fault.line, text)
        for seconds in (budget, _THOROUGH * budget):
            some = [test for test, end in zip(tests, _ends(tests, reached), strict=True) if end <= seconds]
            if some and (test := tree.notices(fault.file, fault.planted(text), some, 4 * seconds + 60)):
                noticed_by[fault.name] = test
                return NOTICED
            mine = _folder_of_tests(fault.file)  # after the quickest of all, those of its own folder
            tests = sorted(tests[len(some) :], key=lambda test: not test.startswith(mine))
        return SURVIVES

    noticed_by = _noticed_by()
    texts = {fault.file: (TOP / fault.file).read_text("utf-8") for fault in chosen}
    counts = Counter[tuple[str, str]]()
    for number, (fault, verdict) in enumerate(in_trees(work, chosen), 1):
        counts[room_of(fault.file), verdict] += 1
        print(f"{number}/{len(chosen)} {verdict:<8} {fault.kind}: {fault.name}", flush=True)
        if verdict == SURVIVES:
            print(_diff(fault, texts[fault.file]), flush=True)
    (FOLDER / "noticed.json").write_text(json.dumps(noticed_by, indent=0))
    for room in ROOMS:
        total = sum(counts[room, verdict] for verdict in (NOTICED, SURVIVES, CHANGES_NOTHING))
        if total:
            print(
                f"{room:<9} {counts[room, NOTICED]:>4} of {total:>4} noticed, "
                f"{counts[room, CHANGES_NOTHING]} change nothing"
            )
    survivors = sum(number for (_, verdict), number in counts.items() if verdict == SURVIVES)
    noticed = sum(number for (_, verdict), number in counts.items() if verdict == NOTICED)
    print(
        f"{survivors} of {len(chosen)} survive; "
        f"{noticed / max(1, noticed + survivors):.1%} of those that change something are noticed"
    )
    return 1 if survivors else 0


def _folder_of_tests(file: str) -> str:
    """Return the folder of the tests that are about a file."""
    room = file.partition("/")[0]
    return f"tests/{'cli' if room == 'outputs' else room}/"


def _noticed_by() -> dict[str, str]:
    """Return for each fault that was noticed so far which test failed first."""
    path = FOLDER / "noticed.json"
    found: dict[str, str] = json.loads(path.read_text()) if path.exists() else {}
    return found


def spare() -> int:
    """Print the tests, the longest first, without which every fault is still noticed and every line reached."""
    reached, needed = Reached(), set(_noticed_by().values())
    lines = reached.lines()
    others = Counter(line for of_test in lines.values() for line in of_test)
    for test, found in sorted(lines.items(), key=lambda one: -reached.durations[one[0]]):
        if test.partition("[")[0] not in needed and all(others[line] > 1 for line in found):
            others.subtract(found)
            print(f"{reached.durations[test]:6.2f} s  {test}")
    return 0


def _ends(tests: Sequence[str], reached: Reached) -> Iterator[float]:
    """Return when each of the tests has ended, in seconds, as they took when they were recorded.

    Long ones compare random organisations, and what they notice they notice early.
    """
    return accumulate(min(reached.durations[test], _LONGEST) for test in tests)


def _reasons() -> dict[str, str]:
    """Return why each fault of a list changes no answer."""
    lines = UNCHANGED.read_text("utf-8").splitlines() if UNCHANGED.exists() else []
    pairs = (line.rpartition(" | ") for line in lines if line and not line.startswith("#"))
    return {name: reason for name, _, reason in pairs}


def _diff(fault: Fault, before: str) -> str:
    lines = difflib.unified_diff(
        before.splitlines(), fault.planted(before).splitlines(), fault.file, fault.file, lineterm="", n=2
    )
    return "\n".join(f"    {line}" for line in lines)


def main() -> int:
    """Plants those by hand, or a sample."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("word", nargs="?", default="", help="only the faults by hand whose name or file holds this")
    parser.add_argument("--sample", type=int, metavar="N", help="plant N generated faults, equally many of each room")
    parser.add_argument("--seed", type=int, default=1, metavar="S", help="which ones (default: 1)")
    parser.add_argument("--changed-since", metavar="COMMIT", help="only in files that have changed since")
    parser.add_argument("--room", choices=tuple(ROOMS), metavar="ROOM", help=f"only in {', '.join(ROOMS)}")
    parser.add_argument("--seconds", type=float, default=_BUDGET, help=f"of tests for one fault (default: {_BUDGET:g})")
    parser.add_argument(
        "--left", action="store_true", help="only those that were not noticed when they were tried before"
    )
    parser.add_argument("--spare", action="store_true", help="name tests that no fault tried so far and no line needs")
    arguments = parser.parse_args()
    if arguments.spare:
        return spare()
    if arguments.sample is None:
        return by_hand(arguments.word)
    files = sorted(TOP.rglob("*.py"))
    if arguments.changed_since:
        run = ["git", "diff", "--name-only", arguments.changed_since, "--", "src"]
        changed = subprocess.run(run, cwd=ROOT, check=True, capture_output=True, text=True).stdout.split()
        files = [path for path in files if str(path.relative_to(ROOT)) in changed]
    if arguments.room:
        files = [path for path in files if room_of(str(path.relative_to(TOP))) == arguments.room]
    return sampled(sample(files, TOP, arguments.sample, arguments.seed), arguments.seconds, arguments.left)


if __name__ == "__main__":
    sys.exit(main())
