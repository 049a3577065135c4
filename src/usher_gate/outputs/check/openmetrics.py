"""A check as OpenMetrics text, for a collector that reads files.

People, drift by severity, rules, what is unknown, open doors, when taken.

Source: the OpenMetrics specification 1.0 (gauges, `# EOF`).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TextIO

import numpy as np

from ...core.door.doors import Doors
from ...core.door.hosts import hosts_of
from ...core.door.visitors import kinds_of
from ...core.settings.resolver import Resolver
from ...core.verdicts.codes import DRIFTS, SHOWN_ORDER, VERDICTS
from ...core.verdicts.result import CheckResult
from ...core.words.vocabulary import SEVERITIES
from ..render_options import RenderOptions

_Sample = tuple[Mapping[str, str], int | float]


def _label(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def _gauge(name: str, said: str, samples: Iterable[_Sample]) -> Iterator[str]:
    yield f"# TYPE usher_gate_{name} gauge\n# HELP usher_gate_{name} {said}\n"
    for labels, value in samples:
        shown = ",".join(f'{key}="{_label(text)}"' for key, text in labels.items())
        yield f"usher_gate_{name}{{{shown}}} {value}\n"


def _lines(result: CheckResult) -> Iterator[str]:
    """Yield the lines of the OpenMetrics exposition, in the order of their families."""
    snapshot = result.snapshot
    whose = {"organisation": snapshot.name}
    yield from _gauge(
        "people", "Active people that the check speaks of.", [(whose, int(np.count_nonzero(result.chosen)))]
    )
    worst = result.worst_of[result.chosen]
    yield from _gauge(
        "people_drifting",
        "People who drift, by the worst severity of what they drift from.",
        [({**whose, "severity": name}, int(np.count_nonzero(worst == place))) for place, name in enumerate(SEVERITIES)],
    )
    yield from _gauge(
        "verdicts",
        "Verdicts about people.",
        [({**whose, "verdict": name}, int(result.counts[VERDICTS.index(name)])) for name in SHOWN_ORDER],
    )
    yield from _gauge(
        "rule_drifts",
        "Verdicts that drift from a rule, of all subjects.",
        [
            ({**whose, "rule": rule.id, "severity": rule.severity}, int(result.rule_counts[rule.id][DRIFTS]))
            for rule in result.rules
        ],
    )
    yield from _whole_lines(result)
    yield "# EOF\n"


def _whole_lines(result: CheckResult) -> Iterator[str]:
    """Yield the lines about the organisation and its snapshot as a whole."""
    snapshot = result.snapshot
    whose = {"organisation": snapshot.name}
    yield from _gauge(
        "rules_judging_nobody",
        "Rules that judge no one, so that they cannot hold.",
        [(whose, len(result.judging_nobody))],
    )
    yield from _gauge("roots", "Things to change, each of which makes something drift.", [(whose, len(result.roots))])
    yield from _gauge(
        "lockouts",
        "Lock-outs from resources for administrators, by who is locked out.",
        [
            ({**whose, "of": kind}, sum(lockout.of == kind for lockout in result.lockouts))
            for kind in ("break-glass", "privileged")
        ],
    )
    yield from _gauge(
        "lockouts_of_all",
        "Resources for administrators from which everyone of a kind is locked out.",
        [(whose, sum(lockout.all for lockout in result.lockouts))],
    )
    yield from _gauge(
        "doors_open", "Doors that a stranger with a link or a number gets through.", [(whose, _open(result))]
    )
    yield from _gauge(
        "ignored_settings", "Settings whose group, person or unit does not exist.", [(whose, result.ignored_settings)]
    )
    yield from _gauge(
        "snapshot_doubtful",
        "1 if the snapshot is partial, or older than it should be, else 0.",
        [(whose, int(snapshot.is_doubtful))],
    )
    yield from _gauge(
        "snapshot_taken_timestamp_seconds",
        "When the snapshot was taken; its age is the time of the collector minus this.",
        [(whose, snapshot.taken_at / 1_000_000)],
    )


def _open(result: CheckResult) -> int:
    resolver = Resolver(result.snapshot)
    services = [service for service in result.snapshot.services or () if kinds_of(service)]
    return sum(door.open for service in services for door in Doors(hosts_of(resolver, service)).doors())


def write_openmetrics(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
    """Writes all gauges."""
    stream.writelines(_lines(result))
