"""Shows where one person's value comes from: the whole walk, overridden values included, and what the rules say of it.

Reads what 'check' reads; writes the explanation to standard output or --out."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import Inputs, add_output, add_places, find_person, read_inputs, write

if TYPE_CHECKING:
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
    from ..core.settings.walk import walk
    from ..core.verdicts.checker import Checker
    from ..core.verdicts.explain import ExplainedValue, explain_value, verdicts_of
    from ..core.words.times import show_time
    from ..outputs.why.answer import Explanation

    snapshot = inputs.snapshot
    person = find_person(arguments.person, snapshot)
    services = [
        service for service in snapshot.services or () if not arguments.service or service.id in arguments.service
    ]
    for name in arguments.service or ():
        if name not in {service.id for service in services}:
            raise UsherError(
                f"there is no service {quoted(name)}; {nearest(name, [each.id for each in snapshot.services or ()])}"
            )
    checker = Checker(snapshot, inputs.baseline, inputs.exceptions)
    said, walks = [], []
    if arguments.rule is not None:
        rule = next((each for each in inputs.baseline.rules if each.id == arguments.rule), None)
        if rule is None:
            raise UsherError(
                f"there is no rule {quoted(arguments.rule)}; {nearest(arguments.rule, [each.id for each in inputs.baseline.rules])}"
            )
        if rule.subject != "people":
            raise UsherError(
                f"rule {rule.id} is about {rule.subject}, not about people; see usher-gate check --rule {rule.id}"
            )
        said = [
            each
            for each in verdicts_of(checker, rule, person)
            if each.service is None or not arguments.service or each.service in arguments.service
        ]
        walks = [
            ExplainedValue(walk(checker.resolver, service, control, person), ())
            for control in sorted(rule.controls)
            for service in services
            if control in service.controls and any(each.service == service.id for each in said)
        ]
    else:
        if arguments.control not in snapshot.catalogue.index:
            raise UsherError(
                f"there is no control {quoted(arguments.control)}; {nearest(arguments.control, snapshot.catalogue.index)}"
            )
        wanted = [service for service in services if arguments.control in service.controls or arguments.service]
        if not wanted:
            raise UsherError(
                f"no service supports {arguments.control}"
                if snapshot.services
                else "without services.yaml no value is known"
            )
        walks = [explain_value(checker, service, arguments.control, person) for service in wanted]
    return Explanation(
        snapshot,
        _person(person, inputs),
        arguments.rule or arguments.control,
        tuple(walks),
        tuple(said),
        inputs.read.setting_line,
        show_time,
    )


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
