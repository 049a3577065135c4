"""The plain reference: the domain's sections 3, 5 and 6 word by word, one person at a time, over the raw rows.

It shares nothing with the program but the names of the words. It is slow and meant to be read beside the text.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from datetime import date, datetime, timedelta
from fractions import Fraction
from typing import Any

Row = dict[str, Any]
GOODNESS = ("meets", "loose", "settling", "unknown", "unavailable", "drifts")  # best first
UNKNOWN = None


@dataclass
class Org:
    """An organisation as raw rows; a table or column that is missing is None or not in `columns`."""

    taken_at: datetime
    controls: dict[str, Row]
    people: list[Row]
    columns: set[str]
    groups: list[Row] | None
    members: list[Row] | None
    services: list[Row] | None
    settings: list[Row] | None
    setting_columns: set[str]
    observations: list[Row] | None
    partners: list[Row] | None
    privileged: list[str] | None
    rules: list[Row] = field(default_factory=list)
    exceptions: list[Row] = field(default_factory=list)
    units: list[str] | None = None  # the paths of the table units


@dataclass
class Value:
    """What one person gets: `value` None is unknown; `cause` is a setting, "factory", "licence" or None."""

    value: str | None
    cause: Any = None
    pinned: bool = False


@dataclass
class Leaf:
    """What one leaf says."""

    verdict: str
    reason: str = ""
    actual: str | None = None
    cause: tuple[str, str, bool] | None = None
    root: tuple[str | None, str, str | None, str | None] | None = None
    number: int = -1
    distance: int = 0
    narrow: tuple[int, ...] | None = None  # of the first drifting leaf at or below
    way: tuple[Row, ...] = ()  # the leaves of the nearest way


class Unanswerable(Exception):
    """A selector over data that is not there."""


class Reference:
    """Answers about one organisation."""

    def __init__(self, org: Org) -> None:
        self.org = org
        self.active = [person for person in org.people if person.get("active") != "false"]
        self.member_of: dict[str, set[str]] = defaultdict(set)
        if org.members is not None:
            known = {group["id"] for group in org.groups} if org.groups is not None else None
            containers = defaultdict(set)
            for row in org.members:
                if known is not None and row["group"] not in known:
                    continue
                if row["type"] == "group":
                    containers[row["member"]].add(row["group"])
                else:
                    self.member_of[row["member"]].add(row["group"])
            for groups in self.member_of.values():
                waiting = list(groups)
                while waiting:
                    for outer in containers[waiting.pop()] - groups:
                        groups.add(outer)
                        waiting.append(outer)

    # section 4: strictness and comparisons

    def strictness(self, control: str, value: str) -> Fraction:
        kind = self.org.controls[control]
        if kind["kind"] == "flag":
            return Fraction(value == kind["strict"])
        if kind["kind"] == "level":
            return Fraction(kind["values"].index(value))
        if kind["kind"] == "number":
            return Fraction(value) if kind["strict"] == "higher" else -Fraction(value)
        return Fraction(0)

    @staticmethod
    def passes(order: Any, operator: str, operands: Any, value: str) -> bool:
        """`order` turns a value into its strictness."""
        words = set(value.split(";")) - {""}
        if operator == "is":
            return words == set(operands) if isinstance(operands, list) else value == operands
        if operator == "one-of":
            return any(words == set(each) if isinstance(each, list) else value == each for each in operands)
        if operator == "no-weaker-than":
            return bool(order(value) >= order(operands))
        if operator == "between":
            return Fraction(operands[0]) <= Fraction(value) <= Fraction(operands[1])
        if operator == "within":
            return words <= set(operands)
        if operator == "includes":
            return words >= set(operands)
        assert operator == "none-of"
        return not words & set(operands)

    # section 3: effective values

    def settings_of(self, service: str, control: str) -> list[Row]:
        return [
            row
            for row in self.org.settings or ()
            if row["service"] == service and row["control"] == control and row.get("active") != "false"
        ]

    def pinned(self, row: Row) -> bool:
        return row.get("pinned") == "true"

    def changed(self, row: Row) -> datetime | None:
        return row.get("changed_at")

    def order(self, row: Row) -> tuple[Any, ...]:
        """Smaller goes first at one step."""
        changed = self.changed(row)
        return (
            not self.pinned(row),
            row["rank"] if row.get("rank") is not None else Fraction(10**30),
            self.strictness(row["control"], row["value"]),
            row["value"],
            -changed.timestamp() if changed else float("inf"),
            row["scope"],
        )

    def steps(self, person: Row, service: Row) -> list[tuple[str, Any]]:
        """Each step's level, and what its scopes must be."""
        found: list[tuple[str, Any]] = []
        for level in service["precedence"]:
            if level == "unit":
                if "unit" not in self.org.columns:
                    found.append(("unit", None))
                elif person.get("unit"):
                    parts = person["unit"].strip("/").split("/") if person["unit"] != "/" else []
                    found += [("unit", {"unit:/" + "/".join(parts[:depth])}) for depth in range(len(parts) + 1)]
            elif level == "group":
                found.append(
                    (
                        "group",
                        None
                        if self.org.members is None
                        else {f"group:{each}" for each in self.member_of[person["id"]]},
                    )
                )
            else:
                found.append((level, {"organisation"} if level == "organisation" else {f"person:{person['id']}"}))
        return found

    def cause(self, person: Row, service: Row, control: str) -> Any:
        """The setting (or factory, or licence) that causes the effective value."""
        if self.licence(person, service, control):
            return "licence"
        return self.effective(person, service, control)[0].cause

    def effective(self, person: Row, service: Row, control: str) -> list[Value]:
        """The effective value first; where a set is contested, one for each distinct value."""
        current, rivals = self.walk(person, service, control)
        if self.org.controls[control]["kind"] != "set" or not rivals:
            return [current]
        first: dict[str, Row] = {}
        for row in rivals:
            first.setdefault(row["value"], row)
        return [Value(row["value"], row, self.pinned(row)) for row in first.values()]

    def rivals(self, person: Row, service: Row, control: str) -> list[Row]:
        """The settings of the winner's standing, itself first."""
        return self.walk(person, service, control)[1]

    def walk(self, person: Row, service: Row, control: str) -> tuple[Value, list[Row]]:
        """The effective value, and the settings of its standing."""
        if self.org.settings is None:
            return Value(UNKNOWN), []
        rows = self.settings_of(service["id"], control)
        factory = service["factory"].get(control)
        current, rivals = Value(factory, "factory" if factory is not None else None), list[Row]()
        for level, scopes in self.steps(person, service):
            if scopes is None:
                here = [row for row in rows if row["scope"].startswith(level + ":")]
                if here:
                    current, rivals = Value(UNKNOWN), []
                    if any(self.pinned(row) for row in here):
                        break
                continue
            here = sorted((row for row in rows if row["scope"] in scopes), key=self.order)
            if here:
                winner = here[0]
                current = Value(winner["value"], winner, self.pinned(winner))
                rivals = [
                    row
                    for row in here
                    if self.pinned(row) == self.pinned(winner) and row.get("rank") == winner.get("rank")
                ]
                if self.pinned(winner):
                    break
        return current, rivals

    def need(self, service: Row, control: str) -> Any:
        """What a control needs on a service: the key that is the id itself counts, else the longest star."""
        needs = service["needs"]
        fitting = [key for key in needs if key == control or (key.endswith("*") and control.startswith(key[:-1]))]
        return needs[control if control in fitting else max(fitting, key=len)] if fitting else None

    def licence(self, person: Row, service: Row, control: str) -> Any:
        """ "" where none is needed or one is held; "no-fact"; or the need that is not met."""
        need = self.need(service, control)
        if need is None:
            return ""
        if "licences" not in self.org.columns:
            return "no-fact"
        return "" if set((person.get("licences") or "").split(";")) & set(need["licences"]) else need

    def young(self, cause: Any, service: Row) -> bool:
        changed = self.changed(cause) if isinstance(cause, dict) else None
        return changed is not None and self.org.taken_at - changed < timedelta(hours=service["settle-hours"])

    # section 5: verdicts

    def control_leaf(self, leaf: Row, rule: Row, person: Row, service: Row) -> Leaf:
        licence = self.licence(person, service, leaf["control"])
        if licence == "no-fact":
            return Leaf("unknown", "no-fact")
        values = self.effective(person, service, leaf["control"])
        if licence:
            if "without" not in licence:
                return Leaf("unavailable", "no-licence")
            values = [Value(licence["without"], "licence", True)]
        seen = [
            row
            for row in self.org.observations or ()
            if row["person"] == person["id"]
            and row["service"] == service["id"]
            and row["control"] == leaf["control"]
            and row["seen_at"] <= self.org.taken_at
        ]
        judged = [self.value_leaf(leaf, rule, service, value, seen) for value in values]
        return max(judged, key=lambda each: (GOODNESS.index(each.verdict), -judged.index(each)))

    def value_leaf(self, leaf: Row, rule: Row, service: Row, value: Value, seen: list[Row]) -> Leaf:
        control = leaf["control"]

        def passes(text: str) -> bool:
            return self.passes(lambda each: self.strictness(control, each), leaf["operator"], leaf["operands"], text)

        cause = (
            None
            if value.value is None
            else (value.cause if isinstance(value.cause, str) else value.cause["scope"], value.value, value.pinned)
        )
        root = (service["id"], control, cause[0] if cause else None, cause[1] if cause else None)
        changed = self.changed(value.cause) if isinstance(value.cause, dict) else None
        latest = max((row["seen_at"] for row in seen), default=None)
        counts = latest is not None and (changed is None or latest >= changed)
        last = sorted(
            (row["value"] for row in seen if row["seen_at"] == latest),
            key=lambda text: (self.strictness(control, text), text),
        )
        failing = [text for text in last if not passes(text)] if counts else []
        if value.value is None:
            if failing:
                return Leaf("drifts", "observed", failing[0], None, (service["id"], control, None, None))
            return Leaf("unknown", "no-value")
        if not passes(value.value):
            return Leaf("drifts", "fails", value.value, cause, root)
        if failing:
            if self.young(value.cause, service):
                return Leaf("settling", "young", failing[0], cause)
            assert latest is not None
            if changed is not None and latest - changed < timedelta(hours=service["settle-hours"]):
                return Leaf("settling", "not-seen-since", failing[0], cause)
            return Leaf("drifts", "not-applied", failing[0], cause, root)
        if not counts and self.young(value.cause, service):
            return Leaf("settling", "young", value.value, cause)
        changeable = not value.pinned and (
            service["self-service"] is None
            or any(
                key == control or (key.endswith("*") and control.startswith(key[:-1]))
                for key in service["self-service"]
            )
        )
        if (rule.get("pinned") == "true" and changeable) or (rule.get("pinned") == "strict" and not value.pinned):
            return Leaf("loose", "changeable", value.value, cause)
        return Leaf("meets", "", value.value, cause)

    def fact(self, name: str, person: Row) -> Any:
        """A text, "" for an empty cell, or None where the column is missing."""
        days = {
            "days-since-sign-in": "last_sign_in_at",
            "days-since-created": "created_at",
            "days-since-review": "reviewed_at",
        }
        if name == "sponsor" and "sponsor" in self.org.columns:
            named = (person.get("sponsor") or "").lower()
            members = [each for each in self.active if each["kind"] == "member"]
            return "present" if any(named in (each["id"].lower(), each["login"].lower()) for each in members) else ""
        column = days.get(name, name)
        if column not in self.org.columns:
            return None
        cell = person.get(column)
        if name in days:
            if cell is None and name == "days-since-sign-in" and "created_at" in self.org.columns:
                cell = person.get("created_at")
            return "" if cell is None else str((self.org.taken_at - cell).days)
        return "" if cell is None else ("present" if isinstance(cell, datetime) else cell)

    def person_leaf(self, leaf: Row, person: Row) -> Leaf:
        name = leaf["person"]
        cell = self.fact(name, person)
        if cell is None:
            return Leaf("unknown", "no-fact")
        if leaf["operator"] == "present":
            good, actual = (cell != "") == leaf["operands"], "present" if cell else "absent"
        elif cell == "" and name not in ("roles", "licences"):
            return Leaf("unknown", "no-fact")
        else:
            orders: dict[str, Any] = {
                "mfa": ("absent", "offered", "required").index,
                "protection": ("standard", "heightened").index,
            }
            order = orders.get(name, lambda text: -Fraction(text))
            good, actual = (
                self.passes(order, leaf["operator"], leaf["operands"], cell),
                ";".join(sorted(set(cell.split(";")) - {""})) if name in ("roles", "licences") else cell,
            )
        return Leaf(
            "meets" if good else "drifts",
            "" if good else "fails",
            actual,
            None,
            None if good else (None, name, "person", None),
        )

    def supported(self, service: Row, control: str) -> bool:
        return service["supports"] is None or any(
            key == control or (key.endswith("*") and control.startswith(key[:-1])) for key in service["supports"]
        )

    def tree(self, tree: Row, service: Row | None, judge: Any, judged: list[tuple[Row, Leaf]]) -> Leaf | None:
        """The deciding leaf of a tree (with the tree's verdict); None where nothing is left of it."""
        operator = next((key for key in ("all-of", "any-of", "some-of") if key in tree), None)
        if operator is None:
            if service is not None and "control" in tree and not self.supported(service, tree["control"]):
                return None
            leaf: Leaf = judge(tree)
            judged.append((tree, leaf))
            if leaf.verdict == "drifts":
                leaf = replace(leaf, distance=1, narrow=self.narrow(tree, leaf))
            return replace(leaf, way=(tree,))
        branches = tree["some-of"]["of"] if operator == "some-of" else tree[operator]
        parts = [part for part in (self.tree(each, service, judge, judged) for each in branches) if part is not None]
        if not parts:
            return None
        if operator == "some-of" and len(parts) < tree["some-of"]["at-least"]:
            assert service is not None
            dropped = next(name for name in controls_of(tree) if not self.supported(service, name))
            return Leaf("drifts", "not-supported", None, None, (service["id"], dropped, None, None), distance=10**6)
        needed = {"all-of": len(parts), "any-of": 1}.get(operator, tree.get("some-of", {}).get("at-least", 1))
        worst = sorted(GOODNESS.index(part.verdict) for part in parts)[needed - 1]
        alike = [part for part in parts if GOODNESS.index(part.verdict) == worst]
        decides = alike[0]
        if GOODNESS[worst] == "drifts" and operator != "all-of":
            decides = min(alike, key=lambda part: (part.distance, part.narrow or (99,)))
        ranked = sorted(
            parts,
            key=lambda part: (
                (GOODNESS.index(part.verdict), part.distance, part.narrow or (99,))
                if part.verdict == "drifts"
                else (GOODNESS.index(part.verdict),)
            ),
        )
        taken = parts if operator == "all-of" else ranked[:needed]
        return replace(
            decides,
            way=tuple(leaf for part in parts if any(part is each for each in taken) for leaf in part.way),
            distance=min(sum(sorted(part.distance for part in parts)[:needed]), 10**6),
            narrow=next((part.narrow for part in parts if part.narrow), None),
        )

    def narrow(self, leaf: Row, judged: Leaf) -> tuple[int, ...]:
        """How narrow the cause of a leaf is: smaller is narrower."""
        if "person" in leaf:
            return (0,)
        scope = judged.cause[0] if judged.cause else ""
        kind, _, name = scope.partition(":")
        if kind == "unit":
            return 4, -len([part for part in name.split("/") if part])
        return ({"person": 2, "group": 3, "organisation": 5, "factory": 6, "licence": 7}.get(kind, 8),)

    def contested(self) -> dict[tuple[Any, ...], list[str]]:
        """The people under each contested value: by service, control, value, and the settings of equal precedence."""
        found: dict[tuple[Any, ...], list[str]] = defaultdict(list)
        for service in self.org.services or ():
            for control in self.org.controls:
                for person in sorted(self.active, key=lambda each: str(each["id"])):
                    licence = self.licence(person, service, control)
                    account = self.chosen(service["accounts"], person, True)
                    if licence or account is False or not self.supported(service, control):
                        continue
                    rivals = self.rivals(person, service, control)
                    if len({row["value"] for row in rivals}) > 1:
                        settings = frozenset((row["scope"], row["value"]) for row in rivals)
                        found[service["id"], control, rivals[0]["value"], settings].append(person["id"])
        return dict(found)

    # section 6: selectors

    def select(self, selector: Row, person: Row) -> bool:
        return all([self.key(key, value, person) for key, value in selector.items()])

    def key(self, key: str, value: Any, person: Row) -> bool:
        if key == "any-of":
            return any([self.select(each, person) for each in value])
        if key == "all-of":
            return all([self.select(each, person) for each in value])
        if key == "not":
            return not self.select(value, person)
        if key == "any":
            return True
        values = value if isinstance(value, list) else [value]
        if key == "kind":
            return person["kind"] in values
        if key == "login":
            import fnmatch

            return any(fnmatch.fnmatchcase(person["login"].lower(), each.lower()) for each in values)
        column = {
            "role": "roles",
            "licence": "licences",
            "break-glass": "break_glass",
            "home-domain": "home_domain",
        }.get(key, key)
        if key == "group":
            if self.org.members is None:
                raise Unanswerable
            return any(each in self.member_of[person["id"]] for each in values)
        if column not in self.org.columns or ("privileged" in values and self.org.privileged is None):
            raise Unanswerable
        cell = person.get(column) or ""
        if key == "unit":
            return any(cell == each or cell.startswith(each.rstrip("/") + "/") for each in values) if cell else False
        if key == "break-glass":
            return bool((cell == "true") == value)
        if key == "home-domain":
            home = cell or person["login"].rpartition("@")[2]
            return person["kind"] == "guest" and home.lower() in [each.lower() for each in values]
        if key in ("role", "licence"):
            wanted = {
                role
                for each in values
                for role in (self.org.privileged or () if key == "role" and each == "privileged" else (each,))
            }
            return bool(wanted & (set(cell.split(";")) - {""}))
        return cell in values and cell != ""

    def chosen(self, selector: Row | None, person: Row, otherwise: Any) -> Any:
        try:
            return otherwise if selector is None else self.select(selector, person)
        except Unanswerable:
            return "unanswerable"

    # all together

    def pairs(self, rule: Row) -> list[Row | None]:
        if not list(controls_of(rule["expect"])) or self.org.services is None:
            return [None]
        return [
            service
            for service in self.org.services
            if (rule.get("services") is None or service["id"] in rule["services"])
            and (rule.get("must_support") or any(self.supported(service, name) for name in controls_of(rule["expect"])))
        ]

    def judge(self, rule: Row, person: Row, service: Row | None) -> tuple[str, Leaf | None, list[tuple[Row, Leaf]]]:
        if self.chosen(rule.get("except"), person, False) is True:
            return "exempt", None, []
        if service is not None and self.chosen(service["accounts"], person, True) is False:
            return "exempt", None, []
        audience = self.chosen(rule.get("audience"), person, True)
        if audience == "unanswerable":
            return "unknown", Leaf("unknown", "no-audience"), []
        if not audience:
            return "exempt", None, []
        judged: list[tuple[Row, Leaf]] = []
        if service is None and list(controls_of(rule["expect"])):
            return (
                "unknown",
                Leaf("unknown", "no-value"),
                [(leaf, Leaf("unknown")) for leaf in leaves_of(rule["expect"])],
            )
        decided = self.tree(
            rule["expect"],
            service,
            lambda leaf: (
                self.person_leaf(leaf, person)
                if "person" in leaf
                else self.control_leaf(leaf, rule, person, service or {})
            ),
            judged,
        )
        asked = controls_of(rule["expect"])
        if (
            rule.get("must_support")
            and service is not None
            and asked
            and not any(self.supported(service, name) for name in asked)
        ):
            return "drifts", Leaf("drifts", "not-supported", None, None, (service["id"], asked[0], None, None)), judged
        return ("exempt", None, []) if decided is None else (decided.verdict, decided, judged)

    def ignored(self) -> list[str]:
        """The scopes of the active settings whose unit, group or person does not exist."""
        units = {"/"} if any(person.get("unit") for person in self.org.people) else set()
        for path in [*(person.get("unit") for person in self.org.people), *(self.org.units or ())]:
            parts = [part for part in (path or "").split("/") if part]
            units |= {"/" + "/".join(parts[:depth]) for depth in range(1, len(parts) + 1)}
            units |= {"/"} if path else set()
        groups = {row["id"] for row in self.org.groups or ()}
        if self.org.groups is None:
            groups = {row["group"] for row in self.org.members or ()}
            groups |= {row["member"] for row in self.org.members or () if row["type"] == "group"}
        names = {each["id"] for each in self.org.people}
        logins = {each["login"].lower() for each in self.org.people}

        def exists(scope: str) -> bool:
            kind, _, name = scope.partition(":")
            if kind == "unit":
                return "unit" not in self.org.columns or name in units
            if kind == "group":
                return (self.org.groups is None and self.org.members is None) or name in groups
            return kind != "person" or name in names or name.lower() in logins

        rows = self.org.settings if self.org.services is not None else None
        return sorted(row["scope"] for row in rows or () if row.get("active") != "false" and not exists(row["scope"]))

    def in_force(self, exception: Row) -> bool:
        return bool(self.org.taken_at.date() <= exception["until"])

    def covering(self, rule: Row, service: Row | None, verdict: str, person: Row) -> list[str]:
        if verdict not in ("drifts", "loose", "unavailable", "unknown"):
            return []
        return sorted(
            each["id"]
            for each in self.org.exceptions
            if self.in_force(each)
            and rule["id"] in each["rules"]
            and "who" in each
            and (each.get("services") is None or (service is not None and service["id"] in each["services"]))
            and self.chosen(each["who"], person, False) is True
        )


