"""The first screen of a check: what must be known at once, where to start, and how to see the rest.

Spec: command-line 2.2.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from ...core.door.agenda import Agenda
from ...core.door.doors import Doors
from ...core.door.hosts import hosts_of
from ...core.door.roots import DOOR
from ...core.door.visitors import SHOWS, kinds_of
from ...core.settings.resolver import Resolver
from ...core.sign_in.health import observed_rules
from ...core.verdicts.codes import DRIFTS, LOOSE, UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.codes import SETTLING as SETTLING_CODE
from ...core.verdicts.outcome import Root
from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, RootRow
from ...core.words.plural import plural
from ...core.words.times import show_time
from ..conditions import conditional_lines
from ..moved import moved_text
from ..page import Page
from ..section import COUNT, WORD, Cell, Column, Section, joined, left, listed, scope_text, some, some_logins
from ..titles import is_text, quoted_value_of, title_of
from .digest import (
    agreed,
    framework_section,
    is_as_it_should_be,
    meeting_settings,
    remedy_words,
    root_text,
    sections,
    uncovered_text,
)
from .headline import ignored_places, lockout_key, short_answer, snapshot_doubts

MORE = ("causes", "rules", "services", "groups", "people", "conflicts", "settling", "all")
SETTLING = "settling"  # shown by --show as by --verdict
_PLACES = {
    "person": "facts of people",
    "access-rules": "access rules",
    "partners": "partners",
    "meetings": "planned meetings",
}
_MOST_ACCOUNTS = 3  # that are locked out, each on a line of its own


def screen(result: CheckResult, rows: int) -> Page:
    """Return the first screen of a check; where there is room, people who drift and others that drift follow."""
    snapshot, baseline = result.snapshot, result.baseline
    others = () if result.wanted is not None else sections(result, rows, ("people", "others"))
    return Page(
        doubts=tuple(f"{line[:1].upper()}{line[1:]}." for line in snapshot_doubts(result)),
        about=f"{snapshot.name}, {show_time(snapshot.taken_at)}, against {baseline.name} {baseline.version}",
        first=short_answer(result),
        details=(),
        listed_by=", ".join(_lists(result)),
        labelled=tuple((label, f"{text} ({how})" if how else text) for label, text, how in labelled_lines(result)),
        sections=(_causes(result, rows), *others),
        below=tuple(filter(None, (_plan(result), since_text(result)))),
        more=f"More: --show {' | '.join(MORE)}",
    )


def _lists(result: CheckResult) -> Iterator[str]:
    """Yield the options that list the people the first line counts."""
    if result.drifting_people:
        yield "--show people"
    if any(other.detail.verdict == DRIFTS for other in result.others):
        yield "--show others"


def asked_sections(result: CheckResult, rows: int) -> tuple[Section, ...]:
    """Return the sections that other options ask for: by a framework (--by), and of some verdicts (--verdict)."""
    others = () if result.wanted is None else sections(result, rows, ("people", "others"))
    by = framework_section(result, rows)
    return (by, *others) if by.rows else others


def _plan(result: CheckResult) -> str:
    """Return what one plan would do, or that one is to be looked for; nothing if no setting causes a finding."""
    if result.hint or not any(row.root.service and row.root.scope and row.root.value for row in result.roots):
        return result.hint
    return "usher-gate mend looks for a plan."


def since_text(result: CheckResult) -> str:
    """Return what became of findings since the check kept before."""
    since = result.since
    if since is None:
        return ""
    oldest = since["oldest_age_days"]
    age = "" if oldest is None else f"; the oldest is {plural(int(oldest), 'day')} old"
    return f"Since {str(since['from'])[:10]}: {moved_text(since)}{age}."


def labelled_lines(result: CheckResult) -> Iterator[tuple[str, str, str]]:
    """Yield the labelled lines, the gravest first: a label, a text, and what lists the people that it counts."""
    yield from (("locked out", line, "") for line in _locked_out(result))
    if result.stranded_people:
        where = plural(len(result.stranded), "resource")
        people = plural(result.stranded_people, "person", "people")
        yield "stuck", f"{people}: no way in to {where} until they register something", "--show stranded"
    yield from (("open", line, "usher-gate door") for line in _open(result))
    if result.ignored_settings:
        yield "ignored", f"{plural(result.ignored_settings, 'setting')}: {ignored_places(result)}", ""
    yield from _not_certain(result)
    conflicts = [
        f"{plural(number, 'person', 'people')} with {text}"
        for number, text in (
            (result.contested_people, "settings that disagree"),
            (result.clashing_people, "values that cannot work together"),
        )
        if number
    ]
    if conflicts:
        yield "conflicts", ", ".join(conflicts), "--show conflicts"
    exceptions = "; ".join(_exceptions(result))
    if exceptions:
        yield "exceptions", exceptions, ""
    yield from (("only if", line, "") for line in conditional_lines(result.conditional, result.snapshot))
    observed = observed_rules(result.snapshot, result.observed_days)
    if observed:
        texts = [f"{each.rule.id} ({each.text}{', which is long' if each.is_old else ''})" for each in observed]
        yield "observed", f"stopping no one: {some(texts, 5)}", ""
    if result.judging_nobody and len(result.snapshot.people):
        verb = "judges" if len(result.judging_nobody) == 1 else "judge"
        rules = plural(len(result.judging_nobody), "rule")
        yield "idle", f"{rules} {verb} no one: {some(result.judging_nobody, 5)}", ""
    if uncovered := uncovered_text(result):
        text, _, how = uncovered.removesuffix(")").partition(" (")
        yield "not asked", text, how
    if number := meeting_settings(result):
        yield "not judged", f"{plural(number, 'setting')} of planned meetings", "usher-gate door --meetings"
    wholes = [
        plural(number, word)
        for number, word in ((result.groups.whole, "group"), (result.units.whole, "unit"))
        if number
    ]
    if wholes:
        verb = "drifts" if result.groups.whole + result.units.whole == 1 else "drift"
        yield "as a whole", f"{joined(wholes)} {verb}", "--show groups"


def _locked_out(result: CheckResult) -> Iterator[str]:
    """Yield a line for each account that is locked out, or one for all of a kind; the gravest first."""
    accounts: dict[str, _LockedOut] = {}
    for lockout in sorted(result.lockouts, key=lockout_key):
        kind = "break-glass" if lockout.of == "break-glass" else "administrator"
        for person in (f"ALL {kind} accounts",) if lockout.all else lockout.people:
            account = accounts.setdefault(person, _LockedOut())
            account.kinds |= {} if lockout.all else {kind: None}
            account.resources |= {lockout.resource: None}
            account.rules |= {rule.id: None for rule in lockout.rules}
    for person, account in list(accounts.items())[:_MOST_ACCOUNTS]:
        login = some_logins(result.snapshot, [person], 1) if account.kinds else person
        kinds = f" ({', '.join(account.kinds)})" if account.kinds else ""
        by = f", by {some(sorted(account.rules), 4)}" if account.rules else ""
        yield f"{login}{kinds}: {joined(list(account.resources))}{by}"
    if len(accounts) > _MOST_ACCOUNTS:
        yield f"{plural(len(accounts) - _MOST_ACCOUNTS, 'more account')}: usher-gate holes"


@dataclass
class _LockedOut:
    """Of an account that is locked out: its kinds, from which resources, and by which rules (keys in order)."""

    kinds: dict[str, None] = field(default_factory=dict)
    resources: dict[str, None] = field(default_factory=dict)
    rules: dict[str, None] = field(default_factory=dict)


def _open(result: CheckResult) -> Iterator[str]:
    """Yield how many doors of meetings, and how many planned meetings, let a stranger in: as `door` counts them."""
    resolver = Resolver(result.snapshot)
    opened = every = unknown = 0
    for service in result.snapshot.services or ():
        kinds = tuple(kind for kind in kinds_of(service) if kind not in SHOWS)
        if kinds:
            hosts = hosts_of(resolver, service).only(result.chosen)
            for door in Doors(hosts, kinds).doors():
                opened, every, unknown = opened + door.open, every + door.hosts, unknown + door.unknown
    planned = [
        each.open
        for each in (Agenda(resolver).all() if result.snapshot.meetings is not None else ())
        if result.chosen[each.organiser]
    ]
    said = [f"{opened:,} of {plural(every, 'door')}"] if opened else []
    said += [f"{planned.count(True):,} of {plural(len(planned), 'planned meeting')}"] if True in planned else []
    not_known = f"{unknown + planned.count(None):,} not known" if unknown + planned.count(None) else ""
    if said:
        yield f"{' and '.join(said)}, to a stranger{f'; {not_known}' if not_known else ''}"
    elif not_known:
        yield f"{not_known}, none known to be open to a stranger"


def _not_certain(result: CheckResult) -> Iterator[tuple[str, str, str]]:
    """Yield lines about verdicts that are not known, not held, or not arrived."""
    unclear = result.counts[UNKNOWN] + result.counts[UNAVAILABLE]
    is_listed = result.wanted is not None
    if unclear:
        words = [f"--verdict {VERDICTS[code]}" for code in (UNKNOWN, UNAVAILABLE) if result.counts[code]]
        people = plural(result.unclear_people, "person", "people")
        how = "" if is_listed else " ".join(words)
        yield "not known", f"{plural(unclear, 'verdict')} of {people}, counted as not good", how
    for code, label, text, word in (
        (LOOSE, "not held", "right today, and people can change it", "loose"),
        (SETTLING_CODE, SETTLING, "a recent change may not have arrived everywhere", SETTLING),
    ):
        if result.counts[code]:
            verdicts = plural(result.counts[code], "verdict")
            yield label, f"{verdicts}: {text}", "" if is_listed else f"--verdict {word}"


def _exceptions(result: CheckResult) -> Iterator[str]:
    """Yield the exceptions that have expired, end soon, or cover nothing, a few of each."""
    rows = agreed(result)
    for names, words in (
        ([row.id for row in rows if row.state == "expired"], ("has expired", "have expired")),
        ([row.id for row in rows if row.state == "idle"], ("covers nothing", "cover nothing")),
    ):
        if names:
            yield f"{some(names)} {words[len(names) > 1]}"
    soon = [row for row in rows if row.state != "expired" and row.days_left <= ENDS_SOON_DAYS]
    yield from (f"{row.id} {left(row.days_left)}" for row in soon[:3])
    if len(soon) > 3:
        yield f"{len(soon) - 3:,} more end soon"


def _causes(result: CheckResult, rows: int) -> Section:
    """Return the causes, the most severe first, each with its fix and what that does by judging again."""
    made: list[tuple[Cell, ...]] = []
    for row in sorted(result.roots, key=lambda row: row.worst_first):
        remedy = row.remedy
        known = remedy is not None and (remedy.mended_value is not None or remedy.ended)
        numbers = (remedy.ended, remedy.freed, remedy.harms or None) if known and remedy is not None else (None,) * 3
        made.append((row.severity, row.people, row.verdicts, _cause(row.root, result), _fix(row, result), *numbers))
    columns = (
        Column("severity", WORD),
        Column("people", COUNT),
        Column("findings", COUNT),
        Column("cause"),
        Column("fix"),
        Column("ends", COUNT),
        Column("clears", COUNT),
        Column("harms", COUNT),
    )
    findings = int(result.counts[DRIFTS]) + sum(each.counts[DRIFTS] for each in result.other_counts)
    title = f"Start here: {plural(len(made), 'cause')} of {plural(findings, 'finding')}, the most severe first"
    return listed("causes", title, columns, made, rows)


def _cause(root: Root, result: CheckResult) -> str:
    """Return a cause in few words: where, what, and the value."""
    if root.service is None and root.scope in _PLACES:
        return f"{_PLACES[root.scope]}: {title_of(root.control)}"
    if root.value is None or root.scope is None or root.service is None or root.control == DOOR:
        return root_text(root, result.snapshot)
    where = {"factory": "service default", "licence": "want of a licence"}.get(root.scope)
    where = where or scope_text(root.scope, result.snapshot)
    return f"{where}: {root.service} {is_text(root.control, root.value)}"


def _fix(row: RootRow, result: CheckResult) -> str:
    """Return what to do about a cause, in few words."""
    remedy = row.remedy
    if remedy is not None and remedy.mended_value is not None and not is_as_it_should_be(row, result):
        line = result.where(row.root)
        value = quoted_value_of(row.root.control, remedy.mended_value)
        return f"set {value}{f' ({line})' if line else ''}"
    return remedy_words(row, result) or f"see {some(row.rules, 2)}"
