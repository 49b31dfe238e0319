"""Drawings of a trial's page as SVG: directions reached, a sphere from above, where the answers lie."""

from __future__ import annotations

import numpy as np

SIZE = 150.0  # half the drawing
LEAN_DEG = 50.0
LEAST_SPREAD_MM = 0.02


def _at(lean_rad: float, way_rad: float) -> tuple[float, float]:
    """Up is away from the arm, left is to its left."""
    far = SIZE * min(float(np.degrees(lean_rad)) / LEAN_DEG, 1.0)
    return round(-far * float(np.sin(way_rad)), 1), round(-far * float(np.cos(way_rad)), 1)


def reach_of(drawing: dict) -> dict:
    """Cells of three ways by bands of lean, filled where they were reached, and the way that the handle went."""
    bands, cells = drawing["bands"], []
    for way in range(3):
        for band in range(1, 4):
            inner, outer = (SIZE * min(b / LEAN_DEG, 1.0) for b in bands[band : band + 2])
            start, end = (way * 2 * np.pi / 3 + s * np.pi / 3 for s in (-1, 1))
            corners = [(r, a) for r, a in ((outer, start), (outer, end), (inner, end), (inner, start))]
            (x1, y1), (x2, y2), (x3, y3), (x4, y4) = ((-r * np.sin(a), -r * np.cos(a)) for r, a in corners)
            path = (
                f"M{x1:.1f} {y1:.1f}A{outer:.1f} {outer:.1f} 0 0 0 {x2:.1f} {y2:.1f}"
                f"L{x3:.1f} {y3:.1f}A{inner:.1f} {inner:.1f} 0 0 1 {x4:.1f} {y4:.1f}Z"
            )
            cells.append({"path": path, "reached": drawing["counts"][way][band] > 0})
    trail = " ".join(f"{x},{y}" for x, y in (_at(*pair) for pair in drawing["leans"]))
    now = _at(*drawing["now"]) if drawing["now"] else None
    roll = min(drawing["roll_deg"] / drawing["roll_wanted_deg"], 1.0)
    return drawing | {"cells": cells, "trail": trail, "at": now, "roll_share": roll, "upright": SIZE * bands[1] / LEAN_DEG}


def sphere_of(drawing: dict) -> dict:
    """Hits seen from above (equal areas), and every residual as a stem."""
    normals, residuals = np.array(drawing["normals"]).reshape(-1, 3), np.array(drawing["residuals_mm"])
    limit = drawing["limit_mm"]
    top = max(2.5 * limit, float(np.abs(residuals).max(initial=0.0)))
    dots = []
    for (x, y, z), residual in zip(normals, residuals, strict=True):
        far = SIZE * np.sqrt(max(1 - z, 0.0) / 2) * 1.05
        flat = max(float(np.hypot(x, y)), 1e-9)
        dots.append({"x": round(far * x / flat, 1), "y": round(-far * y / flat, 1), "out": bool(abs(residual) > 2.5 * limit)})
    step = 292 / max(len(residuals) - 1, 1)
    stems = [
        {"x": round(4 + step * k, 1), "y": round(-34 * r / top, 2), "out": bool(abs(r) > 2.5 * limit)}
        for k, r in enumerate(residuals)
    ]
    return drawing | {"dots": dots, "stems": stems, "middle": SIZE * np.sqrt(0.5) * 1.05, "limit_y": 34 * limit / top}


def spread_of(drawing: dict) -> dict:
    """Answers as seen from above, about their middle, as large as the drawing allows; ``scale_mm``: of its inner ring."""
    points = np.array(drawing["points"]).reshape(-1, 3)
    if not len(points):
        return drawing | {"dots": [], "scale_mm": None}
    rel = points - points.mean(axis=0)
    far = max(float(np.abs(rel[:, :2]).max()), LEAST_SPREAD_MM)
    dots = [{"x": round(130 * x / far, 1), "y": round(-130 * y / far, 1), "number": k + 1} for k, (x, y, _) in enumerate(rel)]
    return drawing | {"dots": dots, "scale_mm": far / 2}


def bars_of(drawing: dict) -> dict:
    """Every value as a bar against its limit, as words and as a share of the drawing."""
    limit = drawing["limit_mm"]
    top = max([1.4 * limit, *(abs(b["mm"]) for b in drawing["bars"] if b["mm"] is not None)])
    lines = [
        b
        | {
            "x": None if b["mm"] is None else round(100 * abs(b["mm"]) / top, 1),
            "out": b["mm"] is not None and abs(b["mm"]) > limit,
        }
        for b in drawing["bars"]
    ]
    return drawing | {"lines": lines, "limit_x": round(100 * limit / top, 1)}
