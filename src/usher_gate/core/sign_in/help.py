"""What would help somebody who cannot get in: each help is tried by deciding the same sign-in again with it given."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from ..organisation.partners import Home
from ..organisation.sign_ins import SignIn
from ..words.record import record
from .decide import ALLOWED, CHALLENGED, DENIED, STUCK, Assumption, Decider

# One type for each strength, weakest first, and how its registration is asked for.
_REGISTER = (
    ("multi-factor-otp", "register a second factor"),
    ("multi-factor-crypto-software", "register a phishing-resistant authenticator"),
    ("multi-factor-crypto-device", "register a hardware key"),
)
_DEVICES = (("managed", "sign in from a managed device"), ("healthy", "sign in from a healthy device"))


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
    found = [*_first_of_each(_of_person(decider, sign_in), lets_in), *(each.text for each in ways if lets_in(each))]
    if found:
        return tuple(dict.fromkeys(found))
    for way in ways:
        for person in persons:
            both = _Help(f"{way.text}, and {person.text}", way.sign_in, person.given)
            if lets_in(both):
                found.append(both.text)
                break
    return tuple(found[:3])


def _first_of_each(groups: Iterator[list[_Help]], lets_in: Callable[[_Help], bool]) -> Iterator[str]:
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


def _other_ways(decider: Decider, sign_in: SignIn) -> Iterator[_Help]:
    """The same person another way."""
    for device, text in _DEVICES:
        if sign_in.device not in (device, "healthy"):
            yield _Help(text, replace(sign_in, device=device), _as_it_is)
            break
    if sign_in.device == "unknown":
        yield _Help("sign in from a registered device", replace(sign_in, device="registered"), _as_it_is)
    if sign_in.client == "legacy":
        yield _Help("use the browser or the app", replace(sign_in, client="browser"), _as_it_is)
    for network in decider.gatekeeper.networks.classes:
        if network.names != sign_in.network.names:
            where = f"from {network.text.replace('+', ' and ')}" if network.names else "from outside all networks"
            yield _Help(f"sign in {where}", replace(sign_in, network=network), _as_it_is)
    if sign_in.risk in ("medium", "high"):
        yield _Help("have the risk looked into", replace(sign_in, risk="none"), _as_it_is)
