"""The [gather] part of usher-gate.toml: which sources there are, in the order in which they count."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.words.faults import Fault, nearest, quoted
from ..core.words.record import record
from ..files.faults import BadInput
from ..files.written.workfolder import NAME, read_toml
from .address import problem_of
from .entries import FIELDS as ENTRY_FIELDS
from .entries import Layout
from .interface import SHRINK_LIMIT, NamedSource, Source
from .people import PeopleMapping
from .secrets import FORMS, is_reference

_OF_SECTION = ("keep", "shrink_limit", "join_groups", "time_zone", "source")
_SECRETS = ("token", "client_secret", "password")
_WEB = ("url", "token", "client_id", "client_secret", "token_url", "scope", "ca", "timeout", "plain")
_LAYOUT = ("base", "people", "groups", "group_id", "group_name", "member", "fields")
_NUMBERS = {
    "timeout",
    "page",
    "days",
    "most",
    "keep",
    "shrink_limit",
    "max_age_hours",
    "longest_minutes",
    "most_people",
}
_WHOLE_NUMBERS = {"page", "days", "most", "most_people"}
_FLAGS = {"plain", "attributes", "copy", "may_be_empty"}
_LISTS = {"paths", "services", "tables", "may_be_absent"}
_OF_ALL = ("may_be_empty", "shrink_limit", "longest_minutes")
_OF_FILES = ("max_age_hours",)  # of a source that reads files
_OF_PEOPLE = ("most_people",)  # of a source that reads people one by one
_OF_DIRECTORIES = ("may_be_absent", "where", "values", "dates")


@record
class SourceKind:
    """One kind of source: the keys that it must have and may have, and how it is made."""

    needs: tuple[str, ...]
    may: tuple[str, ...]
    make: Callable[[Mapping[str, Any]], Source]


def _access(given: Mapping[str, Any]) -> Any:
    from .web import Access

    return Access(**{key: given[key] for key in _WEB if key in given})


def _layout(given: Mapping[str, Any]) -> Layout:
    return Layout(
        _people_mapping(given, ENTRY_FIELDS),
        **{key: given[key] for key in _LAYOUT if key in given and key != "fields"},
    )


def _people_mapping(given: Mapping[str, Any], defaults: Mapping[str, str]) -> PeopleMapping:
    by_hand, where = given.get("fields", {}), given.get("where", {})
    return PeopleMapping(
        fields={**defaults, **by_hand},
        by_hand=frozenset(by_hand),
        may_be_absent=tuple(given.get("may_be_absent", ())),
        where={column: (words,) if isinstance(words, str) else tuple(words) for column, words in where.items()},
        values=given.get("values", {}),
        dates=given.get("dates", {}),
    )


def _scim(given: Mapping[str, Any]) -> Source:
    from .scim import FIELDS, Scim

    mapping = _people_mapping(given, FIELDS)
    return Scim(_access(given), mapping, int(given.get("page", 500)), given.get("attributes", True))


def _ldap(given: Mapping[str, Any]) -> Source:
    from .ldap_ import Binding, Ldap

    keys = ("url", "tls", "bind", "user", "password", "ca", "certificate", "key", "timeout", "page")
    return Ldap(Binding(**{key: given[key] for key in keys if key in given}), _layout(given))


def _ldif(given: Mapping[str, Any]) -> Source:
    from .ldif import Ldif

    return Ldif(Path(given["path"]), _layout(given))


def _table(given: Mapping[str, Any]) -> Source:
    from .mapped import Mapped

    path = Path(given["path"]) if "path" in given else None
    return Mapped(path, Path(given["mapping"]), _access(given) if path is None else None)


def _calendar(given: Mapping[str, Any]) -> Source:
    from .calendar_ import Calendar

    return Calendar(given["path"], given["service"], int(given.get("days", 14)), int(given.get("most", 50)))


def _service(given: Mapping[str, Any]) -> Source:
    from .service import ServiceSource

    return ServiceSource(_access(given), tuple(given["services"]), tuple(given.get("tables", ())))


def _files(given: Mapping[str, Any]) -> Source:
    from .copied import Files

    return Files(tuple(given["paths"]))


def _sign_ins(given: Mapping[str, Any]) -> Source:
    from .copied import SignIns

    return SignIns(given["path"], given.get("copy", True))


SOURCE_KINDS: Mapping[str, SourceKind] = {
    "scim": SourceKind(("url",), (*_WEB, "fields", "page", "attributes"), _scim),
    "ldap": SourceKind(
        ("url", "base"),
        ("tls", "bind", "user", "password", "ca", "certificate", "key", "timeout", "page", *_LAYOUT),
        _ldap,
    ),
    "ldif": SourceKind(("path",), _LAYOUT, _ldif),
    "table": SourceKind(("mapping",), ("path", *_WEB), _table),
    "calendar": SourceKind(("path", "service"), ("days", "most"), _calendar),
    "service": SourceKind(("url", "services"), (*_WEB, "tables"), _service),
    "files": SourceKind(("paths",), (), _files),
    "sign-ins": SourceKind(("path",), ("copy",), _sign_ins),
}


# What each key of a source says; docs/gather.md lists them from here.
KEYS: Mapping[str, str] = {
    "name": "what the source is called in messages and in the manifest",
    "kind": "one of the kinds",
    "url": "where the server is, or the export of a `table`; `https://`, `ldaps://`, `ldap://` or `ldapi://`",
    "path": "a file (for `calendar` and `sign-ins` also a folder) below the working folder; of `table` this or `url`",
    "paths": "a list of files",
    "mapping": "the mapping file (form `mapping/1`)",
    "service": "the service whose meetings these are",
    "services": "a list of the services whose settings are asked for",
    "tables": "a list of further tables",
    "token": "the name of a bearer token: `env:NAME`, `file:PATH` or `keyring:SERVICE/NAME`",
    "client_id": "who asks for a token (OAuth 2.0 client credentials)",
    "client_secret": "the name of the secret for that",
    "token_url": "where tokens are given",
    "scope": "what a token is asked for",
    "ca": "a file with the certificate authority's certificate (PEM)",
    "timeout": "seconds without a byte (30)",
    "plain": "true: nothing is encrypted, and that is wanted",
    "page": "how many entries are asked for at once (500)",
    "attributes": "false: all attributes are asked for, for servers that stumble over a choice (true)",
    "fields": 'which attribute is which column, as `{login = "mail"}`; some entry must have each',
    "may_be_absent": "a list of columns of `fields` whose attribute no one may have",
    "where": 'by column the values of the people to take, as `{kind = ["Staff", "Extern"]}`; '
    "the others are left out, and counted",
    "values": 'by column what each value is, as `{kind = {Extern = "guest"}}`; one that is not spoken of is an error',
    "dates": 'by column how a date is written (as strptime has it), as `{expires_at = "%d.%m.%Y"}`; '
    "without a zone it is UTC",
    "base": "the DN below which people and groups are",
    "tls": "`starttls` or `plain`, on `ldap://`",
    "bind": "`simple` or `external`",
    "user": "the DN that binds",
    "password": "the name of its secret",
    "certificate": "a file with a certificate of your own (PEM)",
    "key": "a file with its key (PEM)",
    "people": "the object class of people (inetOrgPerson)",
    "groups": "the object class of groups (groupOfNames)",
    "group_id": "the attribute that is a group's id (cn)",
    "group_name": "the attribute that is a group's name (description)",
    "member": "the attribute that names a group's members (member)",
    "days": "how many days ahead meetings are taken (14)",
    "most": "how many occurrences of a series (50)",
    "copy": "false: the log is only referred to (true)",
    "may_be_empty": "true: no row, entry or line is no fault (false)",
    "shrink_limit": "how many percent fewer rows than last time are too few (30; in `[gather]` for all)",
    "max_age_hours": "an older file is a failed source (any age)",
    "most_people": "a source that gives more has failed, while it is read (20 million)",
    "longest_minutes": "a source that takes longer has failed (60)",
}


def keys_of(kind: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the keys that a source of a kind must have, and those that it may have."""
    form = SOURCE_KINDS[kind]
    own = (*form.needs, *form.may)
    more = [*_OF_ALL]
    more += _OF_FILES if {"path", "paths"} & {*own} else ()
    more += _OF_PEOPLE if {"fields", "mapping"} & {*own} else ()
    more += _OF_DIRECTORIES if "fields" in own else ()
    return ("name", "kind", *form.needs), tuple(key for key in (*form.may, *more) if key not in form.needs)


