"""Killed at any call of the system: nothing is half there, and the next call clears up.

(Kills of recorders: also tests/cli/test_history.py, on SQLite and on a real PostgreSQL.)
"""

from __future__ import annotations

import shutil
from pathlib import Path
from random import Random

from tests.compared import many
from tests.faults import VERBS, FaultyDisk
from tests.faults.test_full_disk import tree
from tests.program import call
from usher_gate.files.write import DRAFT


def kept(names: dict[str, bytes]) -> set[str]:
    """Names, without those of gathered snapshots.

    One that was whole when its gather was killed stays beside the next.
    """
    return {name for name in names if not name.startswith("snapshots/")}


NEXT_LINK = ".snapshot.new"  # leads to a new snapshot, or is what it took the place of
KILLS = many(28)  # two of each verb


def test_after_a_kill_the_next_call_clears_up(disk: FaultyDisk, made: Path, tmp_path: Path) -> None:
    draw, folder, killed, left = Random(7), tmp_path / "folder", 0, 0
    for number in range(KILLS):
        arguments = [*VERBS.values()][number % len(VERBS)]
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(made, folder)
        before = tree(folder)
        _, calls = disk.call(arguments, folder)
        whole = tree(folder)
        shutil.rmtree(folder)
        shutil.copytree(made, folder)
        place = draw.randint(1, max(len(calls), 1))
        done, _ = disk.call(arguments, folder, {"FAULT_OP": "any", "FAULT_ERRNO": "killed", "FAULT_FROM": str(place)})
        what = f"{arguments}: killed at {place} of {len(calls)}"
        killed += done.status == -9
        after = {
            name: data
            for name, data in tree(folder).items()
            if DRAFT not in name and name.partition("/")[0] != NEXT_LINK
        }
        left += len(tree(folder)) - len(after)
        after = {name: data for name, data in after.items() if not name.startswith("snapshots/")}
        for name, data in after.items():  # each file is the old one or the new one, whole
            assert data == before.get(name) or name in whole, what
            assert (
                data in (before.get(name), whole.get(name))
                or name.startswith("after/")
                or name.endswith((".html", ".eml"))
            ), (what, name)
        done, _ = disk.call(arguments, folder)
        again = tree(folder)
        assert not [name for name in again if DRAFT in name or name.startswith(NEXT_LINK)], what
        assert kept(again) == kept(whole) or "is there already" in done.err, what  # killed after all was done
        assert call("history", "--verify", cwd=folder).status == 0, what
    assert killed >= 0.9 * KILLS
    assert left > KILLS // 9, "no kill left a draft for the next call to clear up"
