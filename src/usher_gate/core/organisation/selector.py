"""Selectors as they are written: which people a rule, an exception or a service speaks of."""

from __future__ import annotations

from dataclasses import dataclass

KEYS = (
    "any",
    "id",
    "kind",
    "unit",
    "group",
    "role",
    "licence",
    "login",
    "break-glass",
    "home-domain",
    "any-of",
    "all-of",
    "not",
)


@dataclass(frozen=True, slots=True)
class Selector:
    """`key` is `all-of`, `any-of` or `not` over `parts`, or one test whose `values` are alternatives."""

    key: str
    values: tuple[str, ...] = ()
    parts: tuple[Selector, ...] = ()

    @property
    def text(self) -> str:
        """Return the selector in words."""
        if self.key in ("all-of", "any-of"):
            return (" and " if self.key == "all-of" else " or ").join(
                f"({part.text})" if len(part.parts) > 1 else part.text for part in self.parts
            )
        if self.key == "not":
            return f"not ({self.parts[0].text})"
        return "everyone" if self.key == "any" else f"{self.key} {' or '.join(self.values)}"
