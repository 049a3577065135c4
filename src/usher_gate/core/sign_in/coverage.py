"""Coverage of a proof: whether every possible sign-in of a person is denied or asks for it, or else one that does not.

The answers are exact: people fall into classes by the rules that include them, sign-ins into classes by the rules that
they satisfy, and only classes are decided. Spec: sign-in 4.
"""

from __future__ import annotations

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, Requirement
from ..organisation.columns import Bools, Ints, Longs
from ..organisation.proofs import DEVICE_PROOFS, device_proofs, without
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import PROOFS
from .bits import least, none_of
from .evaluator import AccessPolicyEvaluator
from .possible import ProofDemand, SignInClass, sign_in_classes

ALWAYS = -1  # in place of the rules that cover: the device in hand is itself the proof


@record
class Hole:
    """Describes what a proof leaf found for a class of people.

    A sign-in without the proof, and whether enforcing what is observed closes all.
    """

    sign_in: SignIn
    observed_closes: bool


@record
class Answers:
    """For each person (int32) which of the answers: the hole, None for none, or the reason why it is unknown."""

    codes: Ints
    answers: tuple[Hole | str | None, ...]

    def are(self, kind: type[Hole] | type[str]) -> Bools:
        """Return a mask of the people with this kind of answer: a hole, or (str) the reason why it is not known."""
        found: Bools = np.array([isinstance(answer, kind) for answer in self.answers])[self.codes]
        return found


def covering(evaluator: AccessPolicyEvaluator, proof: str, client: str, device: str) -> tuple[int, bool]:
    """Return the rules (as bits, or ALWAYS) that cover a sign-in by themselves, and whether the own requirement of
    people who has it does.
    """
    if proof in DEVICE_PROOFS and proof in device_proofs(device):
        return ALWAYS, True
    most = device_proofs(device) if client == "legacy" else frozenset(PROOFS) - DEVICE_PROOFS | device_proofs(device)
    rest = without(most, proof)

    def covers(require: Requirement) -> bool:
        return not require.met_by(rest) or (client == "legacy" and not require.carried_by_legacy)

    by_itself = (rule.deny or (rule.require is not None and covers(rule.require)) for rule in evaluator.rules)
    bits = sum(1 << number for number, covered in enumerate(by_itself) if covered)
    return bits, covers(SECOND_FACTOR)


def observed_closing(evaluator: AccessPolicyEvaluator, proof: str, person: int, sign_in: SignIn) -> list[str]:
    """Return the rules that are only observed, each of which would close a hole for a person if it were enforced."""
    bits = covering(evaluator, proof, sign_in.client, sign_in.device)[0]
    unseen = evaluator.unseen_device(person)
    device = "unknown" if unseen else sign_in.device
    return [
        rule.id
        for number, rule in enumerate(evaluator.rules)
        if rule.mode == "observe"
        and bits >> number & 1
        and evaluator.included(number)[person]
        and not rule.failing(sign_in, device)
    ]


class Coverage:
    """Answers whether proofs are asked for everywhere, for everyone at once."""

    def __init__(self, evaluator: AccessPolicyEvaluator) -> None:
        self._evaluator = evaluator

    def of(self, asked: ProofDemand) -> Answers:
        """Return who has a hole in a proof that is asked for."""
        evaluator, answers = self._evaluator, list[Hole | str | None]((None, "no-fact"))
        resources = asked.resources(evaluator.snapshot.resources)
        # The device of a guest whose partner's word does not count is unknown.
        classes = {
            True: sign_in_classes(evaluator.rules, evaluator.networks, resources, asked.when),
            False: sign_in_classes(evaluator.rules, evaluator.networks, resources, asked.when, ("unknown",)),
        }

        def judge(people: Longs, must_show: bool, seen: bool) -> Ints:
            if not classes[seen]:
                return np.ones(len(people), np.int32)
            found, rest = np.zeros(len(people), np.int32), np.arange(len(people))
            for closes, modes in ((False, ("enforce", "observe")), (True, ("enforce",))):
                for mask, sign_in in self._leaks(asked.proof, must_show, evaluator.in_modes(*modes), classes[seen]):
                    slips = none_of(mask, evaluator.bits, people[rest])
                    if slips.any():
                        answers.append(Hole(sign_in, closes))
                        found[rest[slips]] = len(answers) - 1
                        rest = rest[~slips]
            return found

        codes = np.zeros(len(evaluator.guests), np.int32)
        for must_show in (True, False):
            for home, people in evaluator.by_home(evaluator.must_show == must_show):
                if home is None:
                    codes[people] = (judge(people, must_show, True) | judge(people, must_show, False)) != 0
                elif not home.guests_in:
                    codes[people] = 0 if classes[home.home_device] else 1
                else:
                    codes[people] = judge(people, must_show, home.home_device)
        return Answers(codes, tuple(answers))

    def _leaks(self, proof: str, must_show: bool, modes: int, classes: list[SignInClass]) -> list[tuple[int, SignIn]]:
        """Return what decides who has a hole.

        Each entry is one, for everyone that none of its rules (as bits) includes.

        An entry whose rules contain another's is left out: the other lets through all that it lets through.
        """
        covered: dict[tuple[str, str], tuple[int, bool]] = {}
        found: dict[int, tuple[int, SignIn]] = {}
        for number, possible in enumerate(classes):
            key = possible.sign_in.client, possible.sign_in.device
            if key not in covered:
                covered[key] = covering(self._evaluator, proof, *key)
            bits, own = covered[key]
            if bits != ALWAYS and not (own and must_show):
                found.setdefault(possible.rules & bits & modes, (number, possible.sign_in))
        kept = least(found)
        kept.sort(key=lambda mask: found[mask][0])  # in the order of the sign-ins, whatever the rules are called
        return [(mask, found[mask][1]) for mask in kept]