@dataclass(frozen=True)
class GatherSettings:
    """All settings of gather: the sources in their order, and how many earlier snapshots are kept."""

    sources: tuple[NamedSource, ...]
    keep: int = 7
    join_groups: bool = False  # groups of one name are one group
    time_zone: str = ""


class _Reader:
    """Reads the section, and knows on which lines its parts stand."""

    def __init__(self, path: Path, text: str) -> None:
        self.path, self.faults = str(path), list[Fault]()
        self.lines = text.splitlines()
        self.starts = [
            number for number, line in enumerate(self.lines, 1) if re.match(r"\s*\[\[\s*gather\.source\s*\]\]", line)
        ]

    def line(self, key: str, section: int | None = None) -> int:
        """Return the line of a key in the section of a source (None: in [gather] itself)."""
        first = self.starts[section] if section is not None and section < len(self.starts) else 1
        after = (
            self.starts[section + 1] if section is not None and section + 1 < len(self.starts) else len(self.lines) + 1
        )
        for number in range(first, after):
            if re.match(rf"\s*\[?\s*\"?{re.escape(key)}\b", self.lines[number - 1]):
                return number
        return first

    def fault(self, message: str, key: str = "", section: int | None = None) -> None:
        """Names a fault."""
        self.faults.append(Fault(self.path, self.line(key, section), message))


