"""Other words that logs, exports and people use for ours.

Read as ours in logs, suggested in files that people write.
"""

from __future__ import annotations

from collections.abc import Mapping

RESULTS: Mapping[str, str] = {
    **dict.fromkeys(("success", "succeeded", "successful", "ok", "granted", "permitted", "passed"), "allowed"),
    **dict.fromkeys(("failure", "fail", "error", "unsuccessful", "wrong-password"), "failed"),
    **dict.fromkeys(("blocked", "rejected", "refused", "forbidden"), "denied"),
}
# Where a word leaves more than one type open, the one that is worth least of them.
TYPES: Mapping[str, str] = {
    **dict.fromkeys(("password", "passwd", "pin", "passphrase"), "memorized-secret"),
    **dict.fromkeys(("otp", "totp", "hotp", "one-time-password", "authenticator-app"), "single-factor-otp"),
    **dict.fromkeys(("sms", "text-message"), "out-of-band-sms"),
    **dict.fromkeys(("voice", "call", "phone-call", "telephone"), "out-of-band-voice"),
    **dict.fromkeys(("push", "app-push", "push-notification"), "out-of-band-app"),
    **dict.fromkeys(("recovery-code", "backup-code", "backup-codes"), "look-up-secret"),
    **dict.fromkeys(("smartcard", "smart-card"), "multi-factor-crypto-device"),
    **dict.fromkeys(("security-key", "u2f"), "single-factor-crypto-device"),
    **dict.fromkeys(("passkey", "webauthn"), "single-factor-crypto-software"),
}
MODES: Mapping[str, str] = {
    **dict.fromkeys(("enforced", "enabled", "enable", "active", "on", "block"), "enforce"),
    **dict.fromkeys(("observed", "audit", "log", "monitor", "test", "report"), "observe"),
    **dict.fromkeys(("disabled", "disable", "inactive", "none"), "off"),
}


def ours(word: str, words: Mapping[str, str]) -> str | None:
    """Our word for another one; None where it is none that is known. Neither case nor `_` and blanks for `-` count."""
    return words.get("-".join(word.casefold().replace("_", " ").split()))
