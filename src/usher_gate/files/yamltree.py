"""YAML as people write it, read safely: typed getters that name file, line and path of everything wrong.

The event pre-scan stops what the composer would not survive or would swallow in silence: aliases, depth, size, repeated
keys. Scalars are taken as the words that are written; the caller decides what a word means.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from datetime import date
from pathlib import Path
from typing import Protocol, TypeVar

import yaml

from ..core.words.faults import Faults, as_key, nearest, nearest_key, quoted
from ..core.words.spellings import ours
from ..core.words.times import parse_time
from .binary import LARGEST_WRITTEN, read_bytes

_Value = TypeVar("_Value")
_Other = TypeVar("_Other")
DEEPEST = 50
TOO_DEEP = f"nests deeper than {DEEPEST} levels; nothing here needs that"
MOST_EVENTS = 1_000_000
_NUMBER = re.compile(r"[-+]?(\.[0-9]+|[0-9][0-9_]*(\.[0-9]*)?)([eE][-+]?[0-9]+)?|0x[0-9a-fA-F]+|0o[0-7]+", re.ASCII)
_NULLS = ("", "~", "null", "Null", "NULL")
_STANDARD_TAGS = tuple(
    f"tag:yaml.org,2002:{name}" for name in ("str", "int", "float", "bool", "null", "map", "seq", "timestamp", "value")
)
_Loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


def spelled(key: str, known: Collection[str]) -> str:
    """Return the one of the known keys that a key is, hyphens and underscores being alike; else the key itself."""
    if key in known:
        return key
    return next((each for each in known if as_key(each) == as_key(key)), key)


class YamlNode:
    """A place in a YAML file: `path` is how it is reached, for messages."""

    def __init__(self, node: yaml.Node, file: str, path: str, faults: Faults) -> None:
        self.node, self.file, self.path, self.faults = node, file, path, faults

    @property
    def file_name(self) -> str:
        """Return the file's name without its folder, for notes."""
        return Path(self.file).name

    @property
    def line(self) -> int:
        """Return the line, counted from 1."""
        return int(self.node.start_mark.line) + 1

    def fault(self, message: str, line: int | None = None) -> None:
        """Names a fault here."""
        self.faults.add(self.file, line or self.line, f"{self.path}: {message}" if self.path else message)

    @property
    def is_mapping(self) -> bool:
        """Return whether keys and values stand here."""
        return isinstance(self.node, yaml.MappingNode)

    @property
    def is_list(self) -> bool:
        """Return whether a list is here."""
        return isinstance(self.node, yaml.SequenceNode)

    @property
    def raw(self) -> str | None:
        """Return the scalar here, as written; None for a list or mapping."""
        return str(self.node.value) if isinstance(self.node, yaml.ScalarNode) else None

    @property
    def empty(self) -> bool:
        """Return whether nothing is here."""
        return isinstance(self.node, yaml.ScalarNode) and not self.node.style and self.node.value in _NULLS

    def _below(self, key: str) -> str:
        return f"{self.path}.{key}" if self.path else key

    def entries(self, what: str = "a mapping of keys and values", known: Collection[str] = ()) -> dict[str, YamlNode]:
        """Return the mapping here, repeated keys being faults; empty with a fault if there is none.

        A key that is one of the `known` but for a hyphen in place of an underscore is that one. Spec: files 1.
        """
        if not isinstance(self.node, yaml.MappingNode):
            self.fault(f"{self.described()} is found where {what} is due; write key: value")
            return {}
        found: dict[str, YamlNode] = {}
        for key_node, value in self.node.value:
            line = int(key_node.start_mark.line) + 1
            if not isinstance(key_node, yaml.ScalarNode):
                self.fault("a key is a list or mapping; a key is one word", line)
            elif (key := spelled(key_node.value, known)) in found:
                self.fault(
                    f"the key {quoted(key_node.value)} occurs here twice (first in line {found[key].key_line}); "
                    "keep one of them",
                    line,
                )
            else:
                found[key] = _Entry(value, self.file, self._below(key_node.value), self.faults, line)
        return found

    key_line = 0

    def without(self, key: str) -> YamlNode:
        """Return the mapping here, without one key."""
        if not isinstance(self.node, yaml.MappingNode):
            return self
        kept = [pair for pair in self.node.value if getattr(pair[0], "value", None) != key]
        node = yaml.MappingNode(self.node.tag, kept, self.node.start_mark, self.node.end_mark, self.node.flow_style)
        return YamlNode(node, self.file, self.path, self.faults)

    def fields(self, required: Collection[str], optional: Collection[str] = (), hint: str = "") -> Fields:
        """Return the mapping here, with no other keys than these; what is required and missing is a fault."""
        known = {*required, *optional}
        found = self.entries(known=known)
        for key in [key for key in found if key not in known]:
            right = nearest_key(key, known)
            self.faults.add(self.file, found[key].key_line, f"{self._below(key)}: unknown key {quoted(key)}; {right}")
            del found[key]
        if self.is_mapping:
            for key in required:
                if key not in found:
                    written = as_key(key)
                    self.fault(f"the key {written} is missing; write {written}: {hint or '…'}")
        return Fields(found)

    def items(self, least: int = 0) -> list[YamlNode]:
        """Return the list here; a fault and nothing if there is none."""
        if not isinstance(self.node, yaml.SequenceNode):
            self.fault(f"{self.described()} is found where a list is due; write [one, two] or a line '- one' for each")
            return []
        if len(self.node.value) < least:
            self.fault(f"the list is too short; at least {least} {'entry is' if least == 1 else 'entries are'} due")
        return [
            YamlNode(value, self.file, f"{self.path}[{number}]", self.faults)
            for number, value in enumerate(self.node.value)
        ]

    def described(self) -> str:
        """Return what is here, for messages."""
        if self.is_mapping:
            return "a mapping"
        if self.is_list:
            return "a list"
        return "nothing" if self.empty else quoted(str(self.node.value))

    def value(self, what: str = "a value") -> str | None:
        """Read one scalar of any look (word, number, on, yes): the text as written."""
        if not isinstance(self.node, yaml.ScalarNode) or self.empty:
            self.fault(f"{self.described()} is found where {what} is due")
            return None
        return str(self.node.value)

    def text(self, what: str = "a word") -> str | None:
        """Read one word or sentence; a number that is not in quotes is refused."""
        text = self.value(what)
        if text is None:
            return None
        if isinstance(self.node, yaml.ScalarNode) and not self.node.style and _NUMBER.fullmatch(text):
            self.fault(f'{quoted(text)} is a number where {what} is due; write it in quotes: "{text[:40]}"')
            return None
        if not text.strip():
            self.fault(f"an empty text is found where {what} is due")
            return None
        return text

    def texts(self, what: str = "a word", least: int = 0) -> tuple[str, ...]:
        """Return a list of words."""
        return tuple(text for text in (item.text(what) for item in self.items(least)) if text is not None)

    def among(self, what: str, known: Collection[str] | None) -> tuple[str, ...]:
        """Return a list of at least one name, each of which must be known (if it is known which there are)."""
        found = []
        for item in self.items(1):
            text = item.text(f"a {what}")
            if text is None:
                continue
            if known is not None and text not in known:
                item.fault(f"there is no {what} {quoted(text)}; {nearest(text, known)}")
            found.append(text)
        return tuple(found)

    def one_or_more(self, what: str = "a word") -> tuple[str, ...]:
        """Return a word, or a list of at least one."""
        if self.is_list:
            return self.texts(what, 1)
        text = self.text(what)
        return () if text is None else (text,)

    def choice(self, words: Collection[str], others: Mapping[str, str] | None = None) -> str | None:
        """Read one of these words; one of the `others`, which are not ours, is named once in a file."""
        text = self.value("one of " + ", ".join(words))
        right = ours(text, others) if text is not None and text not in words and others is not None else None
        if right is not None:
            if (self.file, text) not in self.faults.named:
                self.faults.named.add((self.file, text or ""))
                self.fault(f"{quoted(text or '')} is {right} in our words; write that, here and everywhere")
            return None
        if text is not None and text not in words:
            self.fault(f"{quoted(text)} is none of the words that may be here; {nearest(text, words)}")
            return None
        return text

    def truth(self) -> bool | None:
        """`true` or `false`."""
        text = self.value("true or false")
        if text is None:
            return None
        if text not in ("true", "false"):
            self.fault(f"{quoted(text)} is not a truth value; write true or false")
            return None
        return text == "true"

    def whole(self, least: int = 0) -> int | None:
        """Return a whole number."""
        text = self.value("a whole number")
        if text is None:
            return None
        if not re.fullmatch(r"[0-9]{1,9}", text, re.ASCII) or int(text) < least:
            self.fault(f"{quoted(text)} is not a whole number of at least {least}; write one such as {max(least, 2)}")
            return None
        return int(text)

    def number(self) -> float | None:
        """Return a decimal number, not negative."""
        text = self.value("a number")
        if text is None:
            return None
        if not re.fullmatch(r"[0-9]{1,9}(\.[0-9]{1,9})?", text, re.ASCII):
            self.fault(f"{quoted(text)} is not a number; write one such as 24 or 1.5")
            return None
        return float(text)

    def time(self) -> int | None:
        """Return a time with an offset, in microseconds since 1970-01-01T00:00Z."""
        text = self.value("a time")
        if text is None:
            return None
        found = parse_time(text)
        if found is None:
            self.fault(f"{quoted(text)} is not a time with an offset; write it as 2026-11-20T06:00:00Z")
        return found

    def day(self) -> date | None:
        """Return a calendar day; a fault is noted for anything else."""
        text = self.value("a day")
        if text is None:
            return None
        try:
            if not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text, re.ASCII):
                raise ValueError
            return date.fromisoformat(text)
        except ValueError:
            self.fault(f"{quoted(text)} is not a day; write it as 2026-11-20")
            return None


