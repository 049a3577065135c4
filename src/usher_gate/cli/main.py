"""The program's entry: finds the verb, runs it, and turns what happens into one line and an exit status.

`--version` and `--help` answer before anything heavy is imported, argparse included.
"""

from __future__ import annotations

import os
import sys

from .. import __version__
from .say import say_error
from .streams import replace_streams

TYPE_CHECKING = False  # `typing` costs 6 ms, a third of what Python itself needs to start
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import NoReturn

# In the order in which an administrator needs them, each with what the person wants.
VERBS = {
    "demo": "see it work, on a made-up organisation",
    "gather": "bring the state of the directory and the services together in a snapshot",
    "check": "who drifts from the baseline, from what, and where it comes from",
    "why": "where one person's value or verdict comes from",
    "sign-in": "what one sign-in would meet, by which access rules",
    "holes": "every way in that a required proof does not cover, and who is locked out",
    "door": "who could get into a meeting: each kind of visitor, each gate",
    "rehearse": "try a change before it is made: on verdicts, doors, meetings and past sign-ins",
    "mend": "the fewest changes that end the drift and hurt no one, with a proof",
    "guests": "review guests: who is asked about which guests, worksheets, answers read back",
    "history": "what is new, gone, back and old since the checks that were kept",
    "report": "one page to hand to people who never open a terminal",
    "stand-in": "a simulated directory and services to practise against",
    "baseline": "start, validate and read a baseline; list the controls",
    "exceptions": "list, add and end agreed departures from the baseline",
    "completion": "a script that completes verbs and options for bash, zsh or fish",
}
WRONG, DOUBTFUL, UNWRITABLE, INTERRUPTED = 2, 3, 4, 130
_LONGEST_CELL = 1024 * 1024
_interrupts: list[int] = []


def usage() -> str:
    """Return the program's help."""
    verbs = "\n".join(f"  {verb:<11} {wanted}" for verb, wanted in VERBS.items())
    return f"""usage: usher-gate VERB [options]     usher-gate VERB --help     usher-gate --version

Checks meeting restrictions and sign-in requirements against a security baseline:
who drifts, from what, by which value, set where, and what to change first.

verbs:
{verbs}

exit status:
  0  nothing at or above the threshold drifts    2  the call or an input file is wrong
  1  something does                              3  no drift that is known, but something
  4  a source could not be read,                    needed is unknown, or the snapshot is
     or something could not be written              partial or older than it should be
  130  interrupted

Try first:
  usher-gate demo
  usher-gate check --help
"""


def _run(arguments: Sequence[str]) -> int:
    """Run one verb and return its exit status; errors pass through to the caller."""
    if not arguments or arguments[0] in ("-h", "--help", "help"):
        sys.stdout.write(usage())
        return 0
    if arguments[0] in ("--version", "version"):
        print(f"usher-gate {__version__}")
        return 0
    if arguments[0] not in VERBS:
        return _no_such_verb(arguments[0])
    import importlib

    from .parser import Parser

    verb = importlib.import_module(f".{arguments[0].replace('-', '_')}", __package__)
    parser = Parser(arguments[0], verb.__doc__, verb.EXAMPLES, getattr(verb, "TAKES", ""))
    verb.add_arguments(parser)
    call = parser.read(arguments[1:])
    status: int = verb.run(call)
    sys.stdout.flush()
    if call.__dict__.get("doubts"):
        from .common import say_doubts

        say_doubts(call, sys.stderr, "usher-gate: warning: ")
        return DOUBTFUL if status == 0 else status
    return status


def _no_such_verb(word: str) -> int:
    import difflib

    close = difflib.get_close_matches(word, VERBS, 1)
    hint = f"did you mean {close[0]}?" if close else f"write one of {', '.join(VERBS)}"
    what = "option" if word.startswith("-") else "verb"
    say_error(f"there is no {what} '{word[:60]}'; {hint}")
    return WRONG


def run(arguments: Sequence[str]) -> int:
    """Runs one call of the program and returns its exit status; raises nothing but argparse's own exits."""
    try:
        return _run(arguments)
    except KeyboardInterrupt:
        print("usher-gate: interrupted", file=sys.stderr)
        return INTERRUPTED
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        if _interrupts:  # what Ctrl-C met made something else of it, as a module in C does that is just being loaded
            print("usher-gate: interrupted", file=sys.stderr)
            return INTERRUPTED
        return _failed(error)


