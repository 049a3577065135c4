"""What an access rule is: whom and what it is about, under which conditions, with what outcome."""

from __future__ import annotations

from .networks import ELSEWHERE
from .proofs import DEVICE_PROOFS, MFA
from .record import record
from .select import Selector

CLIENTS = ("browser", "app", "legacy")
PLATFORMS = ("windows", "macos", "linux", "ios", "android", "other")
DEVICES = ("unknown", "registered", "managed", "healthy")
RISKS = ("none", "low", "medium", "high")
MODES = ("enforce", "observe", "off")


@record
class Requirement:
    """`all-of` or `any-of` some proofs."""

    operator: str
    proofs: tuple[str, ...]

    def met_by(self, proofs: frozenset[str]) -> bool:
        """Whether these proofs (with all that they imply) satisfy it."""
        return (all if self.operator == "all-of" else any)(proof in proofs for proof in self.proofs)

    @property
    def carried_by_legacy(self) -> bool:
        """Whether a client that can carry no proof but a device's could satisfy it."""
        return self.met_by(DEVICE_PROOFS)

    @property
    def text(self) -> str:
        """The requirement in words."""
        return (" and " if self.operator == "all-of" else " or ").join(self.proofs)


@record
class Conditions:
    """What a sign-in must be like; None holds always. `networks_out` excludes; `elsewhere` is outside all networks."""

    networks_in: frozenset[str] | None = None
    networks_out: frozenset[str] = frozenset()
    client: frozenset[str] | None = None
    platform: frozenset[str] | None = None
    device: frozenset[str] | None = None
    risk: frozenset[str] | None = None

    def network(self, names: frozenset[str]) -> bool:
        """Whether an address in just these networks satisfies the condition."""
        here = names or frozenset((ELSEWHERE,))
        return (self.networks_in is None or bool(self.networks_in & here)) and not self.networks_out & here

    def on_device(self, device: str) -> bool:
        """Whether a device satisfies the condition; a healthy one is managed too."""
        return self.device is None or device in self.device or (device == "healthy" and "managed" in self.device)


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
    line: int = 0


SECOND_FACTOR = Requirement("all-of", (MFA,))
