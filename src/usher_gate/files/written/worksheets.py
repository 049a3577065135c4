"""Worksheets for those who are asked about guests.

Written so that any spreadsheet opens them without harm, and read back however it saved them.

`review.json` is beside them and says what was asked, row by row by its SHA-256: a row that is not as it was asked is
refused.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, time, timedelta
from pathlib import Path
from typing import Any

from ...core.guests.asking import ACCOUNT, ANSWERED, ASKED, ReviewRow, digest, review_id
from ...core.guests.deciding import DECISIONS, Row, WorksheetAnswer
from ...core.guests.policy import DAYS, END, KEEP, Policy
from ...core.organisation.columns import MISSING, alike
from ...core.organisation.snapshot import Snapshot
from ...core.words.addresses import is_address
from ...core.words.faults import Fault, Faults, as_key, nearest, quoted
from ...core.words.record import record
from ..binary import LARGEST_WRITTEN, read_bytes
from ..faults import BadInput, stop_if_any
from ..write import new_bytes, new_file, whole_folder
from .cells import escaped, for_round_trip, from_round_trip, moments, same_value, visible
from .messages import draft_message
from .workbook import TYPE, sheets_of, workbook

REVIEW = "review.json"
FORM = "asked/1"
XLSX, CSV = "xlsx", "csv"  # the forms of worksheets, the safer one first
_WORDS = {"review", "guest", "place", "decision"}  # by which a worksheet is known
SPONSOR = "sponsor"
_SAME_DECISION = {"yes": KEEP, "no": END}  # what they still need it means
_SEPARATORS = (",", ";", "\t", "|")


@record
class Sent:
    """Describes what was written.

    The review's name, the due day, the worksheets with who is asked (numbers) and how many rows each has; and the
    logins of those who are asked that are no address, so that no message was drafted.
    """

    id: str
    due: date
    sheets: tuple[tuple[str, int, int], ...]
    without_address: tuple[str, ...]


def write_worksheets(
    folder: Path, snapshot: Snapshot, policy: Policy, questions: Sequence[ReviewRow], on: date, form: str = CSV
) -> Sent:
    """Writes a worksheet and the draft of a message for each reviewer, and review.json, into a folder that is not
    there yet or is empty,
    whole or not at all; a reviewer whose login is no address gets no draft. Raises BadInput and CannotWrite as
    `whole_folder`."""
    due = on + timedelta(days=policy.answer_within_days)
    name = review_id(snapshot, due.isoformat(), questions)
    by_reviewer: dict[int, list[ReviewRow]] = {}
    for question in questions:
        if question.reviewer != MISSING:
            by_reviewer.setdefault(question.reviewer, []).append(question)
    sheets, reviewers, without = [], [], []
    with whole_folder(folder) as inside:
        for number, (reviewer, mine) in enumerate(by_reviewer.items(), 1):
            one, login = _of(snapshot, reviewer)
            stem = f"{number:03}-{re.sub(r'[^A-Za-z0-9._-]', '_', one)[:60]}"
            sheet, data = f"{stem}.{form}", _workbook(name, mine) if form == XLSX else _sheet(name, mine).encode()
            with new_bytes(inside / sheet) as binary:
                binary.write(data)
            if is_address(login):
                with new_file(inside / f"{stem}.eml") as stream:
                    stream.write(_message(snapshot, name, due, policy, login, (sheet, data), mine).decode("utf-8"))
            else:
                without.append(login)
            rows: list[dict[str, Any]] = [
                {
                    "guest": question.cells[0],
                    "place": question.place,
                    "through": question.through,
                    "sha256": digest((name, *map(visible, question.cells))),
                    "cells": [*map(visible, question.cells)],
                }
                for question in mine
            ]
            together = digest([row["sha256"] for row in rows])
            reviewers.append({"id": one, "login": login, "worksheet": sheet, "sha256": together, "rows": rows})
            sheets.append((sheet, reviewer, len(mine)))
        nobody = sorted({question.cells[0] for question in questions if question.reviewer == MISSING})
        said = {
            "usher-gate": FORM,
            "id": name,
            "organisation": snapshot.name,
            "taken_at": snapshot.taken_text,
            "asked_on": on.isoformat(),
            "due": due.isoformat(),
            "policy": _policy(policy, snapshot),
            "reviewers": reviewers,
            "nobody_to_ask": nobody,
        }
        with new_file(inside / REVIEW) as stream:
            stream.write(escaped(json.dumps(said, indent=1, ensure_ascii=False)) + "\n")
    return Sent(name, due, tuple(sheets), tuple(without))


def _of(snapshot: Snapshot, person: int) -> tuple[str, str]:
    import numpy as np

    row = np.array([person])
    return snapshot.people.ids.take(row)[0], snapshot.people.logins.take(row)[0]


def _policy(policy: Policy, snapshot: Snapshot) -> dict[str, object]:
    days = {key: getattr(policy, key) for key in DAYS}
    return {**days, "on_silence": policy.on_silence, "fallback": [_of(snapshot, one)[0] for one in policy.fallback]}


def _sheet(name: str, questions: Sequence[ReviewRow]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow((*ASKED, *ANSWERED))
    for question in questions:
        writer.writerow([*map(for_round_trip, (name, *map(visible, question.cells))), *("" for _ in ANSWERED)])
    return "\ufeff" + out.getvalue()


def _workbook(name: str, questions: Sequence[ReviewRow]) -> bytes:
    rows = [[name, *map(visible, question.cells), *("" for _ in ANSWERED)] for question in questions]
    return workbook([[*ASKED, *ANSWERED], *rows], [(len(ASKED) + ANSWERED.index("decision"), DECISIONS)])


def _message(
    snapshot: Snapshot,
    name: str,
    due: date,
    policy: Policy,
    login: str,
    attached: tuple[str, bytes],
    questions: Sequence[ReviewRow],
) -> bytes:
    """Return the message to one reviewer, with the worksheet attached, as RFC 5322 bytes."""
    guests = len({question.guest for question in questions})
    silence = "they end" if policy.on_silence == END else "they stay"
    message = draft_message(
        f"{snapshot.name}: do these guests still need access?",
        f"""Do guests of {snapshot.name} still need their access? For {guests} of them we ask you.

