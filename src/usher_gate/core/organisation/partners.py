"""Other organisations: what the flags of a partner mean for people who come from there."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from ..words.record import record
from .proofs import HARDWARE_KEY, MFA, PHISHING_RESISTANT, with_implied

# A partner's columns, each with what an empty cell means.
PARTNER_COLUMNS = {"guests_in": "true", "guests_out": "true", "home_mfa_counts": "false", "home_device_counts": "false"}


# What a partner's people show at home, the weakest first; the column says which, "" where that is not known.
HOME_FACTOR = "home_factor"
HOME_FACTORS = (MFA, PHISHING_RESISTANT, HARDWARE_KEY)


@record
class Partner:
    """One row of partners; a flag is None where the table has no such column.

    `factor` is the strongest proof that its people show at home, one of HOME_FACTORS, "" where that is not known.
    """

    domain: str
    flags: Mapping[str, str | None]
    factor: str = ""

    @property
    def home(self) -> Home:
        """Return what the flags mean for someone who comes from there."""
        flags = self.flags
        return Home(
            flags["guests_in"] != "false",
            flags["home_mfa_counts"] == "true",
            flags["home_device_counts"] == "true",
            self.factor,
        )


@record
class Home:
    """Describes what someone's home means here.

    Whether it is let in, whether its word on second factors and on devices counts, and the strongest proof that its
    people show there (one of HOME_FACTORS, "" where that is not known).
    """

    guests_in: bool
    home_mfa: bool
    home_device: bool
    factor: str = ""

    @property
    def decides_strength(self) -> bool:
        """Return whether how strong a proof is is decided there, and is not known here."""
        return self.guests_in and self.home_mfa and not self.factor

    @property
    def possible(self) -> tuple[Home, ...]:
        """Return the home with each factor that it may have.

        Where that is not known the weakest and the strongest are enough.
        """
        if not self.home_mfa or self.factor:
            return (self,)
        return tuple(replace(self, factor=factor) for factor in (HOME_FACTORS[0], HOME_FACTORS[-1]))

    @property
    def proofs(self) -> frozenset[str]:
        """Return what its people can show there, devices apart, where its word counts.

        All that there is where that is not known.
        """
        return with_implied((self.factor or HOME_FACTORS[-1],))


DEFAULT_PARTNER = Partner("*", PARTNER_COLUMNS)
OURS = Home(True, True, True)  # of someone who is no guest


def star_row(columns: Collection[str]) -> Partner:
    """Return the row `*` of a table with these columns that has none, as if it stood there with every cell empty."""
    return Partner("*", {name: missing if name in columns else None for name, missing in PARTNER_COLUMNS.items()})