class Fields(dict[str, YamlNode]):
    """The fields of a mapping that are there, by key; a getter returns the default for one that is not."""

    def read(self, key: str, reader: Callable[[YamlNode], _Value], default: _Other) -> _Value | _Other:
        """Return what a reader makes of a field."""
        return reader(self[key]) if key in self else default

    def text(self, key: str, what: str = "a word", default: str | None = None) -> str | None:
        """Return a field as a word or sentence."""
        return self[key].text(what) if key in self else default

    def texts(self, key: str, what: str = "a word", least: int = 0) -> tuple[str, ...]:
        """Return a field as a list of words."""
        return self[key].texts(what, least) if key in self else ()

    def among(self, key: str, what: str, known: Collection[str] | None) -> tuple[str, ...] | None:
        """Return a field as a list of known names."""
        return self[key].among(what, known) if key in self else None

    def choice(
        self, key: str, words: Collection[str], others: Mapping[str, str] | None = None, default: str | None = None
    ) -> str | None:
        """Return a field as one of some words."""
        return self[key].choice(words, others) if key in self else default

    def truth(self, key: str, default: bool | None = None) -> bool | None:
        """Return a field as `true` or `false`."""
        return self[key].truth() if key in self else default

    def whole(self, key: str, least: int = 0, default: int | None = None) -> int | None:
        """Return a field as a whole number."""
        return self[key].whole(least) if key in self else default

    def number(self, key: str, default: float | None = None) -> float | None:
        """Return a field as a decimal number."""
        return self[key].number() if key in self else default

    def time(self, key: str) -> int | None:
        """Return a field as a time, in microseconds since 1970-01-01T00:00Z."""
        return self[key].time() if key in self else None

    def day(self, key: str) -> date | None:
        """Return a field as a calendar day."""
        return self[key].day() if key in self else None

    def nodes(self, key: str, least: int = 0) -> list[YamlNode]:
        """Return the entries of a field that is a list."""
        return self[key].items(least) if key in self else []

    def mapping(self, key: str) -> dict[str, YamlNode]:
        """Return the entries of a field that is a mapping."""
        return self[key].entries() if key in self else {}

    def below(self, key: str, required: Collection[str], optional: Collection[str] = ()) -> Fields:
        """Return the fields of a field."""
        return self[key].fields(required, optional) if key in self else Fields()


