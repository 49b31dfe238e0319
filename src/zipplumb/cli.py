"""``zip-plumb``: the processes, and what can be asked without a page."""

from __future__ import annotations

import argparse
import asyncio
import json
import logging
import sys
from pathlib import Path

import numpy as np

from .core.errors import PlumbError


def _demo(args) -> int:
    from .demo.processes import run_demo

    return run_demo(Path(args.folder), args.port, args.fresh, args.pace)


def _link(args) -> int:
    from .jobs.link import run_link

    run_link()
    return 0


def _worker(args) -> int:
    from .jobs.queue import work

    work()
    return 0


def _sim(args) -> int:
    from .devices.sim.arm import Truth, run

    asyncio.run(run(Truth.read(Path(args.real)), args.port, args.control, args.rate, args.pace))
    return 0


def _fit(args) -> int:
    from .core.fitting import fit

    points = _read_points(Path(args.file))
    result = fit(args.kind, points, args.criterion, _held(args.fixed))
    worst = result.worst and {"hit": result.worst.index + 1, "off_by_mm": result.worst.off_by_mm, "sure": result.worst.sure}
    answer = {
        "kind": args.kind,
        "criterion": result.criterion,
        "points": len(points),
        "shape": _numbers(result.shape),
        "rms_mm": result.rms,
        "form_mm": result.form,
        "worst": worst,
        "warnings": list(result.warnings),
    }
    if args.tip is not None:
        answer["surface"] = _numbers(_surface(result.shape, args.tip / 2, args.side))
    print(json.dumps(answer, indent=None if args.json else 2))
    return 0


def _numbers(shape) -> dict:
    return {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in vars(shape).items()}


def _held(text: str) -> dict:
    try:
        held = json.loads(text)
    except ValueError:
        raise PlumbError(f"“{text}” is no JSON.", "Nothing was worked out.", 'Write it like {"radius": 25}.') from None
    return {k: np.array(v, float) if isinstance(v, list) else v for k, v in held.items()}


def _surface(shape, radius_mm: float, side: str):
    from .core.probing import surface_from_centers

    try:
        return surface_from_centers(shape, radius_mm, -1 if side == "inside" else 1)
    except ValueError as error:
        raise PlumbError(f"The tip cannot be taken off: {error}.", "Nothing was worked out.", "Check tip and side.") from None


def _read_points(path: Path) -> np.ndarray:
    """x, y, z from the first three columns; a heading line is passed over."""
    try:
        lines = [
            line.replace(";", ",").split(",") for line in path.read_text(encoding="utf-8-sig").splitlines() if line.strip()
        ]
    except (OSError, UnicodeDecodeError):
        raise PlumbError(f"{path} cannot be read.", "Nothing was worked out.", "Give a text file of x, y, z.") from None
    rows = []
    for number, cells in enumerate(lines, start=1):
        try:
            rows.append([float(c) for c in cells[:3]])
        except ValueError:
            if number > 1:
                raise PlumbError(
                    f"Line {number} of {path} is not three numbers.", "Nothing was worked out.", "Correct that line."
                ) from None
    if any(len(r) != 3 for r in rows):
        raise PlumbError(f"{path} has a line with fewer than three numbers.", "Nothing was worked out.", "Correct it.")
    return np.array(rows, float).reshape(-1, 3)


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
    sim = commands.add_parser("sim", help="the stand-in arm")
    sim.add_argument("--real", required=True)
    sim.add_argument("--port", type=int, required=True)
    sim.add_argument("--control", type=int, required=True)
    sim.add_argument("--rate", type=float, default=100.0)
    sim.add_argument("--pace", type=float, default=1.0)
    sim.set_defaults(call=_sim)
    fit = commands.add_parser("fit", help="fit a shape to the points of a CSV file, mm")
    fit.add_argument("kind")
    fit.add_argument("file")
    fit.add_argument("--criterion", default="gaussian")
    fit.add_argument("--fixed", default="{}", help='held parameters as JSON, such as {"radius": 25}')
    fit.add_argument("--tip", type=float, help="tip diameter, mm: the points are tip centers, and the surface is given too")
    fit.add_argument("--side", choices=("inside", "outside"), default="outside", help="which side was touched")
    fit.add_argument("--json", action="store_true", help="on one line")
    fit.set_defaults(call=_fit)
    return top


def main(argv: list[str] | None = None) -> int:
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    args = parser().parse_args(argv)
    try:
        return args.call(args)
    except PlumbError as error:
        print(error, file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(main())
