"""Who is meant by a selector."""

from __future__ import annotations

import fnmatch
import re

import numpy as np
from numpy.typing import NDArray

from ..words.faults import nearest, quoted
from .columns import MISSING, Bools, Coded, distinct
from .directory import Directory
from .selector import Selector


class Unanswerable(Exception):
    """A selector asks for a table or column that the snapshot does not have; the message names it."""


def select(selector: Selector, directory: Directory) -> Bools:
    """Return the active people that a selector chooses.

    Raises Unanswerable if any part of it, however deep, cannot be answered.
    """
    if selector.parts:
        masks = [select(part, directory) for part in selector.parts]
        if selector.key == "not":
            return ~masks[0]
        joined: NDArray[np.bool_] = (
            np.logical_and.reduce(masks) if selector.key == "all-of" else np.logical_or.reduce(masks)
        )
        return joined
    return _test(selector, directory)


def select_surely(include: Selector, exclude: Selector | None, directory: Directory) -> tuple[Bools, Bools]:
    """Return two masks: the people surely included and not excluded, and the people of which that is not known.

    A person who is surely excluded is so, whatever the other selector leaves open.
    """
    nobody = np.zeros(len(directory.people), bool)

    def answer(selector: Selector | None) -> tuple[Bools, bool]:
        if selector is None:
            return nobody, True
        try:
            return select(selector, directory), True
        except Unanswerable:
            return nobody, False

    (inside, inside_known), (outside, outside_known) = answer(include), answer(exclude)
    if inside_known and outside_known:
        return inside & ~outside, nobody
    perhaps = ~outside if not inside_known else inside.copy()
    return nobody, perhaps if outside_known or inside_known else ~nobody


def gaps_of(include: Selector, exclude: Selector | None, directory: Directory) -> list[str]:
    """Return what two selectors ask for and the snapshot does not have."""
    found = []
    for selector in (include, exclude):
        try:
            if selector is not None:
                select(selector, directory)
        except Unanswerable as gap:
            found.append(str(gap))
    return found


def strange_values(selector: Selector, directory: Directory) -> list[str]:
    """Return what a selector asks for and no one at all has, each with the nearest that someone has.

    Most likely it is misspelt.
    """
    if selector.parts:
        return [said for part in selector.parts for said in strange_values(part, directory)]
    known = _words_of(selector.key, directory)
    if known is None:
        return []
    found = []
    for value in selector.values:
        if selector.key == "role" and value == "privileged":
            there = directory.privileged is None or bool(directory.privileged & known)
        elif selector.key == "login":
            there = any(fnmatch.fnmatchcase(word.casefold(), value.casefold()) for word in known)
        elif selector.key == "home-domain":
            there = value.casefold() in {word.casefold() for word in known}
        else:
            there = value in known
        if not there:
            found.append(f"the {selector.key} {quoted(value)}, which no one has; {nearest(value, known)}")
    return found


def _words_of(key: str, directory: Directory) -> frozenset[str] | None:
    """Return all words of a column that a selector's key looks at, of active and inactive people.

    None for a key without such, or no column.
    """
    found: set[str] = set()
    for people in (directory.people, directory.inactive):
        if key in ("id", "login"):
            texts = people.ids if key == "id" else people.logins
            found.update(texts.take(np.arange(len(people), dtype=np.int32)))
            continue
        columns = {"role": people.roles, "licence": people.licences, "home-domain": people.home_domain}
        column = columns[key] if key in columns else people.attributes.get(key)
        if column is None:
            return None
        used = distinct(column.codes)
        words = [column.words[code] for code in used.tolist() if code != MISSING]
        found.update(word for cell in words for word in (cell.split(";") if key in ("role", "licence") else (cell,)))
    if key == "home-domain":
        found.update(directory.guest_domains.words)
    return frozenset(found - {""})


def _test(selector: Selector, directory: Directory) -> Bools:
    """Return which people pass one test of a selector; raises Unanswerable if its column is missing."""
    people, key, values = directory.people, selector.key, frozenset(selector.values)
    if key == "any":
        return np.ones(len(people), bool)
    if key == "id":
        mask = np.zeros(len(people), bool)
        mask[[row for value in values for row in people.ids.find(value)]] = True
        return mask
    if key == "kind":
        return people.kind.where([word in values for word in people.kind.words])
    if key == "unit":
        return _in_units(values, directory)
    if key == "group":
        return _in_groups(values, directory)
    if key == "role":
        return _with_roles(values, directory)
    if key == "licence":
        return _with_words(_there(people.licences, "the column licences"), values)
    if key == "login":
        return _login(values, directory)
    if key == "break-glass":
        if people.break_glass is None:
            raise Unanswerable("the column break_glass")
        return people.break_glass if "true" in values else ~people.break_glass
    if key == "home-domain":
        _there(people.home_domain, "the column home_domain")
        column = directory.guest_domains
        wanted = {value.casefold() for value in values}
        return column.where([word.casefold() in wanted for word in column.words]) & people.guests
    column = _there(people.attributes.get(key), f"the column {key}")
    return column.where([word in values for word in column.words])


def _there(column: Coded | None, what: str) -> Coded:
    if column is None:
        raise Unanswerable(what)
    return column


def _with_words(column: Coded, wanted: frozenset[str]) -> Bools:
    return column.where([bool(wanted & set(cell.split(";"))) for cell in column.words])


def _with_roles(values: frozenset[str], directory: Directory) -> Bools:
    if "privileged" in values:
        if directory.privileged is None:
            raise Unanswerable("privileged_roles in organisation.yaml")
        values = values - {"privileged"} | directory.privileged
    return _with_words(_there(directory.people.roles, "the column roles"), values)


def _in_units(values: frozenset[str], directory: Directory) -> Bools:
    if directory.units is None:
        raise Unanswerable("the column unit")
    mask = np.zeros(len(directory.people), bool)
    for path in values & directory.units.index.keys():
        mask[directory.units.members(directory.units.index[path])] = True
    return mask


def _in_groups(values: frozenset[str], directory: Directory) -> Bools:
    if directory.groups is None:
        raise Unanswerable("the table members")
    mask = np.zeros(len(directory.people), bool)
    for value in values:
        mask[directory.groups.members(find_group(value, directory))] = True
    return mask


def find_group(text: str, directory: Directory) -> int:
    """Return the number of a group by id, or by name if that is unique; raises KeyError."""
    if text in directory.group_index:
        return directory.group_index[text]
    named = [number for number, name in enumerate(directory.group_titles) if name == text]
    if len(named) != 1:
        raise KeyError(text)
    return named[0]


def _login(values: frozenset[str], directory: Directory) -> Bools:
    logins = directory.people.logins
    pattern = re.compile("|".join(fnmatch.translate(value.casefold()) for value in sorted(values)))
    every = logins.take(np.arange(len(logins), dtype=np.int32))
    return np.fromiter((pattern.match(login.casefold()) is not None for login in every), bool, len(every))
