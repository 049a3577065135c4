"""The baseline: what must hold, for which people, how severe."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ...core.door.visitors import HOLDINGS, MOMENTS, OUTCOMES, ROOMS, STANDINGS, VisitorSelection
from ...core.organisation.access_rules import Conditions
from ...core.organisation.facts import FACTS, fact_kind, may_be_missing
from ...core.organisation.partners import PARTNER_COLUMNS
from ...core.organisation.selector import Selector
from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.possible import ProofDemand
from ...core.verdicts.condition import Branch, Leaf, Tree
from ...core.verdicts.meeting_field import MEETING_FIELDS
from ...core.verdicts.rules import Baseline, Rule
from ...core.words.catalogue import Catalogue
from ...core.words.compare import OPERATORS, Comparison, comparison, operators_for
from ...core.words.faults import Faults, as_key, nearest, nearest_key, quoted
from ...core.words.plural import truth_word
from ...core.words.record import record
from ...core.words.values import BadValue, Kind, level, number
from ...core.words.vocabulary import ANY, DOOR_WAYS, MEETING_KINDS, PROOFS, SEVERITIES, SUBJECTS
from ..faults import BadInput, stop_if_any
from ..snapshot.access_rules import read_choice, read_conditions
from ..snapshot.selectors import EVERYBODY, read_selector, service_ids
from ..yamltree import Fields, YamlNode, once_each, read_yaml

_TREES = ("all-of", "any-of", "some-of")
_ABOUTS = ("control", "door", "person", "proof", "partner", "meeting", "count")
_FITTING = {
    "people": ("control", "door", "person", "proof"),
    "organisation": ("control", "count"),
    "partners": ("partner",),
    "meetings": ("control", "door", "meeting"),
}
_OPTIONAL = (
    "severity",
    "subject",
    "audience",
    "except",
    "services",
    "pinned",
    "because",
    "mend",
    "maps",
    "may-judge-nobody",
    "must_support",
)
_TRUTH = Kind("flag", ("true", "false"))
_WORDS = {"on": "true", "off": "false", "true": "true", "false": "false"}
_COUNT = number("higher")
_OUTCOMES = level(*OUTCOMES[:3])
_COMERS = {"kind": MEETING_KINDS, "standing": STANDINGS, "holding": HOLDINGS, "way": DOOR_WAYS, "moment": MOMENTS}


@record
class _Known:
    """Describes what rules may speak of."""

    catalogue: Catalogue
    snapshot: Snapshot | None
    audiences: Mapping[str, Selector]
    named: frozenset[str]


def read_baseline(
    path: Path, catalogue: Catalogue, snapshot: Snapshot | None = None
) -> tuple[Baseline, tuple[str, ...]]:
    """Return a baseline and notes about it; raises BadInput with every fault.

    With a snapshot, groups and services must exist in it.
    """
    faults = Faults()
    top = read_yaml(path, str(path), "baseline/1", faults)
    if top is None:
        raise BadInput(faults.found)
    fields = top.fields(("usher-gate", "name", "version", "rules"), ("audiences",))
    name = fields.text("name", "a name")
    version = fields.text("version", "a version")
    entries = fields.mapping("audiences")
    audiences = {
        key: selector for key, entry in entries.items() if (selector := read_selector(entry, snapshot)) is not None
    }
    known = _Known(catalogue, snapshot, audiences, frozenset(entries))
    items = fields.nodes("rules")
    rules = once_each(items, "rule", lambda item: _read_rule(item, known), "give each rule an id of its own")
    stop_if_any(faults)
    return Baseline(name or "", version or "", rules, audiences), tuple(faults.notes)


def _read_rule(item: YamlNode, known: _Known) -> Rule | None:
    """Read one rule of a baseline; None after reporting a fault."""
    before = len(item.faults.found)
    fields = item.fields(("id", "title", "expect"), _OPTIONAL)
    name = fields.text("id", "an id")
    if name is not None:
        for field in fields.values():
            field.path = field.path.replace(item.path, f"rule {name}", 1)
    title = fields.text("title", "a title")
    severity = fields.choice("severity", SEVERITIES, default="medium")
    subject = fields.choice("subject", SUBJECTS, default="people")
    audience = fields.read("audience", lambda node: _audience(node, known), EVERYBODY)
    exempted = fields.read("except", lambda node: read_selector(node, known.snapshot), None)
    tree = fields.read("expect", _Trees(known, subject or "people").read, None)
    named = fields.among("services", "service", service_ids(known.snapshot))
    services = None if named is None else tuple(sorted(set(named)))
    pinned = fields.choice("pinned", ("true", "false", "strict"), default="false")
    because = fields.text("because", "a reason", default="")
    mend = fields.text("mend", "a remedy", default="")
    maps = {key: entry.texts("an id") for key, entry in fields["maps"].entries().items()} if "maps" in fields else {}
    idle = fields.truth("may-judge-nobody", default=False)
    must_support = fields.truth("must_support", default=False)
    if len(item.faults.found) > before or tree is None or name is None or audience is None:
        return None
    _note_audience(name, subject, fields, item.faults)
    rule = Rule(
        id=name,
        title=title or "",
        severity=severity or "medium",
        subject=subject or "people",
        audience=audience,
        exempted=exempted,
        services=services,
        expect=tree,
        pinned="" if pinned in ("false", None) else pinned,
        because=because or "",
        mend=mend or "",
        maps=maps,
        may_judge_nobody=bool(idle),
        must_support=bool(must_support),
    )
    if must_support and not rule.of_services:
        fields["must_support"].fault(
            "the rule has neither a control nor a door in it that a service could support; leave this out"
        )
        return None
    if services is not None and not rule.of_services:
        why = "the rule has neither a control nor a door in it, so it has nothing to do with services; leave this out"
        fields["services"].fault(why)
        return None
    return rule


def _note_audience(name: str, subject: str | None, fields: Mapping[str, YamlNode], faults: Faults) -> None:
    for key in ("audience", "except"):
        if key in fields and subject in ("organisation", "partners"):
            faults.note(f"rule {name} is about {subject}, so its {key} chooses no one")


def _audience(place: YamlNode, known: _Known) -> Selector | None:
    if place.is_mapping:
        return read_selector(place, known.snapshot)
    text = place.text("an audience or a selector")
    if text is not None and text not in known.named:
        place.fault(f"there is no audience {quoted(text)}; {nearest(text, known.named)}")
    return known.audiences.get(text or "")


class _Trees:
    """Reads a rule's condition tree, numbering its leaves as written."""

    def __init__(self, known: _Known, subject: str) -> None:
        self.known, self.subject, self.count = known, subject, 0

    def read(self, place: YamlNode) -> Tree | None:
        """Return a tree; None, with faults, where there is none."""
        entries = place.entries("a condition", (*_TREES, *_ABOUTS, *OPERATORS, "on", "when"))
        if not place.is_mapping:
            return None
        trees = [key for key in entries if key in _TREES]
        if trees:
            if len(entries) > 1:
                place.fault(
                    f"{as_key(trees[0])} is beside {', '.join(as_key(key) for key in entries if key != trees[0])}; "
                    "put them inside one all_of or any_of"
                )
                return None
            return self._branch(trees[0], entries[trees[0]])
        return self._leaf(place, entries)

    def _branch(self, operator: str, place: YamlNode) -> Tree | None:
        least = 0
        if operator == "some-of":
            fields = place.fields(("at-least", "of"))
            if not {"at-least", "of"} <= fields.keys():
                return None
            least, place = fields["at-least"].whole(1) or 0, fields["of"]
        items = place.items(1)
        branches = [self.read(item) for item in items]
        if operator == "some-of" and least > len(items) > 0:
            place.fault(f"at_least {least} of {len(items)} can never hold; write a number up to {len(items)}")
            return None
        good = tuple(branch for branch in branches if branch is not None)
        return Branch(operator, good, least) if good and len(good) == len(branches) else None

    def _leaf(self, place: YamlNode, entries: dict[str, YamlNode]) -> Leaf | None:
        """Read a condition that compares one thing, such as a control or a fact; None after reporting a fault."""
        abouts = [key for key in entries if key in _ABOUTS]
        if len(abouts) != 1:
            known = ", ".join(map(as_key, (*_ABOUTS, *_TREES)))
            found = f"has {' and '.join(abouts)}" if abouts else f"has none of {known}"
            wrong = next((key for key in entries if key not in (*_ABOUTS, *OPERATORS, "on", "when")), None)
            hint = (
                nearest_key(wrong, (*_ABOUTS, *_TREES))
                if wrong and not abouts
                else "write one, such as control: door.waiting-room"
            )
            place.fault(f"a condition {found}; {hint}")
            return None
        about = abouts[0]
        if about not in _FITTING[self.subject]:
            fitting = " or ".join(_FITTING[self.subject])
            place.fault(f"{about} does not fit here; a rule about {self.subject} asks for a {fitting}")
            return None
        leaf_number, self.count = self.count, self.count + 1
        if about == "proof":
            return self._proof(Fields(entries), leaf_number)
        for key in entries:
            if key != about and key not in OPERATORS:
                entries[key].faults.add(
                    place.file,
                    entries[key].key_line,
                    f"{entries[key].path}: unknown key {quoted(key)}; {nearest_key(key, OPERATORS)}",
                )
        operators = [key for key in entries if key in OPERATORS]
        if len(operators) != 1:
            place.fault(
                f"a condition has {len(operators) or 'no'} "
                f"comparisons{': ' + ', '.join(map(as_key, operators)) if operators else ''}; "
                f"write exactly one of {', '.join(map(as_key, OPERATORS))}"
            )
            return None
        return self._compared(about, entries[about], operators[0], entries[operators[0]], leaf_number)

    def _compared(self, about: str, place: YamlNode, operator: str, operand: YamlNode, leaf_number: int) -> Leaf | None:
        """Read the comparison of a condition: a count of people, a door, or a value; None after reporting a fault."""
        if about == "count":
            selector = read_selector(place, self.known.snapshot)
            compared = _comparison(_COUNT, operator, operand, "count")
            return (
                None
                if selector is None or compared is None
                else Leaf(about=about, name=selector.text, number=leaf_number, comparison=compared, selector=selector)
            )
        if about == "door":
            visitor_selection = _comers(place)
            compared = _comparison(_OUTCOMES, operator, operand, "a door")
            return (
                None
                if visitor_selection is None or compared is None
                else Leaf(about, about, leaf_number, compared, visitor_selection=visitor_selection)
            )
        name = place.text(f"a {about}")
        if name is None:
            return None
        kind = self._kind(about, name, place)
        if kind is None:
            return None
        if operator == "present":
            compared = _presence(about, name, operand)
        elif kind.name == "presence":
            operand.faults.add(
                operand.file,
                operand.key_line,
                f"{operand.path}: {name} is only present or not; write present: true or false",
            )
            return None
        elif about == "partner":
            compared = _partner_comparison(operator, operand, name)
        else:
            compared = _comparison(kind, operator, operand, name)
        return None if compared is None else Leaf(about, name, leaf_number, compared)

    def _kind(self, about: str, name: str, place: YamlNode) -> Kind | None:
        """Return the kind of value that a condition compares; None after reporting an unknown name."""
        if about == "control":
            control = self.known.catalogue.index.get(name)
            if control is None:
                place.fault(f"there is no control {quoted(name)}; {nearest(name, self.known.catalogue.index)}")
            return control.kind if control is not None else None
        if about == "meeting":
            if name not in MEETING_FIELDS:
                place.fault(f"a meeting has no field {quoted(name)}; {nearest(name, MEETING_FIELDS)}")
            return MEETING_FIELDS.get(name)
        if about == "partner":
            if name not in PARTNER_COLUMNS:
                place.fault(f"partners has no column {quoted(name)}; {nearest(name, PARTNER_COLUMNS)}")
                return None
            return _TRUTH
        kind = fact_kind(name)
        if kind is None:
            place.fault(f"there is no fact {quoted(name)} of a person; {nearest(name, (*FACTS, 'attr.NAME'))}")
        return kind

    def _proof(self, entries: Fields, leaf_number: int) -> Leaf | None:
        """Read a condition that asks for a proof at sign-in; None after reporting a fault."""
        place = entries["proof"]
        for key in entries:
            if key not in ("proof", "on", "when"):
                place.faults.add(
                    place.file,
                    entries[key].key_line,
                    f"{entries[key].path}: unknown key {quoted(key)}; a proof has on and when",
                )
        proof = place.choice(PROOFS)
        if "on" not in entries:
            place.fault("the key on is missing; write on: any, a list of resources, or {tag: …}")
            return None
        snapshot = self.known.snapshot
        on = read_choice(entries["on"], snapshot.resources if snapshot is not None else None)
        networks = snapshot.networks if snapshot is not None else None
        when = entries.read("when", lambda node: read_conditions(node, networks), Conditions())
        return None if proof is None else Leaf("proof", proof, leaf_number, asked=ProofDemand(proof, on, when))