class Identified(Protocol):
    """Describes what has an id of its own."""

    @property
    def id(self) -> str:
        """Return the id."""


T = TypeVar("T", bound=Identified)


def once_each(
    items: Iterable[YamlNode],
    what: str,
    read: Callable[[YamlNode], T | None],
    advice: str = "give each an id of its own",
) -> tuple[T, ...]:
    """Return what `read` makes of the items (None, with faults, where one is not whole), sorted by id.

    An id that occurs a second time is a fault.
    """
    found: dict[str, tuple[int, T]] = {}
    for item in items:
        thing = read(item)
        if thing is not None and thing.id in found:
            item.fault(f"the {what} {quoted(thing.id)} occurs here and in line {found[thing.id][0]}; {advice}")
        elif thing is not None:
            found[thing.id] = item.line, thing
    return tuple(found[name][1] for name in sorted(found))


class _Entry(YamlNode):
    """The value of a key, which also knows the place of the key."""

    def __init__(self, node: yaml.Node, file: str, path: str, faults: Faults, key_line: int) -> None:
        super().__init__(node, file, path, faults)
        self.key_line = key_line


def read_yaml(path: Path, shown: str, form: str, faults: Faults) -> YamlNode | None:
    """Return the top of a YAML file of the form `form` (say, snapshot/1).

    None, with faults, where it cannot be read.
    """
    data = read_bytes(path, shown, faults, LARGEST_WRITTEN)
    if data is None:
        return None
    return form_of(parse_yaml(data, shown, faults), form)


