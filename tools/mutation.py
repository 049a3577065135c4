"""Faults that a good programmer could make, generated from the syntax trees of the program's modules."""

from __future__ import annotations

import ast
import random
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

# The rooms of the program, by the beginnings of their files below src/usher_gate.
ROOMS = {
    "door": ("core/door/",),
    "verdicts": ("core/verdicts/", "engine/"),
    "settings": ("core/settings/", "core/organisation/", "core/words/"),
    "changes": ("core/changes/",),
    "sign-in": ("core/sign_in/",),
    "history": ("core/history/", "files/history/"),
    "guests": ("core/guests/",),
    "mend": ("core/mend/",),
    "files": ("files/",),
    "sources": ("sources/",),
    "outputs": ("outputs/",),
    "cli": ("cli/",),
}
_COMPARISONS = {
    ast.Lt: "<=",
    ast.LtE: "<",
    ast.Gt: ">=",
    ast.GtE: ">",
    ast.Eq: "!=",
    ast.NotEq: "==",
    ast.In: "not in",
    ast.NotIn: "in",
    ast.Is: "is not",
    ast.IsNot: "is",
}
_OPPOSITES = {"min": "max", "max": "min", "any": "all", "all": "any", "minimum": "maximum", "maximum": "minimum"}
_CLEANERS = ("casefold", "lower", "upper", "strip", "rstrip", "lstrip", "astimezone")
_ESCAPES = ("quoted", "for_terminal", "for_spreadsheet", "visible", "escape", "quote")
_CHECKS = ("isinstance", "cast", "getattr", "hasattr", "TypeVar")  # their arguments swapped, everything crashes
_SIGNS = {ast.Add: "-", ast.Sub: "+", ast.FloorDiv: "*", ast.BitAnd: "|", ast.BitOr: "&"}


@dataclass(frozen=True)
class Fault:
    """A fault: from `start` to `end` (characters) of a file below src/usher_gate, `old` becomes `new`."""

    file: str
    line: int
    function: str
    kind: str
    start: int
    end: int
    old: str
    new: str
    runs_once: bool  # when the module is loaded

    @property
    def name(self) -> str:
        """What tells it from others; it does not change when lines move."""
        return re.sub(r"\s+", " ", f"{self.file} {self.function}: {self.old} -> {self.new}").strip()

    def planted(self, text: str) -> str:
        """Return the file's text with the fault."""
        return text[: self.start] + self.new + text[self.end :]


def room_of(file: str) -> str:
    """Return the room of a file below src/usher_gate; "" for none."""
    return next((room for room, starts in ROOMS.items() if file.startswith(starts)), "")


def sample(files: Sequence[Path], top: Path, count: int, seed: int) -> list[Fault]:
    """Draw faults from these files, equally many of each room, and no two in one place."""
    by_room: dict[str, list[Fault]] = {}
    for path in files:
        file = str(path.relative_to(top))
        if room := room_of(file):
            by_room.setdefault(room, []).extend(faults(file, path.read_text("utf-8")))
    chosen: list[Fault] = []
    for number, (_, every) in enumerate(sorted(by_room.items())):
        wanted = count * (number + 1) // len(by_room) - count * number // len(by_room)
        rnd = random.Random(f"{seed} {number}")
        rnd.shuffle(every)
        places = dict[tuple[str, int], Fault]()
        for fault in every:
            places.setdefault((fault.file, fault.line), fault)
        texts = {fault.file: (top / fault.file).read_text("utf-8") for fault in every}
        chosen += islice((fault for fault in places.values() if _is_python(fault.planted(texts[fault.file]))), wanted)
    return chosen


def faults(file: str, text: str) -> Iterator[Fault]:
    """Yield every fault that can be planted in a module; a few of them leave no Python."""
    finder = _Finder(file, text)
    finder.visit(ast.parse(text))
    yield from finder.found


def _is_python(text: str) -> bool:
    try:
        return bool(ast.parse(text))
    except SyntaxError:
        return False


