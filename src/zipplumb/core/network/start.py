"""First poses of all stations, from the points that they have in common; nobody types any."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..alignment.similarity import similarity
from ..errors import AlignmentError
from ..frames import Array, Indices, Motion
from .observations import KEPT, NotTied

THIN = 0.02  # spread across a line, by that along it, below which points tie no turn about it


def first_poses(
    stations: Sequence[str], points: Sequence[str], seen: Sequence[tuple[Indices, Array]], known: dict[int, Array]
) -> tuple[list[Motion], Array, int | None]:
    """World from every station, a first place (p, 3) of every point, and the station whose axes are the world's, if any.

    Parameters
    ----------
    stations, points : names
    seen : by station, the numbers (m,) of the points that it sees and their places (m, 3) in its axes
    known : places in the world of three or more points, or of none: then the axes of the first station
        are the world's, whichever sees most

    Raises
    ------
    AlignmentError
        Stations that too few points tie to the others, or points on one line.
    """
    poses: dict[int, Motion] = {}
    places, placed, anchor = np.zeros((len(points), 3)), np.zeros(len(points), bool), None
    if known:
        if len(known) < 3:
            count = f"{len(known)} known point{'' if len(known) == 1 else 's'}"
            raise AlignmentError(f"{count} cannot say where the world is.", KEPT, "Give three, or none.")
        placed[list(known)], places[list(known)] = True, list(known.values())
    else:
        begin = max(range(len(stations)), key=lambda k: len(seen[k][0]))
        poses[begin], anchor = Motion.identity(), 0
        placed[seen[begin][0]], places[seen[begin][0]] = True, seen[begin][1]
    while len(poses) < len(stations):
        waiting = sorted((k for k in range(len(stations)) if k not in poses), key=lambda k: -placed[seen[k][0]].sum())
        troubles = {}
        for k in waiting:
            at, local = seen[k]
            common = placed[at]
            troubles[k] = _loose(local[common], [points[j] for j in at[common]])
            if not troubles[k]:
                break
        else:
            others = "the other stations" if poses else "the known points"
            raise NotTied({stations[k]: troubles[k] for k in waiting}, others)
        poses[k] = similarity(local[common], places[at[common]]).motion
        places[at[~common]] = poses[k].points(local[~common])
        placed[at] = True
    if anchor is None:
        return [poses[k] for k in range(len(stations))], places, anchor
    into = poses[anchor].inverse()
    return [into @ poses[k] if k != anchor else Motion.identity() for k in range(len(stations))], into.points(places), anchor


def _loose(common: Array, names: list[str]) -> str:
    """Why the points that a station shares do not tie it; "" where they do."""
    if len(common) < 3:
        told = f" ({', '.join(names)})" if names else ""
        return f"they share {len(common)} point{'' if len(common) == 1 else 's'}{told}, and three are needed"
    spreads = np.linalg.svd(common - common.mean(axis=0), compute_uv=False)
    if spreads[1] < THIN * spreads[0]:
        told = ", ".join(names[:12]) + (" …" if len(names) > 12 else "")
        return f"the points they share ({told}) lie on one line, so a turn about it stays loose"
    return ""
