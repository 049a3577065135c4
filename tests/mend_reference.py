"""Mending by trying everything: every plan of so many edits, each judged by the plain reference.

Slow, and to be read beside the text.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import combinations, pairwise, product
from typing import Any

from tests.organisations import CONTROLS
from tests.reference import GOODNESS, Key, Leaf, Org, Reference, Row, judged, leaves_of, left_out

WITHOUT_ORDER = ("exempt", "excepted")
Place = tuple[str, str, str]  # service, control, scope
Option = tuple[str | None, bool]  # value (None: taken away), pinned
Plan = dict[Place, Option]


@dataclass
class Weight:
    """What a plan comes to; `wrong` is None for one that may be made."""

    left: int
    edits: int
    without: int
    touched: int
    stricter: int
    reach: int
    wrong: str | None
    open: set[Key]
    moved: set[tuple[str, str, str, str | None, str | None]]  # person, service, control, before, after: with no need
    drifting: set[Key]  # what drifts afterwards
    tasks: dict[str, dict[str | None, set[str]]]  # who has to do something for themselves, by rule and unit

    @property
    def order(self) -> tuple[int, ...]:
        return self.left, self.edits, self.without, self.touched, self.stricter, self.reach


def rooted(final: str, decided: Leaf | None) -> bool:
    """Whether a verdict drifts by the value of a setting, or by a service default."""
    if final != "drifts" or decided is None or decided.reason != "fails" or decided.root is None:
        return False
    service, _, scope, _ = decided.root
    return service is not None and scope not in (None, "licence", "person")


@dataclass
class Wish:
    """What a call of mend asks for; None: everything."""

    hold: bool = False
    weaken: bool = False
    through_exceptions: bool = False
    rules: set[str] | None = None
    people: set[str] | None = None
    options: list[str] = field(default_factory=list)


class Mending:
    """Weighs plans for one organisation."""

    def __init__(self, org: Org, applied: Any, wish: Wish | None = None) -> None:
        self.org, self.applied, self.wish = org, applied, wish or Wish()
        self.before = judged(Reference(org))
        self.rules = {rule["id"]: rule for rule in org.rules}
        self.to_mend = {
            key
            for key, (final, _, _, decided, _) in self.before.items()
            if self.asked(key) and (rooted(final, decided) or (self.wish.hold and final == "loose"))
        }
        self.need = {
            (person, service, control) for rule, service, person in self.to_mend for control in self.controls(rule)
        }
        self.values = self._values(org)
        self.drifting = {key for key, one in self.before.items() if one[0] == "drifts" and self.asked(key)}

    def asked(self, key: Key) -> bool:
        """Whether a verdict is among those that are asked about."""
        return (self.wish.rules is None or key[0] in self.wish.rules) and (
            self.wish.people is None or key[2] in self.wish.people
        )

    def controls(self, rule: str) -> list[str]:
        return [leaf["control"] for leaf in leaves_of(self.rules[rule]["expect"]) if "control" in leaf]

    def _values(self, org: Org) -> dict[tuple[str, str, str], str | None]:
        found = {}
        reference = Reference(org)
        for service in org.services or ():
            for person in reference.active:
                if reference.chosen(service["accounts"], person, True) is False:
                    continue
                for control in CONTROLS:
                    if reference.supported(service, control):
                        licence = reference.licence(person, service, control)
                        if licence == "no-fact" or (licence and "without" not in licence):
                            continue
                        value = (
                            licence["without"] if licence else reference.effective(person, service, control)[0].value
                        )
                        found[person["id"], service["id"], control] = value
        return found

    def places(self) -> Iterator[tuple[Place, list[Option]]]:
        """The places of edits, each with what may be done there."""
        reference = Reference(self.org)
        if self.org.settings is None:
            return
        asked = {control for rule in self.org.rules for control in self.controls(rule["id"])}
        pins = (False, True) if "pinned" in self.org.setting_columns else (False,)
        for service in self.org.services or ():
            for control in sorted(asked):
                if not reference.supported(service, control):
                    continue
                rows = {row["scope"]: row for row in reference.settings_of(service["id"], control)}
                values = self._allowed(reference, service, control)
                for scope in self._scopes(reference, service, rows):
                    row = rows.get(scope)
                    now = None if row is None else (row["value"], row.get("pinned") == "true")
                    options: list[Option] = [(None, False)] if row is not None else []
                    options += [(value, pin) for value in values for pin in pins if (value, pin) != now]
                    yield (service["id"], control, scope), options

    def _scopes(self, reference: Reference, service: Row, rows: dict[str, Row]) -> list[str]:
        found = []
        for level in service["precedence"]:
            if level == "organisation":
                found.append("organisation")
            elif level == "unit" and "unit" in self.org.columns:
                units = set()
                for person in reference.active:
                    if person.get("unit"):
                        parts = [part for part in person["unit"].split("/") if part]
                        units |= {"/" + "/".join(parts[:depth]) for depth in range(len(parts) + 1)}
                found += [f"unit:{unit}" for unit in sorted(units)]
            elif level == "group" and self.org.members is not None:
                found += sorted(scope for scope in rows if scope.startswith("group:"))
            elif level == "person":
                found += [f"person:{person['id']}" for person in reference.active]
        return found

    def _allowed(self, reference: Reference, service: Row, control: str) -> list[str]:
        found = {row["value"] for row in reference.settings_of(service["id"], control)}
        found |= (
            {service["factory"][control]} & set(service["factory"].values()) if control in service["factory"] else set()
        )
        asked = []
        for rule in self.org.rules:
            if service in reference.pairs(rule):
                asked += [leaf for leaf in leaves_of(rule["expect"]) if leaf.get("control") == control]
        unique = [leaf for number, leaf in enumerate(asked) if leaf not in asked[:number]]
        kind = CONTROLS[control]["kind"]
        for leaf in unique:
            if leaf["operator"] in ("is", "one-of", "between"):
                many = (
                    leaf["operands"]
                    if isinstance(leaf["operands"], list) and leaf["operator"] != "is"
                    else [leaf["operands"]]
                )
                found |= {";".join(sorted(each)) if isinstance(each, list) else str(each) for each in many}
        bases = sorted(found | {""}) if kind == "set" else [""]
        for size in range(1, len(unique) + 1):
            for some in combinations(unique, size):
                for base in bases:
                    value = _weakest(reference, control, base, some)
                    found |= {value} if value is not None else set()
        return sorted(found)

    def memberships(self) -> list[tuple[str, str]]:
        """The direct memberships (group, person) of people who has something to mend in a control that the group, or
        one around it, sets.
        """
        found, reference = [], Reference(self.org)
        sets = {
            (row["scope"].removeprefix("group:"), row["service"], row["control"])
            for row in self.org.settings or ()
            if row["scope"].startswith("group:") and row.get("active") != "false"
        }
        around: dict[str, set[str]] = {}
        for row in self.org.members or ():
            if row["type"] == "group":
                around.setdefault(row["member"], set()).add(row["group"])
        for row in self.org.members or ():
            if row["type"] == "group" or not any(row["member"] == each["id"] for each in reference.active):
                continue
            outer, waiting = {row["group"]}, [row["group"]]
            while waiting:
                for more in around.get(waiting.pop(), set()) - outer:
                    outer.add(more)
                    waiting.append(more)
            needs = {(service, control) for person, service, control in self.need if person == row["member"]}
            if any((group, *need) in sets for group in outer for need in needs):
                found.append((row["group"], row["member"]))
        return sorted(set(found))

    def applied_to(self, plan: Plan, out: tuple[tuple[str, str], ...] = ()) -> Org:
        """The organisation with a plan carried out, and some people taken out of groups."""
        changes: list[Row] = [{"members": {"group": group, "remove": [person]}} for group, person in out]
        for (service, control, scope), (value, pinned) in plan.items():
            place = {"service": service, "control": control, "scope": scope}
            if value is None:
                changes.append({"unset": place})
            else:
                said: Row = {**place, "value": value}
                if "pinned" in self.org.setting_columns:
                    said["pinned"] = pinned
                changes.append({"set": said})
        made: Org = self.applied(self.org, changes)[0] if changes else self.org
        return made

    def harmless(self, plan: Plan, order: list[Place]) -> bool:
        """Whether, edit by edit in this order, no verdict ever gets worse."""
        said = [
            judged(Reference(self.applied_to({each: plan[each] for each in order[:many]})))
            for many in range(len(order) + 1)
        ]
        return not any(_rank(then[key][1]) > _rank(was[key][1]) for was, then in pairwise(said) for key in was)

    def weigh(self, plan: Plan, out: tuple[tuple[str, str], ...] = ()) -> Weight:
        after_org = self.applied_to(plan, out)
        after, values = judged(Reference(after_org)), self._values(after_org)
        wrong, left = None, set[Key]()
        if out and any((was[0] == "exempt") != (after[key][0] == "exempt") for key, was in self.before.items()):
            wrong = "others are judged"
        for key, (final, would_be, _, decided, _) in self.before.items():
            then, then_would, _, then_decided, _ = after[key]
            stuck = then in ("unknown", "unavailable") or (
                then == "drifts" and then_decided is not None and then_decided.reason in ("observed", "not-applied")
            )
            mine = rooted(final, decided)
            is_left = rooted(then, then_decided) or (mine and stuck)
            if self.wish.hold:
                is_left |= then == "loose" or ((mine or final == "loose") and (then == "settling" or stuck))
            if is_left and self.asked(key):
                left.add(key)
            if _rank(then_would) > _rank(would_be):
                wrong = wrong or f"{key} becomes {then_would}"
            if final == "excepted" and not self.wish.through_exceptions:
                for control in self.controls(key[0]):
                    where = key[2], str(key[1]), control
                    if values.get(where) != self.values.get(where):
                        wrong = wrong or f"{key}: behind an exception"
        wrong = wrong or (None if self.wish.through_exceptions else self._left_out_changed(values))
        strict, moved = Reference(self.org).strictness, set()
        touched = without = 0
        for where, value in self.values.items():
            then_value = values[where]
            if value == then_value:
                continue
            touched += 1
            if where not in self.need:
                without += 1
                moved.add((*where, value, then_value))
            weaker = value is not None and (
                then_value is None or strict(where[2], then_value) < strict(where[2], value)
            )
            if weaker and where not in self.need and not self.wish.weaken:
                wrong = wrong or f"{where} becomes weaker"
        stricter = sum(self._steps(place, value) for place, (value, _) in plan.items())
        reach = sum(self._reach(place[2]) for place in plan)
        drifting = {key for key, one in after.items() if one[0] == "drifts" and self.asked(key)}
        units: dict[str, dict[str | None, set[str]]] = {}
        where_of = {person["id"]: person.get("unit") for person in self.org.people}
        for rule, service_id, person_id in drifting:
            why = after[rule, service_id, person_id][3]
            if why is not None and why.root is not None and why.root[2] == "person":
                units.setdefault(rule, defaultdict(set))[where_of[person_id]].add(person_id)
        many = len(plan) + len(out)
        return Weight(len(left), many, without, touched, stricter, reach, wrong, left, moved, drifting, units)

    def by_itself(self, plan: Plan, place: Place) -> tuple[int, int, int]:
        """What an edit does beside the plan without it: verdicts ended, values changed, values changed without need."""
        without = {other: option for other, option in plan.items() if other != place}
        left = self.weigh(without).left - self.weigh(plan).left
        sides = [self._values(self.applied_to(each)) for each in (without, plan)]
        other = {where for where in self.values if sides[0][where] != sides[1][where]}
        return left, len(other), len(other - self.need)

    def _steps(self, place: Place, value: str | None) -> int:
        """How many weaker degrees of a control may be set than a value is."""
        service, control, _ = place
        if value is None or CONTROLS[control]["kind"] == "set":
            return 0
        reference = Reference(self.org)
        one = next(each for each in self.org.services or () if each["id"] == service)
        degrees = {reference.strictness(control, each) for each in self._allowed(reference, one, control)}
        return sum(degree < reference.strictness(control, value) for degree in degrees)

    def _left_out_changed(self, values: dict[tuple[str, str, str], str | None]) -> str | None:
        """Whose value would be another although a rule about it leaves them out."""
        reference = Reference(self.org)
        for each in self.org.rules:
            for one in self.org.services or ():
                for person in reference.active:
                    if left_out(reference, each, one, person):
                        for control in self.controls(each["id"]):
                            key = person["id"], one["id"], control
                            if values.get(key) != self.values.get(key):
                                return f"{key}: {each['id']} leaves them out"
        return None

    def _reach(self, scope: str) -> int:
        reference = Reference(self.org)
        kind, _, name = scope.partition(":")
        if kind == "organisation":
            return len(reference.active)
        if kind == "person":
            return 1
        if kind == "group":
            return sum(name in reference.member_of[person["id"]] for person in reference.active)
        inside = name.rstrip("/") + "/"
        return sum((person.get("unit") or "").rstrip("/").startswith(name.rstrip("/")) and
                   ((person.get("unit") or "").rstrip("/") + "/").startswith(inside)
                   for person in reference.active if person.get("unit"))  # fmt: skip

    def best(self, most: int, budget: int) -> Weight | None:
        """The best plan of at most so many edits; None where there are more plans than `budget`."""
        places = list(self.places())
        best = self.weigh({})
        tried = 0
        for many in range(1, most + 1):
            for some in combinations(places, many):
                for options in product(*(options for _, options in some)):
                    tried += 1
                    if tried > budget:
                        return None
                    weight = self.weigh({place: option for (place, _), option in zip(some, options, strict=True)})
                    if weight.wrong is None and weight.order < best.order:
                        best = weight
        return best

    def best_with(self, most: int, budget: int) -> Weight | None:
        """The same where people may be taken out of groups, too: those who by itself hurt no one."""
        places, best, tried = list(self.places()), self.weigh({}), 0
        candidates = self.memberships()
        for many in range(min(most, len(candidates)) + 1):
            for out in combinations(candidates, many):
                if out and self.weigh({}, out).wrong is not None:
                    continue
                for edits in range(most - many + 1):
                    for some in combinations(places, edits):
                        for options in product(*(options for _, options in some)):
                            tried += 1
                            if tried > budget:
                                return None
                            plan = {place: option for (place, _), option in zip(some, options, strict=True)}
                            weight = self.weigh(plan, out)
                            if weight.wrong is None and weight.order[:4] < best.order[:4]:
                                best = weight
        return best


def _rank(word: str) -> int:
    return 0 if word in WITHOUT_ORDER else GOODNESS.index(word)


def _operand(leaf: Row) -> list[str]:
    operands = leaf["operands"]
    return [str(each) for each in operands] if isinstance(operands, list) else [str(operands)]


def _weakest(reference: Reference, control: str, base: str, some: tuple[Row, ...]) -> str | None:
    """The weakest value that passes all of some leaves; of a set what is left of `base`, cut down and extended."""
    kind = CONTROLS[control]

    def order(value: Any) -> Fraction:
        return reference.strictness(control, str(value))

    if kind["kind"] == "set":
        words = set(base.split(";")) - {""}
        for leaf in some:
            words = words & set(_operand(leaf)) if leaf["operator"] == "within" else words
        for leaf in some:
            words = words - set(_operand(leaf)) if leaf["operator"] == "none-of" else words
        for leaf in some:
            words = words | set(_operand(leaf)) if leaf["operator"] == "includes" else words
        tried = [";".join(sorted(words))]
        named = []
        for leaf in some:
            if leaf["operator"] == "is":
                named.append(";".join(sorted(_operand(leaf))))
            if leaf["operator"] == "one-of":
                named += [";".join(sorted(each)) for each in leaf["operands"]]
        tried += sorted(named)
    elif kind["kind"] == "number":
        numbers = {each for leaf in some for each in _operand(leaf)}
        tried = sorted(numbers, key=lambda value: (order(value), value))
    else:
        tried = ["off", "on"] if kind["kind"] == "flag" else list(kind["values"])
        tried.sort(key=order)
    for value in tried:
        if all(reference.passes(order, leaf["operator"], leaf["operands"], value) for leaf in some):
            return value
    return None