def _comers(place: YamlNode) -> VisitorSelection | None:
    """Return the visitors that a door is asked about."""
    fields = place.fields((), tuple(_COMERS))
    if not place.is_mapping:
        return None
    chosen: dict[str, tuple[str, ...]] = {}
    for key, words in _COMERS.items():
        everything = ROOMS if key == "kind" else words
        chosen[key] = everything
        if key in fields and fields[key].raw != ANY:
            items = fields[key].items(1) if fields[key].is_list else [fields[key]]
            named = [item.choice(words if fields[key].is_list else (*words, ANY)) for item in items]
            if None in named or not named:
                return None
            chosen[key] = tuple(word for word in words if word in named)
    made = VisitorSelection(
        kinds=chosen["kind"],
        standings=chosen["standing"],
        holdings=chosen["holding"],
        ways=chosen["way"],
        moments=chosen["moment"],
    )
    if not made.visits(MEETING_KINDS, DOOR_WAYS):
        place.fault(
            "no one can come so: by telephone or room-system no one shows an account, and by telephone no one has a "
            "link"
        )
        return None
    return made


def _presence(about: str, name: str, operand: YamlNode) -> Comparison | None:
    truth = operand.truth()
    if about != "person" or not may_be_missing(name):
        operand.faults.add(
            operand.file, operand.key_line, f"{operand.path}: {name} is never missing; compare its value"
        )
        return None
    return None if truth is None else Comparison("present", (truth_word(truth),), Kind("presence"))


