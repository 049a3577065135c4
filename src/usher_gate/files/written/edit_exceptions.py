"""Adding and ending exceptions in the text of their file, every other character of which stays as it is."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date
from pathlib import Path

import yaml

from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.rules import Baseline
from ...core.words.faults import Fault, Faults, as_key, nearest, quoted, visible
from ...core.words.record import record
from ..binary import LARGEST_WRITTEN, read_bytes
from ..faults import BadInput, UsherError, stop_if_any
from ..write import only_writer, whole_bytes
from ..yamltree import YamlNode, form_of, parse_yaml
from .cells import escaped
from .exceptions import read_exceptions

EMPTY = "usher-gate: exceptions/1\nexceptions:\n"


@record
class Draft:
    """An exception to be added: `who` are (key, value) pairs of a selector, all of which must hold.

    `people` are the ids and logins of people, any of them: ids are written, for a login may go to someone else, with
    the logins in a comment.
    """

    id: str
    rules: tuple[str, ...]
    who: tuple[tuple[str, str], ...]
    people: tuple[tuple[str, str], ...]
    partners: tuple[str, ...]
    services: tuple[str, ...]
    reason: str
    approved_by: str
    until: str

    def lines(self, indent: str) -> list[str]:
        """Return the YAML of the exception, as one entry of a block list."""
        keys = [key if key.startswith("attr.") else as_key(key) for key, _ in self.who]
        values = [value if value in ("true", "false") else _word(value) for _, value in self.who]
        parts = [f"{key}: {value}" for key, value in zip(keys, values, strict=True)]
        parts += [f"id: [{_words([name for name, _ in self.people])}]"] if self.people else []
        who = ", ".join(parts)
        logins = ", ".join(visible(login) for _, login in self.people)
        comment = f"  # {logins}" if logins else ""
        found = [
            f"id: {_word(self.id)}",
            f"rules: [{_words(self.rules)}]",
            f"who: {{{who}}}{comment}" if who else f"partners: [{_words(self.partners)}]",
        ]
        found += [f"services: [{_words(self.services)}]"] if self.services else []
        found += [f"reason: {_word(self.reason)}", f"approved_by: {_word(self.approved_by)}", f"until: {self.until}"]
        return [f"{indent}{'- ' if number == 0 else '  '}{line}\n" for number, line in enumerate(found)]


def _word(text: str) -> str:
    """Return a text as a double-quoted YAML scalar (JSON strings are YAML 1.2), control characters escaped."""
    return escaped(json.dumps(text, ensure_ascii=False))


def _words(texts: Sequence[str]) -> str:
    return ", ".join(map(_word, texts))


def add_exception(path: Path, draft: Draft, baseline: Baseline, snapshot: Snapshot) -> None:
    """Adds one at the end of the file, which is made if there is none; raises BadInput, and changes nothing, if it is
    not whole.

    Two calls at once add both of theirs, one after the other. Raises UsherError where the file is changed otherwise
    meanwhile.
    """
    with only_writer(path):
        before = _bytes(path)
        _add(path, before, draft, baseline, snapshot)


def _add(path: Path, before: bytes | None, draft: Draft, baseline: Baseline, snapshot: Snapshot) -> None:
    """Insert an exception after the last one, and leave every other byte of the file as it is."""
    entries = None if before is None else _entries(path, before)  # what is no UTF-8 is named there
    lines = (EMPTY if before is None else before.decode("utf-8-sig")).splitlines(keepends=True)
    if entries is not None:
        if entries.empty or (entries.is_list and not entries.items()):
            lines = _opened(lines, entries)
            place, indent = entries.line, "  "
        elif isinstance(entries.node, yaml.SequenceNode) and not entries.node.flow_style:
            last = entries.node.value[-1]
            place, indent = _last_line(last) + 1, " " * max(last.start_mark.column - 2, 0)
        else:
            raise BadInput(
                [
                    Fault(
                        str(path),
                        entries.line,
                        "the exceptions stand in brackets; write each on a line that begins with '- '",
                    )
                ]
            )
    else:
        place, indent = len(lines), "  "
    if place > 0 and lines[place - 1 : place] and not lines[place - 1].endswith("\n"):
        lines[place - 1] += "\n"
    _replace(path, before, "".join([*lines[:place], *draft.lines(indent), *lines[place:]]), baseline, snapshot)


def end_exception(path: Path, name: str, day: date, baseline: Baseline, snapshot: Snapshot) -> None:
    """Makes `day` the last day of an exception; raises BadInput, and changes nothing, if there is no such exception,
    and UsherError as
    `add_exception`."""
    with only_writer(path):
        before = _bytes(path)
        if before is None:
            raise BadInput([Fault(str(path), 0, "does not exist; name the file that has the exception")])
        _end(path, before, name, day, baseline, snapshot)


def _end(path: Path, before: bytes, name: str, day: date, baseline: Baseline, snapshot: Snapshot) -> None:
    entries = _entries(path, before)
    found: dict[str, YamlNode] = {}
    for item in entries.items():
        fields = item.entries()
        if "id" in fields and "until" in fields:
            found[fields["id"].raw or ""] = fields["until"]
    if name not in found:
        raise BadInput([Fault(str(path), 0, f"there is no exception {quoted(name)}; {nearest(name, found)}")])
    start, end = found[name].node.start_mark, found[name].node.end_mark
    lines = before.decode("utf-8-sig").splitlines(keepends=True)
    line = lines[start.line]
    lines[start.line] = line[: start.column] + day.isoformat() + line[end.column :]
    _replace(path, before, "".join(lines), baseline, snapshot)


def _bytes(path: Path) -> bytes | None:
    """Return the file as it is; None where there is none."""
    faults = Faults()
    found = read_bytes(path, str(path), faults, LARGEST_WRITTEN) if path.exists() else None
    stop_if_any(faults)
    return found


def _entries(path: Path, data: bytes) -> YamlNode:
    faults = Faults()
    top = form_of(parse_yaml(data, str(path), faults), "exceptions/1")
    entries = top.entries().get("exceptions") if top is not None else None
    stop_if_any(faults)
    if entries is None:
        raise BadInput([Fault(str(path), 1, "the key exceptions is missing; write exceptions:")])
    return entries


def _opened(lines: list[str], entries: YamlNode) -> list[str]:
    """Return the lines with an empty `[]` taken away, so that entries may follow."""
    if not entries.is_list:
        return lines
    start, end = entries.node.start_mark, entries.node.end_mark
    line = lines[start.line]
    return [*lines[: start.line], line[: start.column].rstrip() + line[end.column :], *lines[start.line + 1 :]]


def _last_line(node: yaml.Node) -> int:
    """Return the line, counted from 0, on which the last scalar or bracket of a node ends."""
    if isinstance(node, yaml.CollectionNode) and node.value and not node.flow_style:
        last = node.value[-1]
        return _last_line(last[1] if isinstance(last, tuple) else last)
    mark = node.end_mark
    return int(mark.line if mark.column or mark.line == node.start_mark.line else mark.line - 1)


def _replace(path: Path, before: bytes | None, text: str, baseline: Baseline, snapshot: Snapshot) -> None:
    """Puts the new text in place if it reads as a whole exceptions file, and the file is still as it was read."""
    with whole_bytes(path) as stream:
        stream.write(text.encode("utf-8"))
        stream.flush()
        try:
            read_exceptions(Path(stream.name), baseline, snapshot)
        except BadInput as error:
            raise BadInput(
                Fault(str(path), 0, f"would not be whole: {fault.message}") for fault in error.faults
            ) from None
        if _bytes(path) != before:
            raise UsherError(f"{path} was changed by another program meanwhile; nothing was written, try again")
