"""Shows where one person's value comes from: the whole walk, overridden values included, and what the rules say of it.

With a person alone, that person at a glance; with --meeting, a planned meeting's value; with --control and --value,
who has a value. Reads what 'check' reads; writes the explanation to standard output or --out."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import (
    Inputs,
    add_output,
    add_places,
    add_rows,
    control_id,
    find_person,
    known_name,
    read_folder,
    read_inputs,
    write,
)

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..core.organisation.columns import Bools
    from ..core.organisation.services import Service
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.checker import Checker
    from ..core.verdicts.explain import ExplainedValue, RuleExplanation
    from ..outputs.results.why import ExplainedPerson, Explanation

TAKES = "[PERSON] [CONTROL]"
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate why asta.brandt@northmere.example
  usher-gate why asta.brandt@northmere.example door.waiting-room --service tidecall
  usher-gate why asta.brandt@northmere.example --rule DOOR-01
  usher-gate why --meeting harbour-day door.waiting-room
  usher-gate why --control broadcast.audience --value public
  usher-gate why --set trial-crews"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "person", metavar="PERSON", nargs="?", help="a login, an id, or a name that only one person has"
    )
    parser.add_argument("control", metavar="CONTROL", nargs="?", help="a control, such as door.waiting-room")
    parser.add_argument(
        "--meeting", metavar="ID", help="explain the CONTROL of a planned meeting, its own setting included"
    )
    parser.add_argument("--rule", metavar="ID", help="explain what this rule says of the person")
    parser.add_argument(
        "--control", dest="of_control", metavar="CONTROL", help="ask for everyone who has a --value of it"
    )
    parser.add_argument("--value", metavar="VALUE", help="who has this value of the --control, and by which ways")
    parser.add_argument(
        "--set",
        metavar="NAME",
        help="the settings of this name (column set, else note) as one thing: who has it, and what hides it",
    )
    parser.add_argument("--service", metavar="ID", action="append", help="only on this service (repeatable)")
    add_rows(parser, "why")
    add_places(parser)
    add_output(parser, "why")


def run(arguments: argparse.Namespace) -> int:
    """Explains a value, a verdict or a person, or finds who has a value.

    Raises UsherError for what cannot be explained.
    """
    if arguments.set is not None:
        return _of_set(arguments)
    if arguments.of_control is not None or arguments.value is not None:
        return _who_has(arguments)
    if arguments.meeting is not None:
        return _of_meeting(arguments)
    if arguments.person is None:
        raise UsherError("name a person, or --control CONTROL --value VALUE; see usher-gate why --help")
    if arguments.control is not None and arguments.rule is not None:
        raise UsherError("name either a control or --rule ID; see usher-gate why --help")
    inputs = read_inputs(arguments)
    _not_swapped(arguments, inputs.snapshot)
    write(arguments, "why", _explain(arguments, inputs), arguments.rows)
    return 0


def _of_meeting(arguments: argparse.Namespace) -> int:
    """Return where what a planned meeting is set to comes from."""
    from ..core.verdicts.checker import Checker
    from ..core.verdicts.explain import explain_meeting
    from ..core.words.times import show_time
    from ..outputs.results.why import Explanation
    from .common import planned_meeting

    if arguments.person is None or arguments.control is not None or arguments.rule is not None or arguments.service:
        raise UsherError("a planned meeting is asked with its control alone: usher-gate why --meeting ID CONTROL")
    inputs = read_inputs(arguments)
    snapshot = inputs.snapshot
    control = control_id(arguments.person, snapshot.catalogue)
    checker = Checker(snapshot, inputs.baseline, inputs.exceptions)
    planned, number = planned_meeting(arguments.meeting, checker.agenda)
    if control not in planned.service.controls:
        raise UsherError(f"{planned.service.id}, where the meeting is, does not support {control}")
    explanation = Explanation(
        snapshot=snapshot,
        person=_person(int(planned.organiser[number]), inputs),
        asked=control,
        walks=(explain_meeting(checker, planned, number, control),),
        said=(),
        line_of=inputs.read.setting_line,
        time_of=show_time,
        note_of=inputs.read.setting_note,
        closing={},
        glance=None,
        meeting=next(planned.planned([number])),
    )
    write(arguments, "why", explanation, arguments.rows)
    return 0


def _not_swapped(arguments: argparse.Namespace, snapshot: Snapshot) -> None:
    known = snapshot.catalogue.named
    if known(arguments.person) and arguments.control is not None and not known(arguments.control):
        raise UsherError(
            f"{arguments.person} is a control; the person comes first: usher-gate why {arguments.control} "
            f"{arguments.person}"
        )


def _services(arguments: argparse.Namespace, snapshot: Snapshot) -> list[Service]:
    known = [service.id for service in snapshot.services or ()]
    for name in arguments.service or ():
        if name not in known:
            raise UsherError(f"there is no service {quoted(name)}; {nearest(name, known)}")
    return [service for service in snapshot.services or () if not arguments.service or service.id in arguments.service]


def _who_has(arguments: argparse.Namespace) -> int:
    """Show everyone who has one value of a control, and which settings give it to them."""
    from ..core.settings.resolver import Resolver
    from ..core.settings.ways import ways_to
    from ..core.words.values import BadValue
    from ..outputs.results.why import WaysAnswer

    if arguments.of_control is None or arguments.value is None:
        raise UsherError("who has a value is asked with both --control CONTROL and --value VALUE")
    if arguments.control is not None or arguments.rule is not None:
        raise UsherError("who has a value is asked of everyone, or of one person: leave the control and --rule out")
    read = read_folder(arguments)
    snapshot = read.snapshot
    control = control_id(arguments.of_control, snapshot.catalogue)
    try:
        value = snapshot.catalogue.index[control].kind.parse(arguments.value)
    except BadValue as right:
        raise UsherError(f"{quoted(arguments.value)} is no value of {control}; write {right}") from None
    chosen = _chosen(arguments, snapshot)
    resolver = Resolver(snapshot)
    services = [service for service in _services(arguments, snapshot) if control in service.controls]
    if not services:
        raise UsherError(
            f"no service supports {control}" if snapshot.services else "without services.yaml no value is known"
        )
    found = [(service.id, each) for service in services for each in ways_to(resolver, service, control, value, chosen)]
    write(
        arguments,
        "ways",
        WaysAnswer(snapshot=snapshot, control=control, value=value, found=tuple(found), line_of=read.setting_line),
        arguments.rows,
    )
    return 0


def _of_set(arguments: argparse.Namespace) -> int:
    """Return who has a named set of settings, by which way, and what hides it."""
    from ..core.settings.resolver import Resolver
    from ..core.settings.sets import settings_of
    from ..outputs.results.why import SetAnswer

    others = (arguments.control, arguments.rule, arguments.meeting, arguments.of_control, arguments.value)
    if any(other is not None for other in others):
        raise UsherError("a set of settings is asked of everyone, or of one person: leave everything else out")
    read = read_folder(arguments)
    sets = read.settings_by_set()
    if not sets:
        raise UsherError(
            "no setting belongs to a set: write its name into the column set (or note) of the table settings"
        )
    name = known_name(arguments.set, sorted(sets), "set of settings called")
    chosen = _chosen(arguments, read.snapshot)
    services = {service.id for service in _services(arguments, read.snapshot)}
    found = [one for one in settings_of(Resolver(read.snapshot), sets[name], chosen) if one.service in services]
    write(
        arguments,
        "set",
        SetAnswer(
            snapshot=read.snapshot, name=name, rows=len(sets[name]), settings=tuple(found), line_of=read.setting_line
        ),
        arguments.rows,
    )
    return 0


def _chosen(arguments: argparse.Namespace, snapshot: Snapshot) -> Bools:
    """Return everyone, or the one person that is named."""
    import numpy as np

    chosen = np.full(len(snapshot.people), arguments.person is None)
    if arguments.person is not None:
        chosen[find_person(arguments.person, snapshot)] = True
    return chosen


def _explain(arguments: argparse.Namespace, inputs: Inputs) -> Explanation:
    """Explain a person's values and verdicts, for one rule or control, or at a glance."""
    from ..core.verdicts.checker import Checker
    from ..core.verdicts.explain import overview
    from ..core.words.times import show_time
    from ..outputs.results.why import Explanation

    snapshot = inputs.snapshot
    person = find_person(arguments.person, snapshot)
    services = _services(arguments, snapshot)
    checker = Checker(snapshot, inputs.baseline, inputs.exceptions)
    said: list[RuleExplanation] = []
    walks: list[ExplainedValue] = []
    glance = None
    if arguments.control is not None:
        walks = _of_control(arguments, checker, services, person)
    elif arguments.rule is not None:
        said, walks = _of_rule(arguments, checker, services, person)
    else:
        glance = overview(checker, person)
    return Explanation(
        snapshot=snapshot,
        person=_person(person, inputs),
        asked=arguments.rule or arguments.control or "",
        walks=tuple(walks),
        said=tuple(said),
        line_of=inputs.read.setting_line,
        time_of=show_time,
        note_of=inputs.read.setting_note,
        closing=_closing(checker, said, person),
        glance=glance,
    )


