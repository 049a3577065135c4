"""Checks and replays by the workers of a real Dask scheduler: the same bytes, whatever happens to them.

And an object store.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager, suppress
from pathlib import Path
from random import Random
from typing import Any

import fsspec
import pytest

from tests.access_reference import Gatekeeper
from tests.compared import many
from tests.core.test_access_against_reference import random_gate, write_gate
from tests.core.test_replay_against_reference import COLUMNS, random_event
from tests.organisations import _table, _yaml, random_org, write_org
from tests.program import PROGRAM, Done, call, process
from usher_gate.engine.interface import EngineFailed
from usher_gate.engine.job import CHECK, REPLAY, Job, digest_of, program
from usher_gate.engine.remote import _to_check, _to_replay
from usher_gate.files.place import place
from usher_gate.files.snapshot.folder import read_snapshot

ROOT = Path(__file__).resolve().parents[2]
DASK = Path(sys.executable).with_name("dask")
ORGANISATIONS, KILLS = many(4), many(1)
# Schedulers and workers stand idle most of the time here: they look after themselves twice a second, and workers are
# forked.
SELDOM = {
    "DASK_DISTRIBUTED__WORKER__PROFILE__ENABLED": "False",
    "DASK_DISTRIBUTED__ADMIN__TICK__INTERVAL": "500ms",
    "DASK_DISTRIBUTED__ADMIN__SYSTEM_MONITOR__INTERVAL": "5s",
    "DASK_DISTRIBUTED__WORKER__MULTIPROCESSING_METHOD": "forkserver",
}


@contextmanager
def running(*command: object, **environment: str) -> Iterator[subprocess.Popen[bytes]]:
    child = subprocess.Popen(
        [*map(str, command)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        cwd=ROOT, env={**os.environ, "PYTHONPATH": str(ROOT), **SELDOM, **environment},
    )  # fmt: skip
    try:
        yield child
    finally:
        os.killpg(child.pid, signal.SIGKILL)
        child.wait()


@contextmanager
def scheduler(folder: Path) -> Iterator[str]:
    """A scheduler started by hand, as docs/scale.md does; its address."""
    address_file = folder / "scheduler.json"
    with running(
        DASK, "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", address_file
    ) as child:
        deadline = time.monotonic() + 60
        while not address_file.exists() or not address_file.read_text().strip():
            assert child.poll() is None
            assert time.monotonic() < deadline
            time.sleep(0.05)
        yield json.loads(address_file.read_text())["address"]


def workers(address: str, count: int) -> Sequence[object]:
    return DASK, "worker", address, "--nworkers", count, "--nthreads", 1, "--no-dashboard", "--host", "127.0.0.1"


@pytest.fixture(scope="module")
def clusters(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[int, str]]:
    """Schedulers with one, two and three workers."""
    folders = [tmp_path_factory.mktemp("cluster") for _ in range(3)]
    with ExitStack() as stack:
        found = {count: stack.enter_context(scheduler(folder)) for count, folder in enumerate(folders, 1)}
        for count, address in found.items():
            stack.enter_context(running(*workers(address, count)))
        yield found


@pytest.fixture(scope="module")
def deserted(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A scheduler without workers."""
    with scheduler(tmp_path_factory.mktemp("deserted")) as address:
        yield address


