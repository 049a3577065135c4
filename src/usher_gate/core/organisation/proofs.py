"""What an authenticator is worth, in the words of NIST SP 800-63B, and which proof implies which."""

from __future__ import annotations

from collections.abc import Iterable

from ..words.record import record
from ..words.vocabulary import PROOFS

MEMORIZED = "memorized-secret"
MFA, PHISHING_RESISTANT, HARDWARE_KEY, MANAGED, HEALTHY = PROOFS
DEVICE_PROOFS = frozenset((MANAGED, HEALTHY))
_IMPLIES = {HARDWARE_KEY: (PHISHING_RESISTANT, MFA), PHISHING_RESISTANT: (MFA,), HEALTHY: (MANAGED,)}


@record
class AuthenticatorType:
    """Describes what one type is worth. `factor` is no, with (a memorized secret beside it) or alone."""

    factor: str
    phishing_resistant: bool = False
    hardware: bool = False
    restricted: bool = False


TYPES = {
    MEMORIZED: AuthenticatorType("no"),
    "look-up-secret": AuthenticatorType("with"),
    "single-factor-otp": AuthenticatorType("with"),
    "out-of-band-app": AuthenticatorType("with"),
    "out-of-band-sms": AuthenticatorType("with", restricted=True),
    "out-of-band-voice": AuthenticatorType("with", restricted=True),
    "multi-factor-otp": AuthenticatorType("alone"),
    "single-factor-crypto-software": AuthenticatorType("with", phishing_resistant=True),
    "single-factor-crypto-device": AuthenticatorType("with", phishing_resistant=True, hardware=True),
    "multi-factor-crypto-software": AuthenticatorType("alone", phishing_resistant=True),
    "multi-factor-crypto-device": AuthenticatorType("alone", phishing_resistant=True, hardware=True),
}


def with_implied(proofs: Iterable[str]) -> frozenset[str]:
    """Return the proofs and all that they imply."""
    found = frozenset(proofs)
    return found | {implied for proof in found for implied in _IMPLIES.get(proof, ())}


# What can be proved without a device: nothing, or one proof with all that it implies.
PROOF_LEVELS = tuple(with_implied(proofs) for proofs in ((), (MFA,), (PHISHING_RESISTANT,), (HARDWARE_KEY,)))


def without(proofs: frozenset[str], proof: str) -> frozenset[str]:
    """Return the most that is left of some proofs when one is not among them: those that imply it go too."""
    return frozenset(one_proof for one_proof in proofs if proof not in with_implied((one_proof,)))


def proofs_of(types: frozenset[str]) -> frozenset[str]:
    """Return what authenticators prove together; each counts only in the company that makes it a second factor."""
    found: set[str] = set()
    for kind in types:
        worth = TYPES[kind]
        if worth.factor == "alone" or (worth.factor == "with" and MEMORIZED in types):
            weaker = PHISHING_RESISTANT if worth.phishing_resistant else MFA
            found.add(HARDWARE_KEY if worth.hardware else weaker)
    return with_implied(found)


def device_proofs(device: str) -> frozenset[str]:
    """Return what the device in hand proves."""
    return with_implied({"managed": (MANAGED,), "healthy": (HEALTHY,)}.get(device, ()))