def _closing(checker: Checker, said: Sequence[RuleExplanation], person: int) -> dict[str, list[str]]:
    """Return for each rule that found a hole, the observed rules that would close it."""
    from ..core.sign_in.coverage import observed_closing

    return {
        one.rule.id: observed_closing(checker.gatekeeper, leaf.name, person, outcome.hole)
        for one in said
        if one.detail is not None
        for leaf, outcome in one.detail.leaves
        if outcome.hole is not None
    }


def _of_rule(
    arguments: argparse.Namespace, checker: Checker, services: Sequence[Service], person: int
) -> tuple[list[RuleExplanation], list[ExplainedValue]]:
    """Return what a rule says of a person, and where the values come from that it looks at."""
    from ..core.settings.walk import walk
    from ..core.verdicts.explain import ExplainedValue, verdicts_of

    rules = {rule.id: rule for rule in checker.baseline.rules}
    rule = rules[known_name(arguments.rule, list(rules), "rule")]
    if rule.subject != "people":
        raise UsherError(
            f"rule {rule.id} is about {rule.subject}, not about people; see usher-gate check --rule {rule.id}"
        )
    said = [
        one
        for one in verdicts_of(checker.alone(person), rule, 0)
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
    """Return where a person's value of a control comes from, on each service that supports it."""
    from ..core.verdicts.explain import explain_value

    control = control_id(arguments.control, checker.snapshot.catalogue)
    wanted = [service for service in services if control in service.controls or arguments.service]
    if not wanted:
        raise UsherError(
            f"no service supports {control}" if checker.snapshot.services else "without services.yaml no value is known"
        )
    return [explain_value(checker, service, control, person) for service in wanted]


def _person(person: int, inputs: Inputs) -> ExplainedPerson:
    import numpy as np

    from ..outputs.results.why import ExplainedPerson

    people, units = inputs.snapshot.people, inputs.snapshot.units
    row = np.array([person])
    path = units.path_of(person) if units is not None else []
    return ExplainedPerson(
        id=people.ids.take(row)[0],
        login=people.logins.take(row)[0],
        name=people.names.take(row)[0] if people.names is not None else "",
        kind=people.kind.words[int(people.kind.codes[person])],
        unit=path[-1] if path else None,
    )
