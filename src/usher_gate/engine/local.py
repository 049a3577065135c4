"""The scheduler and the workers of `local:N`, which answer no one but each other and the call that started them.

Each port that they open, that of their HTTP servers included, asks for a certificate. The authority that signs it is
made for this one
call and kept in memory: no other process, of this user's or another's, has one.
"""

from __future__ import annotations

from typing import Any

from distributed import Nanny, Scheduler, Worker
from distributed.deploy.spec import SpecCluster
from distributed.security import Security

from . import ignore_sigint

_HOST = "127.0.0.1"
_HTTP = f"{_HOST}:0"


class _PrivateScheduler(Scheduler):
    def start_http_server(self, *_: Any, **__: Any) -> None:
        context = self.security.get_listen_args("scheduler")["ssl_context"]
        super().start_http_server([], _HTTP, 0, context)  # type: ignore[no-untyped-call]


class _PrivateWorker(Worker):
    def start_http_server(self, *_: Any, **__: Any) -> None:
        context = self.security.get_listen_args("worker")["ssl_context"]
        super().start_http_server([], _HTTP, 0, context)  # type: ignore[no-untyped-call]


def start(count: int, silence: int) -> SpecCluster:
    """Starts a scheduler in this process and `count` workers of one thread; raises OSError, RuntimeError and
    ValueError.

    `silence` is the level up to which the engine logs nothing.
    """
    security = Security.temporary()
    shared = {"host": _HOST, "protocol": "tls://", "security": security}
    worker = {
        "cls": Nanny,
        "options": {
            **shared,
            "worker_class": _PrivateWorker,
            "nthreads": 1,
            "memory_limit": 1 / count,
            "silence_logs": silence,
            "preload": ignore_sigint.__name__,
            "dashboard": False,
        },
    }
    return SpecCluster(
        name="usher-gate",
        scheduler={"cls": _PrivateScheduler, "options": {**shared, "port": 0, "dashboard": False}},
        workers=dict.fromkeys(range(count), worker),
        worker=worker,
        silence_logs=silence,
        security=security,
    )