def read_gather(folder: Path) -> GatherSettings:
    """Reads the sources; raises BadInput with every fault, none of which shows a secret."""
    path = folder / NAME
    if not path.is_file():
        raise BadInput(
            [Fault(str(path), 0, "does not exist; write one with a [[gather.source]] for each source (docs/gather.md)")]
        )
    text, whole = read_toml(path)
    data, reader = whole.get("gather", {}), _Reader(path, text)
    sources = data.get("source", []) if isinstance(data, dict) else []
    if not isinstance(sources, list) or not sources or not all(isinstance(source, dict) for source in sources):
        raise BadInput([Fault(str(path), 0, "names no source; write a [[gather.source]] for each (docs/gather.md)")])
    for key in data:
        if key not in _OF_SECTION:
            reader.fault(f"unknown key {quoted(key)}; {nearest(key, _OF_SECTION)}", key)
    keep, limit = data.get("keep", 7), data.get("shrink_limit", SHRINK_LIMIT)
    if (problem := _problem("", "shrink_limit", limit)) is not None:
        reader.fault(f"shrink_limit {problem}", "shrink_limit")
    if not isinstance(keep, int) or isinstance(keep, bool) or keep < 0:
        reader.fault("keep is how many earlier snapshots are kept; write a whole number", "keep")
    if data.get("join_groups", "name") != "name":
        reader.fault('join_groups is "name", or is left out', "join_groups")
    time_zone = data.get("time_zone", "")
    if time_zone != "" and not _is_time_zone(time_zone):
        reader.fault("time_zone is the name of a time zone, such as Europe/Oslo", "time_zone")
    found = [
        named
        for section, given in enumerate(sources)
        if (named := _one({"shrink_limit": limit, **given}, section, reader, folder)) is not None
    ]
    names = [str(given.get("name", "")) for given in sources]
    for section, name in enumerate(names):
        if name and name in names[:section]:
            reader.fault(f"two sources are called {quoted(name)}; give each a name of its own", "name", section)
    if reader.faults:
        raise BadInput(reader.faults)
    return GatherSettings(tuple(found), keep, "join_groups" in data, time_zone)


def _is_time_zone(name: Any) -> bool:
    from zoneinfo import ZoneInfo

    try:
        return isinstance(name, str) and bool(ZoneInfo(name).key)
    except (KeyError, ValueError, OSError):  # KeyError: zoneinfo.ZoneInfoNotFoundError is one
        return False


