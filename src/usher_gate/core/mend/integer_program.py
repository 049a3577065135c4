"""Whole-number programmes: variables, rows, and one solve by scipy's `milp`."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field

import numpy as np

from ..words.record import record


@record
class Term:
    """A number that depends on variables: `constant` plus coefficients times variables."""

    constant: float = 0.0
    of: Mapping[int, float] = field(default_factory=dict)

    def __add__(self, other: Term) -> Term:
        return total([self, other])

    def times(self, factor: float) -> Term:
        """Return the same, so many times."""
        return Term(self.constant * factor, {name: factor * many for name, many in self.of.items()})


ONE, NOTHING = Term(1.0), Term()


def total(terms: Iterable[Term]) -> Term:
    """Return the sum of some terms."""
    constant, found = 0.0, dict[int, float]()
    for term in terms:
        constant += term.constant
        for name, many in term.of.items():
            found[name] = found.get(name, 0.0) + many
    return Term(constant, found)


def negated(term: Term) -> Term:
    """Return one minus a term."""
    return total([ONE, term.times(-1)])


@record
class ProgramSolution:
    """Describes what solving gave.

    Whether it is the best, the values (None where none was found), its cost, and a cost that none is below.
    """

    best: bool
    values: np.ndarray | None
    cost: float
    bound: float
    impossible: bool = False


class IntegerProgram:
    """Variables from 0 to a bound, and rows that say that a term is at least something."""

    def __init__(self) -> None:
        self.upper: list[float] = []
        self.whole: list[bool] = []
        self._columns: list[int] = []
        self._counts: list[float] = []
        self._rows: list[int] = []
        self._least: list[float] = []
        self._known: set[tuple[tuple[tuple[int, float], ...], float]] = set()

    def variable(self, upper: float = 1.0, whole: bool = True) -> Term:
        """Adds a variable, and gives its column in the program."""
        self.upper.append(upper)
        self.whole.append(whole)
        return Term(0.0, {len(self.upper) - 1: 1.0})

    def at_least(self, term: Term, least: float) -> None:
        """A row: the term is at least so much; one that is known already is not added again."""
        of = {name: many for name, many in term.of.items() if many}
        row = tuple(sorted(of.items())), least - term.constant
        if row in self._known or (not of and term.constant >= least):
            return
        self._known.add(row)
        number = len(self._least)
        for name, many in of.items():
            self._columns.append(name)
            self._counts.append(many)
            self._rows.append(number)
        self._least.append(least - term.constant)

    def __len__(self) -> int:
        return len(self._least)

    def solve(self, cost: Term, seconds: float, more: Iterable[tuple[Term, float]] = ()) -> ProgramSolution:
        """Return the values at which a cost is least; `more` are further rows, for this once."""
        from scipy.optimize import Bounds, LinearConstraint, milp
        from scipy.sparse import csr_array

        # The constraints as triplets (row, column, factor), with those of this call at the end.
        columns, counts, rows, least = list(self._columns), list(self._counts), list(self._rows), list(self._least)
        for term, bound in more:
            for name, many in term.of.items():
                columns.append(name)
                counts.append(many)
                rows.append(len(least))
            least.append(bound - term.constant)
        # Without variables the answer is whether the constants satisfy the constraints.
        size = len(self.upper)
        if not size:
            fine = all(bound <= 1e-9 for bound in least)
            return ProgramSolution(
                best=True,
                values=np.zeros(0) if fine else None,
                cost=cost.constant,
                bound=cost.constant,
                impossible=not fine,
            )
        # A sparse matrix of constraints, and the vector of costs.
        costs = np.zeros(size)
        for name, many in cost.of.items():
            costs[name] = many
        places = np.array(rows, np.int32), np.array(columns, np.int32)  # older versions of SciPy take no others
        matrix = csr_array((np.array(counts, np.float64), places), shape=(len(least), size))
        constraints = [LinearConstraint(matrix, np.array(least), np.inf)] if least else []
        found = milp(
            costs,
            integrality=np.array(self.whole, np.int8),
            bounds=Bounds(0, np.array(self.upper)),
            constraints=constraints,
            options={"time_limit": max(seconds, 0.05), "mip_rel_gap": 0.0},
        )
        bound = float(found.mip_dual_bound) if found.mip_dual_bound is not None else 0.0
        if found.x is None:
            return ProgramSolution(
                best=False, values=None, cost=np.inf, bound=bound + cost.constant, impossible=found.status == 2
            )
        # The solver returns whole numbers only nearly; round them and count the cost again.
        values = np.where(np.array(self.whole), np.round(found.x), found.x)
        return ProgramSolution(found.status == 0, values, float(costs @ values) + cost.constant, bound + cost.constant)


def value_of(term: Term, values: np.ndarray) -> float:
    """Return what a term comes to; variables that are newer than the values are 0."""
    return term.constant + sum(many * float(values[name]) for name, many in term.of.items() if name < len(values))
