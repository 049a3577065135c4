"""The chain: each check is linked to the one before, so that an altered, missing or added row is noticed.

Spec: history 1.3.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping

from .intervals import IntervalKey, Lots

Line = tuple[IntervalKey, str]  # what a verdict is about, and the verdict
FIELDS = ("snapshot", "baseline", "exceptions", "result", "findings", "before")


def escaped(text: str) -> str:
    """Return a text without TAB, LF and backslash."""
    return text.replace("\\", "\\\\").replace("\t", "\\t").replace("\n", "\\n")


def _plain(text: str) -> bool:
    """Return whether nothing in a text is to be escaped."""
    return not any(mark in text for mark in "\\\t\n")


def findings_digest(found: Lots) -> str:
    """Return SHA-256 over the kept findings in order, one line each."""
    kinds: dict[tuple[str, str, str], dict[str, str]] = {}
    for finding_group, names in found.items():
        kinds.setdefault(finding_group[:3], {}).update(dict.fromkeys(names, finding_group.verdict))
    whole = hashlib.sha256()
    for kind in sorted(kinds):
        head, verdicts = "\t".join(map(escaped, kind)) + "\t", kinds[kind]
        names = sorted(verdicts)
        shown = names if _plain("".join(names)) else map(escaped, names)
        ends = {verdict: f"\t{escaped(verdict)}\n" for verdict in set(verdicts.values())}
        lines = [head + name + ends[verdicts[key]] for key, name in zip(names, shown, strict=True)]
        whole.update("".join(lines).encode())
    return whole.hexdigest()


def finding_line(found: Line) -> bytes:
    """Return a kept finding as a line of the digest."""
    key, verdict = found
    return ("\t".join(map(escaped, (*key, verdict))) + "\n").encode()


def lines_digest(lines: Iterable[bytes]) -> str:
    """Return SHA-256 over some lines."""
    return hashlib.sha256(b"".join(lines)).hexdigest()


def kept_digest(check: Mapping[str, str], counts: Mapping[tuple[str, str], int], left: Iterable[IntervalKey]) -> str:
    """Return SHA-256 over everything else that is kept of a check, one line each.

    Of its row what no other digest speaks of, by name; what is counted, by kind and name; and the subjects whose
    verdict ended because they had left.
    """
    lines = [f"check\t{escaped(name)}\t{escaped(cell)}\n" for name, cell in sorted(check.items())]
    lines += [f"{escaped(kind)}\t{escaped(name)}\t{number}\n" for (kind, name), number in sorted(counts.items())]
    lines += ["\t".join(("left", *map(escaped, key))) + "\n" for key in sorted(left)]
    return lines_digest(line.encode() for line in lines)


def link(fields: Mapping[str, str]) -> str:
    """Return SHA-256 over the fields of a check.

    Those of FIELDS, then time, baseline-name and kept, and kept_at where it was recorded.
    """
    names = (*FIELDS, "time", "baseline-name", "kept", *(("kept_at",) if fields.get("kept_at") else ()))
    lines = "".join(f"{name}={fields[name]}\n" for name in names)
    return hashlib.sha256(lines.encode()).hexdigest()