def _interrupt(number: int, _frame: object) -> None:
    """Ctrl-C, which is remembered: not everything that it can meet lets it through as what it is."""
    _interrupts.append(number)
    raise KeyboardInterrupt


def _failed(error: Exception) -> int:
    """Print the message of an error and return its exit status; an unexpected one is reported as a crash."""
    from ..files.faults import SHOWN, BadInput, UsherError, is_machine_fault, write_error

    if isinstance(error, BadInput):
        for fault in error.faults[:SHOWN]:
            say_error(str(fault))
        if len(error.faults) > SHOWN:
            say_error(f"and {len(error.faults) - SHOWN} more")
        return WRONG
    if isinstance(error, UsherError):
        say_error(str(error))
        return error.status
    if isinstance(error, OSError) and is_machine_fault(error):
        return _failed(write_error(os.fsdecode(error.filename or "a temporary file"), error))
    if isinstance(error, OSError) and isinstance(
        error.filename, str | bytes | os.PathLike
    ):  # a file or a folder that may not be used
        say_error(
            f"{os.fsdecode(error.filename)[:200]}: cannot be used ({error.strerror}); make it readable, or name another"
        )
        return WRONG
    return _crashed(error)


def _crashed(error: BaseException) -> int:
    """Report a bug; its place is in a file that only its owner can read, and that holds no data."""
    import tempfile

    places = _places(error)
    try:
        handle, name = tempfile.mkstemp(prefix="usher-gate-", suffix=".crash.txt")
        with os.fdopen(handle, "w") as stream:
            stream.write(
                f"usher-gate {__version__}, Python {sys.version}\n{sys.argv[1] if sys.argv[1:2] else ''}\n\n{places}"
            )
    except OSError:
        last = places.rstrip().rpartition("\n")[2].strip()
        say_error(f"this is a bug in usher-gate, and no file could be written that says more: {last}")
        return WRONG
    say_error(f"this is a bug in usher-gate; the place in its code is written in {name}")
    return WRONG


def _places(error: BaseException | None) -> str:
    """Return where an error came from: its kind and the places in code, neither its message nor any value."""
    import traceback

    found = []
    while error is not None:
        frames = traceback.extract_tb(error.__traceback__)
        found.append(f"{type(error).__module__}.{type(error).__qualname__}")
        found += [f"  {frame.filename}:{frame.lineno} in {frame.name}" for frame in frames]
        error = error.__cause__ or error.__context__
    return "\n".join(found) + "\n"


def main() -> NoReturn:
    """The program. What holds for the whole process is set here, by the script alone, and never by what others call."""
    # What goes wrong in a thread, or while something is taken apart, is reported by what waits for it, and never as a
    # traceback.
    import gc
    import threading

    # A call is short, and what it makes is reached until its end: a check of ten people takes 0.93 of the time (345 ms,
    # median of 25).
    gc.disable()
    replace_streams()
    sys.unraisablehook = lambda _: None
    threading.excepthook = lambda _: None
    if sys.argv[1:2] and sys.argv[1] in VERBS:
        import csv  # 9 ms, which --help need not wait for
        import signal

        if signal.getsignal(signal.SIGINT) is signal.default_int_handler:  # under nohup and the like it stays ignored
            signal.signal(signal.SIGINT, _interrupt)
        csv.field_size_limit(_LONGEST_CELL)  # Python's own limit of 128 KiB is less than a list in one cell may need
    try:
        status = run(sys.argv[1:])
    except SystemExit as ended:  # argparse
        status = ended.code if isinstance(ended.code, int) else WRONG
    try:
        sys.stdout.flush()
    except BrokenPipeError:  # the reader has had enough
        pass
    except Exception as error:  # also after an error that was said already
        status = _failed(error) if status != UNWRITABLE else status
    try:  # noqa: SIM105 (contextlib is slow to load)
        sys.stderr.flush()
    except OSError:
        pass
    # Taking apart what was imported is left to the system: a check of ten people takes 0.84 of the time, one of 200,000
    # the same.
    os._exit(status)
