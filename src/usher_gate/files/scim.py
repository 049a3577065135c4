"""Where SCIM (RFC 7643) and our extension of it keep what is known of a person.

What a source reads and the stand-in serves.
"""

from __future__ import annotations

# SCIM's own extension, and the one in which the stand-in keeps what SCIM has no attribute for.
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
ACCOUNT = "urn:usher-gate:params:scim:schemas:extension:account:1.0:User"
EXTENDED = (
    "break_glass",
    "home_domain",
    "sponsor",
    "mfa",
    "protection",
    "last_sign_in_at",
    "expires_at",
    "reviewed_at",
)
