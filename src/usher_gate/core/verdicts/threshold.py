"""What makes a check fail: which words, and from which severity on.

Spec: command-line 3.
"""

from __future__ import annotations

from collections.abc import Sequence

from ..words.record import record
from ..words.vocabulary import FAIL_VERDICTS, SEVERITIES
from .codes import VERDICTS
from .rules import Rule

LOCKOUT = "lockout"


@record
class Threshold:
    """Describes what makes the exit status 1.

    Any of FAIL_WORDS, those that are verdicts only of a rule of `severity` or worse.
    """

    words: frozenset[str] = frozenset(("drifts",))
    severity: str = "low"

    @property
    def codes(self) -> tuple[int, ...]:
        """Return the verdict codes among the words."""
        return tuple(VERDICTS.index(word) for word in FAIL_VERDICTS if word in self.words)

    def reaches(self, rule: Rule) -> bool:
        """Return whether a rule is severe enough."""
        return SEVERITIES.index(rule.severity) <= SEVERITIES.index(self.severity)

    def fails(self, rule: Rule, counts: Sequence[int]) -> bool:
        """Return whether the verdicts of a rule, counted by code, make the exit status 1."""
        return self.reaches(rule) and any(counts[code] for code in self.codes)
