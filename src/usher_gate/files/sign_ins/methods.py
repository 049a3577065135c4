"""What sign-in logs call the ways to prove oneself, in our authenticator types.

The one table for it (docs/rehearse.md shows it).

`amr` values come from RFC 8176, section 2; `factor_type_id` from the object auth_factor of OCSF 1.x. Where a word
leaves more than one type open, the type that is worth least of them is used, so that no one is taken to have shown more
than is known. None: proves nothing by itself.
"""

from __future__ import annotations

from collections.abc import Mapping

# A factor of which only is known that it was another one: worth `mfa` and no more.
SOME_SECOND_FACTOR = "multi-factor-otp"

AMR: Mapping[str, str | None] = {
    "face": None,  # a biometric only opens an authenticator
    "fpt": None,
    "geo": None,
    "hwk": "single-factor-crypto-device",
    "iris": None,
    "kba": None,  # knowledge-based answers are no authenticator (NIST SP 800-63B, 5.1.1)
    "mca": None,  # says how it came, not what
    "mfa": SOME_SECOND_FACTOR,
    "otp": "single-factor-otp",
    "pin": "memorized-secret",
    "pop": "single-factor-crypto-software",
    "pwd": "memorized-secret",
    "rba": None,
    "retina": None,
    "sc": "multi-factor-crypto-device",
    "sms": "out-of-band-sms",
    "swk": "single-factor-crypto-software",
    "tel": "out-of-band-voice",
    "user": None,  # presence only
    "vbm": None,
    "wia": None,  # what the platform had asked for is not known
}

FACTORS: Mapping[int, str | None] = {
    0: None,  # unknown
    1: "out-of-band-sms",
    2: None,  # security question: as kba
    3: "out-of-band-voice",
    4: None,  # biometric
    5: "out-of-band-app",  # push notification
    6: "single-factor-otp",  # hardware token: the least that one can be
    7: "single-factor-otp",
    8: None,  # e-mail is no second channel (NIST SP 800-63B, 5.1.3.1)
    9: "single-factor-crypto-device",  # U2F
    10: "single-factor-crypto-software",  # WebAuthn: whether in hardware is not known
    11: "memorized-secret",
    99: None,
}

# What proves a second factor by being said: `mfa` beside others adds nothing to them.
WHOLE = "mfa"
