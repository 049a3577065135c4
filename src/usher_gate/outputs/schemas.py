"""The JSON Schemas of every result, one for each form."""

from __future__ import annotations

from ..core.changes.access import WHAT as WHAT_MOVES
from ..core.changes.baselines import STRICTER, WEAKER, WHAT_HAPPENED
from ..core.changes.compare import WORDS
from ..core.door.visitors import HOLDINGS, MOMENTS, STANDINGS, WAYS
from ..core.door.visitors import OUTCOMES as MET
from ..core.guests.deciding import FATES
from ..core.guests.policy import DAYS, END, KEEP
from ..core.guests.states import RECOMMENDATIONS, STATES
from ..core.history.intervals import KEPT, MOVES, WHAT
from ..core.mend.order import ORDERS
from ..core.sign_in.decide import OUTCOMES
from ..core.sign_in.rehearsal import RESULTS
from ..core.verdicts.codes import SHOWN_ORDER
from ..core.verdicts.meeting_field import MEETING_FIELDS
from ..core.words.vocabulary import (
    CONDITION_WORDS,
    CONDITIONS,
    DIMENSIONS,
    MEETING_KINDS,
    MODES,
    PERSON_KINDS,
    PROOFS,
    REASONS,
    SEVERITIES,
    SUBJECTS,
)
from ..files.schema_parts import COUNT, DAY, SOME, TEXT, TEXTS, TIME, Schema, form, list_of, nullable, object_of
from ..files.snapshot.catalogue import KIND_NAMES

_HEAD: Schema = {"organisation": TEXT, "taken_at": TIME}
_MAYBE_HEAD: Schema = {"organisation": nullable(TEXT), "taken_at": nullable(TIME)}
_TRUTH: Schema = {"type": "boolean"}
_WORD: Schema = {"type": "string"}
_VALUE_MOVED: dict[str, Schema] = {
    **dict.fromkeys(("service", "control", "person", "login"), TEXT),
    **dict.fromkeys(("before", "after"), nullable(_WORD)),
}
_VALUES_MOVED: dict[str, Schema] = dict.fromkeys(("affected", "weaker"), list_of(object_of(_VALUE_MOVED)))
_OUTCOME: Schema = {"enum": list(OUTCOMES)}


def _sign_in(address: Schema = TEXT) -> Schema:
    return object_of(
        {
            "resource": TEXT,
            "address": address,
            "network": TEXTS,
            **{name: {"enum": list(words)} for name, words in CONDITION_WORDS.items()},
        }
    )


def _lockout() -> Schema:
    kinds: Schema = {"enum": ["privileged", "break-glass"]}
    rule = object_of({"id": TEXT, "changed_at": nullable(TEXT)})
    return object_of({"resource": TEXT, "people": TEXTS, "of": kinds, "all": _TRUTH, "rules": list_of(rule)})


def _conditional() -> Schema:
    conditions = object_of({}, dict.fromkeys(CONDITIONS, SOME))
    return object_of({"resource": TEXT, "id": TEXT, "conditions": conditions, "combined": _TRUTH})


def _leaf() -> Schema:
    maybe = nullable(_WORD)
    cause = nullable(object_of({"scope": TEXT, "value": _WORD, "pinned": _TRUTH}))
    said: Schema = {"actual": maybe, "expected": TEXT, "verdict": {"enum": list(SHOWN_ORDER)}}
    abouts: Schema = {
        **dict.fromkeys(("control", "person", "partner", "count"), TEXT),
        "meeting": {"enum": list(MEETING_FIELDS)},
    }
    abouts["door"] = nullable(object_of({**_visit(), "outcome": {"enum": list(MET)}}))
    compared = [object_of({about: words, **said, "cause": cause}) for about, words in abouts.items()]
    return {"anyOf": [*compared, object_of({"proof": {"enum": list(PROOFS)}, **said, "hole": nullable(_sign_in())})]}


def _judgement() -> Schema:
    """Return what check and why both say of one rule and one person."""
    verdict: Schema = {"enum": list(SHOWN_ORDER)}
    return {
        "rule": TEXT,
        "severity": {"enum": list(SEVERITIES)},
        "service": nullable(_WORD),
        "verdict": verdict,
        "leaves": list_of(_leaf()),
        "exception": nullable(_WORD),
        "would_be": nullable(verdict),
    }


