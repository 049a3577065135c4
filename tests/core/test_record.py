"""Records are what serialised dataclasses with slots are."""

from __future__ import annotations

import pickle
from dataclasses import FrozenInstanceError, dataclass, field, fields, is_dataclass, replace
from functools import cached_property
from typing import Any

import pytest

from usher_gate.core.words.record import record, record_by_name


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


@record_by_name
class Quay:
    """One value may be left out though another after it may not, and what is worked out is kept."""

    length: int = 5
    width: int

    @cached_property
    def area(self) -> list[int]:
        """Worked out once."""
        return [self.length * self.width]


@record_by_name
class Berth(Quay):
    """With a value of its own, and something of its own that is kept."""

    number: int

    @cached_property
    def label(self) -> list[str]:
        """Worked out once."""
        return [f"{self.number}: {self.area}"]


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
    with pytest.raises(TypeError, match="__init__"):
        kind()
    with pytest.raises(TypeError, match="__init__"):
        kind("a", (), [], 4)
    with pytest.raises(TypeError, match="colour"):
        kind("a", colour=1)
    changes: tuple[Any, ...] = ((setattr, "name", "x"), (setattr, "z", 1), (delattr, "name"))
    for change, *what in changes:
        with pytest.raises((FrozenInstanceError, TypeError)):  # the latter for what is no field, in Python 3.11
            change(first, *what)
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


def test_values_given_by_name_and_what_is_kept_of_them() -> None:
    berth = Berth(width=2, number=7)
    assert (berth.length, berth.area, berth.label) == (5, [10], ["7: [10]"])
    assert berth.area is berth.area and berth.label is berth.label
    wider = replace(berth, width=3)
    assert (wider.area, wider.label, pickle.loads(pickle.dumps(wider)).area) == ([15], ["7: [15]"], [15])
    with pytest.raises(TypeError):
        Quay(5, 2)  # type: ignore[call-arg]
    with pytest.raises(FrozenInstanceError):
        berth.width = 9  # type: ignore[misc]
