"""A sign-in, as access rules see it."""

from __future__ import annotations

from ..words.record import record
from .networks import NetworkClass


@record
class SignIn:
    """One possible sign-in; its network is a class of addresses, with one of them.

    The other words are those of CONDITION_WORDS.
    """

    resource: str
    network: NetworkClass
    client: str
    platform: str
    device: str
    risk: str

    def word(self, dimension: str) -> str:
        """Return what it says in one of DIMENSIONS."""
        return self.network.text if dimension == "network" else str(getattr(self, dimension))