def _since() -> Schema:
    return object_of({"from": TIME, **dict.fromkeys(WHAT, COUNT), "oldest_age_days": nullable(COUNT)})


def _history() -> Schema:
    """Return the schema of `history`."""
    baseline = object_of({"name": TEXT, "version": TEXT})
    counted = dict.fromkeys(("people", "drifting_people", "drifts", "unknown", "roots", "open_doors"), COUNT)
    maybe = dict.fromkeys((*MOVES, "median_age_days", "oldest_age_days"), nullable(COUNT))
    severities = object_of(dict.fromkeys(SEVERITIES, COUNT))
    check = object_of(
        {
            "check": COUNT,
            "taken_at": TIME,
            "baseline": baseline,
            "link": TEXT,
            "severities": severities,
            **counted,
            **maybe,
        }
    )
    subject = object_of({"type": TEXT, "id": TEXT})
    changed = object_of(
        {
            "what": {"enum": list(WHAT)},
            "rule": TEXT,
            "service": nullable(TEXT),
            "subject": subject,
            "since": DAY,
            "age_days": COUNT,
        }
    )
    interval = object_of(
        {
            "rule": TEXT,
            "service": nullable(TEXT),
            "verdict": {"enum": sorted(KEPT)},
            "from": DAY,
            "to": nullable(DAY),
            "left": _TRUTH,
        }
    )
    since = object_of({"from": TIME, "to": TIME, **dict.fromkeys(WHAT, COUNT)})
    decision = object_of({"review": TEXT, "place": TEXT, "decision": {"enum": list(FATES)}, "kept": DAY})
    maybe_text = nullable(TEXT)
    root = object_of(
        {"service": maybe_text, "control": TEXT, "scope": maybe_text, "value": maybe_text, "then": COUNT, "now": COUNT}
    )
    lists = {
        "checks": list_of(check),
        "changed": list_of(changed),
        "roots": list_of(root),
        "spells": list_of(interval),
        "decisions": list_of(decision),
        "notes": TEXTS,
    }
    return form("history/1", {**_HEAD, "since": nullable(since), **lists})


def _check() -> Schema:
    """Return the schema of `check`."""
    counts = object_of(dict.fromkeys(SHOWN_ORDER, COUNT))
    maybe = nullable({"type": "string"})
    subject = {
        "anyOf": [
            object_of({"type": {"const": "person"}, "id": TEXT, "login": TEXT}),
            object_of({"type": {"enum": ["partner", "organisation"]}, "id": TEXT}),
            object_of({"type": {"const": "meeting"}, "id": TEXT, "label": _WORD, "organiser": TEXT}),
        ]
    }
    share: Schema = {"rule": TEXT, "judged": COUNT, "drifting": COUNT, "as_a_whole": _TRUTH, "own_setting": _TRUTH}
    summary = object_of(
        {
            "people": COUNT,
            "drifting_people": COUNT,
            "groups_drifting_as_a_whole": COUNT,
            "units_drifting_as_a_whole": COUNT,
            "rules_judging_nobody": TEXTS,
            **dict.fromkeys(("people_contested", "contradicting_people", "stranded_people"), COUNT),
            **dict.fromkeys(("unclear_people", "ignored_settings"), COUNT),
            "verdicts": counts,
            "others": list_of(object_of({"type": TEXT, "judged": COUNT, "drifting": COUNT, "verdicts": counts})),
        }
    )
    finding = object_of(
        {
            **_judgement(),
            "subject": subject,
            "reason": {"enum": list(REASONS)},
        }
    )
    root = object_of(
        {
            "service": maybe,
            "control": TEXT,
            "scope": maybe,
            "value": maybe,
            "rules": SOME,
            "where": nullable(TEXT),
            "severity": {"enum": list(SEVERITIES)},
            "people": COUNT,
            "verdicts": COUNT,
            "mended_value": maybe,
            **dict.fromkeys(("freed", "if_removed", "harms"), nullable(COUNT)),
            "harmed": TEXTS,
        }
    )
    rule = object_of(
        {
            "id": TEXT,
            "title": TEXT,
            "severity": {"enum": list(SEVERITIES)},
            "because": _WORD,
            "mend": _WORD,
            "maps": {"type": "object", "additionalProperties": TEXTS},
            "verdicts": counts,
        }
    )
    service = object_of({"id": TEXT, "accounts": COUNT, "drifting": COUNT, "verdicts": counts, "not_applicable": TEXTS})
    observed = object_of({"id": TEXT, "title": _WORD, "days": nullable(COUNT), "old": _TRUTH})
    ignored = object_of({"file": TEXT, "line": COUNT, "scope": TEXT, "nearest": nullable(TEXT)})
    settings = list_of(object_of({"scope": TEXT, "value": TEXT}))
    contested = object_of({"service": TEXT, "control": TEXT, "value": TEXT, "settings": settings, "people": SOME})
    exception = object_of(
        {
            "id": TEXT,
            "state": {"enum": ["in-force", "idle", "expired"]},
            "covers": COUNT,
            "until": DAY,
            "days_left": {"type": "integer"},
        }
    )
    return form(
        "check/1",
        {
            **_HEAD,
            "baseline": object_of({"name": TEXT, "version": TEXT}),
            "summary": summary,
            "snapshot": object_of(
                {"missing": TEXTS, "manifest": nullable(TEXT), "partial": TEXTS, "stale": nullable(TEXT)}
            ),
            "rules": list_of(rule),
            "services": list_of(service),
            "groups": list_of(object_of({"id": TEXT, "name": maybe, **share})),
            "units": list_of(object_of({"path": TEXT, **share})),
            "roots": list_of(root),
            "since": nullable(_since()),
            "findings": list_of(finding),
            "lockouts": list_of(_lockout()),
            "conditional": list_of(_conditional()),
            "observed_rules": list_of(observed),
            "exceptions": list_of(exception),
            "ignored": list_of(ignored),
            "contested": list_of(contested),
            "contradictions": list_of(object_of({"service": TEXT, "controls": SOME, "values": TEXTS, "people": SOME})),
            "stranded": list_of(object_of({"resource": TEXT, "people": COUNT})),
            "notes": TEXTS,
        },
    )


