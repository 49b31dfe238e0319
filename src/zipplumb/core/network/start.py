"""First poses of all stations, from the points that they have in common; nobody types any."""

from __future__ import annotations

import numpy as np

from ..alignment.similarity import similarity
from ..errors import AlignmentError
from ..frames import Array, Motion
from .observations import KEPT

THIN = 0.02  # spread across a line, by that along it, below which points tie no turn about it


def first_poses(
    seen: dict[str, dict[str, Array]], known: dict[str, Array]
) -> tuple[dict[str, Motion], dict[str, Array], str | None]:
    """World from every station, a first place of every point, and the station whose axes are the world's, if any.

    Parameters
    ----------
    seen : by station, by point, the place in the station's axes
    known : places of three or more points in the world, or of none: then the axes of the station
        that sees most are the world's

    Raises
    ------
    AlignmentError
        Stations that too few points tie to the others, or points on one line.
    """
    poses: dict[str, Motion] = {}
    points = {name: np.asarray(place, float) for name, place in known.items()}
    anchor = None
    if not known:
        anchor = max(seen, key=lambda name: len(seen[name]))
        poses[anchor] = Motion.identity()
        points = dict(seen[anchor])
    elif len(known) < 3:
        raise AlignmentError(
            f"{len(known)} known point{'' if len(known) == 1 else 's'} cannot say where the world is.",
            KEPT,
            "Give three, or none.",
        )
    while len(poses) < len(seen):
        waiting = [s for s in seen if s not in poses]
        station = max(waiting, key=lambda s: (_ties(seen[s], points) == "", len(seen[s].keys() & points.keys())))
        trouble = _ties(seen[station], points)
        if trouble:
            others = "the known points" if not poses else "the other stations"
            raise AlignmentError(
                f"Station {station} is not tied to {others}: {trouble}.",
                KEPT,
                "See more of the same points, well apart, from it.",
            )
        common = sorted(seen[station].keys() & points.keys())
        pose = similarity([seen[station][p] for p in common], [points[p] for p in common]).motion
        poses[station] = pose
        for name, place in seen[station].items():
            points.setdefault(name, pose.points(place))
    return poses, points, anchor


def _ties(seen: dict[str, Array], points: dict[str, Array]) -> str:
    """Why a station's points do not tie it to those placed already; "" where they do."""
    common = sorted(seen.keys() & points.keys())
    if len(common) < 3:
        names = f" ({', '.join(common)})" if common else ""
        return f"they share {len(common)} point{'' if len(common) == 1 else 's'}{names}, and three are needed"
    places = np.array([seen[p] for p in common])
    spreads = np.linalg.svd(places - places.mean(axis=0), compute_uv=False)
    if spreads[1] < THIN * spreads[0]:
        return f"the points they share ({', '.join(common)}) lie on one line, so a turn about it stays loose"
    return ""
