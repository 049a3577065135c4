"""The answers of a review, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.guests.deciding import FATES, OPEN
from ...core.words.plural import plural
from ..page import Page
from ..section import COUNT, WHOLE, WORD, Column, Section, listed
from .review import ReviewAnswer

_MEANS = {
    "end": "said to end",
    "silence-ends": "no one said, so it ends",
    "pass-on": "passed on: the fallback has to say",
    "pending": "not answered yet",
    "keep": "said to be kept",
    "silence-keeps": "no one said, so it is kept",
}


def review_page(answer: ReviewAnswer, most: int) -> Page:
    """Return whether answers are pending, what was decided, and what follows."""
    return Page(_first(answer), tuple(_details(answer)), tuple(_sections(answer, most)))


def _first(answer: ReviewAnswer) -> str:
    waiting = sum(answer.fates.get(fate, 0) for fate in OPEN)
    whole = plural(len(answer.decided), "row")
    if waiting:
        return (
            f"{waiting:,} of {whole} {'waits' if waiting == 1 else 'wait'} for an answer; due by the end of "
            f"{answer.read.due}."
        )
    return f"All {whole} are decided."


def _details(answer: ReviewAnswer) -> Iterator[str]:
    """Yield the sentences below the first line."""
    follows = answer.outcome
    yield f"The review {answer.read.id}, asked on {answer.read.asked_on}, read on {answer.on}."
    kept = sum(map(len, follows.kept.values()))
    removed = sum(map(len, follows.removed.values()))
    ends, stay = plural(len(follows.ended), "account ends", "accounts end"), plural(kept, "is kept", "are kept")
    yield f"{ends}, {stay}, {plural(removed, 'membership ends', 'memberships end')}."
    for sponsor, guests in follows.sponsors.items():
        yield f"{answer.login(sponsor)} answers for {plural(len(guests), 'guest')} from now on."
    for guest, group, through in follows.nested:
        yield f"{guest} is in {group} only through {through}: nothing is changed there; look at {through}."
    if follows.gone:
        yield f"Meanwhile gone, so nothing is changed for them: {', '.join(follows.gone)}."
    twice = [one for one in answer.decided if one.others]
    for one in twice[:5]:
        yield (
            f"{one.row.guest} at {one.row.place} is answered twice, and not alike: {one.where} counts, not "
            f"{' and '.join(one.others)}."
        )
    if len(twice) > 5:
        yield f"And {len(twice) - 5} more are answered twice (--show answers)."
    if answer.written:
        yield f"Written to {answer.written}; try it with usher-gate rehearse --changes {answer.written}."


def _sections(answer: ReviewAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: decisions, reviewers, rows."""
    yield Section(
        "Decisions",
        (Column("decision", WORD), Column("rows", COUNT), Column("what it means")),
        tuple((fate, answer.fates[fate], _MEANS[fate]) for fate in FATES if answer.fates.get(fate)),
        word="decisions",
    )
    people = [
        (answer.login(name), done, many, {many: "all", 0: "none"}.get(done, "in part") if many else "all")
        for name, (done, many) in sorted(answer.reviewers.items(), key=lambda one: (one[1][0] - one[1][1], one[0]))
    ]
    columns = (Column("who", WHOLE), Column("rows answered", COUNT), Column("of", COUNT), Column("so"))
    yield listed("reviewers", "Who has answered", columns, people, most)
    ordered = sorted(answer.decided, key=lambda one: (FATES.index(one.fate), one.row.guest, one.row.place))
    row_cells = [
        (
            answer.login(one.row.guest),
            one.row.place,
            one.fate,
            "" if one.until is None else one.until.isoformat(),
            one.note,
        )
        for one in ordered
    ]
    yield listed(
        "answers",
        "Row by row",
        (
            Column("guest", WHOLE),
            Column("place", WHOLE),
            Column("decision", WORD),
            Column("until"),
            Column("note", spare=1),
        ),
        row_cells,
        most,
    )
