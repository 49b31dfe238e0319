"""``zip-plumb fit KIND FILE.csv``: a shape from the points of a file, as JSON."""

from __future__ import annotations

import argparse
import json
import math
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import PlumbError
from ..core.fitting import CRITERIA, FITS, FitResult, fit
from ..core.probing import compensate
from ..core.shapes import Plane

UNCHANGED = "Nothing was worked out."


def add_to(commands) -> None:
    """The command and its options."""
    command = commands.add_parser("fit", help="fit a shape to the points of a CSV file, mm")
    command.add_argument("kind", help=", ".join(FITS))
    command.add_argument("file")
    command.add_argument("--criterion", default="gaussian", help=", ".join(CRITERIA))
    command.add_argument(
        "--fixed",
        default="{}",
        help='held parameters as JSON: {"radius": 25}, {"plane": {"point": [0,0,3], "normal": [0,0,1]}}',
    )
    command.add_argument("--toward", help="a direction as JSON, [0,0,1]: the way to the air, or the sense of an axis")
    command.add_argument("--u", type=float, help="standard uncertainty of a hit, mm; left out, the residuals' scatter tells it")
    command.add_argument("--tip", type=float, help="tip diameter, mm: the points are tip centers, and the surface is given too")
    command.add_argument("--side", choices=("inside", "outside"), default="outside", help="where the tip was")
    command.add_argument("--json", action="store_true", help="on one line")
    command.set_defaults(call=run)


def run(args: argparse.Namespace) -> int:
    """Print the answer; PlumbError for anything that does not hold."""
    points = read_points(Path(args.file))
    fixed, toward = _held(args.fixed), _direction(args.toward)
    if args.tip is None:
        result, more = fit(args.kind, points, args.criterion, fixed, toward, args.u), {}
    else:
        if not (math.isfinite(args.tip) and args.tip > 0):
            raise PlumbError(f"A tip of {args.tip:g} mm cannot be.", UNCHANGED, "Give its diameter in mm.")
        air = -1 if args.side == "inside" else 1
        found = compensate(args.kind, points, args.tip / 2, air, fixed, toward, args.criterion)
        result, more = found.fit, {"surface": _numbers(found.surface), "tip_taken_off": found.how}
    print(json.dumps(_answer(args.kind, result) | more, indent=None if args.json else 2))
    return 0


def _answer(kind: str, result: FitResult) -> dict[str, Any]:
    worst = result.worst and {"hit": result.worst.index + 1, "off_by_mm": result.worst.off_by_mm, "sure": result.worst.sure}
    uncertainty = {name: result.u(name) for name in result.parameters}
    return {
        "kind": kind,
        "criterion": result.criterion,
        "points": len(result.points),
        "shape": _numbers(result.shape),
        "rms_mm": result.rms,
        "form_mm": result.form,
        "standard_uncertainty": {name: u if math.isfinite(u) else None for name, u in uncertainty.items()},
        "worst": worst,
        "warnings": list(result.warnings),
    }


def _numbers(shape: Any) -> dict[str, Any]:
    return {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in vars(shape).items()}


def _json(text: str, like: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        raise PlumbError(f"“{text}” is no JSON.", UNCHANGED, f"Write it like {like}.") from None


def _held(text: str) -> dict[str, Any]:
    held = _json(text, '{"radius": 25}')
    if not isinstance(held, dict):
        raise PlumbError(f"“{text}” names no parameter.", UNCHANGED, 'Write it like {"radius": 25}.')
    if isinstance(plane := held.get("plane"), dict):
        try:
            held["plane"] = Plane(plane["point"], plane["normal"])
        except (KeyError, TypeError, ValueError):
            like = '{"plane": {"point": [0, 0, 3], "normal": [0, 0, 1]}}'
            raise PlumbError("The plane to lie in is no plane.", UNCHANGED, f"Write it like {like}.") from None
    return held


def _direction(text: str | None) -> np.ndarray | None:
    if text is None:
        return None
    try:
        direction = np.array(_json(text, "[0, 0, 1]"), float)
    except (TypeError, ValueError):
        direction = np.empty(0)
    if direction.shape != (3,) or not np.all(np.isfinite(direction)) or not np.any(direction):
        raise PlumbError(f"“{text}” is no direction.", UNCHANGED, "Write it like [0, 0, 1].")
    return direction


def read_points(path: Path) -> np.ndarray:
    """x, y, z from the first three columns; a heading line is passed over."""
    try:
        lines = [
            line.replace(";", ",").split(",") for line in path.read_text(encoding="utf-8-sig").splitlines() if line.strip()
        ]
    except (OSError, UnicodeDecodeError):
        raise PlumbError(f"{path} cannot be read.", UNCHANGED, "Give a text file of x, y, z.") from None
    rows = []
    for number, cells in enumerate(lines, start=1):
        try:
            rows.append([float(c) for c in cells[:3]])
        except ValueError:
            if number > 1:
                raise PlumbError(f"Line {number} of {path} is not three numbers.", UNCHANGED, "Correct that line.") from None
    if any(len(r) != 3 for r in rows):
        raise PlumbError(f"{path} has a line with fewer than three numbers.", UNCHANGED, "Correct it.")
    return np.array(rows, float).reshape(-1, 3)