def controls_of(tree: Row) -> list[str]:
    return [leaf["control"] for leaf in leaves_of(tree) if "control" in leaf]


def leaves_of(tree: Row) -> list[Row]:
    for key in ("all-of", "any-of", "some-of"):
        if key in tree:
            return [leaf for each in (tree[key]["of"] if key == "some-of" else tree[key]) for leaf in leaves_of(each)]
    return [tree]


@dataclass
class Answer:
    """The whole check: findings by (rule, service, person), and the sums."""

    findings: dict[tuple[str, str | None, str], dict[str, Any]] = field(default_factory=dict)
    counts: dict[str, Counter[str]] = field(default_factory=dict)
    shares: dict[tuple[str, str, str], tuple[int, int, bool, bool]] = field(default_factory=dict)
    unclear: set[str] = field(default_factory=set)  # who has a verdict that is unknown or unavailable
    roots: dict[tuple[Any, ...], dict[str, Any]] = field(default_factory=dict)
    covers: Counter[str] = field(default_factory=Counter)


Key = tuple[str, "str | None", str]


def judged(reference: Reference) -> dict[Key, tuple[str, str, list[str], Leaf | None, list[tuple[Row, Leaf]]]]:
    """Of each (rule, service, person).

    The verdict, what it would be without exceptions, those that cover, the deciding leaf, all leaves.
    """
    found = {}
    for rule in reference.org.rules:
        if rule.get("subject", "people") != "people":
            continue
        for service in reference.pairs(rule):
            for person in reference.active:
                verdict, decided, leaves = reference.judge(rule, person, service)
                covering = reference.covering(rule, service, verdict, person)
                key = rule["id"], service["id"] if service else None, person["id"]
                found[key] = "excepted" if covering else verdict, verdict, covering, decided, leaves
    return found