def form_of(top: YamlNode | None, form: str) -> YamlNode | None:
    """Return the same top if it says that it is of the form; None, with faults, where it does not."""
    if top is None:
        return None
    if not top.is_mapping:
        top.fault(f"{top.described()} is found where keys and values are due; begin with usher-gate: {form}")
        return None
    header = top.entries().get("usher-gate")
    if header is None:
        top.fault(f"the key usher-gate is missing; begin with usher-gate: {form}")
        return None
    if header.raw != form:
        header.fault(f"{header.described()} is not the form of this file; write usher-gate: {form}")
        return None
    return top


def parse_yaml(data: bytes, shown: str, faults: Faults) -> YamlNode | None:
    """Return the top of a YAML text; None, with a fault, where it is not YAML or not harmless."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        faults.add(shown, data.count(b"\n", 0, error.start) + 1, "is not UTF-8 text; save it as UTF-8")
        return None
    try:
        stop = _scan(text)
        if stop is not None:
            faults.add(shown, *stop)
            return None
        node = yaml.compose(text, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else 1
        if "depth" in _plain(
            error.problem
        ):  # the scanner reads ahead of the events, and newer ones have a bound of their own
            faults.add(shown, line, TOO_DEEP)
            return None
        faults.add(shown, line, f"is not YAML here ({_plain(error.problem)}); check indentation, quotes and brackets")
        return None
    except yaml.YAMLError:
        bad = next(
            (place for place, char in enumerate(text) if not char.isprintable() and char not in "\n\r\t\u0085"), 0
        )
        faults.add(shown, text.count("\n", 0, bad) + 1, "holds a character that YAML does not allow; remove it")
        return None
    if node is None:
        faults.add(shown, 1, "is empty; see docs/files.md for what belongs here")
        return None
    return YamlNode(node, shown, "", faults)


def _plain(problem: object) -> str:
    return " ".join(str(problem or "a mistake").split())


def _scan(text: str) -> tuple[int, str] | None:
    """Return where and why a YAML text is not to be composed."""
    depth = 0
    for number, event in enumerate(_events(text)):
        line = int(event.start_mark.line) + 1 if event.start_mark is not None else 1
        if number > MOST_EVENTS:
            return line, f"holds more than {MOST_EVENTS:,} parts; split it, or keep bulk in tables"
        if isinstance(event, yaml.AliasEvent):
            return line, "uses an alias (*name); write the value out"
        if getattr(event, "anchor", None) is not None:
            return line, "uses an anchor (&name); write the value out where it is needed"
        tag = getattr(event, "tag", None)
        if tag is not None and tag not in ("!", *_STANDARD_TAGS):
            return line, f"uses the tag {quoted(tag)}; write the value without one"
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
            if depth > DEEPEST:
                return line, TOO_DEEP
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1
        elif isinstance(event, yaml.DocumentStartEvent) and event.explicit and number > 2:
            return line, "begins a second document; keep one in a file"
    return None


def _events(text: str) -> Iterator[yaml.Event]:
    yield from yaml.parse(text, Loader=_Loader)
