"""Starts a practice ground here: a simulated directory (SCIM 2.0) and services, filled with the demo or any snapshot.

Everyone in it is made up, unless you fill it yourself. It listens on loopback only, until Ctrl-C."""

from __future__ import annotations

import argparse
from pathlib import Path

from ..files.faults import UsherError
from .parser import positive_number, whole

EXAMPLES = """examples:
  usher-gate stand-in --port 8377
  usher-gate stand-in --misbehave 429 --misbehave cut --every 4
  usher-gate stand-in --snapshot snapshot --cursor --arrive-after 30"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    from ..stand_in.server import MANNERS

    parser.add_argument(
        "--port", type=int, default=8377, metavar="N", help="the port on 127.0.0.1 (default: 8377; 0: any)"
    )
    parser.add_argument("--snapshot", type=Path, metavar="DIR", help="fill it with this snapshot instead of the demo")
    parser.add_argument("--cursor", action="store_true", help="announce pagination by cursor (RFC 9865)")
    parser.add_argument("--page", type=whole(1), default=200, metavar="N", help="the largest page (default: 200)")
    parser.add_argument(
        "--rate",
        type=positive_number,
        default=0,
        metavar="N",
        help="requests a second that are allowed (default: any)",
    )
    parser.add_argument(
        "--arrive-after",
        type=float,
        default=60,
        metavar="SECONDS",
        help="how long a changed setting takes (default: 60)",
    )
    parser.add_argument(
        "--misbehave",
        action="append",
        default=[],
        choices=tuple(MANNERS),
        metavar="HOW",
        help=f"repeatable: {', '.join(MANNERS)}",
    )
    parser.add_argument(
        "--every", type=whole(1), default=3, metavar="N", help="misbehave at every n-th request (default: 3)"
    )
    parser.add_argument(
        "--client-id", default="practice", metavar="ID", help="who may have a token (default: practice)"
    )
    parser.add_argument(
        "--client-secret",
        default="env:STAND_IN_SECRET",
        metavar="NAME",
        help="the secret's name (default: env:STAND_IN_SECRET)",
    )


def run(arguments: argparse.Namespace) -> int:
    """Serves until it is interrupted; raises UsherError where it cannot listen."""
    import os
    import secrets as random

    from ..files.snapshot.folder import read_snapshot
    from ..files.write import scratch_folder
    from ..sources.secrets import FORMS, Secrets, is_reference
    from ..stand_in.server import BANNER, Options, StandIn
    from ..stand_in.state import World

    if not is_reference(arguments.client_secret):
        raise UsherError(f"--client-secret is the name of a secret, never the secret itself; write {FORMS}")
    if not 0 <= arguments.port <= 65535:
        raise UsherError(f"there is no port {arguments.port}; name one from 1 to 65535, or 0 for any")
    made_up = arguments.client_secret == "env:STAND_IN_SECRET" and "STAND_IN_SECRET" not in os.environ
    secret = random.token_urlsafe(12) if made_up else Secrets(Path()).fetch(arguments.client_secret)
    options = Options(
        client_id=arguments.client_id,
        client_secret=secret,
        page=max(1, arguments.page),
        cursor=arguments.cursor,
        misbehave=tuple(arguments.misbehave),
        every=max(1, arguments.every),
        rate=arguments.rate,
    )
    with scratch_folder() as scratch:
        folder = arguments.snapshot
        if folder is None:
            from ..demo.write import write_demo

            folder = scratch / "demo"
            write_demo(folder)
            folder = folder / "snapshot"
        read_snapshot(folder)  # whatever is wrong with it is said now
        world = World(folder, arguments.arrive_after)
    try:
        server = StandIn(arguments.port, world, options)
    except OSError as error:
        raise UsherError(f"port {arguments.port} cannot be used ({error.strerror}); name another by --port") from None
    print(BANNER)
    print(f"directory  {server.url}/scim/v2   ({len(world.users):,} people, {len(world.groups):,} groups)")
    print(f"services   {server.url}/v1/services   described in {server.url}/openapi.json")
    print(f"tokens     {server.url}/token   for the client {options.client_id}")
    print(f"secret     {f'STAND_IN_SECRET={secret}' if made_up else arguments.client_secret}", flush=True)
    with server:
        server.serve_forever(poll_interval=0.2)
    return 0