def _why() -> Schema:
    """Return the schema of `why`."""
    maybe = nullable(_WORD)
    person = object_of({"id": TEXT, "login": TEXT, "name": maybe, "kind": {"enum": list(PERSON_KINDS)}, "unit": maybe})
    where = {"value": maybe, "scope": maybe, "pinned": _TRUTH, "at": maybe}
    said = object_of(
        {
            **_judgement(),
            "title": _WORD,
            "reason": _WORD,
            "values": list_of(object_of({"service": TEXT, "control": TEXT, **where})),
            "facts": list_of(object_of({"fact": TEXT, "value": maybe})),
        }
    )
    setting = object_of(
        {
            "scope": TEXT,
            "value": _WORD,
            "pinned": _TRUTH,
            "rank": nullable({"type": "integer"}),
            "changed_at": maybe,
            "young": _TRUTH,
            "at": maybe,
            "note": maybe,
            "state": {"enum": ["stands", "overridden", "beaten", "after-pin"]},
        }
    )
    step = object_of({"step": TEXT, "gap": maybe, "ends_the_walk": _TRUTH, "settings": list_of(setting)})
    walk = object_of(
        {
            "service": TEXT,
            "control": TEXT,
            **dict.fromkeys(("supported", "account"), _TRUTH),
            **dict.fromkeys(("value", "scope"), maybe),
            **dict.fromkeys(("pinned", "changeable", "young"), _TRUTH),
            "licence": nullable({"enum": ["held", "without", "unavailable", "unknown"]}),
            "contested": list_of(object_of({"scope": TEXT, "value": _WORD})),
            "seen": list_of(_WORD),
            "steps": list_of(step),
            "rules": list_of(said),
            "contradictions": list_of(object_of({"control": TEXT, "value": _WORD, "scope": _WORD})),
            "arrives_at": maybe,
            "chains": list_of(SOME),
        }
    )
    glance = {
        "values": list_of(object_of({"service": TEXT, "control": TEXT, **where})),
        "facts": list_of(object_of({"fact": TEXT, "value": maybe})),
        "locked_out": TEXTS,
        "stranded": TEXTS,
    }
    lists = {"verdicts": list_of(said), **glance, "walks": list_of(walk)}
    return form("why/1", {**_HEAD, "person": person, "asked": _WORD, **lists}, {"meeting": TEXT})


