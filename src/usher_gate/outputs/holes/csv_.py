"""Holes as CSV: one row for each person and each way in."""

from __future__ import annotations

import csv
from typing import TextIO

import numpy as np

from ...core.words.vocabulary import DIMENSIONS
from ..look import Look
from ..safe import for_spreadsheet
from .answer import HolesAnswer, describe

COLUMNS = ("rule", "proof", "person", "login", "way", "because", "observed_closes", "address", *DIMENSIONS)


def write_holes_csv(answer: HolesAnswer, stream: TextIO, _look: Look) -> None:
    """Writes the answer; from `address` on stands one sign-in that slips through."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    people = answer.snapshot.people
    for rule in answer.rules:
        for hole in rule.holes:
            rows = np.array(hole.people, np.int32)
            example = hole.sign_in
            closes = "true" if hole.observed_closes else "false"
            rest = [describe(hole), "; ".join(hole.because), closes, example.network.address or ""]
            rest += [example.word(name) for name in DIMENSIONS]
            for name, login in zip(people.ids.take(rows), people.logins.take(rows), strict=True):
                writer.writerow([for_spreadsheet(cell) for cell in (rule.rule, rule.asked.proof, name, login, *rest)])
