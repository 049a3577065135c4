"""A working folder that gathers from the stand-in, which runs inside the test."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from usher_gate.demo.write import files
from usher_gate.stand_in.server import Options, StandIn
from usher_gate.stand_in.state import World

SECRET = "s3cr3t/of the sea"
HAND = ("organisation.yaml", "services.yaml", "access-rules.yaml")


@contextmanager
def stand_in(folder: Path, **options: Any) -> Iterator[StandIn]:
    """The stand-in with the demo in it, on a free port."""
    snapshot = folder / "of-the-stand-in"
    if not snapshot.exists():
        write(
            snapshot,
            {name.removeprefix("snapshot/"): text for name, text in files().items() if name.startswith("snapshot/")},
        )
    given = {"client_secret": SECRET, "latency": 0.05, **options}
    server = StandIn(
        0, World(snapshot, given.pop("arrive_after", 0.0), given.pop("clock", time.monotonic)), Options(**given)
    )
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def write(folder: Path, texts: dict[str, str]) -> None:
    """Writes files."""
    for name, text in texts.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)


def source(**keys: Any) -> str:
    """A section of the settings file."""

    def value(each: Any) -> str:
        if isinstance(each, dict):
            return "{" + ", ".join(f'"{key}" = {value(inner)}' for key, inner in each.items()) + "}"
        if isinstance(each, tuple | list):
            return "[" + ", ".join(value(inner) for inner in each) + "]"
        return str(each).lower() if isinstance(each, bool | int | float) else f'"{each}"'

    return "[[gather.source]]\n" + "".join(f"{key} = {value(each)}\n" for key, each in keys.items())


def settings(*sources: str, keep: int = 7) -> str:
    """A settings file."""
    return f'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n\n[gather]\nkeep = {keep}\n\n' + "\n".join(sources)


def says_nothing(folder: Path) -> str:
    """A source that was asked for the settings of tidecall, and has none."""
    controls = "{door.close: {from: close, may_be_absent: true}}"
    into = f"  - settings: tidecall\n    scope: {{level: organisation}}\n    controls: {controls}\n"
    write(
        folder, {"nothing.json": '{"x": "1"}', "nothing-map.yaml": f"usher-gate: mapping/1\nignore: [x]\ninto:\n{into}"}
    )
    return source(name="nothing", kind="table", path="nothing.json", mapping="nothing-map.yaml", may_be_empty=True)


def by_hand() -> str:
    """The files that people write."""
    return source(name="by hand", kind="files", paths=HAND)


def of_server(server: StandIn, **more: Any) -> list[str]:
    """The directory and the services of a stand-in."""
    access = {"client_id": "practice", "client_secret": "env:GROUND_SECRET", "token_url": f"{server.url}/token"}
    return [
        source(name="directory", kind="scim", url=f"{server.url}/scim/v2", **access, **{"page": 60, **more}),
        source(name="services", kind="service", url=server.url, services=("tidecall", "quaychat", "beaconcast"),
               tables=("authenticators", "passes", "partners", "observations"), **access),
    ]  # fmt: skip


def work_folder(folder: Path, text: str) -> None:
    """A folder with the demo's hand-written files and baseline, and a settings file."""
    demo = files()
    write(
        folder,
        {name: demo[f"snapshot/{name}"] for name in HAND}
        | {"baseline.yaml": demo["baseline.yaml"], "usher-gate.toml": text},
    )