@pytest.fixture(scope="module")
def crowd(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An organisation that takes its time: 20,000 people, 100 rules."""
    sys.path.insert(0, str(ROOT / "tools"))
    import bench_data

    folder = tmp_path_factory.mktemp("crowd")
    bench_data.write(folder, 20_000, ("parquet",))
    return folder / "parquet"


def checked(folder: Path, *more: object) -> list[object]:
    return [
        "check",
        "--snapshot",
        folder / "snapshot",
        "--baseline",
        folder / "baseline.yaml",
        "--format",
        "json",
        *more,
    ]


def in_pieces(snapshot: Path, name: str, rnd: Random) -> None:
    """Makes a table a folder of Parquet files, its rows in any order."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = snapshot / f"{name}.parquet"
    table = pq.read_table(path)
    order = list(range(table.num_rows))
    rnd.shuffle(order)
    (snapshot / name).mkdir()
    cuts = sorted({0, table.num_rows, rnd.randrange(table.num_rows + 1)})
    for number, (first, last) in enumerate(zip(cuts, cuts[1:] or [0], strict=False)):
        pq.write_table(table.take(pa.array(order[first:last], pa.int64())), snapshot / name / f"part-{number}.parquet")
    path.unlink()


@pytest.mark.parametrize("seed", range(ORGANISATIONS))
def test_one_two_and_three_workers_give_the_bytes_of_none(clusters: dict[int, str], tmp_path: Path, seed: int) -> None:
    rnd = Random(seed)
    org = random_org(rnd, rnd.choice((1, 5, 12, 30)))
    write_org(org, tmp_path, rnd, ("parquet",))
    for name in ("people", "members", "settings"):
        if (tmp_path / "snapshot" / f"{name}.parquet").exists() and rnd.random() < 0.5:
            in_pieces(tmp_path / "snapshot", name, rnd)
    narrowed = rnd.choice(([], [], ["--verdict", "drifts"], ["--severity", "high"]))
    ask = [*checked(tmp_path, *narrowed), "--exceptions", tmp_path / "exceptions.yaml"]
    alone = call(*ask)
    assert alone.status in (0, 1, 3), alone.err
    for address in clusters.values():
        assert call(*ask, "--scheduler", address) == alone


@pytest.mark.parametrize("seed", range(ORGANISATIONS))
def test_a_replay_by_workers_gives_the_bytes_of_none(clusters: dict[int, str], tmp_path: Path, seed: int) -> None:
    rnd = Random(seed)
    org = random_org(rnd, 6)
    gate = random_gate(org, rnd)
    gate.rules = gate.rules or []
    evaluator = Gatekeeper(org, gate)
    write_gate(org, gate, tmp_path, rnd)
    logs = tmp_path / "logs"
    for number in range(rnd.randrange(1, 4)):
        (logs / str(number)).mkdir(parents=True)
        events = [random_event(evaluator, rnd) for _ in range(rnd.randrange(1, 60))]
        _table(logs / str(number), "sign_ins", events, COLUMNS, rnd, ("csv", "jsonl", "parquet"))
        (made,) = (logs / str(number)).iterdir()
        made.rename(logs / f"{number}{made.suffix}")
        (logs / str(number)).rmdir()
    ask = ["rehearse", "--snapshot", tmp_path / "snapshot", "--sign-ins", logs, "--format", "json"]
    if rnd.random() < 0.5:
        _yaml(tmp_path / "draft.yaml", {"usher-gate": "access-rules/1", "rules": gate.rules[:1]})
        ask += ["--draft", tmp_path / "draft.yaml"]
    alone = call(*ask)
    assert alone.status in (0, 3), alone.err
    for address in clusters.values():
        assert call(*ask, "--scheduler", address) == alone


@contextmanager
def working_on(address: str) -> Iterator[Any]:
    """A client of a scheduler, for the test's own questions."""
    from distributed import Client

    with Client(address, set_as_default=False) as client:
        yield client


def until(found: Callable[[], object], seconds: float = 60) -> None:
    deadline = time.monotonic() + seconds
    while not found():
        assert time.monotonic() < deadline
        time.sleep(0.02)


def started(*arguments: object, cwd: Path) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [PROGRAM, *map(str, arguments)], cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(KILLS))
def test_a_worker_killed_in_the_middle_costs_nothing_but_its_part(
    clusters: dict[int, str], crowd: Path, tmp_path: Path, seed: int
) -> None:
    rnd = Random(seed)
    alone = process(*checked(crowd), cwd=tmp_path).out
    with working_on(clusters[2]) as client:
        child = started(*checked(crowd, "--scheduler", clusters[2]), cwd=tmp_path)
        until(lambda: any(client.processing().values()))
        time.sleep(rnd.uniform(0, 2))
        os.kill(rnd.choice(sorted(client.run(os.getpid).values())), signal.SIGKILL)
        out, err = child.communicate(timeout=120)
        assert (child.returncode, err) == (1, "")
        assert out == alone
        until(lambda: len(client.nthreads()) == 2)


