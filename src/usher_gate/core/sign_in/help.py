"""What would help someone who cannot get in: each help is tried by deciding the same sign-in again with it given."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from itertools import combinations, islice
from typing import Any, TypeVar

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

_MOST_PAIRS = 2_000  # pairs of things that are tried


@record
class _Help:
    """Something that may help, in words: what it changes of the sign-in, and of what is assumed about the person."""

    text: str
    sign_in: Callable[[SignIn], SignIn]
    given: Callable[[Assumption], Assumption]

    def and_then(self, other: _Help) -> _Help:
        """Return both together."""
        return _Help(
            f"{self.text}, and {other.text}",
            lambda sign_in: other.sign_in(self.sign_in(sign_in)),
            lambda assumption: other.given(self.given(assumption)),
        )


_T = TypeVar("_T")


def _as_it_is(given: _T) -> _T:
    return given


def helps(decider: Decider, sign_in: SignIn, shown: frozenset[str] = frozenset()) -> tuple[str, ...]:
    """Return what would let in someone who is stuck or denied: each thing by itself, else up to three pairs of things.

    Nothing is returned for someone who gets in, or whose sign-in cannot be decided. Of pairs at most _MOST_PAIRS are
    tried, so finding nothing does not mean that nothing helps.
    """
    if decider.decide(sign_in, shown).outcome not in (STUCK, DENIED):
        return ()

    def lets_in(help_: _Help) -> bool:
        return decider.decide(help_.sign_in(sign_in), shown, given=help_.given).outcome in (ALLOWED, CHALLENGED)

    persons, ways = list(_of_person(decider)), list(_other_ways(decider, sign_in))
    found = tuple(dict.fromkeys(_first_of_each([*persons, *ways], lets_in)))
    if found:
        return found
    tries = iter(range(_MOST_PAIRS))
    pairs = (
        [one.and_then(other) for one in first for other in second]
        for first, second in combinations([*ways, *persons], 2)
    )
    return tuple(islice(_first_of_each(pairs, lambda both: next(tries, None) is not None and lets_in(both)), 3))


def _first_of_each(groups: Iterable[list[_Help]], lets_in: Callable[[_Help], bool]) -> Iterator[str]:
    """Yield the first of each group that lets in: the weakest that is enough."""
    for group in groups:
        for each in group:
            if lets_in(each):
                yield each.text
                break


def _of_person(decider: Decider) -> Iterator[list[_Help]]:
    """Yield what the person (or an administrator for them) could do, in groups of which the weakest that is enough
    counts.
    """

    def with_type(kind: str) -> Callable[[Assumption], Assumption]:
        return lambda assumption: replace(assumption, types=assumption.types | {kind, "memorized-secret"})

    yield [_Help(text, _as_it_is, with_type(kind)) for kind, text in _REGISTER]
    if decider.member:
        live = lambda assumption: replace(assumption, live_pass=True)  # noqa: E731
        yield [_Help("have a bootstrap pass issued", _as_it_is, live)]
    if decider.guest:

        def at_home(**flags: Any) -> Callable[[Assumption], Assumption]:
            return lambda assumption: replace(assumption, home=replace(assumption.home, **flags))

        yield [_Help("let guests of this partner in (guests_in)", _as_it_is, at_home(guests_in=True))]
        counts = "let their second factor at home count (home_mfa_counts)"
        yield [_Help(counts, _as_it_is, at_home(home_mfa=True))]
        yield [_Help("let their devices at home count (home_device_counts)", _as_it_is, at_home(home_device=True))]


def _with(changes: Mapping[str, Any]) -> Callable[[SignIn], SignIn]:
    return lambda sign_in: replace(sign_in, **changes)


def _other_ways(decider: Decider, sign_in: SignIn) -> Iterator[list[_Help]]:
    """Yield the same person another way, in groups of which the first that is enough counts."""

    def ways(dimension: str, words: Iterable[tuple[str, str]]) -> list[_Help]:
        others = ((text, {dimension: word}) for word, text in words if word != getattr(sign_in, dimension))
        return [_Help(text, _with(change), _as_it_is) for text, change in others]

    stronger = DEVICES[DEVICES.index(sign_in.device) + 1 :]
    yield ways("device", ((word, f"sign in from a {word} device") for word in stronger))
    for client, text in (("browser", "use the browser"), ("app", "use the app")):
        yield ways("client", ((client, text),))
    yield ways("platform", ((word, f"use another platform, such as {word}") for word in PLATFORMS))
    for network in decider.gatekeeper.networks.classes:
        if network.names != sign_in.network.names:
            where = f"from {network.text.replace('+', ' and ')}" if network.names else "from outside all networks"
            yield [_Help(f"sign in {where}", _with({"network": network}), _as_it_is)]
    yield ways("risk", (("none", "have the risk looked into"),))