def _one(given: Mapping[str, Any], section: int, reader: _Reader, folder: Path) -> NamedSource | None:
    """Read one source of usher-gate.toml; None after reporting a fault."""
    before = len(reader.faults)
    kind, name = given.get("kind"), given.get("name")
    if not isinstance(kind, str) or kind not in SOURCE_KINDS:
        what = (
            f"there is no kind {quoted(str(kind))}; {nearest(str(kind), SOURCE_KINDS)}"
            if kind
            else f"a source says its kind: {', '.join(SOURCE_KINDS)}"
        )
        reader.fault(what, "kind", section)
        return None
    if not isinstance(name, str) or not name:
        reader.fault('a source has a name; write name = "…"', "name", section)
    form = SOURCE_KINDS[kind]
    needs, may = keys_of(kind)
    known = (*needs, *may)
    for key, value in given.items():
        if key not in known:
            reader.fault(f"unknown key {quoted(key)} of a source of kind {kind}; {nearest(key, known)}", key, section)
        elif key in _SECRETS and not (isinstance(value, str) and is_reference(value)):
            reader.fault(f"{key} is the name of a secret, never the secret itself; write {FORMS}", key, section)
        elif (problem := _problem(kind, key, value)) is not None:
            reader.fault(f"{key} {problem}", key, section)
    for key in form.needs:
        if key not in given:
            reader.fault(f"a source of kind {kind} needs {key}", "kind", section)
    if kind == "table" and ("path" in given) == ("url" in given):
        reader.fault("a source of kind table has either path, a file, or url, an address", "kind", section)
    if "url" in given and "max_age_hours" in given and "max_age_hours" in known:
        reader.fault(
            "max_age_hours is about files; of what is fetched, taken_at in the mapping says how old it is",
            "max_age_hours",
            section,
        )
    if len(reader.faults) == before and "fields" in known:
        _check_columns(kind, given, section, reader)
    if len(reader.faults) > before:
        return None
    source = form.make(given)
    prepare = getattr(source, "prepare", None)
    if prepare is not None:
        prepare(folder)
    paths = tuple(given.get("paths", ())) or ((given["path"],) if "path" in given else ())
    limits = {key: given[key] for key in (*_OF_ALL, *_OF_FILES, *_OF_PEOPLE) if key in given}
    return NamedSource(
        name=str(name), kind=kind, place=str(given.get("url") or ", ".join(paths)), source=source, paths=paths, **limits
    )


def _check_columns(kind: str, given: Mapping[str, Any], section: int, reader: _Reader) -> None:
    """Name the columns that a directory's translations speak of and that it does not have."""
    fields = ENTRY_FIELDS
    if kind == "scim":
        from . import scim

        fields = scim.FIELDS
    known = {**fields, **given.get("fields", {})}
    for key in _OF_DIRECTORIES:
        for column in given.get(key, ()):
            if column not in known:
                right = nearest(column, known)
                reader.fault(
                    f"{key} speaks of the column {quoted(column)}, which fields does not have; {right}", key, section
                )


def _problem(kind: str, key: str, value: Any) -> str | None:
    """Return what is wrong with the type of a value."""
    if key in _NUMBERS:
        good = isinstance(value, int | float) and not isinstance(value, bool) and 0 < value < 1_000_000_000
        if key in _WHOLE_NUMBERS:
            return None if good and isinstance(value, int) else "is a whole number greater than 0"
        return None if good else "is a number greater than 0"
    if key in _FLAGS:
        return None if isinstance(value, bool) else "is true or false"
    if key in _LISTS:
        good = isinstance(value, list) and bool(value) and all(isinstance(item, str) and item for item in value)
        return None if good else 'is a list of texts, such as ["one", "two"]'
    if key == "values":
        good = isinstance(value, dict) and all(
            isinstance(words, dict) and all(isinstance(word, str) for word in words.values())
            for words in value.values()
        )
        return None if good else 'says by column what each value is, such as {kind = {Extern = "guest"}}'
    if key == "where":
        good = isinstance(value, dict) and all(
            isinstance(words, str)
            or (isinstance(words, list) and words and all(isinstance(word, str) for word in words))
            for words in value.values()
        )
        return None if good else 'says by column which values to take, such as {kind = ["Staff", "Extern"]}'
    if key == "dates":
        good = isinstance(value, dict) and all(isinstance(item, str) and "%" in item for item in value.values())
        return None if good else 'says by column how a date is written, such as {expires_at = "%d.%m.%Y"}'
    if key == "fields":
        good = isinstance(value, dict) and all(isinstance(item, str) for item in value.values())
        return None if good else 'says which attribute is which column, such as {login = "mail"}'
    if key == "tls":
        return None if value in ("starttls", "plain") else "is starttls or plain"
    if key == "bind":
        return None if value in ("simple", "external") else "is simple or external"
    if not isinstance(value, str) or not value:
        return "is a text in quotes"
    if key in ("url", "token_url"):
        return problem_of(value, ("ldapi", "ldap", "ldaps") if kind == "ldap" else ("http", "https"))
    return None
