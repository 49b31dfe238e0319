"""A sheet with a row of every kind, as exact hits of a block would give it."""

import numpy as np
from block import TURN, UP, block

from zipplumb.core.sheet import PartSurfaces

RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
BALL = np.vstack([RIM[::2], 0.6 * RIM[1::2] + 0.8 * UP, [UP]])


def nearest(points):
    return np.column_stack([points[:, :2], np.full(len(points), 60.0)]), np.tile(UP, (len(points), 1))


def rows_of_every_kind(bench):
    """A row of each kind on a bench, measured where it is measured; the number of each by its key."""
    rows = {}
    top, side, end = block(bench)
    rows["plane"] = top
    nests = [bench.point(p) for p in ([0, 0, 60], [200, 0, 60], [0, 100, 60])]
    rows["point"] = nests[0]
    touches = [bench.touch([x, y, 60], UP) for x, y in ((10, 10), (90, 10), (10, 90), (90, 90), (50, 50), (30, 70))]
    rows["surface_point"] = touches[0]
    rows["circle"] = bench.circle([50, 20, 60], 30, top)
    rows["slot"] = bench.slot([100, 20, 60], 40, 12, top)
    rows["ellipse"] = bench.ellipse([150, 20, 60], 25, 15, top)
    rows["arc"] = bench.arc([0, 60, 60], 40, np.radians(50), top)
    rows["line"] = bench.edge([0, -140, 60], [1, 0, 0], [0, -1, 0], top)
    ball = {"shape": "sphere", "center": [0, 0, 90], "radius": 20}
    rows["sphere"] = bench.add({"kind": "sphere", "inside": False, "nominal": ball}, [0, 0, 90] + 23 * BALL, 0.3 * BALL)
    tube = {"shape": "cylinder", "point": [0, 0, 30], "direction": [0, 0, 1], "radius": 20}
    bore = np.vstack([17 * RIM + [0, 0, z] for z in (20, 30, 40)])
    rows["cylinder"] = bench.add({"kind": "cylinder", "nominal": tube}, bore, np.tile(-0.3 * RIM, (3, 1)))
    seat = {"shape": "cone", "apex": [0, 0, 0], "direction": [0, 0, 1], "half_angle": np.radians(30)}
    across, off = np.tan(np.radians(30)), np.array([-np.cos(np.radians(30)), np.sin(np.radians(30))])
    hits = np.vstack([(z * across + 3 * off[0]) * RIM + [0, 0, z + 3 * off[1]] for z in (20, 30, 40)])
    rows["cone"] = bench.add({"kind": "cone", "nominal": seat}, hits, np.tile(-0.3 * RIM, (3, 1)))
    ring = {"shape": "torus", "center": [0, 0, 0], "normal": [0, 0, 1], "major_radius": 50, "minor_radius": 8}
    way = np.array([np.cos(a) * r + np.sin(a) * UP for r in RIM for a in (0.3, 1.2, 2.1, 2.9)])
    around = np.repeat(50 * RIM, 4, axis=0) + 11 * way
    rows["torus"] = bench.add({"kind": "torus", "inside": False, "nominal": ring}, around, 0.3 * way)
    flank = {"shape": "line", "point": [40, -140, 60], "direction": [0, -1, 0]}
    rows["edge_point"] = bench.add(
        {"kind": "edge_point", "plane": top, "nominal": flank}, [40, -143, 58], np.array([0.0, -1, 0])
    )
    ridge = {"shape": "section", "across": [0, 1, 0], "normals": [[0, 0, 1]] * 4,
             "points": [[x, 0, 60] for x in (-30, -10, 10, 30)]}  # fmt: skip
    along = np.array([[x, 0.0, 63] for x in range(-25, 26, 10)])
    rows["section_curve"] = bench.add({"kind": "section_curve", "nominal": ridge}, along, UP)
    rows["proof"] = bench.add({"kind": "proof"}, along + [0, 30, 0], UP)
    rows["free_surface"] = bench.add({"kind": "free_surface", "face": 3}, along - [0, 30, 0], UP)
    rows["touched"] = bench.add({"kind": "touched"}, bore, np.tile(-0.3 * RIM, (3, 1)))
    rows["scan"] = bench.add({"kind": "scan"}, along, UP)
    rows["deviations"] = bench.add({"kind": "deviations", "scan": rows["scan"]})
    rows["touched_map"] = bench.add({"kind": "touched_map", "of": [rows["free_surface"]]})
    rows["scan_section"] = bench.add(
        {"kind": "scan_section", "scan": rows["scan"], "point": [0, 0, 60], "across": [0, 1, 0], "thick_mm": 5}
    )
    rows["comparison"] = bench.add({"kind": "comparison", "first": rows["deviations"], "second": rows["scan_section"]})
    rows["pin"] = bench.add({"kind": "pin", "map": rows["deviations"], "at": [10, 20, 60]})
    rows["construction"] = bench.add({"kind": "construction", "of": [top], "make": "offset_plane", "offset_mm": 10})
    for kind, of in (("straightness", "line"), ("flatness", "plane"), ("roundness", "circle"), ("cylindricity", "cylinder")):
        rows[kind] = bench.add({"kind": kind, "of": [rows[of]], "zone_mm": 0.05})
    about = {"zone_mm": 0.05, "to_datum": rows["cylinder"]}
    rows["perpendicularity"] = bench.add({"kind": "perpendicularity", "of": [side, end], "zone_mm": 0.05, "to_datum": top})
    rows["parallelism"] = bench.add({"kind": "parallelism", "of": [side], **about})
    slanted = bench.plane([100, 0, 60], np.array([1, 0, 1]) / np.sqrt(2))
    rows["angularity"] = bench.add(
        {"kind": "angularity", "of": [slanted], "angle_rad": np.pi / 4, "zone_mm": 0.05, "to_datum": top}
    )
    rows["coaxiality"] = bench.add({"kind": "coaxiality", "of": [rows["cone"]], **about})
    rows["symmetry"] = bench.add({"kind": "symmetry", "of": [rows["sphere"]], **about})
    rows["circular_runout"] = bench.add({"kind": "circular_runout", "of": [top], **about})
    wide = {"shape": "cylinder", "point": [0, 0, 60], "direction": [0, 0, 1], "radius": 33}
    hits = np.vstack([30 * RIM + [0, 0, z] for z in (50, 60, 70)])
    counterbore = bench.add({"kind": "cylinder", "nominal": wide}, hits, np.tile(-0.3 * RIM, (3, 1)))
    rows["total_runout"] = bench.add({"kind": "total_runout", "of": [counterbore, top], **about})
    rows["position"] = bench.add({"kind": "position", "of": [rows["circle"], rows["slot"]], "zone_mm": 0.05})
    in_order = [{"features": [row]} for row in (top, side, end)]
    rows["surface_profile"] = bench.add({"kind": "surface_profile", "of": [rows["cone"]], "zone_mm": 0.05, "datums": in_order})
    rows["size"] = bench.add({"kind": "size", "of": [rows["cylinder"]], "lower_mm": -0.1, "upper_mm": 0.1})
    rows["line_profile"] = bench.add(
        {"kind": "line_profile", "of": [rows["section_curve"], rows["slot"]], "zone_mm": 0.05, "datums": in_order}
    )
    rows["hole_table"] = bench.add({"kind": "hole_table", "of": [rows["circle"], rows["slot"], nests[0]], "polar": True})
    pattern = [bench.circle([100 + 40 * x, 60 + 40 * y, 60], 16, top) for x, y in ((1, 0), (0, 1), (-1, 0), (0, -1))]
    rows["scale_bar"] = bench.add({"kind": "scale_bar", "of": nests[:2], "length_mm": 200.0})
    rows["bolt_circle"] = bench.add({"kind": "bolt_circle", "of": pattern})
    rows["dimension"] = bench.add({"kind": "dimension", "of": [rows["circle"], nests[0]], "measure": "along_x"})
    planes = {"primary": top, "secondary": side, "tertiary": end}
    rows["datum_planes"] = bench.add({"kind": "datum_planes", **planes})
    datums = [{"features": [top]}, {"features": [rows["circle"]]}, {"features": [rows["slot"]]}]
    rows["datum_features"] = bench.add({"kind": "datum_features", "datums": datums})
    own = [{"feature": p, "directions": ["own"]} for p in (top, side, end)]
    rows["holds"] = bench.add({"kind": "holds", "holds": own})
    rows["reference_points"] = bench.add({"kind": "reference_points", "points": nests})
    steps = [{"step": "turn", "features": [top], "axis": "+Z"}, {"step": "origin", "feature": nests[0]}]
    rows["guided"] = bench.add({"kind": "guided", "points": nests})
    rows["steps"] = bench.add({"kind": "steps", "steps": steps})
    rows["planes_as_axes"] = bench.add({"kind": "planes_as_axes", "planes": [{"feature": top, "axis": "+Z"}]})
    rows["level"] = bench.add({"kind": "level", "plane": top})
    rows["surfaces"] = bench.add({"kind": "surfaces", "features": touches, "start": rows["datum_planes"]})
    rows["laid_scan"] = bench.add({"kind": "laid_scan", "scans": [rows["scan"]], "start": rows["datum_planes"]})
    return rows


SURFACES = PartSurfaces("a top", nearest, with_faces=lambda points: (*nearest(points), np.ones(len(points), int)))