def test_a_worker_of_another_version_ends_the_call_at_once(demo: Path, deserted: str, tmp_path: Path) -> None:
    other = tmp_path / "other" / "usher_gate"
    shutil.copytree(ROOT / "src" / "usher_gate", other)
    (other / "__init__.py").write_text((other / "__init__.py").read_text().replace('"0.', '"9.'))
    with running(*workers(deserted, 1), PYTHONPATH=str(other.parent)):
        done = call("check", "--scheduler", deserted)
    assert (done.status, done.out) == (4, "")
    assert "runs usher-gate 9." in done.err
    with working_on(deserted) as client:
        until(lambda: not client.nthreads())


def test_no_scheduler_and_no_workers_are_said_in_one_line(
    demo: Path, deserted: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("usher_gate.engine.cluster._WAIT", 2)
    with closing(socket.create_server(("127.0.0.1", 0))) as taken:
        nobody = f"tcp://127.0.0.1:{taken.getsockname()[1]}"
    done = call("rehearse", "--scheduler", nobody)
    assert (done.status, done.out) == (4, "")
    assert f"no scheduler answers at {nobody}" in done.err
    assert "start one with: dask scheduler" in done.err
    done = call("check", "--scheduler", deserted)
    assert (done.status, done.out) == (4, "")
    assert f"the scheduler at {deserted} has no workers; start some with: dask worker {deserted}" in done.err


def fails(held: Any, task: Any, tell: Any) -> bytes:
    raise ZeroDivisionError("made up")


def dies(held: Any, task: Any, tell: Any) -> bytes:
    os._exit(7)


@pytest.mark.parametrize(
    ("work", "said"),
    [
        (fails, "(people 1 to "),
        (fails, "failed three times; the last time: ZeroDivisionError: made up"),
        (dies, "in the order of their ids) failed: each worker that had it died\n"),
    ],
)
def test_a_part_that_fails_three_times_ends_the_call_with_its_name(
    demo: Path, clusters: dict[int, str], monkeypatch: pytest.MonkeyPatch, work: Any, said: str
) -> None:
    monkeypatch.setattr("usher_gate.engine.checking.judge", work)
    done = call("check", "--scheduler", clusters[1])
    assert (done.status, done.out) == (4, "")
    assert said in done.err
    with working_on(clusters[1]) as client:
        until(lambda: client.nthreads())  # one that died is replaced


def executing(dask_worker: Any) -> list[str]:
    return [key for key, task in dask_worker.state.tasks.items() if task.state == "executing"]


@pytest.mark.parametrize("verb", ["check", "rehearse"])
def test_a_worker_that_finds_other_files_ends_the_call(
    demo: Path, clusters: dict[int, str], monkeypatch: pytest.MonkeyPatch, verb: str
) -> None:
    monkeypatch.setattr("usher_gate.engine.job.digest_of", lambda *_: "of other files")
    done = call(verb, "--scheduler", clusters[1])
    assert (done.status, done.out) == (4, "")
    assert "a worker finds other files there than you" in done.err


def test_ctrl_c_leaves_no_task_running(clusters: dict[int, str], crowd: Path, tmp_path: Path) -> None:
    with working_on(clusters[2]) as client:
        child = started(*checked(crowd, "--scheduler", clusters[2], "--out", "o.json"), cwd=tmp_path)
        until(lambda: any(client.processing().values()))
        os.killpg(child.pid, signal.SIGINT)
        _, err = child.communicate(timeout=60)
        assert (child.returncode, err) == (130, "usher-gate: interrupted\n")
        until(lambda: not any(client.processing().values()) and not any(client.run(executing).values()), 20)
    assert not list(tmp_path.iterdir())


def test_ctrl_c_in_a_terminal_ends_the_processes_that_a_call_started_here_without_a_word(
    crowd: Path, tmp_path: Path
) -> None:
    """A terminal tells it to all of them."""
    child = started(*checked(crowd, "--scheduler", "local:2", "--out", "o.json"), cwd=tmp_path)
    until(lambda: len(here(child.pid)) >= 2)
    time.sleep(1)
    for _ in range(20):  # while processes start it is not heard
        os.killpg(child.pid, signal.SIGINT)
        time.sleep(0.3)
        if child.poll() is not None:
            break
    _, err = child.communicate(timeout=60)
    assert (child.returncode, err) == (130, "usher-gate: interrupted\n")
    until(lambda: not here(child.pid), 20)
    assert not list(tmp_path.iterdir())


def here(session: int) -> list[int]:
    """The worker processes of a call that was started in a session of its own."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            try:
                words, stat = (
                    (folder / "cmdline").read_bytes(),
                    (folder / "stat").read_text().rpartition(")")[2].split(),
                )
            except OSError:
                continue
            if int(stat[3]) == session and b"spawn_main" in words:
                found.append(int(folder.name))
    return found


def test_a_scheduler_that_goes_away_in_the_middle_is_said(crowd: Path, tmp_path: Path) -> None:
    with scheduler(tmp_path) as address, running(*workers(address, 1)), working_on(address) as client:
        child = started(*checked(crowd, "--scheduler", address), cwd=tmp_path)
        until(lambda: any(client.processing().values()))
    out, err = child.communicate(timeout=120)
    assert (child.returncode, out) == (4, "")
    assert err.startswith(f"usher-gate: error: the scheduler at {address} was lost")
    assert err.count("\n") == 1


class Wire:
    """A relay that remembers every byte that passes."""

    def __init__(self, address: str) -> None:
        host, port = address.removeprefix("tcp://").split(":")
        self._to, self.seen = (host, int(port)), bytearray()
        self._server = socket.create_server(("127.0.0.1", 0))
        self.address = f"tcp://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                near, _ = self._server.accept()
            except OSError:
                return
            far = socket.create_connection(self._to)
            for one, other in ((near, far), (far, near)):
                threading.Thread(target=self._pass, args=(one, other), daemon=True).start()

    def _pass(self, one: socket.socket, other: socket.socket) -> None:
        try:
            while data := one.recv(1 << 16):
                self.seen += data
                other.sendall(data)
        except OSError:
            pass
        for each in (one, other):
            with closing(each):
                pass

    def close(self) -> None:
        self._server.close()


SECRETS = {"AWS_ACCESS_KEY_ID": "AKIDFERRYBOATS", "AWS_SECRET_ACCESS_KEY": "5ecretOfTheHarbour"}


@pytest.fixture(scope="module")
def store() -> Iterator[dict[str, str]]:
    """A real object store on this machine, and the environment by which it is found."""
    with closing(socket.create_server(("127.0.0.1", 0))) as taken:
        port = taken.getsockname()[1]
    with running(sys.executable, "-W", "ignore", "-m", "moto.server", "-H", "127.0.0.1", "-p", port):
        deadline = time.monotonic() + 60
        while True:
            try:
                socket.create_connection(("127.0.0.1", port)).close()
                break
            except OSError:
                assert time.monotonic() < deadline
                time.sleep(0.1)
        yield {**SECRETS, "AWS_ENDPOINT_URL": f"http://127.0.0.1:{port}", "AWS_DEFAULT_REGION": "us-east-1"}


def stored(store: dict[str, str], *arguments: object) -> Done:
    """Calls the built program with the environment by which the store is found."""
    return process(*arguments, **store)  # type: ignore[arg-type]


def test_a_snapshot_and_logs_in_a_store_give_the_same_and_no_credential_travels(
    demo: Path, tmp_path: Path, store: dict[str, str]
) -> None:
    put = "import s3fs, sys; fs = s3fs.S3FileSystem(); fs.mkdir('northmere'); [fs.put(p, f'northmere/{p}', recursive=True) for p in sys.argv[1:]]"
    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    subprocess.run(
        [sys.executable, "-W", "ignore", "-c", put, "snapshot", "logs"],
        cwd=demo,
        env={**os.environ, **store},
        check=True,
    )
    there = ["--snapshot", "s3://northmere/snapshot"]
    here = process("check", "--format", "json", cwd=demo)
    assert stored(store, "check", "--format", "json", *there).out == here.out
    log = process("rehearse", "--format", "json", "--sign-ins", "logs", cwd=demo)
    with scheduler(tmp_path) as address, running(*workers(address, 2), **store):
        wire = Wire(address)
        by = ["--scheduler", wire.address, "--format", "json"]
        assert stored(store, "check", *there, *by).out == here.out
        assert stored(store, "rehearse", *there, *by, "--sign-ins", "s3://northmere/logs").out == log.out
        wire.close()
    assert b"s3://northmere/logs" in wire.seen
    for secret in store.values():
        if secret != "us-east-1":
            assert secret.encode() not in wire.seen
    missing = stored(store, "check", "--snapshot", "s3://northmere/nothing")
    assert (missing.status, missing.err.splitlines()[0]) == (
        2, "usher-gate: error: s3://northmere/nothing: does not exist; write it, or name another",
    )  # fmt: skip
    altered = "import s3fs; s3fs.S3FileSystem().pipe('northmere/snapshot/partners.csv', b'domain,guests_inn\\n')"
    subprocess.run([sys.executable, "-W", "ignore", "-c", altered], env={**os.environ, **store}, check=True)
    wrong = stored(store, "check", *there)
    assert wrong.status == 2
    assert "s3://northmere/snapshot/partners.csv:1: unknown column 'guests_inn'" in wrong.err


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("s3://key:secret@northmere/snapshot", "the URL of northmere/snapshot holds a name or a password"),
        ("nosuch://northmere/snapshot", "nosuch://northmere/snapshot: Protocol not known: nosuch"),
        ("memory://northmere/snapshot", "memory://northmere/snapshot: does not exist; write it, or name another"),
    ],
)
def test_urls_that_cannot_be_used_are_said_in_one_line(demo: Path, text: str, said: str) -> None:
    done = call("check", "--snapshot", text)
    assert (done.status, done.out) == (2, "")
    assert said in done.err
    assert "secret" not in done.err


def test_a_store_in_memory_is_read_too(demo: Path) -> None:
    import fsspec

    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    memory = fsspec.filesystem("memory")
    memory.put(str(demo / "snapshot"), "/northmere/snapshot", recursive=True)
    there = ("--snapshot", "memory://northmere/snapshot")
    assert call("check", "--format", "json", *there) == call("check", "--format", "json")
    assert call("door", "--format", "json", *there) == call("door", "--format", "json")
    log = call("rehearse", "--format", "json", *there).out
    assert log.replace("memory://northmere/", "") == call("rehearse", "--format", "json").out
    kept = call("check", "--keep", *there)
    assert kept.status == 4
    assert "keeping a check needs the snapshot on this machine" in kept.err


def test_the_working_folder_may_name_the_scheduler(demo: Path, clusters: dict[int, str]) -> None:
    alone = call("check", "--format", "json")
    toml = demo / "usher-gate.toml"
    before = toml.read_text()
    toml.write_text(f'{before}\n[cluster]\nscheduler = "{clusters[1]}"\n')
    assert call("check", "--format", "json") == alone
    toml.write_text(f'{before}\n[cluster]\nscheduler = "tcp://127.0.0.1:1"\n')
    assert call("check", "--format", "json", "--scheduler", "none") == alone
    assert call("rehearse", "--changes", "changes/waiting-rooms.yaml").status in (0, 1)  # on this machine as before
    toml.write_text(f'{before}\n[cluster]\nscheduler = "port 8786"\nshedule = 1\n')
    done = call("check")
    assert (done.status, done.out) == (2, "")
    assert [line.partition("usher-gate.toml:")[2].partition("; ")[0] for line in done.err.splitlines()] == [
        f"{before.count(chr(10)) + 3}: cluster.scheduler: write the address of a scheduler, such as tls://192.0.2.7:8786, or local:2 for two processes here",
        f"{before.count(chr(10)) + 4}: cluster.shedule: unknown key 'shedule'",
    ]  # fmt: skip


def test_changes_are_rehearsed_here(demo: Path) -> None:
    done = call("rehearse", "--changes", "changes/waiting-rooms.yaml", "--scheduler", "local:2")
    assert (done.status, done.out) == (2, "")
    assert "--changes and --baseline are rehearsed on this machine; leave --scheduler out" in done.err


def test_whoever_names_no_scheduler_never_meets_the_engine(demo: Path) -> None:
    code = (
        "import sys\nfrom usher_gate.cli.main import run\n"
        "for verb in ('check', 'rehearse'):\n    run([verb, '--out', 'o'])\n"
        "print(sorted({name.partition('.')[0] for name in sys.modules} & {'dask', 'distributed', 'fsspec', 'tornado'}))"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=demo, capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"


# Who may speak to a scheduler


def listening(pids: Sequence[int]) -> set[int]:
    """The ports at which some processes, and all that they started, listen."""
    family = list(pids)
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with suppress(OSError):
            parent = int(stat.read_text().rpartition(")")[2].split()[1])
            if parent in family:
                family.append(int(stat.parent.name))
    sockets = set()
    for pid in family:
        for handle in Path(f"/proc/{pid}/fd").glob("*") if Path(f"/proc/{pid}/fd").exists() else ():
            with suppress(OSError):
                sockets.add(str(handle.readlink()))
    found = set()
    for name in ("tcp", "tcp6"):
        for line in Path(f"/proc/net/{name}").read_text().splitlines()[1:]:
            cells = line.split()
            if cells[3] == "0A" and f"socket:[{cells[9]}]" in sockets:
                found.add(int(cells[1].rpartition(":")[2], 16))
    return found


STRANGER = r"""
import os, socket, ssl, sys
ssl.create_default_context(), "a".encode("idna"), b"a".decode("latin-1")  # loaded while they may be read
if os.geteuid() == 0:
    os.setuid(65534)  # another user of this machine
for line in sys.stdin:
    said = []
    for secure in (False, True):
        try:
            link = socket.create_connection(("127.0.0.1", int(line)), 5)
            if secure:
                context = ssl.create_default_context()
                context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
                link = context.wrap_socket(link)
            link.settimeout(5)
            link.sendall(b"GET /health HTTP/1.0\r\n\r\n")
            said.append(link.recv(1000).decode("latin-1"))
        except OSError as error:
            said.append("")
    print(int(any(said)), flush=True)
"""


def test_nobody_else_gets_an_answer_from_the_processes_of_a_call(crowd: Path, tmp_path: Path) -> None:
    """From no port that a call opens, with TLS or without.

    As another user where tests are root, else as one without the credentials.
    """
    stranger = subprocess.Popen(
        [sys.executable, "-c", STRANGER], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert stranger.stdin is not None and stranger.stdout is not None
    answers: dict[int, str] = {}
    command = [str(PROGRAM), *map(str, checked(crowd, "--scheduler", "local:2", "--out", tmp_path / "out.json"))]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as child:
        while child.poll() is None:
            for port in sorted(listening([child.pid]) - answers.keys()):
                stranger.stdin.write(f"{port}\n")
                stranger.stdin.flush()
                answers[port] = stranger.stdout.readline().strip()
            time.sleep(0.02)
    stranger.communicate()
    assert child.returncode in (0, 1)
    assert len(answers) >= 5, "the scheduler, two workers and their nurses, and their HTTP servers"
    assert set(answers.values()) == {"0"}, answers
    alone = tmp_path / "alone.json"
    assert call(*checked(crowd, "--out", alone)).status == child.returncode
    assert alone.read_bytes() == (tmp_path / "out.json").read_bytes()


def test_a_scheduler_elsewhere_is_spoken_to_with_certificates(demo: Path, tmp_path: Path) -> None:
    import trustme

    authority = trustme.CA()
    certificate = authority.issue_cert("127.0.0.1")
    authority.cert_pem.write_to_path(demo / "ca.pem")
    certificate.cert_chain_pems[0].write_to_path(demo / "cert.pem")
    certificate.private_key_pem.write_to_path(demo / "key.pem")
    trustme.CA().cert_pem.write_to_path(demo / "other.pem")
    tls = ["--tls-ca-file", demo / "ca.pem", "--tls-cert", demo / "cert.pem", "--tls-key", demo / "key.pem"]
    address_file = tmp_path / "scheduler.json"
    alone, toml = call("check", "--format", "json"), demo / "usher-gate.toml"
    before = toml.read_text()
    with running(
        DASK,
        "scheduler",
        "--protocol",
        "tls",
        "--host",
        "127.0.0.1",
        "--port",
        "0",
        "--no-dashboard",
        "--scheduler-file",
        address_file,
        *tls,
    ):
        deadline = time.monotonic() + 60
        while not address_file.exists() or not address_file.read_text().strip():
            assert time.monotonic() < deadline
            time.sleep(0.05)
        address = json.loads(address_file.read_text())["address"]
        assert address.startswith("tls://")
        with running(*workers(address, 1), *tls):
            toml.write_text(
                f'{before}\n[cluster]\nscheduler = "{address}"\nca = "ca.pem"\ncert = "cert.pem"\nkey = "key.pem"\n'
            )
            assert call("check", "--format", "json") == alone
            toml.write_text(
                f'{before}\n[cluster]\nscheduler = "{address}"\nca = "other.pem"\ncert = "cert.pem"\nkey = "key.pem"\n'
            )
            refused = call("check", "--format", "json")
            assert (refused.status, refused.out) == (4, "") and "no scheduler answers at" in refused.err


@pytest.mark.parametrize(
    ("address", "more", "said"),
    [
        ("tcp://192.0.2.7:8786", "", "is not on this machine and not encrypted"),
        ("tcp://scheduler.northmere.example:8786", "", "is not on this machine and not encrypted"),
        ("tcp://[2001:db8::7]:8786", "", "is not on this machine and not encrypted"),
        ("ws://192.0.2.7:8786", "", "is not on this machine and not encrypted"),
        ("tls://127.0.0.1:8786", "", "is reached with certificates"),
        ("tls://127.0.0.1:8786", 'ca = "nowhere.pem"\n', "cluster.ca: names no file"),
        ("tcp://127.0.0.1:1", 'trust_network = "yes"\n', "cluster.trust_network: is neither true nor false"),
    ],
)
def test_no_scheduler_is_spoken_to_in_the_clear_beyond_this_machine(
    demo: Path, address: str, more: str, said: str
) -> None:
    toml = demo / "usher-gate.toml"
    toml.write_text(f"{toml.read_text()}\n[cluster]\n{more}")
    done = call("check", "--scheduler", address)
    assert (done.status, done.out, said in done.err) == (2, "", True), done.err
    assert call("check", "--scheduler", "none").status == (
        1 if "names no file" not in said and "neither" not in said else 2
    )


def test_a_network_may_be_trusted_by_name(demo: Path) -> None:
    from usher_gate.engine.settings import cluster_settings

    toml = demo / "usher-gate.toml"
    toml.write_text(f"{toml.read_text()}\n[cluster]\ntrust_network = true\n")
    found = cluster_settings(demo, "tcp://192.0.2.7:8786")
    assert found is not None and found.scheduler == "tcp://192.0.2.7:8786" and not found.has_credentials
    for local in ("tcp://127.0.0.1:1", "tcp://localhost:1", "tcp://[::1]:1"):
        assert cluster_settings(demo, local) is not None


@pytest.mark.parametrize("name", ["people.csv", "settings.csv", "access-rules.yaml"])
def test_a_store_that_changes_a_file_under_one_etag_ends_the_call(
    demo: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """L 85: each part is compared by the bytes that it read."""
    store = fsspec.filesystem("memory")
    for path in (demo / "snapshot").iterdir():
        store.pipe(f"/northmere/{path.name}", path.read_bytes())
    monkeypatch.setattr(type(store), "ukey", lambda *_: "one ETag for everything")
    snapshot, baseline = "memory://northmere", str(demo / "baseline.yaml")
    content = read_snapshot(place(snapshot)).snapshot.content

    def read(kind: str) -> None:
        inputs = digest_of(snapshot, content, baseline if kind == CHECK else "")
        job = Job("1", kind, snapshot, baseline, "", "", inputs, program())
        if kind == CHECK:
            _to_check(job)._inputs(0, 20)
        else:
            _to_replay(job)

    before = store.cat(f"/northmere/{name}")
    for kind in (CHECK, REPLAY):
        store.pipe(f"/northmere/{name}", before)
        read(kind)
        store.pipe(f"/northmere/{name}", before + b"\n")
        with pytest.raises(EngineFailed, match="a worker finds other files there than you"):
            read(kind)
    store.rm("/northmere", recursive=True)
