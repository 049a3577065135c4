"""Faults to be planted by hand, one at a time (`make mutants`): each a text of a file, what takes its place, and the tests that must notice."""

from __future__ import annotations

from typing import NamedTuple


class Mutant(NamedTuple):
    """A fault: `old` stands just once in `file` (below src/usher_gate)."""

    what: str
    file: str
    old: str
    new: str
    tests: str = "tests/cli/test_small_rules.py"


_ODD = "tests/cli/test_odd_files.py"
_WHERE = "tests/sources/test_addresses.py"
_REFERENCE = "tests/core/test_access_against_reference.py"
_DOORS, _TRIAL = "tests/core/test_door_properties.py", "tests/core/test_trial.py"
_SIGN_IN, _FILES, _TABLES = "core/sign_in", "files", "tests/files/test_tables.py"

MUTANTS = (
    Mutant("the loosest session limit counts", f"{_SIGN_IN}/decide.py", "hours = min(", "hours = max("),
    Mutant(
        "a legacy client keeps its proofs in a replay",
        f"{_SIGN_IN}/replay.py",
        "levels[legacy] = 0",
        "levels[legacy] += 0",
    ),
    Mutant(
        "a named network lies in all that touch it",
        "core/organisation/networks.py",
        "frozenset.intersection(*inside)",
        "frozenset.union(*inside)",
    ),
    Mutant(
        "guests without a partners table are known",
        f"{_SIGN_IN}/coverage.py",
        "judge(people, must_show, True) | judge",
        "judge(people, must_show, True) & judge",
    ),
    Mutant(
        "what was counted of a range that was given up stays",
        "core/verdicts/parts.py",
        "            run = Run(self._checker, self._narrowing, self._first)  # counts as it goes\n",
        '            run = self.__dict__.setdefault("_run", Run(self._checker, self._narrowing, self._first))\n',
        "tests/core/test_runs.py",
    ),
    Mutant(
        "the line about mending counts what can be mended, not what ends",
        "core/mend/hint.py",
        "_of(ended, drifting)}: usher-gate mend",
        "_of(mendable, drifting)}: usher-gate mend",
        "tests/cli/test_mend.py",
    ),
    Mutant(
        "a folded value of LDIF keeps its fold",
        "sources/ldif.py",
        'values[number].replace(b"\\r\\n ", b"").replace(b"\\n ", b"").lstrip(b" ")',
        'values[number].replace(b"\\r\\n ", b"").lstrip(b" ")',
        "tests/sources/test_files.py",
    ),
    Mutant(
        "an LDIF record may begin without its dn after an empty line",
        "sources/ldif.py",
        "(last_dn < 0) | (last_gap > last_dn)",
        "(last_dn < 0)",
        "tests/sources/test_files.py",
    ),
    Mutant(
        "the last member of a group that only members tell of may go",
        "core/changes/apply.py",
        "    work.lost_groups(after)\n",
        "",
        "tests/cli/test_changes.py",
    ),
    Mutant(
        "members by SCIM keep the id of SCIM",
        "sources/scim.py",
        "named.get(name, name)",
        "name",
        "tests/sources/test_gather.py",
    ),
    Mutant(
        "a pass used at the very second is live",
        "core/organisation/credentials.py",
        "self.used <= self.taken_at",
        "self.used < self.taken_at",
    ),
    Mutant(
        "a pass that ends at the very second is live",
        "core/organisation/credentials.py",
        "self.taken_at < self.expires",
        "self.taken_at <= self.expires",
    ),
    Mutant(
        "who lacks the licence contradicts",
        "core/settings/clashes.py",
        "mask & ~effective.lacking if",
        "mask | effective.lacking if",
    ),
    Mutant(
        "a service that has not said lets nobody change",
        "core/organisation/services.py",
        "self.self_service is None or",
        "self.self_service is not None and",
    ),
    Mutant(
        "what is pinned can be changed",
        "core/settings/walk.py",
        "not cause.pinned and service.changeable",
        "service.changeable",
    ),
    Mutant(
        "thirty days are long", f"{_SIGN_IN}/health.py", "// DAY) > OBSERVED_LONG_DAYS", "// DAY) >= OBSERVED_LONG_DAYS"
    ),
    Mutant("no exception is idle", "core/verdicts/check.py", '"in-force" if covers else "idle"', '"in-force"'),
    Mutant(
        "a rule is never idle",
        f"{_SIGN_IN}/health.py",
        'rule.mode == "enforce" and not _changes',
        'rule.mode == "off" and not _changes',
    ),
    Mutant("a pass's life is rounded down", "core/organisation/facts.py", "-(-micros // 60)", "(micros // 60)"),
    Mutant(
        "the shortest star of needs counts",
        f"{_FILES}/snapshot/services.py",
        "len(pattern) > len(before.pattern)",
        "len(pattern) < len(before.pattern)",
    ),
    Mutant(
        "two people of a large table may have one login, told apart by ß and ss",
        f"{_FILES}/tables/arrowcolumn.py",
        "if not plain:",
        "if False:",
    ),
    Mutant("odd quotes in a large table pass", f"{_FILES}/tables/csv_.py", " and _ODD_QUOTE.search(data) is None", ""),
    Mutant(
        "a secret file may be read by the group", "sources/secrets.py", "stat.S_IRWXG | stat.S_IRWXO", "stat.S_IRWXO"
    ),
    Mutant("Retry-After is no date", "sources/web.py", "parsedate_to_datetime(text).timestamp() - time.time()", "0"),
    Mutant("a pipe sign in Markdown", "outputs/markdown.py", "<>#|~!", "<>#~!"),
    Mutant(
        "nothing helps",
        "outputs/sign_in/answer.py",
        "found = helps(answer.decider, row.sign_in, answer.shown)",
        "found = ()",
    ),
    Mutant(
        "the best column of a rehearsal first",
        "outputs/rehearsal/table.py",
        "_SHOWN = (2, 1, 0, 3)",
        "_SHOWN = (0, 1, 2, 3)",
    ),
    Mutant("--unit is ignored", "cli/common.py", 'for key in ("group", "unit"):', 'for key in ("group",):'),
    Mutant("--group is ignored", "cli/common.py", 'for key in ("group", "unit"):', 'for key in ("unit",):'),
    Mutant("NO_COLOR is ignored", "cli/common.py", ' and not os.environ.get("NO_COLOR")', ""),
    Mutant(
        "old lock-outs are told in a rehearsal",
        "cli/rehearse.py",
        "set(lockout.people) - before",
        "set(lockout.people) or before",
    ),
    Mutant("--fail-at does not bound gaps", "cli/check.py", "result.gaps(arguments.fail_at)", 'result.gaps("low")'),
    Mutant("endless notes", "cli/common.py", "telling[:_NOTES_SHOWN]", "telling"),
    Mutant("http to elsewhere", "sources/address.py", "found.encrypted or found.loopback or plain", "True", _WHERE),
    Mutant(
        "addresses by case",
        "sources/address.py",
        'return self.scheme in ("https", "ldaps")',
        'return not self.text.startswith(("http:", "ldap:"))',
        _WHERE,
    ),
    Mutant("proxies for this machine", "sources/web.py", ", mounts=mounts", "", _WHERE),
    Mutant(
        "an answer without a bound",
        "sources/web.py",
        "if len(data) > most or read > most or (unpack is not None and unpack.unconsumed_tail):",
        "if False:",
        _WHERE,
    ),
    Mutant("a new file gets another mode", f"{_FILES}/write.py", "0o666)", "0o600)", _ODD),
    Mutant(
        "a replaced file loses its mode", f"{_FILES}/write.py", "if mode is not None:\n", "if mode is None:\n", _ODD
    ),
    Mutant("a link is replaced", f"{_FILES}/write.py", "Path(os.path.realpath(path))", "path.absolute()", _ODD),
    Mutant("nothing is synced", f"{_FILES}/write.py", "            os.fsync(stream.fileno())\n", "", _ODD),
    Mutant("a pipe is read", f"{_FILES}/binary.py", "if not stat.S_ISREG(mode):", "if False:", _ODD),
    Mutant("the size of a file is not bounded", f"{_FILES}/binary.py", "if size > most:", "if False:", _ODD),
    Mutant("errors are shown raw", "cli/say.py", "for_terminal(text)", "text", _ODD),
    Mutant("tables are drawn raw", "outputs/drawing.py", "for_terminal(cell_text(cell))", "cell_text(cell)", _ODD),
    Mutant(
        "a crash file holds the message",
        "cli/main.py",
        "{type(error).__qualname__}",
        "{type(error).__qualname__} {error}",
        _ODD,
    ),
    Mutant(
        "empty times lose events",
        f"{_FILES}/tables/arrowcolumn.py",
        "mask=empty",
        "mask=~empty",
        "tests/cli/test_rehearse.py",
    ),
    Mutant(
        "the weakest of a guest's proofs counts", f"{_SIGN_IN}/gatekeeper.py", "frozenset((MFA,)) & (", "(", _REFERENCE
    ),
    Mutant(
        "exclusion does not win",
        "core/organisation/access_rules.py",
        "and not self.networks_out & here",
        "",
        _REFERENCE,
    ),
    Mutant(
        "healthy is not managed",
        "core/organisation/access_rules.py",
        '"managed" in wanted',
        '"registered" in wanted',
        _REFERENCE,
    ),
    Mutant(
        "knots lose their groups",
        "core/organisation/groups.py",
        "low[group] = min(low[group], index[below])",
        "pass",
        "tests/core/test_groups_and_networks.py",
    ),
    Mutant(
        "a range ends a step early",
        "core/organisation/networks.py",
        "cuts.setdefault(last + 1, [])",
        "cuts.setdefault(last, [])",
        "tests/core/test_groups_and_networks.py",
    ),
    Mutant(
        "merged runs count twice",
        "core/verdicts/found.py",
        "whole.counts.get(rule, 0) + counted",
        "whole.counts.get(rule, 0) + 2 * counted",
        "tests/core/test_runs.py",
    ),
    Mutant(
        "a later pin beats a wider one",
        "core/settings/resolver.py",
        "np.where(pinned, -step, step)",
        "np.where(pinned, step, step)",
        "tests/core/test_check_against_reference.py",
    ),
    Mutant(
        "rank is not asked",
        "core/settings/resolver.py",
        "-columns.rank[rows],",
        "0 * columns.rank[rows],",
        "tests/core/test_check_against_reference.py",
    ),
    Mutant(
        "a passcode in the link is not looked at",
        "core/door/gates.py",
        '            IN_LINK,\n            "door.host-first",',
        '            "door.host-first",',
        _DOORS,
    ),
    Mutant(
        "who may wait by telephone is not looked at",
        "core/door/gates.py",
        '{"door.telephone-waits"} if visit.way == TELEPHONE else',
        "set() if visit.way == TELEPHONE else",
        _DOORS,
    ),
    Mutant(
        "a trial forgets who may start meetings",
        "core/verdicts/rules.py",
        "if MAY_START in controls or START in controls:",
        "if MAY_START in controls:",
        _TRIAL,
    ),
    Mutant(
        "a trial keeps as what the invited stood",
        "core/door/agenda.py",
        "if LISTED not in touched:",
        "if touched is not None:",
        _TRIAL,
    ),
    Mutant(
        "the first order of a sign-in's rows will do",
        f"{_SIGN_IN}/fold.py",
        "if best is None or len(rows) < len(best):",
        "if best is None:",
        "tests/core/test_fold.py",
    ),
    Mutant(
        "over TLS nobody is trusted",
        "sources/web.py",
        "return self._encrypted or ssl.SSLContext",
        "return ssl.SSLContext",
        _WHERE,
    ),
    Mutant(
        "a time that is none is no fault in a large log",
        "files/tables/arrowcolumn.py",
        "np.flatnonzero(~right)",
        "np.empty(0, np.int64)",
        _TABLES,
    ),
    Mutant(
        "who is under a later place counts as under an earlier one",
        "core/settings/contests.py",
        ".reshape(-1) * (1 << _FEW) + bits",
        ".reshape(-1) * 0 + bits",
        "tests/core/test_contests.py",
    ),
    Mutant(
        "whoever is under two settings is contested, though they agree",
        "core/settings/contests.py",
        "said != said.take(last)",
        "last != np.arange(len(last))",
        "tests/core/test_contests.py",
    ),
    Mutant(
        "members are not looked for by login",
        "core/organisation/build/people.py",
        "(rows == MISSING) & ~others",
        "(rows == MISSING) & others",
    ),
    Mutant(
        "a large CSV cell in quotes may have no end",
        f"{_FILES}/tables/csv_.py",
        """(?:"(?![,\\r\\n"]|\\Z)|\\Z)')""",
        """"(?![,\\r\\n"]|\\Z)')""",
        _TABLES,
    ),
    Mutant(
        "a null leaves nothing of a list",
        f"{_FILES}/tables/jsonl.py",
        "if array.flatten().null_count:",
        "if False:",
        _TABLES,
    ),
    Mutant(
        "a line of large JSON Lines may hold two objects",
        f"{_FILES}/tables/jsonl.py",
        "table.num_rows == lines == begun",
        "lines == begun",
        _TABLES,
    ),
)
