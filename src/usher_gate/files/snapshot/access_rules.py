"""access-rules.yaml: the conditional sign-in rules."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from ...core.organisation.access_rules import AccessRule, Conditions, Requirement, ResourceChoice
from ...core.organisation.networks import Networks
from ...core.organisation.snapshot import Snapshot
from ...core.words.faults import Faults, nearest, quoted
from ...core.words.spellings import MODES as OTHER_MODES
from ...core.words.vocabulary import ANY, CLIENTS, DEVICES, ELSEWHERE, MODES, PLATFORMS, PROOFS, RISKS
from ..yamltree import YamlNode, once_each, read_yaml
from .selectors import read_selector

_DIMENSIONS = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}


def read_access_rules(
    path: Path, snapshot: Snapshot, networks: Networks, resources: Mapping[str, frozenset[str]], faults: Faults
) -> tuple[AccessRule, ...] | None:
    """Return the rules, sorted by id; None where the file does not exist (or, with faults, cannot be used)."""
    if not path.exists():
        return None
    top = read_yaml(path, str(path), "access-rules/1", faults)
    if top is None:
        return None
    fields = top.fields(("usher-gate", "rules"))
    items = fields["rules"].items() if "rules" in fields and not fields["rules"].empty else []
    return once_each(items, "access rule", lambda item: _read_rule(item, snapshot, networks, resources))


def read_access_rule(item: YamlNode, snapshot: Snapshot) -> AccessRule | None:
    """Read one whole rule; None, with faults, where there is none."""
    return _read_rule(item, snapshot, snapshot.networks, snapshot.resources)


def _read_rule(
    item: YamlNode, snapshot: Snapshot, networks: Networks, resources: Mapping[str, frozenset[str]]
) -> AccessRule | None:
    """Read one access rule; None after reporting a fault."""
    before = len(item.faults.found)
    fields = item.fields(("id", "mode", "people", "resources", "outcome"), ("title", "changed_at", "when"))
    name = fields.text("id", "an id")
    if name is not None:
        for field in fields.values():
            field.path = field.path.replace(item.path, f"access rule {name}", 1)
    title = fields.text("title", "a title", default=name)
    mode = fields.choice("mode", MODES, OTHER_MODES)
    changed = fields.time("changed_at")
    people = fields.below("people", ("include",), ("exclude",))
    include = people.read("include", lambda node: read_selector(node, snapshot), None)
    exclude = people.read("exclude", lambda node: read_selector(node, snapshot), None)
    chosen, out = fields.read("resources", lambda node: _read_resources(node, resources), (None, None))
    when = fields.read("when", lambda node: read_conditions(node, networks), Conditions())
    if "when" in fields and not any(when.network(network.names) for network in networks.classes):
        _never(fields["when"], "no address satisfies its network condition")
    outcome = fields.below("outcome", (), ("deny", "require", "session"))
    deny = outcome.truth("deny", default=False)
    require = outcome.read("require", _read_requirement, None)
    hours, downloads = outcome.read("session", _read_session, (None, False))
    if "outcome" in fields and not outcome:
        fields["outcome"].fault("an outcome has deny: true, or require, or session; write one of them")
    if deny and "require" in outcome:
        outcome["require"].fault("a rule that denies asks for nothing; leave require or deny out")
    if deny is False and "deny" in outcome:
        outcome["deny"].fault("deny: false is no outcome; write deny: true, or require")
    if len(item.faults.found) > before or not name or not mode or include is None:
        return None
    return AccessRule(
        id=name,
        title=title or name,
        mode=mode,
        include=include,
        exclude=exclude,
        resources=_meant(chosen, out, resources),
        when=when,
        deny=bool(deny),
        require=require,
        longest_hours=hours,
        no_downloads=downloads,
        changed=changed,
        resources_in=chosen,
        resources_out=out,
    )


def _meant(
    chosen: ResourceChoice | None, out: ResourceChoice | None, resources: Mapping[str, frozenset[str]]
) -> frozenset[str]:
    included = chosen.among(resources) if chosen is not None else frozenset[str]()
    return included - out.among(resources) if out is not None else included


def _read_resources(
    place: YamlNode, resources: Mapping[str, frozenset[str]]
) -> tuple[ResourceChoice | None, ResourceChoice | None]:
    fields = place.fields(("include",), ("exclude",))
    chosen, out = (read_choice(fields[key], resources) if key in fields else None for key in ("include", "exclude"))
    if chosen is not None and chosen.among(resources) and not _meant(chosen, out, resources):
        _never(place, "every resource that is included is excluded again")
    return chosen, out


def _never(place: YamlNode, why: str) -> None:
    """A note, no fault: the rule came from a real system, where it is so."""
    place.faults.note(f"{place.file_name}:{place.line}: {place.path}: {why}, so the rule never matches")


def read_choice(place: YamlNode, resources: Mapping[str, frozenset[str]] | None) -> ResourceChoice:
    """Read some resources: `any`, names, or `{tag: T}`.

    Without the organisation's resources, names and tags are taken as they come.
    """
    if place.is_mapping:
        fields = place.fields(("tag",))
        tags = fields["tag"].one_or_more("a tag") if "tag" in fields else ()
        if resources is not None and tags and not ResourceChoice(tags=tags).among(resources):
            known = {tag for marked in resources.values() for tag in marked}
            place.fault(f"no resource has the tag {quoted(', '.join(tags))}; {nearest(tags[0], known)}")
        return ResourceChoice(tags=tags)
    names = place.one_or_more("a resource")
    if names == (ANY,):
        return ResourceChoice(any=True)
    for name in names:
        if resources is not None and name not in resources:
            place.fault(f"there is no resource {quoted(name)}; {nearest_or_any(name, resources)}")
    return ResourceChoice(names=names)


def nearest_or_any(name: str, known: Iterable[str]) -> str:
    """Return what would be right instead of an unknown name; who writes `all` means `any`."""
    return "write any" if name.casefold() in ("all", "everything", "everywhere", "*") else nearest(name, known)


def read_conditions(place: YamlNode, networks: Networks | None) -> Conditions:
    """Return the conditions under `when`; without the organisation's networks, their names are taken as they come."""
    fields = place.fields((), ("network", *_DIMENSIONS))
    inside, outside = fields.read("network", lambda node: _read_network(node, networks), (None, frozenset[str]()))
    words = {name: _words(fields[name], allowed) if name in fields else None for name, allowed in _DIMENSIONS.items()}
    return Conditions(
        networks_in=inside,
        networks_out=outside,
        client=words["client"],
        platform=words["platform"],
        device=words["device"],
        risk=words["risk"],
    )


