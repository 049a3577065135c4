"""Frozen records: classes of named values with slots, neither compared nor printed.

They are what `dataclasses.dataclass(frozen=True, slots=True, eq=False, repr=False)` makes, and work with
`dataclasses.fields` and `dataclasses.replace`. There are some two hundred of them, and each start makes over a hundred,
of which it uses few: a record costs a tenth of a dataclass to make, because how it is filled is only compiled when the
first is. Most hold arrays, whose comparison would have no meaning.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, Field, FrozenInstanceError, field, make_dataclass
from functools import cached_property
from typing import Any, TypeVar, dataclass_transform

_Class = TypeVar("_Class")
_put = object.__setattr__


@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field,))
def record(cls: type[_Class]) -> type[_Class]:
    """Makes a class a frozen record of the values that it names and annotates. It may have cached properties."""
    return _made(cls, False)


@dataclass_transform(frozen_default=True, eq_default=False, kw_only_default=True, field_specifiers=(field,))
def record_by_name(cls: type[_Class]) -> type[_Class]:
    """Return the same for many values: they are given by name alone."""
    return _made(cls, True)


def _made(cls: type[_Class], by_name: bool) -> type[_Class]:
    """Return a class with the fields of the given one: immutable, with slots, built by name or by position."""
    own = {name: cls.__dict__.get(name, MISSING) for name in cls.__annotations__}
    given: dict[str, Any] = {}
    for above in reversed(cls.__mro__[1:]):
        given |= above.__dict__.get("_given", {})
    given |= own
    body = {name: what for name, what in cls.__dict__.items() if name not in (*own, "__dict__", "__weakref__")}
    keeps = (
        any(isinstance(what, cached_property) for what in body.values()) and not (cls.__base__ or object).__dictoffset__
    )
    body |= {
        "__slots__": (*own, "__dict__") if keeps else tuple(own),
        "__match_args__": () if by_name else tuple(given),
        "_given": given,
        "_by_name": by_name,
        "__dataclass_fields__": _Fields(),
        "__init__": _first,
        "__setattr__": _refuse,
        "__delattr__": _refuse,
        "__getstate__": _state,
        "__setstate__": _restore,
    }
    made: Any = type(cls)(cls.__name__, cls.__bases__, body)  # type: ignore[misc]
    made.__qualname__ = cls.__qualname__
    done: type[_Class] = made
    return done


def _first(self: Any, *args: Any, **kwargs: Any) -> None:
    """Fills the first record of a class, for which the way to fill all others is made."""
    cls: Any = next(each for each in type(self).__mro__ if "_given" in each.__dict__)
    cls.__init__ = _filler(cls)
    cls.__init__(self, *args, **kwargs)


def _filler(cls: Any) -> Callable[..., None]:
    """Return what fills a record of a class: as if it had been written out."""
    known: dict[str, Any] = {"_put": _put, "_none": MISSING}
    heads, lines = ["self", "*"] if cls._by_name and cls._given else ["self"], []
    for number, (name, default) in enumerate(cls._given.items()):
        value = name
        if isinstance(default, Field) and default.default is not MISSING:
            default = default.default
        if isinstance(default, Field):
            known[f"_make{number}"] = default.default_factory
            value, default = f"_make{number}() if {name} is _none else {name}", MISSING
            heads.append(f"{name}=_none")
        elif default is MISSING:
            heads.append(name)
        else:
            known[f"_value{number}"] = default
            heads.append(f"{name}=_value{number}")
        lines.append(f" _put(self, {name!r}, {value})")
    exec(f"def __init__({', '.join(heads)}) -> None:\n" + "\n".join(lines or [" pass"]), known)
    filler: Callable[..., None] = known["__init__"]
    filler.__qualname__ = f"{cls.__qualname__}.__init__"
    return filler


def _refuse(_: Any, name: str, *__: Any) -> None:
    raise FrozenInstanceError(f"cannot assign to field {name!r}")


def _state(self: Any) -> list[Any]:
    return [getattr(self, name) for name in self._given]


def _restore(self: Any, state: list[Any]) -> None:
    for name, value in zip(self._given, state, strict=True):
        _put(self, name, value)


class _Fields:
    """Describes what `dataclasses` asks a class for, made when it first asks."""

    def __get__(self, one: Any, cls: Any) -> dict[str, Field[Any]]:
        named = [
            (name, object) if default is MISSING else (name, object, default) for name, default in cls._given.items()
        ]
        twin: Any = make_dataclass(cls.__name__, named, kw_only=cls._by_name)
        found: dict[str, Field[Any]] = twin.__dataclass_fields__
        cls.__dataclass_fields__ = found
        return found