def _partner_comparison(operator: str, operand: YamlNode, name: str) -> Comparison | None:
    if operator not in ("is", "one-of"):
        operand.faults.add(
            operand.file, operand.key_line, f"{operand.path}: {operator} does not fit {name}; write is: on or is: off"
        )
        return None
    places = operand.items(1) if operator == "one-of" else [operand]
    words = [place.choice(tuple(_WORDS)) for place in places]
    return None if None in words else Comparison(operator, tuple(_WORDS[word] for word in words if word), _TRUTH)


def _operands(kind: Kind, operator: str, place: YamlNode) -> tuple[str, ...] | None:
    """Read the operands of a comparison as texts; None after reporting a fault."""

    def one(cursor: YamlNode) -> str | None:
        if kind.name == "set" and cursor.is_list:
            return ";".join(cursor.texts())
        return cursor.value()

    if operator == "one-of":
        if kind.name == "set" and place.is_list and not all(item.is_list for item in place.items()):
            place.fault("one-of for a set takes a list of lists; write [[one, two], [three]]")
            return None
        found = [one(item) for item in place.items(1)]
    elif operator == "between":
        found = [item.value() for item in place.items()]
    else:
        found = [one(place)]
    return None if None in found or (not place.raw and not found) else tuple(text for text in found if text is not None)


def _comparison(kind: Kind, operator: str, place: YamlNode, name: str) -> Comparison | None:
    """Read a comparison with its operands, checked against the kind of value; None after reporting a fault."""
    if operator not in operators_for(kind):
        place.faults.add(
            place.file,
            getattr(place, "key_line", 0) or place.line,
            f"{place.path}: {operator} does not fit {name}, a {kind.name}; write one of "
            f"{', '.join(operators_for(kind))}",
        )
        return None
    operands = _operands(kind, operator, place)
    if operands is None:
        return None
    try:
        return comparison(kind, operator, operands)
    except BadValue as right:
        place.fault(f"{quoted(', '.join(operands))} does not fit {name}; write {right}")
        return None
