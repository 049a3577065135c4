"""The closed lists of words of the domain. Imports nothing, so that `--help` can show them at once."""

from __future__ import annotations

SEVERITIES = ("critical", "high", "medium", "low")
# What may make the exit status of a check 1: verdicts, and what no rule asks about.
FAIL_VERDICTS = ("drifts", "loose", "unknown", "unavailable", "settling")
FAIL_WORDS = (*FAIL_VERDICTS, "contested", "contradictions", "stranded", "lockout", "ignored-settings")
SUBJECTS = ("people", "organisation", "partners", "meetings")
PERSON_KINDS = ("member", "guest", "service")
MFA_WORDS = ("absent", "offered", "required")  # weakest first
# The strongest that someone's registered authenticators give, weakest first.
CAN_SHOW = ("nothing", "restricted-mfa", "mfa", "phishing-resistant", "hardware-key")
PROTECTION_WORDS = ("standard", "heightened")
LEVELS = ("organisation", "unit", "group", "person")  # at which a service may resolve settings

MEETING_KINDS = ("scheduled", "instant", "personal", "webinar", "broadcast")

# Who may come to a meeting, what they hold, by which way, when, and what meets them (weakest first; Spec: doors 1).
DOOR_WAYS = ("app", "browser", "telephone", "room-system")

MODES = ("enforce", "observe", "off")
ELSEWHERE = "elsewhere"  # outside all named networks
ANY = "any"
CLIENTS = ("browser", "app", "legacy")
PLATFORMS = ("windows", "macos", "linux", "ios", "android", "other")
DEVICES = ("unknown", "registered", "managed", "healthy")
RISKS = ("none", "low", "medium", "high")
# What a sign-in says of itself in one word each, and what a condition may ask for.
CONDITION_WORDS = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}
CONDITIONS = ("network", *CONDITION_WORDS)
DIMENSIONS = ("resource", *CONDITIONS)  # all that distinguishes one sign-in of a person from another
PROOFS = ("mfa", "phishing-resistant", "hardware-key", "managed-device", "healthy-device")

# Why a verdict is what it is, each with a sentence for people; "" for one that needs no reason.
REASONS = {
    "fails": "What is there is not what is due.",
    "not-applied": "The setting is right and had time to arrive, but something else was really seen.",
    "open-door": "Someone gets further into a meeting than they should.",
    "young": "The setting is right, and so new that it may not have arrived.",
    "not-seen-since": "The setting is right; the old value was seen too early, and has not been looked at since.",
    "changeable": "The value is right today, but it is not pinned and can be changed.",
    "no-licence": "The control needs a licence that this person does not have.",
    "no-value": "No setting and no service default says what this person gets.",
    "no-fact": "The snapshot does not hold the fact that is asked for.",
    "no-audience": "The snapshot does not say which people the rule is for.",
    "observed": "No value is known, and what was really seen is too weak.",
    "not-supported": "The service supports too few of the controls that the rule asks for.",
    "hole": "There is a way to sign in on which the proof is not required.",
    "observed-only": "The proof would be required if the rules that are only observed were enforced.",
    "no-access-rules": "The snapshot has no access rules, so nothing is known about what a sign-in must show.",
    "": "",
}
