"""Records of columns as bytes, and back: arrays and texts as they lie in memory, everything else in MessagePack.

Only records of the core, arrays, texts and plain values can be serialised; nothing in the bytes is ever run. What is
one object stays one object, because some records are distinguished by identity.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import fields, is_dataclass
from functools import cache
from importlib import import_module
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from ...core.organisation.build.listcolumn import ListTexts
from ...core.organisation.networks import Networks
from ..tables.arrowcolumn import ArrowTexts

_CORE = "usher_gate.core."
_WIDE = 1 << 62  # MessagePack holds 64 bits


class CannotSerialise(Exception):
    """A value that has no form in bytes."""


class _Serialiser:
    def __init__(self) -> None:
        self.buffers: list[Any] = []
        self.classes: dict[type, int] = {}
        self._known: dict[int, int] = {}
        self._held: list[object] = []  # so that no id is given twice

    def _once(self, value: object, made: list[Any]) -> list[Any]:
        """Remembers a value that may come again."""
        self._known[id(value)] = len(self._known)
        self._held.append(value)
        return made

    def serialise(self, value: Any) -> Any:
        """Return a value as MessagePack takes it.

        Plain ones as they are, others as a list that begins with its kind.
        """
        if value is None or isinstance(value, (bool, str, float)):
            return value
        if isinstance(value, int):
            return value if -_WIDE < value < _WIDE else ["i", str(value)]
        if id(value) in self._known:
            return ["m", self._known[id(value)]]
        if isinstance(value, np.ndarray):
            if value.dtype.hasobject:
                raise CannotSerialise(str(value.dtype))
            self.buffers.append(np.ascontiguousarray(value))
            return self._once(value, ["a", len(self.buffers) - 1, value.dtype.str, list(value.shape)])
        if isinstance(value, (ListTexts, ArrowTexts)):
            self.buffers.append(_texts_bytes(value))
            return self._once(value, ["t", len(self.buffers) - 1])
        if is_dataclass(value) and type(value).__module__.startswith(_CORE):
            number = self.classes.setdefault(type(value), len(self.classes))
            return self._once(
                value, ["r", number, *(self.serialise(getattr(value, each.name)) for each in fields(value))]
            )
        if isinstance(value, Networks):
            return self._once(value, ["n", self.serialise(value.spans)])
        if isinstance(value, Mapping):
            return ["d", *(self.serialise(each) for pair in value.items() for each in pair)]
        for kind, word in ((tuple, "u"), (list, "l"), (frozenset, "f")):
            if type(value) is kind:
                return [word, *map(self.serialise, value)]
        raise CannotSerialise(type(value).__name__)


def _texts_bytes(texts: ListTexts | ArrowTexts) -> Any:
    array = texts.array if isinstance(texts, ArrowTexts) else pa.array(texts.take(np.arange(len(texts))), pa.string())
    sink = pa.BufferOutputStream()
    batch = pa.record_batch([array], names=["texts"])
    with pa.ipc.new_stream(sink, batch.schema) as writer:
        writer.write_batch(batch)
    return sink.getvalue()


def serialise(value: Any) -> tuple[bytes, list[Any]]:
    """Return a value as bytes, and the buffers that they speak of.

    Raises CannotFreeze, or what Arrow raises for texts that are not UTF-8.
    """
    freezer = _Serialiser()
    packed = freezer.serialise(value)
    classes = [f"{each.__module__}:{each.__qualname__}" for each in freezer.classes]
    return msgspec.msgpack.encode([classes, packed]), freezer.buffers


@cache
def _maker(name: str) -> tuple[Callable[..., Any], tuple[str, ...]]:
    """Return the class of records of this name, and what it takes."""
    module, _, word = name.partition(":")
    found = getattr(import_module(module), word) if module.startswith(_CORE) and word.isidentifier() else None
    if not (isinstance(found, type) and is_dataclass(found)):
        raise ValueError(name)
    return found, tuple(each.name for each in fields(found))


class _Deserialiser:
    def __init__(self, makers: list[tuple[Callable[..., Any], tuple[str, ...]]], buffers: list[Any]) -> None:
        self._makers, self._buffers = makers, buffers
        self._known: list[Any] = []

    def _once(self, value: Any) -> Any:
        self._known.append(value)
        return value

    def deserialise(self, packed: Any) -> Any:
        return self._deserialise(packed) if type(packed) is list else packed

    def _deserialise(self, packed: list[Any]) -> Any:
        """Return one part of a serialised snapshot as the object that it was; the first item names its kind."""
        kind, *rest = packed
        if kind == "m":
            return self._known[rest[0]]
        if kind == "r":
            made, names = self._makers[rest[0]]
            return self._once(made(**dict(zip(names, self._all(rest[1:]), strict=True))))
        if kind == "a":
            number, dtype, shape = rest
            return self._once(np.frombuffer(self._buffers[number], np.dtype(dtype)).reshape(shape))
        if kind == "t":
            with pa.ipc.open_stream(pa.py_buffer(self._buffers[rest[0]])) as reader:
                return self._once(ArrowTexts(reader.read_next_batch().column(0)))
        if kind == "n":
            return self._once(Networks(self.deserialise(rest[0])))
        if kind == "d":
            cells = iter(self._all(rest))
            return dict(zip(cells, cells, strict=True))
        if kind == "i":
            return int(rest[0])
        parts = self._all(rest)
        if kind == "l":
            return parts
        return tuple(parts) if kind == "u" else frozenset(parts)

    def _all(self, packed: list[Any]) -> list[Any]:
        """Return each of some values deserialised: most are plain ones, which stay as they are."""
        return [self._deserialise(each) if type(each) is list else each for each in packed]


def deserialise(packed: bytes, buffers: list[Any]) -> Any:
    """Return the value that was serialised; raises ValueError and its like for what cannot be one."""
    classes, value = msgspec.msgpack.decode(packed)
    return _Deserialiser([_maker(name) for name in classes], buffers).deserialise(value)
