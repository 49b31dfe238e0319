"""``zip-plumb``: the processes, and what can be asked without a page."""

from __future__ import annotations

import argparse
import asyncio
import logging
import sys
from pathlib import Path

from ..core.errors import PlumbError
from . import fit, report


def _demo(args) -> int:
    from ..demo.processes import run_demo

    return run_demo(Path(args.folder), args.port, args.fresh, args.pace)


def _serve(args) -> int:
    from ..serve.run import serve

    folders = (Path(p) if p else None for p in (args.logs, args.pids))
    return serve(args.what, args.host, args.port, args.web, args.workers, *folders)


def _migrate(args) -> int:
    from ..serve.settings import must_be_set
    from ..store.schema import upgrade

    must_be_set("ZIPPLUMB_DATABASE")
    upgrade()
    print("The database has the newest schema.")
    return 0


def _add_person(args) -> int:
    import getpass

    from ..jobs.actor import Actor
    from ..jobs.people import add_person
    from ..serve.settings import must_be_set

    must_be_set("ZIPPLUMB_DATABASE")
    password = getpass.getpass("Password, 10 letters or more: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    add_person(args.login, args.name, args.role, password, by=Actor(None, "the command line", "administrator"))
    print(f"{args.name} may sign in as {args.login}.")
    return 0


def _sim(args) -> int:
    from ..devices.sim import made

    asyncio.run(made.serve(args.kind, Path(args.real), args.port, args.control, args.rate, args.pace))
    return 0


def _play(args) -> int:
    from ..devices.sim.playback import play

    asyncio.run(play(Path(args.file), args.port, args.pace))
    return 0


def _record(args) -> int:
    from ..devices.sim.playback import record

    return record(args.host, args.port, Path(args.file), args.seconds)


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(prog="zip-plumb", description=__doc__)
    commands = top.add_subparsers(required=True)
    demo = commands.add_parser("demo", help="start everything with the demo data")
    demo.add_argument("--folder", default="var/demo")
    demo.add_argument("--port", type=int, default=None)
    demo.add_argument("--fresh", action="store_true", help="begin again: the demo's data is thrown away")
    demo.add_argument("--pace", type=float, default=1.0, help="how fast the stand-in's hand is")
    demo.set_defaults(call=_demo)
    server = commands.add_parser("serve", help="run the product: web, link, worker, or all of them")
    server.add_argument("what", choices=["all", "web", "link", "worker"])
    server.add_argument("--host", default="127.0.0.1")
    server.add_argument("--port", type=int, default=8000)
    server.add_argument("--web", type=int, default=2, help="how many web processes")
    server.add_argument("--workers", type=int, default=1, help="how many workers")
    server.add_argument("--logs", help="a folder for the logs, instead of standard error")
    server.add_argument("--pids", help="a file that names the running processes")
    server.set_defaults(call=_serve)
    commands.add_parser("migrate", help="bring the database to the newest schema").set_defaults(call=_migrate)
    people = commands.add_parser("people", help="who may sign in").add_subparsers(required=True)
    person = people.add_parser("add", help="add a person; the password is asked for, or read from standard input")
    person.add_argument("login")
    person.add_argument("name")
    person.add_argument("role", choices=["technician", "reviewer", "administrator"])
    person.set_defaults(call=_add_person)
    sim = commands.add_parser("sim", help="a stand-in instrument")
    sim.add_argument("kind", choices=["arm", "arm6", "tracker", "radar"])
    sim.add_argument("--real", required=True)
    sim.add_argument("--port", type=int, required=True)
    sim.add_argument("--control", type=int, required=True)
    sim.add_argument("--rate", type=float, default=100.0)
    sim.add_argument("--pace", type=float, default=1.0)
    sim.set_defaults(call=_sim)
    recorder = commands.add_parser("record", help="write down what an instrument says")
    recorder.add_argument("file")
    recorder.add_argument("--host", default="127.0.0.1")
    recorder.add_argument("--port", type=int, required=True)
    recorder.add_argument("--seconds", type=float, default=60.0)
    recorder.set_defaults(call=_record)
    player = commands.add_parser("play", help="play a recorded session back, as an instrument")
    player.add_argument("file")
    player.add_argument("--port", type=int, required=True)
    player.add_argument("--pace", type=float, default=1.0)
    player.set_defaults(call=_play)
    fit.add_to(commands)
    report.add_to(commands)
    return top


def main(argv: list[str] | None = None) -> int:
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    args = parser().parse_args(argv)
    try:
        return args.call(args)
    except PlumbError as error:
        print(error, file=sys.stderr)
        return 2
