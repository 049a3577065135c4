"""Every fault is named by file and line, with what would be right, in one line each, and exit status 2."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests import tiny
from tests.tiny import check, write_tiny

S, P, B, X = "snapshot/settings.csv", "snapshot/people.csv", "baseline.yaml", "exceptions.yaml"
ORG, V = "snapshot/organisation.yaml", "snapshot/services.yaml"


def rule(text: str) -> str:
    return tiny.BASELINE + f"  - id: R9\n    title: t\n{text}"


def leaf(text: str) -> str:
    return rule(f"    expect: {{{text}}}\n")


A, M = "snapshot/access-rules.yaml", "snapshot/meetings.csv"


def access(change: str) -> str:
    """One access rule, one line of which is changed (or added)."""
    lines = {
        "mode": "mode: enforce",
        "people": "people: {include: {any: true}}",
        "resources": "resources: {include: any}",
        "outcome": "outcome: {deny: true}",
    }
    if change:
        lines[change.partition(":")[0]] = change
    return "usher-gate: access-rules/1\nrules:\n  - id: A1\n" + "".join(f"    {line}\n" for line in lines.values())


CASES: list[tuple[str, dict[str, str | bytes | None], str]] = [
    ("a misspelt column", {P: tiny.PEOPLE.replace("unit", "unti")}, f"{P}:1: unknown column 'unti'; did you mean 'unit'?"),
    ("a column twice", {P: tiny.PEOPLE.replace("mfa", "unit")}, f"{P}:1: the column 'unit' occurs here twice"),
    ("a missing column", {P: "id,kind\nP1,member\n"}, f"{P}:1: the column login is missing; people needs id, login, kind"),
    ("a short row", {P: tiny.PEOPLE + "P6,x@y.example,member\n"}, f"{P}:7: has 3 cells where the first line has 6"),
    ("an id twice", {P: tiny.PEOPLE + "P1,x@y.example,member,,,\n"}, f"{P}:7: the id 'P1' occurs here and in line 2"),
    ("an empty id", {P: tiny.PEOPLE + ",x@y.example,member,,,\n"}, f"{P}:7: the cell id is empty"),
    ("a kind that is none", {P: tiny.PEOPLE.replace("guest", "gast")}, f"{P}:5: kind: 'gast' is none of member, guest, service; did you mean 'guest'?"),
    ("a unit without a slash", {P: tiny.PEOPLE.replace("/Shore", "Shore", 1)}, f"{P}:4: unit: the unit 'Shore' does not begin with a slash; write '/Shore'"),
    ("a unit with an empty part", {P: tiny.PEOPLE.replace("/Fleet/Deck", "/Fleet//Deck")}, f"{P}:2: unit: the unit '/Fleet//Deck' has an empty part"),
    ("an mfa that is none", {P: tiny.PEOPLE.replace("offered", "maybe")}, f"{P}:3: mfa: 'maybe' is none of absent, offered, required"),
    ("a flag in capitals", {P: "id,login,kind,active\nP1,a@b.example,member,TRUE\n"}, f"{P}:2: active: 'TRUE' is not a flag; write true or false"),
    ("a date without an offset", {P: "id,login,kind,created_at\nP1,a@b.example,member,2026-01-01T00:00:00\n"},
     f"{P}:2: created_at: '2026-01-01T00:00:00' is not a time with an offset"),
    ("a NUL byte", {P: tiny.PEOPLE.replace("ada", "a\0a")}, f"{P}:2: holds a NUL byte"),
    ("not UTF-8", {P: tiny.PEOPLE.encode() + b"P9,\xff\xfe,member,,,\n"}, f"{P}:7: is not UTF-8 text"),
    ("an open quote", {P: tiny.PEOPLE + '"P6,x@y.example,member,,,\n'}, f"{P}:7: is not CSV here"),
    ("an enormous cell", {P: tiny.PEOPLE + "P6," + "x" * 1_200_000 + ",member,,,\n"}, f"{P}:7: is not CSV here"),
    ("an empty table", {P: ""}, f"{P}:1: is empty; begin with a line of columns: id,login,kind"),
    ("no people", {P: None}, "snapshot: has no people table"),
    ("two files for one table", {"snapshot/people.jsonl": "{}"}, "snapshot/people.jsonl: is beside people.csv; keep one file for each table"),
    ("a row that is no JSON", {P: None, "snapshot/people.jsonl": '{"id": "P1", "login": "a", "kind": "member"}\n{nonsense}\n'},
     "snapshot/people.jsonl:2: is not JSON"),
    ("a row that is no object", {P: None, "snapshot/people.jsonl": '["P1"]\n'}, "snapshot/people.jsonl:1: holds no object"),
    ("a number where a text is due", {P: None, "snapshot/people.jsonl": '{"id": 1, "login": "a", "kind": "member"}\n'},
     "snapshot/people.jsonl:1: id: '1' is not a text in quotes"),
    ("a key twice in a row", {P: None, "snapshot/people.jsonl": '{"id": "a", "id": "b", "login": "a", "kind": "member"}\n'},
     "snapshot/people.jsonl:1: is not JSON (a key occurs twice in one object)"),
    ("an unknown key in a row", {P: None, "snapshot/people.jsonl": '{"id": "a", "login": "a", "kin": "member"}\n'},
     "snapshot/people.jsonl:1: unknown column 'kin'; did you mean 'kind'?"),
    ("no Parquet", {P: None, "snapshot/people.parquet": "nonsense"}, "snapshot/people.parquet: "),
    ("a group twice", {"snapshot/groups.csv": "id,name\ng1,A\ng1,B\n"}, "snapshot/groups.csv:3: the group 'g1' occurs here and in line 2"),
    ("an unknown service", {S: tiny.SETTINGS + "tidecal,door.close,organisation,on,\n"}, f"{S}:4: service: there is no service 'tidecal'; did you mean 'tidecall'?"),
    ("an unknown control", {S: tiny.SETTINGS + "tidecall,door.waitingroom,organisation,on,\n"},
     f"{S}:4: control: there is no control 'door.waitingroom'; did you mean 'door.waiting-room'?"),
    ("a value of another control", {S: tiny.SETTINGS + "tidecall,door.close,organisation,guests,\n"}, f"{S}:4: value: 'guests' is no value of door.close; write off or on"),
    ("text where a number is due", {S: tiny.SETTINGS + "tidecall,door.passcode-length,organisation,long,\n"},
     f"{S}:4: value: 'long' is no value of door.passcode-length; write a decimal number"),
    ("an inactive setting is checked too", {S: "service,control,scope,value,active\ntidecall,door.close,organisation,maybe,false\n"}, f"{S}:2: value: 'maybe'"),
    ("a scope that is none", {S: tiny.SETTINGS + "tidecall,door.close,everyone,on,\n"}, f"{S}:4: scope: 'everyone' is no scope; write organisation, unit:/PATH"),
    ("the same scope twice", {S: tiny.SETTINGS + "tidecall,door.host-first,organisation,on,\n"}, f"{S}:4: the same service, control and scope (organisation) stand here and in line 3"),
    ("a rank that is none", {S: "service,control,scope,value,rank\ntidecall,door.close,organisation,on,first\n"}, f"{S}:2: rank: 'first' is not a whole number"),
    ("an observation of what is no value", {"snapshot/observations.csv": "person,service,control,value,seen_at\nP1,tidecall,door.close,shut,2026-11-20T05:00:00Z\n"},
     "snapshot/observations.csv:2: value: 'shut' is no value of door.close"),
    ("a partner twice", {"snapshot/partners.csv": "domain\na.example\nA.example\n"}, "snapshot/partners.csv:3: the partner 'A.example' occurs here and in line 2"),
    ("no organisation", {ORG: None}, f"{ORG}: does not exist"),
    ("not its form", {ORG: tiny.ORGANISATION.replace("snapshot/1", "snapshot/2")}, f"{ORG}:1: usher-gate: 'snapshot/2' is not the form of this file; write usher-gate: snapshot/1"),
    ("no form at all", {ORG: "name: x\n"}, f"{ORG}:1: the key usher-gate is missing; begin with usher-gate: snapshot/1"),
    ("an unknown key", {ORG: tiny.ORGANISATION + "domain: [x.example]\n"}, f"{ORG}:7: domain: unknown key 'domain'; did you mean 'domains'?"),
    ("a key twice", {ORG: tiny.ORGANISATION + "name: Other\n"}, f"{ORG}:7: the key 'name' occurs here twice (first in line 2)"),
    ("a time without an offset", {ORG: tiny.ORGANISATION.replace("06:00:00Z", "06:00:00")}, f"{ORG}:3: taken_at: '2026-11-20T06:00:00' is not a time with an offset"),
    ("a number where a word is due", {ORG: tiny.ORGANISATION.replace("Tiny", "42")}, f"{ORG}:2: name: '42' is a number where a name is due; write it in quotes"),
    ("an alias", {ORG: tiny.ORGANISATION + "domains: &a [x.example]\n"}, f"{ORG}:7: uses an anchor"),
    ("deep brackets", {ORG: tiny.ORGANISATION + "domains: " + "[" * 60 + "]" * 60 + "\n"}, f"{ORG}:7: nests deeper than 50 levels"),
    ("50 MB of brackets", {ORG: "[" * 50_000_000}, f"{ORG}: is larger than 8 MiB"),
    ("8 MB of brackets", {ORG: "[" * 8_000_000}, f"{ORG}:1: nests deeper than 50 levels"),
    ("not YAML", {ORG: "usher-gate: [snapshot/1\nname: x\n"}, f"{ORG}:2: is not YAML here"),
    ("a tag", {ORG: tiny.ORGANISATION + "domains: !!python/object:os.system [x]\n"}, f"{ORG}:7: uses the tag"),
    ("a control character", {ORG: tiny.ORGANISATION.replace("Tiny", "Ti\x01ny")}, f"{ORG}:2: holds a character that YAML does not allow"),
    ("an empty file", {ORG: ""}, f"{ORG}:1: is empty"),
    ("two documents", {ORG: tiny.ORGANISATION + "---\na: b\n"}, f"{ORG}:7: begins a second document"),
    ("not an address range", {ORG: tiny.ORGANISATION.replace("192.0.2.0/24", "300.1.1.0/24")}, f"{ORG}:5: networks.office[0]: '300.1.1.0/24' is no address range"),
    ("an own control that is the catalogue's", {ORG: tiny.ORGANISATION + "controls:\n  - {id: door.close, title: t, kind: set}\n"}, f"{ORG}:8: controls[0]: 'door.close' is a control of the catalogue"),
    ("an own level without values", {ORG: tiny.ORGANISATION + "controls:\n  - {id: dock.gate, title: t, kind: level}\n"}, f"{ORG}:8: controls[0]: the key values is missing; a level needs it"),
    ("an own flag with values", {ORG: tiny.ORGANISATION + "controls:\n  - {id: dock.gate, title: t, kind: flag, strict: on, values: [a, b]}\n"}, f"{ORG}:8: controls[0].values: a flag has no values"),
    ("a service twice", {V: tiny.SERVICES + "  - id: tidecall\n"}, f"{V}:7: services[1]: the service 'tidecall' occurs here and in line 3"),
    ("a level that is none", {V: tiny.SERVICES + "    precedence: [organisation, team]\n"}, f"{V}:7: services[0].precedence[1]: 'team' is no level; known:"),
    ("organisation not first", {V: tiny.SERVICES + "    precedence: [unit, organisation]\n"}, f"{V}:7: services[0].precedence: 'unit' is first"),
    ("a factory value that is none", {V: tiny.SERVICES.replace("everyone}", "nobody}")}, f"{V}:5: services[0].factory.door.waiting-room: 'nobody' is no value"),
    ("an unknown group in accounts", {V: tiny.SERVICES + "    accounts: {group: g7}\n"}, f"{V}:7: services[0].accounts.group: there is no group 'g7'"),
    ("hours that are none", {V: tiny.SERVICES + "    settle_hours: soon\n"}, f"{V}:7: services[0].settle_hours: 'soon' is not a number"),
    ("needs nothing", {V: tiny.SERVICES + "    needs: {door.close: {}}\n"}, f"{V}:7: services[0].needs.door.close: the key licences is missing"),
    ("no baseline", {B: None}, f"{B}: does not exist"),
    ("a rule twice", {B: rule("    expect: {person: mfa, is: required}\n").replace("R9", "R1")}, f"{B}:14: rules[2]: the rule 'R1' occurs here and in line 5"),
    ("a rule without a title", {B: tiny.BASELINE + "  - id: R9\n    expect: {person: mfa, is: required}\n"}, f"{B}:14: rules[2]: the key title is missing"),
    ("a severity that is none", {B: rule("    severity: dire\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.severity: 'dire' is none of the words"),
    ("a meeting's field that is none", {B: rule("    subject: meetings\n    expect: {meeting: invites, is: 1}\n")}, f"{B}:17: rule R9.expect.meeting: a meeting has no field 'invites'; did you mean 'invitees'?"),
    ("an alias", {ORG: tiny.ORGANISATION.replace("name: Tiny", "name: *tiny")}, f"{ORG}:2: uses an alias (*name); write the value out"),
    ("a value that is a mapping", {V: tiny.SERVICES.replace("everyone}", "{a: b}}")}, f"{V}:5: services[0].factory.door.waiting-room: a mapping is found where"),
    ("between one number", {B: rule("    expect: {person: days-since-created, between: [5]}\n")}, f"{B}:16: rule R9.expect.between: "),
    ("an order that a field has not", {B: rule("    subject: meetings\n    expect: {meeting: days-ahead, no_weaker_than: 3}\n")}, f"{B}:17: rule R9.expect.no_weaker_than: no-weaker-than does not fit days-ahead"),
    ("a meeting in a rule about people", {B: leaf("meeting: kind, is: webinar")}, f"{B}:16: rule R9.expect: meeting does not fit here; a rule about people asks for a control or door or person or proof"),
    ("a door in a rule about the organisation", {B: rule("    subject: organisation\n    expect: {door: {}, is: waits}\n")}, f"{B}:17: rule R9.expect: door does not fit here; a rule about organisation asks for a control or count"),
    ("an unknown key of a door", {B: leaf("door: {who: nobody}, is: waits")}, f"{B}:16: rule R9.expect.door.who: unknown key 'who'; known: holding, kind, moment, standing, way"),
    ("an unknown standing", {B: leaf("door: {standing: [nobody, strangers]}, is: waits")}, f"{B}:16: rule R9.expect.door.standing[1]: 'strangers' is none of the words"),
    ("an unknown way", {B: leaf("door: {way: phone}, is: waits")}, f"{B}:16: rule R9.expect.door.way: 'phone' is none of the words"),
    ("an unknown kind of meeting", {B: leaf("door: {kind: party}, is: waits")}, f"{B}:16: rule R9.expect.door.kind: 'party' is none of the words"),
    ("nobody at the door", {B: leaf("door: {standing: []}, is: waits")}, f"{B}:16: rule R9.expect.door.standing: "),
    ("a door at which no one can stand", {B: leaf("door: {standing: member, way: telephone}, is: waits")}, f"{B}:16: rule R9.expect.door: no one can come so"),
    ("a comparison that a door has not", {B: leaf("door: {}, between: [enters, waits]")}, f"{B}:16: rule R9.expect.between: between does not fit a door"),
    ("an outcome that is none", {B: leaf("door: {}, is: open")}, f"{B}:16: rule R9.expect.is: 'open' does not fit a door; write one of enters, waits, refused"),
    ("a kind that a service cannot have", {V: tiny.SERVICES + "    door: {kinds: [party]}\n"}, f"{V}:7: services[0].door.kinds[0]: 'party' is none of the words"),
    ("no way into a service", {V: tiny.SERVICES + "    door: {ways: []}\n"}, f"{V}:7: services[0].door.ways: "),
    ("an unknown key of a service's door", {V: tiny.SERVICES + "    door: {way: [app]}\n"}, f"{V}:7: services[0].door.way: unknown key 'way'; did you mean 'ways'?"),
    ("callers asked perhaps", {V: tiny.SERVICES + "    door: {asks_callers: perhaps}\n"}, f"{V}:7: services[0].door.asks_callers: "),
    ("pins that are none", {V: tiny.SERVICES + "    pins: some\n"}, f"{V}:7: services[0].pins: "),
    ("nobody at once", {V: tiny.SERVICES + "    batch: 0\n"}, f"{V}:7: services[0].batch: "),
    ("a meeting without organiser", {M: "id,service,organiser,starts_at\nm1,tidecall,,2026-11-21T06:00:00Z\n"}, f"{M}:2: the cell organiser is empty"),
    ("two meetings with one id", {M: "id,service,organiser,starts_at\nm1,tidecall,P1,2026-11-21T06:00:00Z\nm1,tidecall,P2,2026-11-21T06:00:00Z\n"}, f"{M}:3: the id 'm1' occurs here and in line 2; give each meeting an id of its own"),
    ("a meeting that ends before it starts", {M: "id,service,organiser,starts_at,ends_at,recurring\nm1,tidecall,P1,2026-11-21T06:00:00Z,2026-11-20T06:00:00Z,true\n"}, f"{M}:2: ends_at: the meeting ends before it starts"),
    ("a kind of meeting that is none", {M: "id,service,organiser,starts_at,kind\nm1,tidecall,P1,2026-11-21T06:00:00Z,party\n"}, f"{M}:2: kind: 'party' is none of scheduled, instant"),
    ("an unknown audience", {B: rule("    audience: all\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.audience: there is no audience 'all'"),
    ("an empty selector", {B: rule("    audience: {}\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.audience: an empty selector chooses no one; write any: true"),
    ("an unknown selector key", {B: rule("    audience: {rol: x}\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.audience.rol: unknown key 'rol'; did you mean 'role'?"),
    ("an unknown group in a rule", {B: rule("    audience: {group: Wacht}\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.audience.group: there is no group 'Wacht'; did you mean 'Watch'?"),
    ("services without a control", {B: rule("    services: [tidecall]\n    expect: {person: mfa, is: required}\n")}, f"{B}:16: rule R9.services: the rule has neither a control nor a door in it"),
    ("services that do not exist", {B: rule("    services: [tidecal]\n    expect: {control: door.close, is: on}\n")}, f"{B}:16: rule R9.services[0]: there is no service 'tidecal'"),
    ("an unknown control in a rule", {B: leaf("control: door.clse, is: on")}, f"{B}:16: rule R9.expect.control: there is no control 'door.clse'; did you mean 'door.close'?"),
    ("an unknown level in a rule", {B: leaf("control: door.waiting-room, is: friends")}, f"{B}:16: rule R9.expect.is: 'friends' does not fit door.waiting-room; write one of everyone, partners"),
    ("an unknown fact", {B: leaf("person: mfaa, is: required")}, f"{B}:16: rule R9.expect.person: there is no fact 'mfaa' of a person; did you mean 'mfa'?"),
    ("a comparison that does not fit", {B: leaf("control: door.close, within: [a]")}, f"{B}:16: rule R9.expect.within: within does not fit door.close, a flag"),
    ("two comparisons", {B: leaf("control: door.close, is: on, one_of: [on]")}, f"{B}:16: rule R9.expect: a condition has 2 comparisons: is, one_of"),
    ("no comparison", {B: leaf("control: door.close")}, f"{B}:16: rule R9.expect: a condition has no comparisons"),
    ("about nothing", {B: leaf("is: on")}, f"{B}:16: rule R9.expect: a condition has none of control, door, person"),
    ("a tree beside a leaf", {B: leaf("any_of: [{person: mfa, is: required}], person: mfa")}, f"{B}:16: rule R9.expect: any_of is beside person"),
    ("too many of a few", {B: leaf("some_of: {at_least: 3, of: [{person: mfa, is: required}]}")}, f"{B}:16: rule R9.expect.some_of.of: at_least 3 of 1 can never hold"),
    ("present for what is never missing", {B: leaf("person: roles, present: true")}, f"{B}:16: rule R9.expect.present: roles is never missing"),
    ("a value for what is only present", {B: leaf("person: sponsor, is: P1")}, f"{B}:16: rule R9.expect.is: sponsor is only present or not"),
    ("a range the wrong way round", {B: leaf("control: door.passcode-length, between: [9, 4]")}, f"{B}:16: rule R9.expect.between: '9, 4' does not fit door.passcode-length; write two numbers, the lower first"),
    ("one-of a set without lists", {B: leaf("control: app.allowed, one_of: [a, b]")}, f"{B}:16: rule R9.expect.one_of: one-of for a set takes a list of lists"),
    ("a count about people", {B: leaf("count: {any: true}, is: 1")}, f"{B}:16: rule R9.expect: count does not fit here; a rule about people asks for a control or door or person or proof"),
    ("an unknown column of partners", {B: rule("    subject: partners\n    expect: {partner: guests_im, is: on}\n")}, f"{B}:17: rule R9.expect.partner: partners has no column 'guests_im'; did you mean 'guests_in'?"),
    ("an exception twice", {X: tiny.EXCEPTIONS + tiny.EXCEPTIONS.split("exceptions:\n")[1]}, f"{X}:9: exceptions[1]: the exception 'X1' occurs here and in line 3"),
    ("no reason", {X: tiny.EXCEPTIONS.replace("    reason: Ben's telephone is at the bottom of the harbour.\n", "")}, f"{X}:3: exceptions[0]: the key reason is missing"),
    ("no end", {X: tiny.EXCEPTIONS.replace("    until: 2026-12-01\n", "")}, f"{X}:3: exceptions[0]: the key until is missing"),
    ("an end that is no day", {X: tiny.EXCEPTIONS.replace("2026-12-01", "soon")}, f"{X}:8: exceptions[0].until: 'soon' is not a day; write it as 2026-11-20"),
    ("an exception from no rule", {X: tiny.EXCEPTIONS.replace("R2", "R22")}, f"{X}:4: exceptions[0].rules[0]: there is no rule 'R22'; did you mean 'R2'?"),
    ("people and partners", {X: tiny.EXCEPTIONS + "    partners: [a.example]\n"}, f"{X}:3: exceptions[0]: an exception has either who (people) or partners (domains)"),
    ("an unknown key in the settings file", {"usher-gate.toml": 'snapshott = "x"\n'}, "usher-gate.toml:1: unknown key 'snapshott'; did you mean 'snapshot'?"),
    ("a settings file that is none", {"usher-gate.toml": "snapshot = \n"}, "usher-gate.toml:1: is not TOML here"),
    ("an access rule for no resource", {A: access("resources: {include: [consol]}")}, f"{A}:6: access rule A1.resources.include: there is no resource 'consol'; did you mean 'console'?"),
    ("an access rule for no network", {A: access("when: {network: {include: [offic]}}")}, f"{A}:8: access rule A1.when.network.include: there is no network 'offic'; did you mean 'office'?"),
    ("an access rule for no group", {A: access("people: {include: {group: g9}}")}, f"{A}:5: access rule A1.people.include.group: there is no group 'g9'"),
    ("an empty include", {A: access("people: {include: {}}")}, f"{A}:5: access rule A1.people.include: an empty selector chooses no one"),
    ("an access rule twice", {A: access("") + access("").split("rules:\n")[1]}, f"{A}:8: rules[1]: the access rule 'A1' occurs here and in line 3"),
    ("a mode that is none", {A: access("mode: on")}, f"{A}:4: access rule A1.mode: 'on' is enforce in our words; write that, here and everywhere"),
    ("a mode that no one knows", {A: access("mode: fierce")}, f"{A}:4: access rule A1.mode: 'fierce' is none of the words that may be here"),
    ("a proof that is none", {A: access("outcome: {require: {all_of: [password]}}")}, f"{A}:7: access rule A1.outcome.require.all_of[0]: 'password' is none of the words"),
    ("an outcome that is none", {A: access("outcome: {}")}, f"{A}:7: access rule A1.outcome: an outcome has deny: true, or require, or session"),
    ("a proof on no resource", {B: leaf("proof: mfa, on: [consol]")}, f"{B}:16: rule R9.expect.on: there is no resource 'consol'"),
    ("an authenticator that is none", {"snapshot/authenticators.csv": "person,type\nP1,otp\n"}, "snapshot/authenticators.csv:2: type: 'otp' is single-factor-otp in our words; write that"),
    ("an authenticator that no one knows", {"snapshot/authenticators.csv": "person,type\nP1,charm\n"}, "snapshot/authenticators.csv:2: type: 'charm' is none of memorized-secret"),
    ("passwords in many lines", {"snapshot/authenticators.csv": "person,type\n" + "P1,password\n" * 30}, "snapshot/authenticators.csv:2: type: 'password' is memorized-secret in our words; write that (and 29 more lines)"),
    ("cells between semicolons", {P: tiny.PEOPLE.replace(",", ";")}, f"{P}:1: its cells are separated by semicolons; save it with commas (RFC 4180)"),
    ("everything called all", {A: access("resources: {include: all}")}, f"{A}:6: access rule A1.resources.include: there is no resource 'all'; write any"),
    ("a partner with an at sign", {"snapshot/partners.csv": "domain\n@a.example\n"}, "snapshot/partners.csv:2: domain: '@a.example' is no domain; write 'a.example'"),
    ("a partner with a star", {"snapshot/partners.csv": "domain\n*.a.example\n"}, "snapshot/partners.csv:2: domain: '*.a.example' is no domain; write 'a.example'"),
    ("a table in UTF-16", {P: tiny.PEOPLE.encode("utf-16")}, f"{P}:1: is UTF-16 text; save it as UTF-8"),
    ("two people with one login", {P: tiny.PEOPLE + "P6,Ada@northmere.example,member,,,\n"}, f"{P}:7: the login 'Ada@northmere.example' occurs here and in line 2"),
    ("nothing named", {"usher-gate.toml": None}, 'no snapshot is named; write --snapshot PATH, or snapshot = "PATH" in usher-gate.toml'),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "message"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_a_fault_is_named(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, changes: dict[str, str | bytes | None], message: str
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path, changes))
    done = check()
    assert done.status == 2
    assert done.out == ""
    lines = done.err.splitlines()
    assert any(line.startswith(f"usher-gate: error: {message}") for line in lines), done.err
    assert all(line.startswith(("usher-gate: error: ", "usher-gate: note: ")) for line in lines)


NOTES = [
    ("a star that fits nothing", {V: tiny.SERVICES.replace("door.*", "dor.*")}, "services.yaml:4: no control begins with 'dor.*'; did you mean 'door.*'?"),
    ("an access rule that can never match", {A: access("resources: {include: [console], exclude: [console]}")}, "access-rules.yaml:6: access rule A1.resources: every resource that is included is excluded again"),
    ("an access rule from no address", {A: access("when: {network: {include: [office], exclude: [office]}}")}, "access-rules.yaml:8: access rule A1.when: no address satisfies its network condition"),
    ("a pass that ends before it begins", {"snapshot/passes.csv": "person,issued_at,expires_at\nP1,2026-11-20T05:00:00Z,2026-11-20T05:00:00Z\n"}, "passes.csv:2: the pass ends before it begins"),
    ("a sponsor who has left", {P: "id,login,kind,sponsor\nP1,a@x.example,member,\nP2,b@x.example,guest,P9\n"}, "people.csv:3: a sponsor is not an active member; it counts as no sponsor"),
    ("a role that no one has", {B: rule("    audience: {role: admn}\n    expect: {person: mfa, is: required}\n")}, "the audience of rule R9 asks for the role 'admn', which no one has; did you mean 'admin'?"),
    ("a login that no one has", {B: rule("    except: {login: \"*@nothmere.example\"}\n    expect: {person: mfa, is: required}\n")}, "the key except of rule R9 asks for the login '*@nothmere.example', which no one has"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "message"), [case[1:] for case in NOTES], ids=[case[0] for case in NOTES])
def test_what_is_odd_is_noted(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, changes: dict[str, str | bytes | None], message: str
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path, changes))
    done = check()
    assert done.status != 2
    assert message in done.err


def test_a_wrong_control_of_ones_own_is_one_error(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    controls = "controls:\n  - {id: dock.gate, title: Gate, kind: level, values: [open]}\n"
    settings = (
        "service,control,scope,value\ntidecall,dock.gate,organisation,open\ntidecall,dock.gate,unit:/Fleet,shut\n"
    )
    services = tiny.SERVICES.replace('["door.*"]', '["door.*", dock.gate]')
    monkeypatch.chdir(write_tiny(tmp_path, {ORG: tiny.ORGANISATION + controls, S: settings, V: services}))
    errors = [line for line in check().err.splitlines() if "error" in line]
    assert len(errors) == 1, errors


def test_all_faults_of_all_files_are_named_in_one_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    broken = "".join(f"Q{number},q{number}@northmere.example,gast,,,\n" for number in range(70))
    monkeypatch.chdir(
        write_tiny(
            tmp_path,
            {
                P: tiny.PEOPLE + broken,
                ORG: tiny.ORGANISATION + "domain: []\n",
                V: tiny.SERVICES + "    settle_hours: x\n",
            },
        )
    )
    lines = check().err.splitlines()
    assert len(lines) == 51
    assert lines[-1] == "usher-gate: error: and 2 more"
    assert any("organisation.yaml:7" in line for line in lines)


@pytest.mark.parametrize(("arguments", "message"), [
    (("chek",), "there is no verb 'chek'; did you mean check?"), (("--nonsense",), "there is no option '--nonsense'"),
    (("check", "--rule", "R7"), "there is no rule 'R7'"), (("check", "--person", "ada"), "there is no person 'ada'"),
    (("check", "--group", "g9"), "there is no group 'g9'; known: g1"), (("check", "--unit", "/Flet"), "there is no unit '/Flet'; did you mean '/Fleet'?"),
    (("check", "--service", "x"), "there is no service 'x'"), (("check", "--verdict", "bad"), "there is no verdict 'bad'"),
    (("check", "--format", "xml"), "argument --format: invalid choice: 'xml'"), (("check", "--out", "nowhere/x.json"), "nowhere/x.json: cannot be written"),
    (("why",), "name a person, or --control CONTROL --value VALUE"), (("why", "P1", "door.close", "--rule", "R1"), "name either a control or --rule ID"),
    (("why", "door.close", "P1"), "door.close is a control; the person comes first: usher-gate why P1 door.close"), (("why", "--control", "door.close"), "with both --control CONTROL and --value VALUE"),
    (("why", "--control", "door.close", "--value", "ajar"), "'ajar' is no value of door.close; write off or on"), (("check", "--sevrity", "high"), "did you mean --severity?"),
    (("check", "--rows", "-1"), "-1 is too small; write 0 or more"), (("stand-in", "--every", "0"), "0 is too small; write 1 or more"), (("stand-in", "--rate", "0"), "0 is not a number greater than 0"),
    (("check", "--by", "nist"), "no rule maps to 'nist'"), (("check", "--unit", "/Nowhere"), "there is no unit '/Nowhere'"), (("check", "--snapshot", "."), ".: is no snapshot, but holds one; name snapshot"),
    (("sign-in", "P1", "--resource", "console", "--resource", "meetings"), "--resource is given twice"), (("sign-in", "--kind", "member", "--home-domain", "x.example", "--resource", "console"), "--home-domain says where a guest comes from"),
    (("exceptions", "add", "X7", "--rule", "R1", "--person", "P1", "--reason", "r", "--approved-by", "a", "--until", "2026-11-19"), "--until 2026-11-19 is past: the snapshot is of 2026-11-20"),
    (("why", "P1", "door.clse"), "there is no control 'door.clse'"),
    (("why", "P1", "room.chat"), "no service supports room.chat"), (("why", "P1", "--rule", "R7"), "there is no rule 'R7'"),
    (("exceptions", "add"), "which exception?"), (("exceptions", "add", "X9", "--rule", "R1"), "an exception without --who, --person or --partner, --reason"),
    (("exceptions", "end", "X9"), "exceptions.yaml: there is no exception 'X9'"), (("baseline", "--rule", "R7"), "there is no rule 'R7'"),
    (("check", "--snapshot", "nowhere"), "nowhere: does not exist"), (("check", "--snapshot", "baseline.yaml"), "baseline.yaml: is not a folder"),
    (("demo", "."), "'.' is there already; name a new folder"),
    *((("door", "--meeting", "m", *more), "--meeting names one meeting")
      for more in (("--kind", "instant"), ("--service", "tidecall"), ("--group", "g1"), ("--unit", "/Shore"))),
    *((("door", "P1", *more), "--group and --unit choose among many hosts")
      for more in (("--group", "g1"), ("--unit", "/Shore"))),
    *((("door", "P1", *more), "name a person, or planned meetings, not both")
      for more in (("--meetings",), ("--meeting", "m"))),
    (("door", "--from", "x.example"), "--from asks about one host"),
    (("door", "--way", "app"), "--way narrow what one host's visitors meet"),
])  # fmt: skip
def test_a_wrong_call_is_told_in_one_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, arguments: tuple[str, ...], message: str
) -> None:
    from tests.program import call

    monkeypatch.chdir(write_tiny(tmp_path))
    done = call(*arguments)
    assert done.status == 2
    assert message in done.err
    assert len(done.err.splitlines()) == 1
    assert "Traceback" not in done.err
