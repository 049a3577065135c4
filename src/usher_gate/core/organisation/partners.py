"""Other organisations: what the flags of a partner mean for people who come from there."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from ..words.record import record

# A partner's columns, each with what an empty cell means.
PARTNER_COLUMNS = {"guests_in": "true", "guests_out": "true", "home_mfa_counts": "false", "home_device_counts": "false"}


@record
class Partner:
    """One row of partners; a flag is None where the table has no such column."""

    domain: str
    flags: Mapping[str, str | None]

    @property
    def home(self) -> Home:
        """What the flags mean for somebody who comes from there."""
        flags = self.flags
        return Home(
            flags["guests_in"] != "false", flags["home_mfa_counts"] == "true", flags["home_device_counts"] == "true"
        )


@record
class Home:
    """What somebody's home means here: whether it is let in, and whether its word on second factors and on devices counts."""

    guests_in: bool
    home_mfa: bool
    home_device: bool


DEFAULT_PARTNER = Partner("*", PARTNER_COLUMNS)
OURS = Home(True, True, True)  # of somebody who is no guest


def star_row(columns: Collection[str]) -> Partner:
    """The row `*` of a table with these columns that has none, as if it stood there with every cell empty."""
    return Partner("*", {name: missing if name in columns else None for name, missing in PARTNER_COLUMNS.items()})