def check(org: Org) -> Answer:
    """Everything that `check --format json` says of people."""
    reference, answer = Reference(org), Answer()
    found = judged(reference)
    own: dict[str, set[Any]] = defaultdict(set)
    for (rule, service, person), (final, would_be, covering, decided, leaves) in found.items():
        answer.covers.update(covering)
        answer.counts.setdefault(rule, Counter())[final] += 1
        if final in ("unknown", "unavailable"):
            answer.unclear.add(person)
        if final in ("meets", "exempt"):
            continue
        assert decided is not None
        answer.findings[rule, service, person] = {
            "verdict": final,
            "reason": decided.reason,
            "exception": covering[0] if covering else None,
            "would_be": would_be if covering else None,
            "leaves": [
                (leaf.get("control", leaf.get("person")), each.verdict, each.actual, each.cause)
                for leaf, each in leaves
            ],
        }
        if final == "drifts":
            assert decided.root is not None
            own[rule].add(decided.root[2])
            root = answer.roots.setdefault(decided.root, {"rules": set(), "people": set(), "verdicts": 0})
            root["rules"].add(rule)
            root["people"].add(person)
            root["verdicts"] += 1
    for each in org.rules:
        if each.get("subject", "people") == "people":
            answer.counts.setdefault(each["id"], Counter())
            mine = {(key[2], final) for key, (final, *_) in found.items() if key[0] == each["id"]}
            asked = {person for person, final in mine if final not in ("exempt", "excepted")}
            drifting = {person for person, final in mine if final == "drifts"}
            _share(reference, each["id"], asked, drifting, own[each["id"]], answer)
    return answer


