"""Records are what frozen dataclasses with slots are."""

from __future__ import annotations

import pickle
from dataclasses import FrozenInstanceError, dataclass, field, fields, is_dataclass, replace
from typing import Any

import pytest

from usher_gate.core.words.record import record


@record
class Port:
    """A place."""

    name: str
    quays: tuple[str, ...] = ()
    tides: list[int] = field(default_factory=list)

    @property
    def first(self) -> str:
        """A quay."""
        return self.quays[0]


@record
class Ferry(Port):
    """One that is a port of its own."""

    cars: int = 3


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class Plain:
    name: str
    quays: tuple[str, ...] = ()
    tides: list[int] = field(default_factory=list)


@pytest.mark.parametrize("kind", [Port, Plain])
def test_a_record_is_a_frozen_dataclass(kind: Any) -> None:
    first, second = kind("Northmere", tides=[1]), kind(name="Northmere", quays=("a",))
    assert (first.name, first.quays, first.tides, second.quays, second.tides) == ("Northmere", (), [1], ("a",), [])
    assert second.tides is not kind("x").tides and first != kind("Northmere") and hash(first) != hash(second)
    for wrong in ((), ("a", (), [], 4)):
        with pytest.raises(TypeError, match="__init__"):
            kind(*wrong)
    with pytest.raises(TypeError, match="colour"):
        kind("a", colour=1)
    for change in (lambda: setattr(first, "name", "x"), lambda: delattr(first, "name"), lambda: setattr(first, "z", 1)):
        with pytest.raises(
            (FrozenInstanceError, TypeError)
        ):  # TypeError: how Python 3.11 refuses names that are no fields
            change()
    assert not hasattr(first, "__dict__")
    other = replace(first, quays=("b",))
    assert (type(other), other.name, other.quays, other.tides) == (kind, "Northmere", ("b",), [1])
    again = pickle.loads(pickle.dumps(other))
    assert (again.name, again.quays, again.tides) == ("Northmere", ("b",), [1])
    assert is_dataclass(first) and [each.name for each in fields(kind)] == ["name", "quays", "tides"]
    match first:
        case kind(name, quays):
            assert (name, quays) == ("Northmere", ())


def test_a_record_of_a_record_has_the_values_of_both() -> None:
    ferry = Ferry("Asta", ("one",))
    assert (ferry.first, ferry.cars, replace(ferry, cars=9).cars, pickle.loads(pickle.dumps(ferry)).quays) == (
        "one", 3, 9, ("one",),
    )  # fmt: skip
    assert [each.name for each in fields(Ferry)] == ["name", "quays", "tides", "cars"]
    assert Port.__doc__ == "A place." and Port("x").name == "x"
