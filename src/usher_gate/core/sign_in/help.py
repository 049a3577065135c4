"""What would help somebody who cannot get in: each help is tried by deciding the same sign-in again with it given."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from itertools import islice
from typing import Any

from ..organisation.partners import Home
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import DEVICES, PLATFORMS
from .decide import ALLOWED, CHALLENGED, DENIED, STUCK, Assumption, Decider

# One type for each strength, weakest first, and how its registration is asked for.
_REGISTER = (
    ("multi-factor-otp", "register a second factor"),
    ("multi-factor-crypto-software", "register a phishing-resistant authenticator"),
    ("multi-factor-crypto-device", "register a hardware key"),
)


@record
class _Help:
    """Something that may help, in words: another sign-in, or another assumption about the person."""

    text: str
    sign_in: SignIn
    given: Callable[[Assumption], Assumption]


def _as_it_is(assumption: Assumption) -> Assumption:
    return assumption


def helps(decider: Decider, sign_in: SignIn, shown: frozenset[str] = frozenset()) -> tuple[str, ...]:
    """What would let somebody in who is stuck or denied, each by itself; where nothing does by itself, two things together.

    Nothing for somebody who gets in, or of whom it is not known.
    """
    if decider.decide(sign_in, shown).outcome not in (STUCK, DENIED):
        return ()

    def lets_in(help_: _Help) -> bool:
        return decider.decide(help_.sign_in, shown, given=help_.given).outcome in (ALLOWED, CHALLENGED)

    persons = [each for group in _of_person(decider, sign_in) for each in group]
    ways = list(_other_ways(decider, sign_in))
    found = [*_first_of_each(_of_person(decider, sign_in), lets_in), *_first_of_each(ways, lets_in)]
    if found:
        return tuple(dict.fromkeys(found))
    pairs = (
        [_Help(f"{way.text}, and {each.text}", way.sign_in, each.given) for way in group for each in persons]
        for group in ways
    )
    return tuple(islice(_first_of_each(pairs, lets_in), 3))


def _first_of_each(groups: Iterable[list[_Help]], lets_in: Callable[[_Help], bool]) -> Iterator[str]:
    """Of each group the first that lets in: the weakest that is enough."""
    for group in groups:
        for each in group:
            if lets_in(each):
                yield each.text
                break


def _of_person(decider: Decider, sign_in: SignIn) -> Iterator[list[_Help]]:
    """What the person (or an administrator for them) could do, in groups of which the weakest that is enough counts."""

    def with_type(kind: str) -> Callable[[Assumption], Assumption]:
        return lambda assumption: replace(assumption, types=assumption.types | {kind, "memorized-secret"})

    yield [_Help(text, sign_in, with_type(kind)) for kind, text in _REGISTER]
    if decider.member:
        yield [_Help("have a bootstrap pass issued", sign_in, lambda assumption: replace(assumption, live_pass=True))]
    if decider.guest:

        def at_home(changed: Callable[[Home], Home]) -> Callable[[Assumption], Assumption]:
            return lambda assumption: replace(assumption, home=changed(assumption.home))

        yield [
            _Help(
                "let guests of this partner in (guests_in)",
                sign_in,
                at_home(lambda home: replace(home, guests_in=True)),
            ),
            _Help(
                "let their second factor at home count (home_mfa_counts)",
                sign_in,
                at_home(lambda home: replace(home, home_mfa=True)),
            ),
            _Help(
                "let their devices at home count (home_device_counts)",
                sign_in,
                at_home(lambda home: replace(home, home_device=True)),
            ),
        ]


def _other_ways(decider: Decider, sign_in: SignIn) -> Iterator[list[_Help]]:
    """The same person another way, in groups of which the first that is enough counts."""

    def ways(dimension: str, words: Iterable[tuple[str, str]]) -> list[_Help]:
        changes: list[tuple[str, dict[str, Any]]] = [(text, {dimension: word}) for word, text in words]
        return [
            _Help(text, replace(sign_in, **change), _as_it_is)
            for text, change in changes
            if change[dimension] != getattr(sign_in, dimension)
        ]

    stronger = DEVICES[DEVICES.index(sign_in.device) + 1 :]
    yield ways("device", ((word, f"sign in from a {word} device") for word in stronger))
    for client, text in (("browser", "use the browser"), ("app", "use the app")):
        yield ways("client", ((client, text),))
    yield ways("platform", ((word, f"use another platform, such as {word}") for word in PLATFORMS))
    for network in decider.gatekeeper.networks.classes:
        if network.names != sign_in.network.names:
            where = f"from {network.text.replace('+', ' and ')}" if network.names else "from outside all networks"
            yield [_Help(f"sign in {where}", replace(sign_in, network=network), _as_it_is)]
    yield ways("risk", (("none", "have the risk looked into"),))