# Roots: mending one, by judging the whole organisation again


def weakest(reference: Reference, root: tuple[Any, ...], wanted: list[Row]) -> str | None:
    """The weakest value that passes all leaves, by trying every value that could be it."""
    _, control, _, standing = root
    kind = reference.org.controls[control]
    listed = [
        each
        for leaf in wanted
        for each in (leaf["operands"] if isinstance(leaf["operands"], list) else [leaf["operands"]])
    ]
    if kind["kind"] == "set":
        words = set(standing.split(";")) - {""}
        for operator in ("within", "none-of", "includes"):
            for leaf in wanted:
                if leaf["operator"] == operator:
                    operands = set(leaf["operands"])
                    words = {"within": words & operands, "none-of": words - operands, "includes": words | operands}[
                        operator
                    ]
        named = [leaf["operands"] for leaf in wanted if leaf["operator"] == "is"]
        named += [each for leaf in wanted if leaf["operator"] == "one-of" for each in leaf["operands"]]
        tried = [";".join(sorted(words)), *sorted(";".join(sorted(set(each))) for each in named)]
    elif kind["kind"] == "number":
        tried = sorted(set(listed), key=lambda value: reference.strictness(control, value))
    else:
        tried = sorted(kind.get("values", ["on", "off"]), key=lambda value: reference.strictness(control, value))

    def passes(value: str) -> bool:
        return all(
            reference.passes(
                lambda text: reference.strictness(control, text), leaf["operator"], leaf["operands"], value
            )
            for leaf in wanted
        )

    return next((value for value in tried if passes(value)), None)


