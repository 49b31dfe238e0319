"""``zip-plumb``: the processes, and what can be asked without a page."""

from __future__ import annotations

import argparse
import asyncio
import logging
import sys
from pathlib import Path

from ..core.errors import PlumbError
from . import fit


def _demo(args) -> int:
    from ..demo.processes import run_demo

    return run_demo(Path(args.folder), args.port, args.fresh, args.pace)


def _link(args) -> int:
    from ..jobs.link import run_link

    run_link()
    return 0


def _worker(args) -> int:
    from ..jobs.worker import work

    work()
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
    commands.add_parser("link", help="keep the instruments connected").set_defaults(call=_link)
    commands.add_parser("worker", help="carry out long work").set_defaults(call=_worker)
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
    return top


def main(argv: list[str] | None = None) -> int:
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    args = parser().parse_args(argv)
    try:
        return args.call(args)
    except PlumbError as error:
        print(error, file=sys.stderr)
        return 2
