"""Holes as CSV: one row for each person and each way in."""

from __future__ import annotations

import csv
from typing import TextIO

import numpy as np

from ...core.words.vocabulary import DIMENSIONS
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import HolesAnswer, describe

COLUMNS = ("rule", "proof", "person", "login", "way", "because", "observed_closes", "address", *DIMENSIONS, "sign_ins")


def write_holes_csv(answer: HolesAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the answer.

    `address` to `risk` are one sign-in that slips through, then how many past ones of the person did.
    """
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
            use = answer.use_of(hole)
            by = dict(use.by) if use is not None else {}
            ids, logins = people.ids.take(rows), people.logins.take(rows)
            for person, name, login in zip(rows.tolist(), ids, logins, strict=True):
                used = "" if use is None else str(by.get(person, 0))
                cells = (rule.rule, rule.asked.proof, name, login, *rest, used)
                writer.writerow([for_spreadsheet(cell) for cell in cells])