def remedy(org: Org, root: tuple[Any, ...]) -> dict[str, Any]:
    """What a root's `mended_value`, `freed`, `if_removed`, `harms` and `harmed` are."""
    reference = Reference(org)
    before = judged(reference)
    mine = {
        key: each
        for key, each in before.items()
        if each[0] == "drifts" and each[3] is not None and each[3].root == root
    }
    service, control, scope, value = root
    people = {key[2] for key in mine}
    nothing: dict[str, Any] = {"mended_value": None, "freed": 0, "if_removed": None, "harms": 0, "harmed": []}
    if scope == "person":
        freed, harmed = _compared(before, judged(_Met(org, control, people)))
        return {**nothing, "freed": freed, "harms": len(harmed), "harmed": harmed}
    if value is None or scope is None:
        return nothing
    if scope == "licence":
        freed, harmed = _compared(before, judged(_Licensed(org, service, control, people)))
        return {**nothing, "freed": freed, "harms": len(harmed), "harmed": harmed}
    wanted = [
        leaf
        for key, (_, _, _, decided, _) in mine.items()
        if decided is not None and decided.reason == "fails"
        for leaf in decided.way
        if leaf.get("control") == control
    ]
    mended = weakest(reference, root, wanted) if wanted else None
    freed, harmed = 0, list[str]()
    if mended is not None:
        after = Reference(_edited(org, root, mended))
        freed, harmed = _compared(before, judged(after), _left_out_with_another(reference, after, service, control))
    removed = None if scope == "factory" else _compared(before, judged(Reference(_edited(org, root, None))))[0]
    return {"mended_value": mended, "freed": freed, "if_removed": removed, "harms": len(harmed), "harmed": harmed}


