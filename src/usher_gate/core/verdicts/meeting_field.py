"""What rules may ask of a planned meeting itself."""

from __future__ import annotations

from collections.abc import Mapping

from ..words.values import Kind, number
from ..words.vocabulary import MEETING_KINDS

# Only the numbers of invitees have an order: fewer is stricter (Spec: doors 5.2).
MEETING_FIELDS: Mapping[str, Kind] = {
    "kind": Kind("level", MEETING_KINDS, ordered=False),
    "recurring": Kind("flag", ("off", "on"), ordered=False),
    "invitees": number("lower"),
    "invitees-from-outside": number("lower"),
    "days-ahead": Kind("number", ordered=False),
}
