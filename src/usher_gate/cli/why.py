"""Shows where one person's value comes from: the whole walk, overridden values included, and what the rules say of it.

Reads what 'check' reads; writes the explanation to standard output or --out."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import Inputs, add_output, add_places, find_person, read_inputs, write

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..core.organisation.services import Service
    from ..core.verdicts.checker import Checker
    from ..core.verdicts.explain import ExplainedValue, Said
    from ..outputs.why.answer import Explanation, Person

TAKES = "PERSON [CONTROL]"
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate why asta.brandt@northmere.example door.waiting-room
  usher-gate why asta.brandt@northmere.example door.waiting-room --service tidecall
  usher-gate why asta.brandt@northmere.example --rule DOOR-01"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument("person", metavar="PERSON", help="a login or an id")
    parser.add_argument("control", metavar="CONTROL", nargs="?", help="a control, such as door.waiting-room")
    parser.add_argument("--rule", metavar="ID", help="explain what this rule says of the person")
    parser.add_argument("--service", metavar="ID", action="append", help="only on this service (repeatable)")
    add_places(parser)
    add_output(parser, "why")


def run(arguments: argparse.Namespace) -> int:
    """Explains a value or a verdict."""
    if (arguments.control is None) == (arguments.rule is None):
        raise UsherError("name either a control or --rule ID; see usher-gate why --help")
    inputs = read_inputs(arguments)
    explanation = _explain(arguments, inputs)
    write(arguments, "why", explanation)
    return 0


def _explain(arguments: argparse.Namespace, inputs: Inputs) -> Explanation:
    from ..core.verdicts.checker import Checker
    from ..core.words.times import show_time
    from ..outputs.why.answer import Explanation

    snapshot = inputs.snapshot
    person = find_person(arguments.person, snapshot)
    known = [service.id for service in snapshot.services or ()]
    for name in arguments.service or ():
        if name not in known:
            raise UsherError(f"there is no service {quoted(name)}; {nearest(name, known)}")
    services = [
        service for service in snapshot.services or () if not arguments.service or service.id in arguments.service
    ]
    checker = Checker(snapshot, inputs.baseline, inputs.exceptions)
    said, walks = (
        ([], _of_control(arguments, checker, services, person))
        if arguments.rule is None
        else _of_rule(arguments, checker, services, person)
    )
    return Explanation(
        snapshot,
        _person(person, inputs),
        arguments.rule or arguments.control,
        tuple(walks),
        tuple(said),
        inputs.read.setting_line,
        show_time,
    )


def _of_rule(
    arguments: argparse.Namespace, checker: Checker, services: Sequence[Service], person: int
) -> tuple[list[Said], list[ExplainedValue]]:
    """What a rule says of a person, and where the values come from that it looks at."""
    from ..core.settings.walk import walk
    from ..core.verdicts.explain import ExplainedValue, verdicts_of

    rules = {rule.id: rule for rule in checker.baseline.rules}
    if arguments.rule not in rules:
        raise UsherError(f"there is no rule {quoted(arguments.rule)}; {nearest(arguments.rule, rules)}")
    rule = rules[arguments.rule]
    if rule.subject != "people":
        raise UsherError(
            f"rule {rule.id} is about {rule.subject}, not about people; see usher-gate check --rule {rule.id}"
        )
    said = [
        one
        for one in verdicts_of(checker, rule, person)
        if one.service is None or not arguments.service or one.service in arguments.service
    ]
    walks = [
        ExplainedValue(walk(checker.resolver, service, control, person), ())
        for control in sorted(rule.controls)
        for service in services
        if control in service.controls and any(one.service == service.id for one in said)
    ]
    return said, walks


def _of_control(
    arguments: argparse.Namespace, checker: Checker, services: Sequence[Service], person: int
) -> list[ExplainedValue]:
    """Where a person's value of a control comes from, on each service that supports it."""
    from ..core.verdicts.explain import explain_value

    known = checker.snapshot.catalogue.index
    if arguments.control not in known:
        raise UsherError(f"there is no control {quoted(arguments.control)}; {nearest(arguments.control, known)}")
    wanted = [service for service in services if arguments.control in service.controls or arguments.service]
    if not wanted:
        raise UsherError(
            f"no service supports {arguments.control}"
            if checker.snapshot.services
            else "without services.yaml no value is known"
        )
    return [explain_value(checker, service, arguments.control, person) for service in wanted]


def _person(person: int, inputs: Inputs) -> Person:
    import numpy as np

    from ..outputs.why.answer import Person

    people, units = inputs.snapshot.people, inputs.snapshot.units
    row = np.array([person])
    path = units.path_of(person) if units is not None else []
    return Person(
        people.ids.take(row)[0],
        people.logins.take(row)[0],
        people.names.take(row)[0] if people.names is not None else "",
        people.kind.words[int(people.kind.codes[person])],
        path[-1] if path else None,
    )
