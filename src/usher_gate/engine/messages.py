"""What travels between those who share work.

Pickles without what both ends hold (rules, services), which travel by name.

Only programs of one installation, and of one version, read each other's messages; nothing of the kind is ever read from
a file.
"""

from __future__ import annotations

import io
import pickle
from typing import Any

from ..core.organisation.services import Service
from ..core.organisation.snapshot import Snapshot
from ..core.verdicts.condition import Leaf
from ..core.verdicts.rules import Baseline, Rule


class _Writer(pickle.Pickler):
    def __init__(self, stream: io.BytesIO, leaves: dict[int, tuple[str, int]]) -> None:
        super().__init__(stream, pickle.HIGHEST_PROTOCOL)
        self._leaves = leaves

    def persistent_id(self, thing: Any) -> Any:
        """Return how a thing is named that both ends hold; None for one that travels itself."""
        kind = type(thing)
        if kind is Rule:
            return "rule", thing.id
        if kind is Service:
            return "service", thing.id
        if kind is Leaf and id(thing) in self._leaves:
            return "leaf", *self._leaves[id(thing)]
        assert kind is not Snapshot, "a snapshot never travels: each reads it where it lies"
        return None


class _Reader(pickle.Unpickler):
    def __init__(self, stream: io.BytesIO, held: dict[tuple[Any, ...], Any]) -> None:
        super().__init__(stream)
        self._held = held

    def persistent_load(self, name: Any) -> Any:
        """Return the thing that a name means."""
        return self._held[name]


class Messages:
    """Writes and reads messages between those who hold one baseline and snapshot."""

    def __init__(self, baseline: Baseline, snapshot: Snapshot) -> None:
        self._held: dict[tuple[Any, ...], Any] = {("rule", rule.id): rule for rule in baseline.rules}
        self._held |= {("service", service.id): service for service in snapshot.services or ()}
        self._leaves: dict[int, tuple[str, int]] = {}
        for rule in baseline.rules:
            for leaf in rule.leaves:
                self._held["leaf", rule.id, leaf.number] = leaf
                self._leaves[id(leaf)] = rule.id, leaf.number

    def written(self, thing: Any) -> bytes:
        """Return a thing as a message."""
        stream = io.BytesIO()
        _Writer(stream, self._leaves).dump(thing)
        return stream.getvalue()

    def read(self, message: bytes) -> Any:
        """Return the thing of a message."""
        return _Reader(io.BytesIO(message), self._held).load()