def _sides() -> Schema:
    side = object_of({"name": TEXT, "people": COUNT, "drifting_people": COUNT})
    verdicts = object_of(dict.fromkeys(SHOWN_ORDER, COUNT))
    rule = object_of({"rule": TEXT, "severity": {"enum": list(SEVERITIES)}, "side": TEXT, "verdicts": verdicts})
    return form("sides/1", {**_HEAD, "sides": list_of(side), "rules": list_of(rule), "notes": TEXTS})


def _set() -> Schema:
    maybe = nullable(_WORD)
    setting = {"scope": nullable(TEXT), "value": maybe, "pinned": _TRUTH, "at": maybe}
    hidden = object_of({**setting, "people": TEXTS})
    one = object_of(
        {"service": TEXT, "control": TEXT, **setting, "reached": TEXTS, "counts": TEXTS, "hidden": list_of(hidden)}
    )
    person = object_of({"id": TEXT, "login": TEXT, "ways": TEXTS, "controls": COUNT, "counts": COUNT})
    return form("set/1", {**_HEAD, "set": TEXT, "rows": COUNT, "settings": list_of(one), "people": list_of(person)})


def _ways() -> Schema:
    maybe = nullable(_WORD)
    way = object_of({"scope": TEXT, "pinned": _TRUTH, "at": maybe})
    counts = nullable(object_of({"scope": TEXT, "value": maybe}))
    person = object_of(
        {"id": TEXT, "login": TEXT, "service": TEXT, "has": _TRUTH, "ways": list_of(way), "counts": counts}
    )
    return form("ways/1", {**_HEAD, "control": TEXT, "value": TEXT, "people": list_of(person)})


def _sign_in_form(of_all: bool = False) -> Schema:
    """Return the schema of `sign-in`: of one resource, or of all of them."""
    missing = object_of({"by": nullable(TEXT), "require": TEXT})
    decision = object_of(
        {
            "outcome": _OUTCOME,
            "sentence": TEXT,
            "denied_by": TEXTS,
            "missing": list_of(missing),
            "partner_shut": _TRUTH,
            "longest_hours": nullable({"type": "number"}),
            "no_downloads": _TRUTH,
            "helps": nullable(TEXT),
            "not_known": TEXTS,
        }
    )
    rule = object_of({"rule": TEXT, "mode": {"enum": list(MODES)}, "matches": TEXT})
    row: Schema = {
        "when": object_of({}, dict.fromkeys(CONDITIONS, TEXT)),
        "example": {"anyOf": [_sign_in(), _sign_in(_WORD)]},
        "decision": decision,
        "if_enforced": decision,
    }
    every = object_of({"resource": TEXT, "outcomes": list_of(_OUTCOME), "rows": list_of(object_of(row))})
    if of_all:
        return form("sign-ins/1", {**_HEAD, "person": TEXT, "resources": list_of(every)})
    rows = list_of(object_of({**row, "rules": list_of(rule)}))
    return form("sign-in/1", {**_HEAD, "person": TEXT, "resource": TEXT, "rows": rows})


def _holes() -> Schema:
    """Return the schema of `holes`."""
    by = object_of({"id": TEXT, "sign_ins": COUNT})
    used = object_of({"sign_ins": COUNT, "by": list_of(by), "last": nullable(TIME), "perhaps": COUNT})
    hole = object_of(
        {
            "rule": nullable(TEXT),
            "proof": {"enum": list(PROOFS)},
            "people": COUNT,
            "ids": TEXTS,
            "way": TEXT,
            "values": object_of(dict.fromkeys(DIMENSIONS, nullable(TEXTS))),
            "because": SOME,
            "observed_closes": _TRUTH,
            "example": _sign_in(),
            "used": nullable(used),
        }
    )
    defect = object_of({"rule": TEXT, "what": {"enum": ["idle", "exclusion-idle", "observed-long"]}, "text": TEXT})
    rule = object_of(
        {
            "id": TEXT,
            "title": TEXT,
            "mode": {"enum": list(MODES)},
            "reaches": nullable(COUNT),
            "excludes": nullable(COUNT),
            "outcome": TEXT,
        }
    )
    stranded = object_of({"resource": TEXT, "ids": SOME})
    asked = object_of({"rule": nullable(TEXT), "proof": {"enum": list(PROOFS)}, "people": COUNT, "unknown": COUNT})
    lists = {
        "asked": asked,
        "holes": hole,
        "lockouts": _lockout(),
        "conditional": _conditional(),
        "stranded": stranded,
        "ailments": defect,
        "rules": rule,
    }
    return form("holes/1", {**_HEAD, **{name: list_of(entry) for name, entry in lists.items()}})