def left_out(reference: Reference, rule: Row, service: Row, person: Row) -> bool:
    """Whether it is a rule's `except` alone that exempts someone from it on a service."""
    return (
        service in reference.pairs(rule)
        and reference.chosen(rule.get("except"), person, False) is True
        and reference.chosen(service["accounts"], person, True) is not False
        and reference.chosen(rule.get("audience"), person, True) is not False
    )


def _left_out_with_another(before: Reference, after: Reference, service_id: str, control: str) -> set[str]:
    """People that a rule about a control leaves out and who would have another value of it."""
    service = next(each for each in before.org.services or () if each["id"] == service_id)
    found = set()
    for rule in before.org.rules:
        if control not in [leaf.get("control") for leaf in leaves_of(rule["expect"])]:
            continue
        for person in before.active:
            licence = before.licence(person, service, control)
            if licence or not left_out(before, rule, service, person):
                continue
            values = [each.effective(person, each_service, control)[0].value for each, each_service in
                      ((each, next(one for one in each.org.services or () if one["id"] == service_id)) for each in (before, after))]  # fmt: skip
            found |= {person["id"]} if values[0] != values[1] else set()
    return found


def _compared(before: dict[Key, Any], after: dict[Key, Any], harmed: Collection[str] = ()) -> tuple[int, list[str]]:
    freed, harmed = set(), set(harmed)
    order = {**{name: number for number, name in enumerate(GOODNESS)}, "exempt": 0}
    for person in {key[2] for key in before}:
        keys = [key for key in before if key[2] == person]
        asked = [key for key in keys if after[key][0] in ("unknown", "unavailable") and after[key][0] != before[key][0]]
        drifted = any(before[key][0] == "drifts" for key in keys)
        if drifted and not asked and all(after[key][0] != "drifts" for key in keys):
            freed.add(person)
        if any(order[after[key][1]] > order[before[key][1]] for key in keys):
            harmed.add(person)
    return len(freed), sorted(harmed)


