"""The history as it is kept in a database: whole checks or none of one, one recorder at a time.

SQLite by default; PostgreSQL, and what else SQLAlchemy speaks to, by its URL.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import msgspec
import sqlalchemy as sa

from ...core.history.chain import FIELDS, finding_line, findings_digest, kept_digest, lines_digest, link
from ...core.history.intervals import (
    DRIFTING,
    STATES,
    Between,
    FindingGroup,
    Interval,
    IntervalKey,
    Lots,
    Open,
    Present,
    Standing,
    began_at,
    unjudged,
)
from ...core.history.trend import IntervalRun
from ...core.words.faults import quoted
from ...core.words.record import record
from ..faults import CannotWrite, UsherError
from ..write import write_target, writing

VERSION = "0002"
_VERSIONS = ("0001", VERSION)  # those that are read; the first time that something is kept they are upgraded
_DAMAGED = ("SQLITE_CORRUPT", "SQLITE_NOTADB", "SQLITE_FORMAT", "SQLITE_MISMATCH")
_UNWRITABLE = {
    "SQLITE_FULL": "no space left on device",
    "SQLITE_IOERR": "input/output error",
    "SQLITE_READONLY": "it or its folder may only be read",
    "SQLITE_CANTOPEN": "its journal cannot be opened",
}
_VERSION = re.compile(r"[0-9]{4}")
_META = sa.MetaData()
CHECKS = sa.Table(
    "checks",
    _META,
    sa.Column("number", sa.Integer, primary_key=True),
    *(sa.Column(name, sa.Text) for name in ("organisation", "time")),
    sa.Column("taken_at", sa.BigInteger),
    *(sa.Column(name, sa.Text) for name in ("baseline_name", "baseline_version", *FIELDS, "kept", "link", "kept_at")),
)
SPELLS = sa.Table(
    "spells",
    _META,
    *(sa.Column(name, sa.Text, primary_key=True) for name in ("rule", "service", "type", "id")),
    sa.Column("first", sa.Integer, primary_key=True),
    sa.Column("verdict", sa.Text),
    sa.Column("last", sa.Integer),
    sa.Column("left", sa.Boolean),
)
COUNTS = sa.Table(
    "counts",
    _META,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("kind", sa.Text, primary_key=True),
    sa.Column("name", sa.Text, primary_key=True),
    sa.Column("many", sa.BigInteger),
)
_COUNT_TYPES = (int, str, str, int | None)
_INTERVAL_TYPES = (str, str, str, str, str, int, int | None)
_LOT = (SPELLS.c.rule, SPELLS.c.service, SPELLS.c.type, SPELLS.c.verdict)
_KEY = (SPELLS.c.rule, SPELLS.c.service, SPELLS.c.type, SPELLS.c.id)


@record
class Check:
    """One kept check.

    Its number from 1, whose and when (the text of `taken_at`, and as a number), its baseline, and the digests by name
    (those of FIELDS, `kept` and `link`), with `kept_at`, when it was kept ("" where that was not recorded).
    """

    number: int
    organisation: str
    time: str
    taken_at: int
    baseline_name: str
    baseline_version: str
    digests: Mapping[str, str]


@record
class ToKeep:
    """A check that is to be kept.

    The same without what the chain adds, its findings, what else is counted, and who is there by then.
    """

    organisation: str
    time: str
    taken_at: int
    baseline_name: str
    baseline_version: str
    digests: Mapping[str, str]
    findings: Lots
    counts: Mapping[tuple[str, str], int]
    there: Present
    kept_at: str  # when it is kept: an RFC 3339 time in UTC


class _OddRow(Exception):
    """A row that no recorder writes."""


def _typed(row: Any, table: str, *types: Any) -> Any:
    """Return a row as it must be; raises _OddRow, which names it, for cells of another type."""
    cells = tuple(row)
    if any(not isinstance(cell, kind) for cell, kind in zip(cells, types, strict=False)):
        shown = ", ".join(quoted(str(cell)) for cell in cells[:5])
        raise _OddRow(f"the row {shown} of its table {table} holds what was never written")
    return row


class Store:
    """A history. Opening reads nothing; `there` says whether anything was ever kept."""

    def __init__(self, url: sa.URL) -> None:
        self._url = url
        if url.get_backend_name() == "sqlite":
            self._engine = sa.create_engine(
                url, connect_args={} if "timeout" in url.query else {"timeout": 60}, poolclass=sa.pool.NullPool
            )
            sa.event.listen(self._engine, "connect", _no_own_transactions)
            sa.event.listen(self._engine, "begin", _begin_at_once)
        else:
            self._engine = sa.create_engine(url, poolclass=sa.pool.NullPool)

    @property
    def shown(self) -> str:
        """Return where the history is, without a password."""
        return str(self._url.database) if self._url.get_backend_name() == "sqlite" else self._url.render_as_string()

    @property
    def there(self) -> bool:
        """Return whether there is a history."""
        if self._url.get_backend_name() == "sqlite" and not Path(self._url.database or "").exists():
            return False
        with self._reading() as connection:
            return self._version(connection) is not None

    @contextmanager
    def _reading(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.connect().execution_options(reading=True) as connection:
                yield connection
        except sa.exc.SQLAlchemyError as error:
            raise self._unusable(error, False) from None
        except (_OddRow, msgspec.DecodeError) as error:
            raise self._damaged(str(error)) from None

    @contextmanager
    def _writing(self) -> Iterator[sa.Connection]:
        """One transaction; other writers wait until it is done."""
        self._make_private()
        try:
            with self._engine.begin() as connection:
                if self._url.get_backend_name() == "postgresql":
                    connection.execute(sa.text("SELECT pg_advisory_xact_lock(7478113)"))
                yield connection
        except sa.exc.SQLAlchemyError as error:
            raise self._unusable(error, True) from None
        except (_OddRow, msgspec.DecodeError) as error:
            raise self._damaged(str(error)) from None

    def _make_private(self) -> None:
        """Makes the file of a history that is not there yet, for its owner only; raises BadInput and CannotWrite."""
        if self._url.get_backend_name() != "sqlite" or not self._url.database or "uri" in self._url.query:
            return
        path = Path(self._url.database)
        with writing(path):
            target = write_target(path)
            if not target.exists():
                os.close(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))

    def _unusable(self, error: Exception, is_writing: bool) -> UsherError:
        origin = getattr(error, "orig", error)
        said, name = str(origin).strip().split("\n")[0], str(getattr(origin, "sqlite_errorname", ""))
        if name.startswith(_DAMAGED) or "decode to UTF-8" in said:
            return self._damaged(said[:200])
        reason = next((text for start, text in _UNWRITABLE.items() if name.startswith(start)), None)
        if is_writing and reason is not None:
            return CannotWrite(self.shown, reason)
        return UsherError(f"the history {self.shown} cannot be used ({said[:200]})")

    def _damaged(self, what: str) -> UsherError:
        return UsherError(f"the history {self.shown} is damaged: {what}; put a copy of it back")

    def _version(self, connection: sa.Connection) -> str | None:
        """Return the version of the history's tables, None where there are none yet.

        Raises UsherError for what is newer, or no history.
        """
        tables = set(sa.inspect(connection).get_table_names())
        version = None
        if "alembic_version" in tables:
            version = str(connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar() or "")
        if version is not None and _VERSION.fullmatch(version) and version > VERSION:
            raise UsherError(
                f"the history {self.shown} was written by a newer usher-gate (version {version}); use that one"
            )
        ours = set(_META.tables)
        strange = tables if self._url.get_backend_name() == "sqlite" else tables & ours
        if version not in _VERSIONS and (version is not None or strange):
            raise UsherError(f"the database {self.shown} holds something else, no history; name another in [history]")
        if version is not None and not ours <= tables:
            raise UsherError(f"the history {self.shown} lacks its table {min(ours - tables)}; put a copy of it back")
        return version

    def _upgraded(self, connection: sa.Connection) -> None:
        if self._version(connection) == VERSION:
            return
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")

    # keeping

    def keep(self, check: ToKeep) -> Check | None:
        """Keeps a check, whole or not at all.

        None where the last one kept is of the same snapshot, baseline and exceptions; raises UsherError for another
        organisation, an older snapshot, or a database that cannot be used.
        """
        with self._writing() as connection:
            self._upgraded(connection)
            last = self._last(connection)
            if last is not None:
                if last.organisation != check.organisation:
                    whose = f"{last.organisation!r}, not to {check.organisation!r}"
                    raise UsherError(f"the history {self.shown} belongs to {whose}; name another")
                if check.taken_at < last.taken_at:
                    raise UsherError(
                        f"the snapshot of {check.time} is older than the last one kept, of {last.time}; gather again"
                    )
                if all(last.digests[name] == check.digests[name] for name in ("snapshot", "baseline", "exceptions")):
                    return None
            number = 1 if last is None else last.number + 1
            lasting = _standing(connection, SPELLS.c.last.is_(None))
            check = replace(check, findings={**check.findings, **unjudged(lasting, check.findings, check.there)})
            ended = self._intervals(connection, number, check, lasting)
            before = _last_counts(connection)
            moved = [
                {"number": number, "kind": kind, "name": name, "many": check.counts.get((kind, name))}
                for kind, name in sorted({*before, *check.counts})
                if before.get((kind, name)) != check.counts.get((kind, name))
            ]
            if moved:
                connection.execute(sa.insert(COUNTS), moved)
            digests = {
                **check.digests,
                "findings": findings_digest(check.findings),
                "before": "" if last is None else last.digests["link"],
            }
            about = (
                number,
                check.organisation,
                check.time,
                check.taken_at,
                check.baseline_name,
                check.baseline_version,
            )
            digests["kept_at"] = check.kept_at
            digests["kept"] = kept_digest(_row_of(Check(*about, {})), check.counts, ended)
            digests["link"] = link({**digests, "time": check.time, "baseline-name": check.baseline_name})
            made = Check(*about, digests)
            connection.execute(
                sa.insert(CHECKS),
                {"number": number, "organisation": made.organisation, "time": made.time, "taken_at": made.taken_at,
                 "baseline_name": made.baseline_name, "baseline_version": made.baseline_version, **digests},
            )  # fmt: skip
            return made

    def _intervals(self, connection: sa.Connection, number: int, check: ToKeep, lasting: Standing) -> list[IntervalKey]:
        """Ends the intervals that last no more, and begins the new ones: only what has changed is written.

        Gives whose ended by leaving.
        """
        ended: list[tuple[IntervalKey, int]] = []
        for finding_group in sorted({*lasting, *check.findings}):
            then, now = lasting.get(finding_group, {}), check.findings.get(finding_group, ())
            ended += [(finding_group.key(name), then[name]) for name in sorted(then.keys() - set(now))]
            _begin(connection, number, finding_group, sorted(set(now) - then.keys()))
        away = [key for key, _ in ended if check.there.lacks(key)]
        gone = set(away)
        if ended:
            connection.execute(
                sa.update(SPELLS)
                .where(*(column == sa.bindparam(f"of_{column.name}") for column in (*_KEY, SPELLS.c.first)))
                .values(last=number - 1, left=sa.bindparam("of_left")),
                [{**_bound(key), "of_first": first, "of_left": key in gone} for key, first in ended],
            )
        return away

    # reading

    def _check(self, row: Any) -> Check:
        texts = {c.name: str | None if c.name == "kept_at" else str for c in CHECKS.columns}
        _typed(row, "checks", *(int if isinstance(c.type, sa.Integer) else texts[c.name] for c in CHECKS.columns))
        cells = row._mapping
        digests = {name: cells[name] or "" for name in (*FIELDS, "kept", "link", "kept_at")}
        names = ("number", "organisation", "time", "taken_at", "baseline_name", "baseline_version")
        return Check(*(cells[name] for name in names), digests)  # type: ignore[call-arg]

    @staticmethod
    def _all_checks(connection: sa.Connection) -> sa.Select[Any]:
        """Return every check; of a history that was last written by an earlier version without when it was kept."""
        there = {column["name"] for column in sa.inspect(connection).get_columns("checks")}
        return sa.select(*(column if column.name in there else sa.null().label(column.name) for column in CHECKS.c))

    def _last(self, connection: sa.Connection) -> Check | None:
        row = connection.execute(self._all_checks(connection).order_by(CHECKS.c.number.desc()).limit(1)).first()
        return None if row is None else self._check(row)

    def checks(self, as_they_are: bool = False) -> list[Check]:
        """Return every check, the first first.

        Raises UsherError where they are not those of one organisation, numbered from 1, unless they are wanted
        `as_they_are`.
        """
        with self._reading() as connection:
            asked = self._all_checks(connection).order_by(CHECKS.c.number)
            found = [self._check(row) for row in connection.execute(asked)]
        numbers, whose = [check.number for check in found], {check.organisation for check in found}
        if not as_they_are and (numbers != list(range(1, len(found) + 1)) or len(whose) > 1):
            raise self._damaged("checks are missing, added or altered (usher-gate history --verify names them)")
        return found

    def counts(self, kinds: tuple[str, ...] | None = None) -> dict[int, dict[tuple[str, str], int]]:
        """By check what else is counted, of some kinds or of all."""
        with self._reading() as connection:
            numbers = connection.execute(sa.select(CHECKS.c.number).order_by(CHECKS.c.number)).scalars()
            return self._counts(connection, list(numbers), kinds)

    def _counts(
        self, connection: sa.Connection, numbers: Sequence[int], kinds: tuple[str, ...] | None = None
    ) -> dict[int, dict[tuple[str, str], int]]:
        """Return the same for some checks, ascending.

        There is a row if a number is not that of the check before, empty where there is none.
        """
        asked = sa.select(COUNTS).order_by(COUNTS.c.number)
        rows = connection.execute(asked if kinds is None else asked.where(COUNTS.c.kind.in_(kinds))).all()
        for row in rows:
            _typed(row, "counts", *_COUNT_TYPES)
        found: dict[int, dict[tuple[str, str], int]] = {}
        now: dict[tuple[str, str], int] = {}
        place = 0
        for number in numbers:
            while place < len(rows) and rows[place][0] <= number:
                _, kind, name, many = rows[place]
                if many is None:
                    now.pop((kind, name), None)
                else:
                    now[kind, name] = many
                place += 1
            found[number] = dict(now)
        return found

    def count_rows(self) -> list[tuple[int, str, str, int | None]]:
        """Return what else is counted as it is written: where a number is not that of the check before."""
        with self._reading() as connection:
            asked = sa.select(COUNTS).order_by(COUNTS.c.number)
            rows = (_typed(row, "counts", *_COUNT_TYPES) for row in connection.execute(asked))
            return [(row[0], row[1], row[2], row[3]) for row in rows]

    def between(self, then: int, now: int | None, rules_then: frozenset[str], rules_now: frozenset[str]) -> Between:
        """Return the open findings at two checks; without `now` those at the first alone, beside none."""
        drifts, last = SPELLS.c.verdict == DRIFTING, SPELLS.c.last
        with self._reading() as connection:
            before = self._open(connection, then)
            ever = _lots(connection, drifts, last < then)
            after: Open = {} if now is None else self._open(connection, now)
            left: dict[FindingGroup, set[str]] = {}
            if now is not None:
                gone = _lots(
                    connection, SPELLS.c.verdict.in_(STATES), SPELLS.c.left.is_(True), last >= then, last < now
                )
                for finding_group, names in gone.items():
                    left.setdefault(finding_group._replace(verdict=DRIFTING), set()).update(names)
        return Between(before=before, after=after, ever=ever, left=left, rules_then=rules_then, rules_now=rules_now)

    def _open(self, connection: sa.Connection, number: int) -> Open:
        """Return the findings that are open at a check.

        Most have had one interval since they began; only the others are looked at one by one.
        """
        before = SPELLS.alias("before")
        at = (SPELLS.c.first <= number, sa.or_(SPELLS.c.last.is_(None), SPELLS.c.last >= number))
        follows = (
            sa.select(sa.literal(1))
            .where(
                *(before.c[column.name] == column for column in _KEY),
                before.c.last == SPELLS.c.first - 1,
                before.c.verdict.in_(STATES),
            )
            .exists()
        )
        found: dict[FindingGroup, dict[str, int]] = {}
        for finding_group, names in _standing(connection, SPELLS.c.verdict == DRIFTING, *at, ~follows).items():
            found[finding_group] = dict(names)
        later = sa.select(*_KEY).where(SPELLS.c.verdict.in_(STATES), *at, follows).subquery()
        same = sa.and_(*(SPELLS.c[column.name] == later.c[column.name] for column in _KEY))
        asked = sa.select(*_KEY, SPELLS.c.verdict, SPELLS.c.first, SPELLS.c.last, SPELLS.c.left).join(later, same)
        by_key: dict[IntervalKey, list[Interval]] = {}
        for row in connection.execute(asked.order_by(*_KEY, SPELLS.c.first)):
            interval = _interval(row)
            by_key.setdefault(interval.key, []).append(interval)
        for key, intervals in by_key.items():
            began = began_at(intervals, number)
            if began is not None:
                now = next(
                    interval
                    for interval in intervals
                    if interval.first <= number and (interval.last is None or interval.last >= number)
                )
                finding_group = FindingGroup(key.rule, key.service, key.type, STATES[now.verdict])
                found.setdefault(finding_group, {})[key.id] = began
        return found

    def runs(self) -> list[IntervalRun]:
        """Intervals of open findings as runs: how many of one rule are alike."""
        first, last, verdict = SPELLS.c.first, SPELLS.c.last, SPELLS.c.verdict
        columns = (*_KEY, first, last, SPELLS.c.left, verdict)
        follows = sa.func.lag(last).over(partition_by=_KEY, order_by=first) == first - 1
        ends = sa.func.lead(first).over(partition_by=_KEY, order_by=first) == last + 1
        intervals = (
            sa.select(
                *columns, sa.case((follows, 0), else_=1).label("starts"), sa.case((ends, 0), else_=1).label("ends")
            )
            .where(verdict.in_(STATES))
            .subquery()
        )
        # Intervals without a gap between them are numbered alike; the finding began with the first of them that drifts.
        key = [intervals.c[column.name] for column in _KEY]
        number = sa.func.sum(intervals.c.starts).over(partition_by=key, order_by=intervals.c.first).label("number")
        numbered = sa.select(*intervals.c, number).subquery()
        key = [numbered.c[column.name] for column in _KEY]
        drifting = sa.case((numbered.c.verdict == DRIFTING, numbered.c.first))
        began = sa.func.min(drifting).over(partition_by=[*key, numbered.c.number]).label("began")
        begun = sa.select(*numbered.c, began).subquery()
        key = [begun.c[column.name] for column in _KEY]
        again = sa.func.min(begun.c.began).over(partition_by=key) < begun.c.began
        each = (
            sa.select(
                *(begun.c[name] for name in ("rule", "verdict", "first", "last", "began", "left")),
                sa.case((again, 1), else_=0).label("again"),
                begun.c.ends,
            )
            .where(begun.c.first >= begun.c.began)
            .subquery()
        )
        with self._reading() as connection:
            found = connection.execute(sa.select(*each.c, sa.func.count()).group_by(*each.c))
            rows = [_typed(row, "spells", str, str, int, int | None, int) for row in found]
            return [
                IntervalRun(
                    rule=row[0],
                    state=STATES[row[1]],
                    first=row[2],
                    last=row[3],
                    began=row[4],
                    left=bool(row[5]),
                    again=bool(row[6]),
                    ends=bool(row[7]),
                    many=row[8],
                )
                for row in rows
            ]

    def intervals(self, subject: tuple[str, str] | None = None, verdict: str | None = None) -> list[Interval]:
        """Return every interval by what it is about, then when it began.

        Of one subject (type, id), or of one verdict.
        """
        asked = sa.select(*_KEY, SPELLS.c.verdict, SPELLS.c.first, SPELLS.c.last, SPELLS.c.left)
        if subject is not None:
            asked = asked.where(SPELLS.c.type == subject[0], SPELLS.c.id == subject[1])
        if verdict is not None:
            asked = asked.where(SPELLS.c.verdict == verdict)
        with self._reading() as connection:
            found = [_interval(row) for row in connection.execute(asked)]
        return sorted(found, key=lambda interval: (interval.key, interval.first))


def _interval(row: Any) -> Interval:
    """Return a interval from its row: the key, then verdict, first, last and left."""
    _typed(row, "spells", *_INTERVAL_TYPES)
    return Interval(key=IntervalKey(*row[:4]), verdict=row[4], first=row[5], last=row[6], left=bool(row[7]))


# Where a database can read and write JSON, ids travel many at once in one text; elsewhere row by row.
_PACKED = {
    "sqlite": ("json_group_array(id)", "json_each(:ids)"),
    "postgresql": ("CAST(json_agg(id) AS TEXT)", "json_array_elements_text(CAST(:ids AS JSON)) AS each(value)"),
}


def _ids_by(
    connection: sa.Connection, columns: Sequence[sa.Column[Any]], *where: sa.ColumnElement[bool]
) -> Iterator[tuple[tuple[Any, ...], list[str]]]:
    """Yield the ids of some intervals by what else they have."""
    types = (*(int if isinstance(column.type, sa.Integer) else str for column in columns), str)
    if connection.dialect.name in _PACKED:
        packed: sa.ColumnElement[str] = sa.literal_column(_PACKED[connection.dialect.name][0], sa.Text)
        for row in connection.execute(sa.select(*columns, packed).where(*where).group_by(*columns)):
            _typed(row, "spells", *types)
            yield tuple(row[:-1]), msgspec.json.decode(row[-1], type=list[str])
        return
    found: dict[tuple[Any, ...], list[str]] = {}
    for row in connection.execute(sa.select(*columns, SPELLS.c.id).where(*where)):
        found.setdefault(tuple(_typed(row, "spells", *types)[:-1]), []).append(row[-1])
    yield from found.items()


def _begin(connection: sa.Connection, number: int, finding_group: FindingGroup, names: Sequence[str]) -> None:
    """Begins intervals of some subjects at a check."""
    if not names:
        return
    same = {**finding_group._asdict(), "first": number, "last": None, "left": False}
    if connection.dialect.name not in _PACKED:
        connection.execute(sa.insert(SPELLS), [{**same, "id": name} for name in names])
        return
    cells: list[sa.ColumnElement[Any]] = [
        sa.literal_column("value", sa.Text) if column.name == "id" else sa.cast(same[column.name], column.type)
        for column in SPELLS.columns
    ]
    source = sa.text(_PACKED[connection.dialect.name][1]).bindparams(ids=msgspec.json.encode(names).decode())
    connection.execute(sa.insert(SPELLS).from_select(SPELLS.columns.keys(), sa.select(*cells).select_from(source)))


def _standing(connection: sa.Connection, *where: sa.ColumnElement[bool]) -> dict[FindingGroup, dict[str, int]]:
    """Return some intervals, of each subject at most one, by group of findings and id the check in which they began."""
    found: dict[FindingGroup, dict[str, int]] = {}
    for (*finding_group, first), names in _ids_by(connection, (*_LOT, SPELLS.c.first), *where):
        found.setdefault(FindingGroup(*finding_group), {}).update(dict.fromkeys(names, first))
    return found


def _last_counts(connection: sa.Connection) -> dict[tuple[str, str], int]:
    """Return what else was counted of the last check."""
    of = (COUNTS.c.kind, COUNTS.c.name)
    newest = sa.select(*of, sa.func.max(COUNTS.c.number).label("number")).group_by(*of).subquery()
    same = sa.and_(*(COUNTS.c[name] == newest.c[name] for name in ("kind", "name", "number")))
    rows = (
        _typed(row, "counts", str, str, int | None)
        for row in connection.execute(sa.select(*of, COUNTS.c.many).join(newest, same))
    )
    return {(kind, name): many for kind, name, many in rows if many is not None}


def _lots(connection: sa.Connection, *where: sa.ColumnElement[bool]) -> dict[FindingGroup, set[str]]:
    """Return the subjects of some intervals by group of findings."""
    return {FindingGroup(*finding_group): set(names) for finding_group, names in _ids_by(connection, _LOT, *where)}


def _bound(key: IntervalKey) -> dict[str, Any]:
    return {f"of_{name}": cell for name, cell in key._asdict().items()}


def _no_own_transactions(connection: Any, _: Any) -> None:
    connection.isolation_level = None  # SQLAlchemy begins and commits; the driver's own way would not lock at once


def _begin_at_once(connection: sa.Connection) -> None:
    connection.exec_driver_sql("BEGIN IMMEDIATE" if not connection.get_execution_options().get("reading") else "BEGIN")


def _row_of(check: Check) -> dict[str, str]:
    """Return what is in the row of a check that no other digest covers."""
    return {
        "organisation": check.organisation,
        "taken_at": str(check.taken_at),
        "baseline-version": check.baseline_version,
    }


def verify(store: Store, progress: Callable[[int, int], None] | None = None) -> list[str]:
    """Return what does not hold in a history: digests and links recomputed from the rows.

    Empty where all does. `progress` gets how many checks of how many are done.
    """
    checks, counts, intervals = store.checks(as_they_are=True), store.counts(), store.intervals()
    numbers = [check.number for check in checks]
    faults = _misplaced(numbers, store.count_rows(), intervals)
    before = ""
    starts: dict[int, list[tuple[Interval, bytes]]] = {}
    gone: dict[int, list[IntervalKey]] = {}
    for interval in intervals:
        starts.setdefault(interval.first, []).append((interval, finding_line((interval.key, interval.verdict))))
        if interval.left and interval.last is not None:
            gone.setdefault(interval.last + 1, []).append(interval.key)
    standing: list[tuple[Interval, bytes]] = []
    for check in checks:
        standing = [each for each in standing if each[0].last is None or each[0].last >= check.number]
        standing += starts.get(check.number, ())
        standing.sort(key=lambda each: (each[0].key, each[0].verdict))  # nearly in order already
        name = f"check {check.number} ({check.time})"
        if lines_digest(line for _, line in standing) != check.digests["findings"]:
            faults.append(f"{name}: its findings are not those that were kept")
        left = gone.get(check.number, ())
        if kept_digest(_row_of(check), counts.get(check.number, {}), left) != check.digests["kept"]:
            faults.append(f"{name}: what is counted, or who has left, is not what was kept")
        if check.digests["before"] != before:
            faults.append(f"{name}: it is not linked to the check before")
        if link({**check.digests, "time": check.time, "baseline-name": check.baseline_name}) != check.digests["link"]:
            faults.append(f"{name}: its link does not hold")
        before = check.digests["link"]
        if progress is not None:
            progress(check.number, len(checks))
    return faults


def _misplaced(
    numbers: list[int], rows: Sequence[tuple[int, str, str, int | None]], intervals: list[Interval]
) -> list[str]:
    """Return rows that stand where no recorder puts any; each list of them is cut at twenty."""
    faults = []
    if numbers != list(range(1, len(numbers) + 1)):
        faults.append(f"checks are missing or added: they are numbered {', '.join(map(str, numbers[:20]))}")
    there = frozenset(numbers)
    strange = [
        interval
        for interval in intervals
        if interval.first not in there
        or (interval.last is not None and not interval.first <= interval.last < len(numbers))
        or (interval.left and interval.last is None)
    ]
    cut = [
        one
        for one, other in pairwise(intervals)
        if one.key == other.key
        and one.verdict == other.verdict
        and one.last is not None
        and one.last + 1 == other.first
    ]
    for wrong, what in ((strange, "lies outside the checks"), (cut, "is cut in two")):
        faults += [
            f"a spell of {interval.key.rule} about {interval.key.type} {interval.key.id} {what}"
            for interval in wrong[:20]
        ]
    known: dict[tuple[str, str], int | None] = {}
    nowhere, unmoved = set[int](), []
    for number, kind, name, many in rows:
        if number not in there:
            nowhere.add(number)
        elif known.get((kind, name)) == many:
            unmoved.append((number, f"{kind} {' '.join(name.split())}".strip()))
        known[kind, name] = many
    faults += [f"counts stand for check {number}, which is not there" for number in sorted(nowhere)[:20]]
    faults += [f"a count of check {number} is written although nothing moved: {what}" for number, what in unmoved[:20]]
    return faults