Please open the attached worksheet, and write in each row, in the column decision:

  keep       they still need it (for an account you may say until which day, as 2027-01-31,
             and under sponsor who answers for it from now on)
  end        they need it no more
  pass-on    someone else has to say

Change nothing else, save it in any form that your program offers,
and send it back by {due:%A}, {due.day} {due:%B %Y}.
Of what no one has answered by the end of that day we have agreed beforehand: {silence}.

This is the review {name}.
""",
        "To",
        (login,),
    )
    file, data = attached
    main, sub = ("application", TYPE) if file.endswith(XLSX) else ("text", "csv")
    message.add_attachment(data, maintype=main, subtype=sub, filename=file)
    return message.as_bytes()


# reading back


@record
class ReadReview:
    """A review read back: as review.json says it, each row with its answers, and notes."""

    id: str
    taken_at: str
    asked_on: str
    due: date
    on_silence: str
    keep_for_days: int
    rows: tuple[tuple[Row, tuple[WorksheetAnswer, ...]], ...]
    nobody: tuple[str, ...]
    notes: tuple[str, ...]


@dataclass
class _Known:
    """Describes what was asked.

    By guest and place the row, its digest and its cells (None where the review does not say).

    And which are in which worksheet.
    """

    snapshot: Snapshot
    id: str
    rows: dict[tuple[str, str], tuple[Row, str, tuple[str, ...] | None]]
    sheets: dict[str, list[tuple[str, str]]]


def read_review(folder: Path, snapshot: Snapshot, on: date) -> ReadReview:
    """Reads all worksheets of a folder back; raises BadInput with everything that is wrong."""
    place = folder / REVIEW
    data = _json(place)
    faults = Faults()
    known = _known(place, data, snapshot, faults)
    stop_if_any(faults)
    answers: dict[tuple[str, str], list[WorksheetAnswer]] = {key: [] for key in known.rows}
    notes, seen, met = list[str](), set[str](), set[tuple[str, str]]()
    for path in sorted(folder.iterdir()):
        if path.suffix.lower() in (".eml", ".json") or not path.is_file():
            continue
        rows = _rows(path)
        if rows is None:
            notes.append(f"{path.name} is no worksheet: it is ignored")
            continue
        seen.add(path.name)
        met |= _answers(path, rows, known, on, answers, faults, notes)
    for sheet, keys in known.sheets.items():
        lacking = [key for key in keys if key not in met]
        if len(lacking) == len(keys) and sheet not in seen:
            faults.add(str(folder / sheet), 0, "the worksheet is missing; put it back, unanswered if need be")
        else:
            for guest, where in lacking:
                faults.add(str(folder / sheet), 0, f"the row of {guest} at {where} is missing; put it back")
    stop_if_any(faults)
    return ReadReview(
        id=known.id,
        taken_at=data["taken_at"],
        asked_on=data["asked_on"],
        due=date.fromisoformat(data["due"]),
        on_silence=_agreed(data)["on_silence"],
        keep_for_days=_agreed(data)["keep_for_days"],
        rows=tuple((row, tuple(answers[key])) for key, (row, _, _) in known.rows.items()),
        nobody=tuple(data["nobody_to_ask"]),
        notes=tuple(notes),
    )


def _json(path: Path) -> dict[str, Any]:
    if not path.exists():
        raise BadInput([Fault(str(path), 0, "does not exist; name a folder that guests --ask wrote")])
    try:
        data = json.loads(_bytes(path).decode("utf-8-sig"))
    except (ValueError, RecursionError):
        raise BadInput([Fault(str(path), 1, "is not JSON; it is written by guests --ask, and read as it is")]) from None
    if not isinstance(data, dict) or data.get("usher-gate") != FORM:
        raise BadInput([Fault(str(path), 1, f"is not the form {FORM}; it is written by guests --ask")])
    return data


def _agreed(data: Mapping[str, Any]) -> dict[str, Any]:
    """Return what was agreed about a review; reviews asked by an older version have hyphens in its keys."""
    return {as_key(key): value for key, value in data["policy"].items()}


def _known(path: Path, data: Mapping[str, Any], snapshot: Snapshot, faults: Faults) -> _Known:
    """Read review.json, and refuse it if it was altered or belongs to another snapshot."""
    known = _Known(snapshot, "", {}, {})
    try:
        known.id = str(data["id"])
        for reviewer in data["reviewers"]:
            keys = known.sheets.setdefault(str(reviewer["worksheet"]), [])
            for row in reviewer["rows"]:
                guest, place = str(row["guest"]), str(row["place"])
                key = visible(guest), visible(place)  # as the worksheet shows them
                cells = (known.id, *map(str, row["cells"])) if "cells" in row else None
                assert cells is None or digest(cells) == row["sha256"]
                one = Row(guest, place, str(row["through"]), str(reviewer["id"]))
                known.rows[key] = one, str(row["sha256"]), cells
                keys.append(key)
        policy, due = _agreed(data), date.fromisoformat(str(data["due"]))
        taken, whose = str(data["taken_at"]), str(data["organisation"])
        assert policy["on_silence"] in (END, KEEP)
        assert isinstance(policy["keep_for_days"], int) and isinstance(data["nobody_to_ask"], list) and due
        str(data["asked_on"])
    except (KeyError, TypeError, ValueError, AssertionError, AttributeError):
        faults.add(str(path), 1, "was altered; it is written by guests --ask, and read as it is")
        return known
    if whose != snapshot.name:
        faults.add(str(path), 1, f"is a review of {quoted(whose)}, and the snapshot is of {quoted(snapshot.name)}")
    from ...core.words.times import parse_time

    asked = parse_time(taken)
    if asked is not None and asked > snapshot.taken_at:
        faults.add(
            str(path), 1, f"is a review of {taken}, and the snapshot is older: of {snapshot.taken_text}; gather again"
        )
    return known


def _rows(path: Path) -> list[tuple[int, list[str]]] | None:
    """Return the rows of a worksheet with the line on which each ends; None for a file that is none."""
    if path.suffix.lower() == f".{XLSX}":
        sheets = sheets_of(_bytes(path)) or []
        mine = next((rows for rows in sheets if rows and {cell.strip().casefold() for cell in rows[0]} >= _WORDS), None)
        return None if mine is None else [(number, [*map(for_round_trip, row)]) for number, row in enumerate(mine, 1)]
    text = _decoded(_bytes(path))
    first = next((line for line in text.splitlines() if line.strip(" ,;\t|")), "")
    for separator in _SEPARATORS:
        found = {cell.strip().strip('"').casefold() for cell in first.split(separator)}
        if found >= _WORDS:
            reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
            try:
                return [(reader.line_num, row) for row in reader]
            except csv.Error:
                return None
    return None


def _bytes(path: Path) -> bytes:
    faults = Faults()
    data = read_bytes(path, str(path), faults, LARGEST_WRITTEN)
    stop_if_any(faults)
    assert data is not None
    return data


def _decoded(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _answers(
    path: Path,
    rows: Sequence[tuple[int, list[str]]],
    known: _Known,
    on: date,
    answers: Mapping[tuple[str, str], list[WorksheetAnswer]],
    faults: Faults,
    notes: list[str],
) -> set[tuple[str, str]]:
    """Reads the rows of one worksheet; gives those that were found in it, right or wrong.

    Notes columns that are none of ours.
    """
    met: set[tuple[str, str]] = set()
    filled = [(line, row) for line, row in rows if any(cell.strip() for cell in row)]
    header = [cell.strip().casefold() for cell in filled[0][1]]
    every = (*ASKED, *ANSWERED)
    notes += [
        f"{path.name}: the column {quoted(name)} is none that was asked: it is ignored"
        for name in header
        if name and name not in every
    ]
    wrong = [name for name in every if header.count(name) != 1 and not (name == SPONSOR and name not in header)]
    if wrong:
        line = filled[0][0]
        said = f"the column {quoted(wrong[0])} is not as it was asked; keep the columns that there were"
        faults.add(str(path), line, said)
        return set(known.rows)
    at = {name: header.index(name) for name in every if name in header}  # earlier worksheets have no column sponsor
    for line, row in filled[1:]:
        cells = {name: row[place] if place < len(row) else "" for name, place in at.items()}
        asked = tuple(from_round_trip(cells[name]) for name in ASKED)
        key = asked[1], asked[5]
        if key not in known.rows:  # a spreadsheet may have made a number of it
            key = next((one for one in known.rows if all(map(same_value, one, key))), key)
        met.add(key)
        if asked[0] != known.id:
            faults.add(
                str(path),
                line,
                f"is of the review {quoted(asked[0])}, not of {known.id}; keep each review in its folder",
            )
        elif key not in known.rows:
            faults.add(str(path), line, f"{quoted(asked[1])} at {quoted(asked[5])} was not asked; take the row out")
        elif (altered := _altered(asked, known.rows[key])) is not None:
            faults.add(
                str(path),
                line,
                f"the row of {key[0]} at {key[1]} is not as it was asked{altered}; change only decision, until, note "
                "and sponsor",
            )
        else:
            found = _answer(path, line, cells, on, known.snapshot, faults)
            if found is not None:
                answers[key].append(found)
    return met


def _altered(cells: tuple[str, ...], known: tuple[Row, str, tuple[str, ...] | None]) -> str | None:
    """Return the first cell of a row that is not as it was asked, by value, in words; None where all are."""
    _, sha256, asked = known
    if asked is None:
        return None if digest(cells) == sha256 else ""
    for name, was, now in zip(ASKED, asked, cells, strict=True):
        if not same_value(was, now):
            return f": {name} was {quoted(was)} and is {quoted(now)}"
    return None


def _answer(
    path: Path, line: int, cells: Mapping[str, str], on: date, snapshot: Snapshot, faults: Faults
) -> WorksheetAnswer | None:
    """Read the answer in one row of a worksheet; None after reporting a fault."""
    word = from_round_trip(cells["decision"]).strip().casefold()
    word = _SAME_DECISION.get(word, word)
    if word and word not in DECISIONS:
        faults.add(str(path), line, f"{quoted(cells['decision'])} is no decision; {nearest(word, DECISIONS)}")
        return None
    text, until = from_round_trip(cells["until"]).strip(), None
    if text:
        until = _day(text)
        if until is None:
            why = ", because with slashes day and month cannot be distinguished" if "/" in text else ""
            faults.add(str(path), line, f"{quoted(text)} is no date{why}; write it as 2027-01-31")
            return None
        if until < on:
            faults.add(str(path), line, f"until {text} has passed (it is {on}); write a day that is to come")
            return None
        if word != KEEP:
            faults.add(
                str(path), line, f"until {text} says how long to keep, and the decision is {quoted(word or 'empty')}"
            )
            return None
    sponsor, named = "", from_round_trip(cells.get(SPONSOR, "")).strip()
    if named:
        sponsor = _active_member(snapshot, named)
        if not sponsor or word != KEEP or cells["place"] != ACCOUNT:
            why = "is no active member" if not sponsor else "answers for an account that is kept, and this is none"
            faults.add(str(path), line, f"the sponsor {quoted(named)} {why}; leave the cell empty, or name another")
            return None
    return WorksheetAnswer(
        decision=word, until=until, note=from_round_trip(cells["note"]), where=f"{path.name}:{line}", sponsor=sponsor
    )


def _active_member(snapshot: Snapshot, named: str) -> str:
    """Return the id of the active member with this id or login; "" where there is none."""
    people = snapshot.people
    found = people.ids.find(named) or alike(people.logins, named)
    kind = people.kind
    is_member = bool(found) and kind.words[kind.codes[found[0]]] == "member"
    return _of(snapshot, found[0])[0] if is_member else ""


def _day(text: str) -> date | None:
    found = moments(text) if "/" not in text else []
    return found[0].date() if found and found[0].time() == time() else None


def _many(number: int, one: str, more: str) -> str:
    return f"{number} {one if number == 1 else more}"


def changes_of(
    ended: Sequence[str],
    kept: Mapping[date, Sequence[str]],
    removed: Mapping[str, Sequence[str]],
    sponsors: Mapping[str, Sequence[str]],
    on: date,
    columns: frozenset[str],
) -> Iterator[tuple[dict[str, object], str]]:
    """Yield the changes that follow, each with why; only to columns that the table of people has."""
    if ended and "active" in columns:
        yield (
            {"people": {"who": {"person": list(ended)}, "active": "false"}},
            _many(len(ended), "account ends", "accounts end"),
        )
    for day, people in kept.items():
        cells = {
            name: text
            for name, text in (("reviewed_at", on.isoformat()), ("expires_at", day.isoformat()))
            if name in columns
        }
        if cells:
            yield (
                {"people": {"who": {"person": list(people)}, **cells}},
                f"{_many(len(people), 'account is', 'accounts are')} kept until {day}",
            )
    for sponsor, people in sponsors.items() if SPONSOR in columns else ():
        yield (
            {"people": {"who": {"person": list(people)}, SPONSOR: sponsor}},
            f"{_many(len(people), 'guest gets', 'guests get')} a sponsor",
        )
    for group, people in removed.items():
        yield (
            {"members": {"group": group, "remove": list(people)}},
            _many(len(people), f"membership of {group} ends", f"memberships of {group} end"),
        )