def _rehearsal() -> Schema:
    """Return the schema of a sign-in rehearsal."""
    fates: Schema = dict.fromkeys(("challenged", "stuck", "denied", "unknown"), COUNT)
    lists: Schema = {
        "changes": object_of({"now": _OUTCOME, "then": _OUTCOME, "sign_ins": COUNT, "got_in": COUNT}),
        "days": object_of({"day": DAY, "sign_ins": COUNT, "got_in": COUNT, **fates}),
        "rules": object_of({"id": TEXT, "title": _WORD, **fates, "people": COUNT}),
        "resources": object_of({"name": TEXT, **fates, "people": COUNT}),
        "people": object_of({"id": TEXT, "login": TEXT, **fates}),
        "against": object_of({"id": TEXT, "login": TEXT, "kept_out": COUNT, "challenged": COUNT}),
        "lockouts": _lockout(),
        "break_glass": object_of(
            {
                "time": TEXT,
                "login": TEXT,
                "resource": TEXT,
                "result": nullable({"enum": list(RESULTS)}),
                "network": nullable(TEXTS),
            }
        ),
        "unused": object_of({"why": TEXT, "value": _WORD, "events": COUNT, "first": TEXT}),
    }
    counted = dict.fromkeys(("files", "read", "decided", "unused", "got_in"), COUNT)
    would_be = {**fates, **dict.fromkeys(("people", "changed", "eased", "denied_now", "challenged_now"), COUNT)}
    fields: Schema = {"tried": TEXT, "events": object_of(counted), "would_be": object_of(would_be)}
    return form("rehearsal/1", {**_HEAD, **fields, **{name: list_of(entry) for name, entry in lists.items()}})


def _visit() -> Schema:
    words = {"kind": MEETING_KINDS, "standing": STANDINGS, "holding": HOLDINGS, "way": WAYS, "moment": MOMENTS}
    return {name: {"enum": list(some)} for name, some in words.items()}


def _door() -> Schema:
    """Return the schema of `door`: of the organisation, of a host, of a planned meeting."""
    maybe, by_who = nullable(_WORD), _visit()
    kind = by_who["kind"]
    counts = dict.fromkeys(MET, COUNT)
    visitor = object_of({**{name: words for name, words in by_who.items() if name != "kind"}, **counts})
    door_counts = {**dict.fromkeys(("hosts", "open", "unwatched", "unknown"), COUNT)}
    gates = object_of(dict.fromkeys(("0", "1", "2", "3+"), COUNT))
    door = object_of({"service": TEXT, "kind": kind, **door_counts, "gates": gates, "visitors": list_of(visitor)})
    root = object_of(
        {"service": TEXT, "control": TEXT, "scope": maybe, "value": maybe, "hosts": COUNT, "freed": COUNT},
        {"mended_value": maybe},
    )
    lists = dict.fromkeys(("turned_away", "waiting", "need_account", "unknown"), TEXTS)
    meeting = object_of(
        {
            "id": TEXT,
            "label": _WORD,
            "service": TEXT,
            "kind": kind,
            "organiser": TEXT,
            "starts_at": TIME,
            "recurring": _TRUTH,
            "open": nullable(_TRUTH),
            **lists,
        }
    )
    cause = nullable(object_of({"scope": TEXT, "value": _WORD, "pinned": _TRUTH}))
    gate = nullable(
        {"enum": ["way", "domain", "account", "identity", "passcode", "host", "waiting-room", "audience", "room"]}
    )
    met = {
        "outcome": {"enum": list(MET)},
        "gate": gate,
        "control": maybe,
        "value": maybe,
        "cause": cause,
        "gates": COUNT,
    }
    visit = {"service": TEXT, **by_who, **met, "reads": TEXT, "inside": TEXTS}
    invited = object_of({"address": TEXT, **visit, "need_account": _TRUTH})
    host = object_of({"id": TEXT, "login": TEXT, "hosting": TEXTS})
    whole = {"doors": list_of(door), "roots": list_of(root), "meetings": list_of(meeting), "notes": TEXTS}
    visits = list_of(object_of(visit))
    of_host = form("door/1", {**_HEAD, "host": host, "visits": visits})
    of_all = form("door/1", {**_HEAD, **whole}, {"invited": list_of(invited), "visits": visits})
    head = {"$schema": of_all.pop("$schema"), "title": of_all.pop("title")}
    return {**head, "anyOf": [of_all, {key: value for key, value in of_host.items() if key not in head}]}


