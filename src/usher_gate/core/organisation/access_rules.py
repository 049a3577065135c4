"""An access rule: people, resources, conditions and an outcome."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ..words.record import record
from ..words.vocabulary import ANY, CONDITION_WORDS, ELSEWHERE
from .networks import NetworkClass
from .proofs import DEVICE_PROOFS, MFA
from .selector import Selector
from .sign_ins import SignIn


@record
class Requirement:
    """`all-of` or `any-of` some proofs."""

    operator: str
    proofs: tuple[str, ...]

    def met_by(self, proofs: frozenset[str]) -> bool:
        """Return whether these proofs (with all that they imply) satisfy it."""
        return (all if self.operator == "all-of" else any)(proof in proofs for proof in self.proofs)

    @property
    def carried_by_legacy(self) -> bool:
        """Return whether a client that can carry no proof but a device's could satisfy it."""
        return self.met_by(DEVICE_PROOFS)

    @property
    def text(self) -> str:
        """Return the requirement in words."""
        return (" and " if self.operator == "all-of" else " or ").join(self.proofs)


@record
class Conditions:
    """Describes what a sign-in must be like; None holds always.

    `networks_out` excludes; `elsewhere` is outside all networks, `any` everywhere.
    """

    networks_in: frozenset[str] | None = None
    networks_out: frozenset[str] = frozenset()
    client: frozenset[str] | None = None
    platform: frozenset[str] | None = None
    device: frozenset[str] | None = None
    risk: frozenset[str] | None = None

    def network(self, names: frozenset[str]) -> bool:
        """Return whether an address in just these networks satisfies the condition."""
        here = (names or frozenset((ELSEWHERE,))) | {ANY}
        return (self.networks_in is None or bool(self.networks_in & here)) and not self.networks_out & here

    def holds(self, condition: str, word: str) -> bool:
        """Return whether a word (a key of CONDITION_WORDS and one of its words) satisfies a condition.

        A healthy device is managed too.
        """
        wanted: frozenset[str] | None = getattr(self, condition)
        return wanted is None or word in wanted or (condition == "device" and word == "healthy" and "managed" in wanted)

    def words(self, condition: str) -> list[str]:
        """Return the words that satisfy a condition, in their order."""
        return [word for word in CONDITION_WORDS[condition] if self.holds(condition, word)]


@record
class ResourceChoice:
    """Resources as they are chosen: `any`, by name, or by tag."""

    any: bool = False
    names: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()

    @property
    def text(self) -> str:
        """Return the choice in words."""
        if self.any:
            return ANY
        return ", ".join(self.names) or f"what is tagged {' or '.join(self.tags)}"

    def among(self, resources: Mapping[str, frozenset[str]]) -> frozenset[str]:
        """Return those that are meant, of all that there are (each with its tags)."""
        if self.any:
            return frozenset(resources)
        tags = frozenset(self.tags)
        return frozenset(name for name, marked in resources.items() if name in self.names or marked & tags)


@record
class AccessRule:
    """One conditional sign-in rule. `resources` are those included and not excluded."""

    id: str
    title: str
    mode: str
    include: Selector
    exclude: Selector | None
    resources: frozenset[str]
    when: Conditions
    deny: bool
    require: Requirement | None
    longest_hours: float | None = None
    no_downloads: bool = False
    changed: int | None = None
    resources_in: ResourceChoice | None = None  # as written: `any` means those that are made later, too
    resources_out: ResourceChoice | None = None

    def with_mode(self, mode: str) -> AccessRule:
        """Return the same rule in another mode, of which it is not known since when."""
        return self if mode == self.mode else replace(self, mode=mode, changed=None)

    def speaks_of(self, dimension: str, value: str | NetworkClass) -> bool:
        """Return whether a value of one of DIMENSIONS satisfies what the rule says of it."""
        if isinstance(value, NetworkClass):
            return self.when.network(value.names)
        return value in self.resources if dimension == "resource" else self.when.holds(dimension, value)

    def failing(self, sign_in: SignIn, device: str) -> str:
        """Return which condition a sign-in fails (people apart), its device counting as `device`; "" for none."""
        values: dict[str, str | NetworkClass] = {
            "resource": sign_in.resource,
            "network": sign_in.network,
            "client": sign_in.client,
            "platform": sign_in.platform,
            "risk": sign_in.risk,
            "device": device,
        }
        return next((name for name, value in values.items() if not self.speaks_of(name, value)), "")


SECOND_FACTOR = Requirement("all-of", (MFA,))
