"""Controls and their values as people read them: by title and meaning, or by id where `--ids` asks for that.

Which of them, and from which catalogue, is said once for an answer (`reading`); outside of it ids are written. The
forms for other programs have ids, and titles beside them. Spec: command-line 2.4.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING

from ..core.verdicts.condition import Leaf
from ..core.words.catalogue import Catalogue, Control
from ..core.words.units import comparison_text, with_unit

if TYPE_CHECKING:
    from ..core.changes.model import Change

_CATALOGUE: ContextVar[Catalogue | None] = ContextVar("catalogue", default=None)
_BY_TITLE: ContextVar[bool] = ContextVar("by_title", default=False)


@contextmanager
def reading(catalogue: Catalogue, by_title: bool) -> Iterator[None]:
    """Shows the controls of a catalogue by title, or by id, as long as this lasts."""
    tokens = _CATALOGUE.set(catalogue), _BY_TITLE.set(by_title)
    try:
        yield
    finally:
        _CATALOGUE.reset(tokens[0])
        _BY_TITLE.reset(tokens[1])


def _control(name: str) -> Control | None:
    """Return a control that is to be shown by title."""
    return _known(name) if _BY_TITLE.get() else None


def _known(name: str) -> Control | None:
    catalogue = _CATALOGUE.get()
    return None if catalogue is None else catalogue.index.get(name)


def title_beside(name: str) -> str | None:
    """Return the title of a control, for a form that has its id as well; None for what is no control."""
    control = _known(name)
    return None if control is None else control.title


def title_of(name: str) -> str:
    """Return what a control is called; a fact keeps its name."""
    control = _control(name)
    return name if control is None else control.title


def value_of(name: str, value: str) -> str:
    """Return a value of a control or a fact: its meaning if it has one, else itself with its unit."""
    control = _control(name)
    meaning = "" if control is None else control.meanings.get(value, "")
    return meaning or with_unit(name, value)


def quoted_value_of(name: str, value: str) -> str:
    """Return a value to stand in a sentence: in quotes if it is a meaning of several words."""
    text = value_of(name, value)
    return f"'{text}'" if " " in text and text != with_unit(name, value) else text


def setting_text(name: str, value: str) -> str:
    """Return a control with its value."""
    return f"{title_of(name)}{' =' if _control(name) is None else ':'} {value_of(name, value)}"


def on_service(service: str | None, name: str) -> str:
    """Return the service, to be followed by the control with its value; "" for none."""
    if not service:
        return ""
    return f"{service}: " if _control(name) is None else f"{service} "


def is_text(name: str, value: str) -> str:
    """Return what a control or a fact is, to be followed by where that is set."""
    return f"{title_of(name)}{'' if _control(name) is None else ':'} {value_of(name, value)}"


def place_word(name: str) -> str:
    """Return what comes between a value (`is_text`) and where it is set."""
    return " at" if _control(name) is None else ", set at"


def asked_text(leaf: Leaf) -> str:
    """Return what a leaf asks for, in words, with meanings or with the unit of numbers."""
    comparison = leaf.comparison
    if comparison is None or leaf.visitor_selection is not None:
        return leaf.expected
    control = _control(leaf.name)
    if control is None or not any(operand in control.meanings for operand in comparison.operands):
        return comparison_text(leaf.name, comparison)
    operands = " or ".join(quoted_value_of(leaf.name, operand) for operand in comparison.operands)
    return f"{comparison.operator.replace('-', ' ')} {operands}"


def change_text(change: Change) -> str:
    """Return what a change does, in words."""
    from ..core.changes.model import Set, Unset, in_words

    if isinstance(change, Set) and _control(change.control) is not None:
        hold = {True: ", pinned", False: ", not pinned", None: ""}[change.pinned]
        on, setting = on_service(change.service, change.control), setting_text(change.control, change.value)
        return f"{on}{setting}, set at {change.scope}{hold}"
    if isinstance(change, Unset) and _control(change.control) is not None:
        return f"{change.service} '{title_of(change.control)}' no longer set at {change.scope}"
    return in_words(change)