def _policy() -> Schema:
    return object_of({**dict.fromkeys(DAYS, COUNT), "on-silence": {"enum": [END, KEEP]}, "fallback": TEXTS})


def _guests() -> Schema:
    """Return the schema of `guests`."""
    guest = object_of(
        {
            "id": TEXT,
            "login": TEXT,
            "home_domain": nullable(TEXT),
            "sponsor": nullable(TEXT),
            "states": list_of({"enum": list(STATES)}),
            "recommendation": {"enum": list(RECOMMENDATIONS)},
            "reason": TEXT,
            "missing": TEXTS,
        }
    )
    review = object_of({"id": TEXT, "due": DAY, "worksheets": TEXTS})
    reviewer = object_of({"id": TEXT, "login": TEXT, "guests": COUNT, "rows": COUNT})
    return form(
        "guests/1",
        {
            **_HEAD,
            "policy": _policy(),
            "states": object_of(dict.fromkeys(STATES, COUNT)),
            "review": nullable(review),
            "nobody_to_ask": TEXTS,
            "guests": list_of(guest),
            "reviewers": list_of(reviewer),
            "notes": TEXTS,
        },
    )


def _review() -> Schema:
    """Return the schema of a guest review that was read."""
    row = object_of(
        {
            "guest": TEXT,
            "place": TEXT,
            "reviewer": TEXT,
            "decision": {"enum": list(FATES)},
            "until": nullable(DAY),
            "note": _WORD,
            "sponsor": nullable(TEXT),
            "where": TEXT,
            "others": TEXTS,
        }
    )
    reviewer = object_of({"id": TEXT, "answered": COUNT, "rows": COUNT})
    return form(
        "review/1",
        {
            **_HEAD,
            "review": TEXT,
            "asked_at": TIME,
            "asked_on": DAY,
            "due": DAY,
            "on": DAY,
            "on_silence": {"enum": [END, KEEP]},
            "decisions": object_of(dict.fromkeys(FATES, COUNT)),
            "ended": TEXTS,
            "kept": list_of(object_of({"until": DAY, "guests": TEXTS})),
            "sponsors": list_of(object_of({"sponsor": TEXT, "guests": TEXTS})),
            "removed": list_of(object_of({"group": TEXT, "guests": TEXTS})),
            "nested": list_of(object_of({"guest": TEXT, "group": TEXT, "through": TEXT})),
            "gone": TEXTS,
            "nobody_to_ask": TEXTS,
            "reviewers": list_of(reviewer),
            "rows": list_of(row),
            "notes": TEXTS,
        },
    )


