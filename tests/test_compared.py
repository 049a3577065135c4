"""A random organisation that fails arrives small."""

from __future__ import annotations

from random import Random

import pytest

from tests.compared import compare_many
from tests.reference import Org


def test_a_failing_organisation_arrives_small() -> None:
    def compare(org: Org, _: Random) -> int:
        assert not any(person.get("kind") == "guest" for person in org.people) or not org.settings
        return 1

    with pytest.raises(AssertionError) as raised:
        compare_many(compare, 40, 0, 1.0)
    (note,) = (each for each in raised.value.__notes__ if each.startswith("The smallest"))
    found = dict(line.split(": ", 1) for line in note.splitlines()[1:])
    assert found["people"].count("'login'") == 1 and found["settings"].count("'scope'") == 1
    assert "rules" not in found and "members" not in found