def _words(place: YamlNode, allowed: tuple[str, ...]) -> frozenset[str]:
    items = place.items(1) if place.is_list else [place]
    return frozenset(word for item in items if (word := item.choice(allowed)) is not None)


def _read_network(place: YamlNode, networks: Networks | None) -> tuple[frozenset[str] | None, frozenset[str]]:
    fields = place.fields((), ("include", "exclude")) if place.is_mapping else {"include": place}
    if not fields:
        place.fault("nothing is included or excluded; write include: any, elsewhere, or names of networks")
    inside, outside = (_names(fields[key], networks) if key in fields else None for key in ("include", "exclude"))
    return inside, outside or frozenset()


def _names(place: YamlNode, networks: Networks | None) -> frozenset[str]:
    names = place.one_or_more("a network")
    for name in names if names != (ANY,) else ():
        if networks is not None and name != ELSEWHERE and name not in networks.spans:
            place.fault(f"there is no network {quoted(name)}; {nearest_or_any(name, (*networks.spans, ELSEWHERE))}")
    return frozenset(names)


def _read_requirement(place: YamlNode) -> Requirement | None:
    entries = place.entries("all_of or any_of", ("all-of", "any-of"))
    if len(entries) != 1 or next(iter(entries)) not in ("all-of", "any-of"):
        place.fault("write either all_of: [proofs] or any_of: [proofs]")
        return None
    operator, listed = next(iter(entries.items()))
    proofs = tuple(proof for item in listed.items(1) if (proof := item.choice(PROOFS)) is not None)
    return Requirement(operator, proofs) if proofs else None


def _read_session(place: YamlNode) -> tuple[float | None, bool]:
    fields = place.fields((), ("longest-hours", "downloads"))
    hours = fields.number("longest-hours")
    return hours, "downloads" in fields and fields["downloads"].choice(("deny", "allow")) == "deny"