def _mending() -> Schema:
    """Return the schema of `mend`."""
    plan: Schema = {
        **dict.fromkeys(("edits", "ended", "left", "freed", "touched", "without_need"), COUNT),
        "proof": TEXT,
        **dict.fromkeys(("gap", "drifting", "mendable"), COUNT),
        "steps_hurt_nobody": _TRUTH,
        "order": {"enum": list(ORDERS)},
    }
    place: Schema = {"service": TEXT, "control": TEXT, "scope": TEXT}
    counted: Schema = {
        **dict.fromkeys(("ended", "touched", "without_need", "component", "people"), COUNT),
        "undone_by": {"enum": ["nobody", "people", "settings"]},
    }
    changes = [{"set": object_of({**place, "value": _WORD, "pinned": _TRUTH})}, {"unset": object_of(place)}]
    member = {
        "members": object_of({"group": TEXT, "remove": TEXTS}),
        "ended": COUNT,
        "also": list_of(object_of(_VALUE_MOVED)),
        "access_rules": TEXTS,
    }
    edit: Schema = {"anyOf": [*(object_of({**change, **counted}) for change in changes), object_of(member)]}
    component = object_of(
        {
            "id": COUNT,
            "service": TEXT,
            "controls": TEXTS,
            "edits": COUNT,
            "left": COUNT,
            "proof": TEXT,
            "gap": COUNT,
            "greedy": nullable(COUNT),
        }
    )
    left = object_of(
        {
            "rule": TEXT,
            "service": TEXT,
            "subject": object_of({"type": {"enum": ["person", "meeting", "organisation"]}, "id": TEXT}),
            "because": TEXT,
            "against": _WORD,
        }
    )
    unit = object_of({"unit": nullable(TEXT), "people": TEXTS})
    task = object_of({"rule": TEXT, "mend": _WORD, "units": list_of(unit)})
    locked = object_of({"resource": TEXT, "of": {"enum": ["privileged", "break-glass"]}, "person": TEXT})
    account = object_of({"id": TEXT, "kind": {"enum": ["privileged", "break-glass"]}, "resources": TEXTS})
    closing = object_of(
        {
            "of": {"enum": ["hole", "lock-out"]},
            "rule": nullable(TEXT),
            "hole": nullable(TEXT),
            "account": nullable(account),
            "fewest": nullable(COUNT),
            "what": nullable(TEXT),
            "changes": list_of({"type": "object"}),
            "recommended": _TRUTH,
            "because": _WORD,
        },
        {
            "edits": TEXTS,
            "drifting": object_of({"before": COUNT, "after": COUNT}),
            "locked_out": list_of(locked),
            "stranded": TEXTS,
            "opened": list_of(object_of({"rule": TEXT, "people": TEXTS})),
            "sign_ins": nullable(object_of({"stopped": COUNT, "people": COUNT})),
        },
    )
    return form(
        "mending/1",
        {
            **_HEAD,
            "plan": object_of(plan),
            "edits": list_of(edit),
            "components": list_of(component),
            **_VALUES_MOVED,
            "left": list_of(left),
            "tasks": list_of(task),
            "sign_in_side": list_of(closing),
            "notes": TEXTS,
        },
    )


def _changed() -> Schema:
    """Return the schema of a rehearsal of changes."""
    counts = object_of(dict.fromkeys(SHOWN_ORDER, COUNT))
    word: Schema = {"enum": list(WORDS)}
    both = object_of({"before": COUNT, "after": COUNT})
    subject = object_of(
        {"type": {"enum": ["person", "meeting", "partner", "organisation"]}, "id": TEXT}, {"login": TEXT}
    )
    moved: Schema = {"rule": TEXT, "service": nullable(TEXT), "subject": subject}
    verdicts = object_of(
        {
            "before": counts,
            "after": counts,
            "moves": list_of(object_of({"from": word, "to": word, "count": COUNT})),
            "drifting_people": both,
            "begun": list_of(object_of(moved)),
            "ended": list_of(object_of(moved)),
            "worse": list_of(object_of({**moved, "from": word, "to": word})),
            "rules": list_of(object_of({"id": TEXT, "begun": COUNT, "ended": COUNT})),
        }
    )
    meeting = object_of(
        {
            "id": TEXT,
            "label": _WORD,
            "open": object_of(dict.fromkeys(("before", "after"), nullable(_TRUTH))),
            **dict.fromkeys(("turned_away", "waiting", "walking_in", "need_account"), TEXTS),
        }
    )
    locked = list_of(object_of({"resource": TEXT, "of": {"enum": ["privileged", "break-glass"]}, "person": TEXT}))
    moved_rule = object_of(
        {
            "id": TEXT,
            "what": {"enum": list(WHAT_HAPPENED)},
            "severity": {"enum": list(SEVERITIES)},
            "direction": nullable({"enum": [STRICTER, WEAKER]}),
            "fields": list_of(object_of({"field": TEXT, "before": _WORD, "after": _WORD})),
        }
    )
    return form(
        "rehearsal/2",
        {
            **_HEAD,
            "title": TEXT,
            "from": nullable(TIME),
            "verdicts": verdicts,
            "doors": nullable(object_of({"open": both, "unknown": both})),
            "baseline": nullable(
                object_of(
                    {
                        **dict.fromkeys(("before", "after"), object_of({"name": _WORD, "version": _WORD})),
                        "rules": list_of(moved_rule),
                        "idle_exceptions": TEXTS,
                    }
                )
            ),
            "newly_drifting": list_of(object_of({"id": TEXT, "login": TEXT})),
            "meetings": list_of(meeting),
            "sign_ins": nullable({"type": "object"}),
            "lockouts": object_of({"begun": locked, "ended": locked}),
            "stranded": list_of(object_of({"resource": TEXT, "id": TEXT, "helps": nullable(TEXT)})),
            "reach": list_of(object_of({"change": COUNT, "people": COUNT, "without_need": COUNT})),
            "access": list_of(
                object_of({"resource": TEXT, "what": {"enum": list(WHAT_MOVES)}, "people": SOME, "always": TEXTS})
            ),
            **_VALUES_MOVED,
            "protected": list_of(object_of({"rule": TEXT, **_VALUE_MOVED})),
            "notes": TEXTS,
        },
    )