class _Finder(ast.NodeVisitor):
    """Collects the faults of one module."""

    def __init__(self, file: str, text: str) -> None:
        self.found: list[Fault] = []
        self._file, self._text, self._functions = file, text, list[str]()
        self._depth = 0  # of functions
        self._lines = text.splitlines(keepends=True)
        self._starts = [0]
        for line in self._lines:
            self._starts.append(self._starts[-1] + len(line))

    def _at(self, line: int, column: int) -> int:
        """Return the place in the text of a line and a column, which counts bytes."""
        return self._starts[line - 1] + len(self._lines[line - 1].encode()[:column].decode())

    def _span(self, node: ast.expr | ast.keyword) -> tuple[int, int]:
        assert node.end_lineno is not None and node.end_col_offset is not None
        return self._at(node.lineno, node.col_offset), self._at(node.end_lineno, node.end_col_offset)

    def _source(self, node: ast.expr | ast.keyword) -> str:
        start, end = self._span(node)
        return self._text[start:end]

    def _add(self, kind: str, start: int, end: int, new: str) -> None:
        old = self._text[start:end]
        if old != new:
            line = self._text.count("\n", 0, start) + 1
            function = ".".join(self._functions) or "(module)"
            runs_once = not self._depth
            self.found.append(Fault(self._file, line, function, kind, start, end, old, new, runs_once))

    def _replace(self, kind: str, node: ast.expr, new: str) -> None:
        self._add(kind, *self._span(node), new)

    def _between(self, kind: str, left: ast.expr, right: ast.expr, operator: str, new: str) -> None:
        """Replace the operator between two operands."""
        start, end = self._span(left)[1], self._span(right)[0]
        match = re.search(rf"(?<![\w=!<>]){re.escape(operator)}(?![\w=])", self._text[start:end])
        if match:
            self._add(kind, start + match.start(), start + match.end(), new)

    # What is left out: texts, annotations, what only checkers of types read, and what is said of faults in the program

    def visit_JoinedStr(self, _: ast.JoinedStr) -> None:
        """Formatted texts: Python 3.11 does not give the places of the expressions in them."""

    def visit_Raise(self, _: ast.Raise) -> None:
        """Errors: their texts are no answers."""

    def visit_Assert(self, _: ast.Assert) -> None:
        """What cannot be otherwise."""

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        """Only the value."""
        if node.value is not None:
            self.visit(node.value)

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        """A function's body; its name is kept."""
        self._functions.append(node.name)
        self._depth += 1
        for statement in node.body:
            self.visit(statement)
        self._depth -= 1
        self._functions.pop()

    def visit_ClassDef(self, node: ast.ClassDef) -> None:
        """A class's body; its name is kept."""
        self._functions.append(node.name)
        for statement in node.body:
            self.visit(statement)
        self._functions.pop()

    # What is mutated

    def visit_If(self, node: ast.If) -> None:
        """A guard that leaves early is dropped."""
        if isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING":
            return
        if len(node.body) == 1 and isinstance(node.body[0], ast.Return | ast.Continue | ast.Break) and not node.orelse:
            self._replace("early end dropped", node.test, "False")
        self.generic_visit(node)

    def visit_Continue(self, node: ast.Continue) -> None:
        """One that is passed over ends all."""
        start = self._at(node.lineno, node.col_offset)
        self._add("early end", start, start + len("continue"), "break")

    def visit_Compare(self, node: ast.Compare) -> None:
        """The bound of a comparison belongs to it, or not; or it is turned round."""
        if len(node.ops) == 1:
            operator = {ast.NotIn: "not in", ast.IsNot: "is not"}.get(type(node.ops[0])) or _text_of(node.ops[0])
            self._between("comparison", node.left, node.comparators[0], operator, _COMPARISONS[type(node.ops[0])])
        self.generic_visit(node)

    def visit_BoolOp(self, node: ast.BoolOp) -> None:
        """And is or; a part is dropped."""
        operator = "and" if isinstance(node.op, ast.And) else "or"
        if len(node.values) == 2:
            self._between("and/or", node.values[0], node.values[1], operator, "or" if operator == "and" else "and")
        for first, second in zip(node.values, node.values[1:], strict=False):
            self._add("a part dropped", self._span(first)[0], self._span(second)[0], "")
        self.generic_visit(node)

    def visit_UnaryOp(self, node: ast.UnaryOp) -> None:
        """A denial is dropped."""
        if isinstance(node.op, ast.Not | ast.Invert):
            self._replace("not dropped", node, self._source(node.operand))
        self.generic_visit(node)

    def visit_BinOp(self, node: ast.BinOp) -> None:
        """Plus is minus; a mask is dropped, or one off."""
        if isinstance(node.op, ast.Mod | ast.Pow | ast.Mult | ast.Div):
            self.generic_visit(node)
            return
        new = _SIGNS.get(type(node.op))
        if new is not None and not isinstance(node.left, ast.Constant | ast.JoinedStr):
            self._between("operator", node.left, node.right, _text_of(node.op), new)
            self._replace("operand dropped", node, self._source(node.left))
        self.generic_visit(node)

    def visit_keyword(self, node: ast.keyword) -> None:
        """Not whether sequences must be equally long: they are."""
        if node.arg != "strict":
            self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        """A number is one more, a flag the other."""
        if isinstance(node.value, bool):
            self._replace("constant", node, str(not node.value))
        elif isinstance(node.value, int) and abs(node.value) < 10_000:
            self._replace("constant", node, str(node.value + 1))

    def visit_comprehension(self, node: ast.comprehension) -> None:
        """A filter is dropped."""
        for test in node.ifs:
            self._replace("filter dropped", test, "True")
        self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        """The other of two functions, a cleaning or an escape dropped, a key, neighbours swapped, another default."""
        function = node.func
        name = function.attr if isinstance(function, ast.Attribute) else getattr(function, "id", "")
        if name in _OPPOSITES:
            end = self._span(function)[1]
            self._add("opposite", end - len(name), end, _OPPOSITES[name])
        if isinstance(function, ast.Attribute) and name in _CLEANERS:
            self._replace("cleaning dropped", node, self._source(function.value))
        if name in _ESCAPES and len(node.args) == 1:
            self._replace("escape dropped", node, self._source(node.args[0]))
        if name in ("sorted", "sort", "min", "max"):
            self._without_key(node)
        if (
            name == "get"
            and len(node.args) == 2
            and isinstance(node.args[1], ast.Constant)
            and node.args[1].value == ""
        ):
            self._replace("another default", node.args[1], '"x"')
        for first, second in zip(node.args, node.args[1:], strict=False) if name not in _CHECKS else ():
            if type(first) is type(second) and isinstance(first, ast.Name | ast.Attribute):
                start, end = self._span(first)[0], self._span(second)[1]
                middle = self._text[self._span(first)[1] : self._span(second)[0]]
                self._add("neighbours swapped", start, end, self._source(second) + middle + self._source(first))
        self.generic_visit(node)

    def _without_key(self, node: ast.Call) -> None:
        for keyword in node.keywords:
            if keyword.arg != "key":
                continue
            body = keyword.value.body if isinstance(keyword.value, ast.Lambda) else None
            if isinstance(body, ast.Tuple) and len(body.elts) > 1:
                for one, after in zip(body.elts, body.elts[1:], strict=False):
                    self._add("sort key dropped", self._span(one)[0], self._span(after)[0], "")
            elif node.args or len(node.keywords) > 1:
                start, end = self._span(keyword)
                before = self._text.rfind(",", 0, start)
                self._add("sort key dropped", before if node.args else start, end, "")


def _text_of(operator: ast.cmpop | ast.operator) -> str:
    texts = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.In: "in",
             ast.Is: "is", ast.Add: "+", ast.Sub: "-", ast.FloorDiv: "//", ast.BitAnd: "&", ast.BitOr: "|"}  # fmt: skip
    return texts[type(operator)]