def _edited(org: Org, root: tuple[Any, ...], value: str | None) -> Org:
    """The organisation with one setting changed, or taken away; observations of the people concerned are dropped."""
    service_id, control, scope, _ = root
    assert org.services is not None and org.settings is not None

    def is_it(row: Row) -> bool:
        return (row["service"], row["control"], row["scope"]) == (service_id, control, scope) and row.get(
            "active"
        ) != "false"

    if scope == "factory":
        services = [
            {**each, "factory": {**each["factory"], control: value}} if each["id"] == service_id else each
            for each in org.services
        ]
        edited = replace(org, services=services)
    else:
        kept = [row for row in org.settings if not is_it(row)]
        changed = [
            {**{key: cell for key, cell in row.items() if key != "changed_at"}, "value": value}
            for row in org.settings
            if is_it(row) and value is not None
        ]
        edited = replace(org, settings=kept + changed)
    moved = set()
    for each in (org, edited):
        reference = Reference(each)
        service = next(one for one in each.services or () if one["id"] == service_id)
        for person in reference.active:
            cause = reference.cause(person, service, control)
            if cause == "factory" if scope == "factory" else isinstance(cause, dict) and is_it(cause):
                moved.add(person["id"])
    seen = [
        row
        for row in org.observations or ()
        if not (
            row["person"] in moved
            and (row["service"], row["control"]) == (service_id, control)
            and row["seen_at"] < org.taken_at
        )
    ]
    return replace(edited, observations=seen)