def _uncovered() -> Schema:
    """Return the schema of `baseline --uncovered`."""
    values = list_of(object_of({"value": nullable(_WORD), "people": COUNT}))
    control = {
        **dict.fromkeys(("service", "control", "area"), TEXT),
        "title": _WORD,
        "settings": COUNT,
        "values": values,
    }
    return form(
        "uncovered/1",
        {
            **_HEAD,
            **dict.fromkeys(("controls_uncovered", "controls_of_services"), COUNT),
            "controls": list_of(object_of(control)),
            "facts": list_of(object_of({"fact": TEXT, "values": values})),
            "resources": TEXTS,
        },
    )


def _exceptions() -> Schema:
    """Return the schema of `exceptions`."""
    entry = object_of(
        {
            "exception": TEXT,
            "state": {"enum": ["in-force", "idle", "expired"]},
            "covers": COUNT,
            "until": DAY,
            "days_left": {"type": "integer"},
            "rules": SOME,
            "who": TEXT,
            "services": nullable(SOME),
            "reason": TEXT,
            "approved_by": TEXT,
            "ends_soon": _TRUTH,
        }
    )
    return form("exceptions-today/1", {**_HEAD, "exceptions": list_of(entry)})


def _rule() -> Schema:
    return {
        "id": TEXT,
        "severity": {"enum": list(SEVERITIES)},
        "subject": {"enum": list(SUBJECTS)},
        "audience": TEXT,
        "except": nullable(TEXT),
        "services": nullable(SOME),
        "pinned": nullable({"enum": ["true", "strict"]}),
        "title": TEXT,
        "expects": TEXT,
        "because": _WORD,
        "mend": _WORD,
        "maps": {"type": "object", "additionalProperties": TEXTS},
    }


def result_schemas() -> dict[str, Schema]:
    """Return the schema of every form of JSON that a verb writes, by the name of its file in the package (without
    `.schema.json`).
    """
    reach = object_of({"service": nullable(TEXT), "people": nullable(COUNT), "of": COUNT, "why": nullable(TEXT)})
    control = object_of(
        {
            "id": TEXT,
            "title": TEXT,
            "kind": {"enum": list(KIND_NAMES)},
            "values": TEXTS,
            "strict": nullable(TEXT),
            "weak": _WORD,
            "own": _TRUTH,
        }
    )
    return {
        "check": _check(),
        "why": _why(),
        "sides": _sides(),
        "ways": _ways(),
        "set": _set(),
        "sign-in": _sign_in_form(),
        "sign-ins": _sign_in_form(of_all=True),
        "holes": _holes(),
        "door": _door(),
        "rehearsal": _rehearsal(),
        "rehearsal-2": _changed(),
        "mending": _mending(),
        "history": _history(),
        "guests": _guests(),
        "review": _review(),
        "exceptions-today": _exceptions(),
        "rules": form("rules/1", {**_MAYBE_HEAD, "rules": list_of(object_of(_rule()))}),
        "rule": form("rule/1", {**_MAYBE_HEAD, **_rule(), "reaches": list_of(reach)}),
        "uncovered": _uncovered(),
        "controls": form("controls/1", {**_MAYBE_HEAD, "controls": list_of(control)}),
    }
