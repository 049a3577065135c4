"""Shows what one sign-in would meet under the access rules, and beside it if the observed ones were enforced.

Reads the snapshot. A dimension left out means all of its classes, in the fewest rows that show the difference."""

from __future__ import annotations

import argparse
from collections.abc import Collection
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..core.words.vocabulary import CONDITION_WORDS, MFA_WORDS, PERSON_KINDS
from ..files.faults import UsherError
from .common import add_output, add_places, find_person, read_folder, say_notes, write

if TYPE_CHECKING:
    from ..core.organisation.snapshot import Snapshot
    from ..core.sign_in.decide import Decider

TAKES = "[PERSON]"
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate sign-in asta.brandt@northmere.example
  usher-gate sign-in N1171 --resource directory-console --network head-office --client browser --device managed
  usher-gate sign-in --kind guest --home-domain coastguard.example.org --resource meetings"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "person", metavar="PERSON", nargs="?", help="a login or an id; left out, someone who does not exist yet"
    )
    parser.add_argument(
        "--resource",
        metavar="NAME",
        action="append",
        help="what is signed in to (default: every resource, one row each)",
    )
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--network", metavar="NAME", help="a named network, or elsewhere")
    where.add_argument("--address", metavar="IP", help="an IPv4 or IPv6 address")
    for name, words in CONDITION_WORDS.items():
        parser.add_argument(f"--{name}", choices=words, metavar="WORD", help=", ".join(words))
    parser.add_argument(
        "--shown", metavar="TYPE", action="append", default=[], help="an authenticator type shown already (repeatable)"
    )
    group = parser.add_argument_group("someone who does not exist yet")
    group.add_argument("--kind", choices=PERSON_KINDS, metavar="WORD", help="member, guest or service")
    for name, wanted in (
        ("role", "a role"),
        ("group", "a group"),
        ("licence", "a licence"),
        ("authenticator", "a type that is registered"),
    ):
        group.add_argument(f"--{name}", metavar="NAME", action="append", default=[], help=f"{wanted} (repeatable)")
    group.add_argument("--home-domain", metavar="DOMAIN", default="", help="where a guest comes from")
    group.add_argument("--unit", metavar="PATH", default="", help="a unit")
    group.add_argument(
        "--mfa",
        choices=MFA_WORDS,
        metavar="WORD",
        default="",
        help="absent, offered or required",
    )
    add_places(parser, baseline=False)
    add_output(parser, "sign-in")


def run(arguments: argparse.Namespace) -> int:
    """Decides, and explains; raises UsherError for a sign-in that cannot be."""
    from ..core.organisation.proofs import TYPES
    from ..core.sign_in.fold import fold
    from ..outputs.results.sign_in import SignInAnswer, SignInsAnswer

    arguments.baseline = arguments.exceptions = None
    if arguments.resource is not None and len(arguments.resource) > 1:
        raise UsherError("--resource is given twice; ask for one resource, or leave it out for all")
    if arguments.home_domain and arguments.kind != "guest":
        raise UsherError("--home-domain says where a guest comes from; write --kind guest, or leave it out")
    snapshot = read_folder(arguments).snapshot
    if snapshot.access_rules is None:
        raise UsherError("the snapshot has no access-rules.yaml, so nothing is known about what a sign-in meets")
    for name in arguments.resource or ():
        _among(name, snapshot.resources, "resource")
    for kind in (*arguments.shown, *arguments.authenticator):
        _among(kind, TYPES, "authenticator type")
    decider, who = _decider(arguments, snapshot)
    given: dict[str, list[object]] = {"network": _networks(arguments, snapshot)}
    for name, words in CONDITION_WORDS.items():
        value = getattr(arguments, name)
        given[name] = list(words) if value is None else [value]
    shown = frozenset(arguments.shown)
    left_open = {name: len(values) > 1 for name, values in given.items()}

    def to(resource: str) -> SignInAnswer:
        rows = fold(decider, resource, given, shown)
        return SignInAnswer(who=who, resource=resource, rows=tuple(rows), decider=decider, open=left_open, shown=shown)

    if arguments.resource is not None:
        write(arguments, "sign-in", to(arguments.resource[0]))
    else:
        write(
            arguments, "sign-ins", SignInsAnswer(who, tuple(to(name) for name in sorted(snapshot.resources)), decider)
        )
    say_notes(tuple(sorted(decider.gatekeeper.notes)))
    return 0


def _among(name: str, known: Collection[str], what: str) -> None:
    if name not in known:
        raise UsherError(f"there is no {what} {quoted(name)}; {nearest(name, known)}")


def _decider(arguments: argparse.Namespace, snapshot: Snapshot) -> tuple[Decider, str]:
    """Return what decides the sign-ins of the person, or of the hypothetical user that the options describe, and its
    name.
    """
    from ..core.sign_in.decide import Decider
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..core.sign_in.hypothetical_user import Traits, somebody

    traits = ("kind", "role", "group", "licence", "authenticator", "home_domain", "unit", "mfa")
    if arguments.person is not None:
        said = [name for name in traits if getattr(arguments, name)]
        if said:
            raise UsherError(
                f"{arguments.person} exists, so --{said[0].replace('_', '-')} says nothing; leave it or the person out"
            )
        person = find_person(arguments.person, snapshot)
        return Decider(AccessPolicyEvaluator(snapshot), person), arguments.person
    if arguments.kind is None:
        raise UsherError("name a person, or say by --kind who someone would be that does not exist yet")
    if arguments.unit and not arguments.unit.startswith("/"):
        raise UsherError(f"the unit {quoted(arguments.unit)} does not begin with a slash")
    made = Traits(
        kind=arguments.kind,
        login="somebody",
        unit=arguments.unit,
        roles=tuple(arguments.role),
        licences=tuple(arguments.licence),
        groups=tuple(arguments.group),
        home_domain=arguments.home_domain,
        mfa=arguments.mfa,
        authenticators=tuple(arguments.authenticator),
    )
    try:
        tried = somebody(snapshot, made)
    except KeyError as error:
        raise UsherError(
            f"there is no group {quoted(str(error.args[0]))}; {nearest(str(error.args[0]), snapshot.group_index)}"
        ) from None
    return Decider(
        AccessPolicyEvaluator(tried), 0
    ), f"a {arguments.kind}{' from ' + arguments.home_domain if arguments.home_domain else ''}"


def _networks(arguments: argparse.Namespace, snapshot: Snapshot) -> list[object]:
    """Return the classes of network addresses that the sign-ins to show may come from."""
    from ..core.organisation.networks import NetworkClass
    from ..core.words.vocabulary import ELSEWHERE

    networks = snapshot.networks
    if arguments.address is not None:
        try:
            return [NetworkClass(networks.containing(arguments.address), arguments.address)]
        except ValueError:
            raise UsherError(
                f"{quoted(arguments.address)} is no address; write one such as 192.0.2.17 or 2001:db8::17"
            ) from None
    if arguments.network is None:
        return list(networks.classes)
    _among(arguments.network, (*networks.spans, ELSEWHERE), "network")
    names = frozenset[str]() if arguments.network == ELSEWHERE else networks.around(arguments.network)
    return [NetworkClass(names, next((network.address for network in networks.classes if network.names == names), ""))]