class _Met(Reference):
    """As if a fact were met for some people."""

    def __init__(self, org: Org, name: str, people: set[str]) -> None:
        super().__init__(org)
        self._name, self._people = name, people

    def person_leaf(self, leaf: Row, person: Row) -> Leaf:
        met = leaf["person"] == self._name and person["id"] in self._people
        return Leaf("meets") if met else super().person_leaf(leaf, person)


class _Licensed(Reference):
    """As if some people had what one key of `needs` names."""

    def __init__(self, org: Org, service: str, control: str, people: set[str]) -> None:
        super().__init__(org)
        self._service, self._people = service, people
        self._need = self.need(next(each for each in org.services or () if each["id"] == service), control)

    def licence(self, person: Row, service: Row, control: str) -> Any:
        mine = service["id"] == self._service and self.need(service, control) is self._need
        return "" if mine and person["id"] in self._people else super().licence(person, service, control)


def _share(
    reference: Reference, rule: str, judged: set[str], drifting: set[str], own: set[Any], answer: Answer
) -> None:
    bodies: dict[tuple[str, str], set[str]] = defaultdict(set)
    for person in reference.active:
        for group in reference.member_of[person["id"]]:
            bodies["group", group].add(person["id"])
        unit = person.get("unit") if "unit" in reference.org.columns else None
        if unit:
            parts = unit.strip("/").split("/") if unit != "/" else []
            for depth in range(len(parts) + 1):
                bodies["unit", "/" + "/".join(parts[:depth])].add(person["id"])
    for (kind, name), people in bodies.items():
        mine, bad = people & judged, people & drifting
        if bad:
            whole = len(mine) >= 2 and bad == mine
            answer.shares[kind, name, rule] = len(mine), len(bad), whole, f"{kind}:{name}" in own


def state(reference: Reference, exception: Row, covers: int) -> str:
    """An exception's state today."""
    if not reference.in_force(exception):
        return "expired"
    return "in-force" if covers else "idle"


__all__ = ["Answer", "Org", "Reference", "check", "date", "state"]
