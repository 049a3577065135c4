"""A executor on Dask distributed: workers of a scheduler that is named, or `local:N` started here for one call.

The engine replaces a worker that dies and does its part again; we say what a part is, and put the parts together.
"""

from __future__ import annotations

import logging
import signal
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from queue import Empty, SimpleQueue
from typing import Any

from ..core.words.faults import Fault
from ..files.faults import BadInput, UsherError
from .interface import EngineFailed, Executor, ProgressCallback, Work
from .job import Job
from .remote import DONE, do, forget
from .settings import LOCAL, ClusterSettings

_TRIES = 3
_WAIT = 15  # seconds for a scheduler to answer, and for a first worker
_LOOK = 0.3


@contextmanager
def _without_sigint() -> Iterator[None]:
    """Ctrl-C is ignored meanwhile.

    By processes that are started here (a terminal sends it to them too) from their first moment on, and by this one, so
    that what was started is let go whole.
    """
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


class Cluster(Executor):
    """The workers of a scheduler."""

    shares_each = 3  # what one that dies has not returned yet is done again

    def __init__(self, settings: ClusterSettings, job: Job) -> None:
        try:
            from distributed import Client
            from distributed.security import Security

            from .local import start
        except ImportError:
            raise UsherError(
                "a scheduler needs Dask distributed; install it with: pip install 'usher-gate[cluster]'"
            ) from None
        self._job, self._runs, self._who = job, 0, dict[int, str]()
        self._done: dict[tuple[int, int], int] = {}
        self._local: Any = None
        self._client: Any = None
        self._logged = logging.root.manager.disable
        logging.disable(logging.CRITICAL)  # the engine logs with tracebacks what we say in a line
        self._shown = address = settings.scheduler
        here = LOCAL.fullmatch(address)
        security = None
        if not here and settings.has_credentials:
            security = Security(
                tls_ca_file=settings.ca,
                tls_client_cert=settings.cert,
                tls_client_key=settings.key,
                require_encryption=True,
            )
        try:
            if here:
                with _without_sigint():
                    self._local = start(int(here[1]), logging.CRITICAL)
            self._client = Client(self._local or address, timeout=_WAIT, set_as_default=False, security=security)
            self._client.wait_for_workers(int(here[1]) if here else 1, timeout=_WAIT * 4 if here else _WAIT)
            self.size = max(sum(self._client.nthreads().values()), 1)
            self._same_program()
            self._client.subscribe_topic(job.id, self._hear)
        except (OSError, TimeoutError, RuntimeError, ValueError) as error:
            self._give_up(error)
        except BaseException:  # Ctrl-C, or the refusal of a worker of another version
            self.close()
            raise

    def _give_up(self, error: Exception) -> None:
        client = self._client
        self.close()
        what = " ".join(str(error).split())[:160]
        if LOCAL.fullmatch(self._shown):
            raise EngineFailed(f"the processes of {self._shown} did not start ({what}); run it again") from None
        if client is None:
            raise EngineFailed(
                f"no scheduler answers at {self._shown} ({what}); start one with: dask scheduler"
            ) from None
        raise EngineFailed(
            f"the scheduler at {self._shown} has no workers; start some with: dask worker {self._shown}"
        ) from None

    def _same_program(self) -> None:
        """Ends it at once where a worker runs another version."""

        def theirs() -> str:  # travels whole: a worker may lack the program
            try:
                from usher_gate.engine.job import program
            except ImportError:
                return "no usher-gate"
            return program()

        for address, found in sorted(self._client.run(theirs, on_error="ignore").items()):
            if found != self._job.program:
                other = found if found.startswith("no ") else f"usher-gate {found}"
                raise EngineFailed(
                    f"the worker {address} runs {other}, and you run usher-gate {self._job.program}; give all the same"
                )

    def _hear(self, event: tuple[Any, tuple[int, int, int]]) -> None:
        run, number, done = event[1]
        self._done[run, number] = done

    def run(self, work: Work, tasks: Sequence[Any], progress: ProgressCallback) -> list[Any]:
        """See Crew. Raises EngineFailed where a part fails three times, or the scheduler is lost."""
        self._runs += 1
        run, found, tries = self._runs, dict[int, Any](), [0] * len(tasks)
        waiting: dict[Any, int] = {}
        over: SimpleQueue[Any] = SimpleQueue()
        try:
            for number in range(len(tasks)):
                waiting[self._give(work, run, number, 0, tasks[number], over)] = number
            while waiting:
                with suppress(Empty):
                    over.get(timeout=_LOOK)
                if self._client.status not in ("running", "connecting"):
                    raise EngineFailed(f"the scheduler at {self._shown} was lost; run it again")
                for future in [future for future in waiting if future.done()]:
                    number = waiting.pop(future)
                    failed = self._failure(future, self._part(number, tasks))
                    if failed is None:
                        found[number], self._who[number] = self._told(future)
                        continue
                    tries[number] += 1
                    if tries[number] == _TRIES:
                        raise EngineFailed(f"{self._part(number, tasks)} failed three times; the last time: {failed}")
                    waiting[self._give(work, run, number, tries[number], tasks[number], over)] = number
                progress(sum(done for (some, _), done in self._done.items() if some == run))
        finally:
            if waiting:
                with suppress(Exception):  # the scheduler may be lost
                    self._client.cancel(list(waiting), force=True)
        return [found[number] for number in range(len(tasks))]

    def _give(self, work: Work, run: int, number: int, attempt: int, task: Any, over: SimpleQueue[Any]) -> Any:
        """Submits a task; the worker that had the one of this number before is asked first.

        When it is over, it is put there.
        """
        where = self._who.get(number)
        future = self._client.submit(
            do,
            self._job,
            work,
            run,
            number,
            task,
            key=f"usher-gate-{self._job.id}-{run}-{number}-{attempt}",
            workers=None if where is None else [where],
            allow_other_workers=where is not None,
            pure=False,
        )
        future.add_done_callback(over.put)
        return future

    def _failure(self, future: Any, part: str) -> str | None:
        """Return why a task failed; None if it did not. Raises EngineFailed for what no second try mends."""
        from distributed import KilledWorker

        if future.status in ("lost", "cancelled"):
            raise EngineFailed(f"the scheduler at {self._shown} was lost, or gave up {part}")
        if future.status != "error":
            return None
        error = future.exception()
        if isinstance(error, KilledWorker):
            raise EngineFailed(f"{part} failed: each worker that had it died")
        return f"{type(error).__name__}: {' '.join(str(error).split())[:160]}"

    def _told(self, future: Any) -> tuple[Any, str]:
        try:
            (kind, said), where = future.result()
        except (OSError, CancelledError):  # what was done went with the scheduler
            raise EngineFailed(f"the scheduler at {self._shown} was lost; run it again") from None
        if kind == DONE:
            return said, where
        what, status = said
        if isinstance(what, list):
            raise BadInput([Fault(*fault) for fault in what])
        failed = EngineFailed(what)
        failed.status = status
        raise failed

    def _part(self, number: int, tasks: Sequence[Any]) -> str:
        named: Callable[[], str] | None = getattr(tasks[number], "named", None)
        return f"part {number + 1} of {len(tasks)}" + (f" ({named()})" if named is not None else "")

    def close(self) -> None:
        """Leaves the scheduler with nothing of this call; ends what was started here."""
        client, self._client = self._client, None
        with _without_sigint():
            if client is not None:
                with suppress(Exception):
                    client.unsubscribe_topic(self._job.id)
                with suppress(Exception):
                    client.run(forget, self._job.id, on_error="ignore")
                with suppress(Exception):
                    client.close(timeout=3)
            if self._local is not None:
                with suppress(Exception):
                    self._local.close(timeout=10)
        logging.disable(self._logged)
