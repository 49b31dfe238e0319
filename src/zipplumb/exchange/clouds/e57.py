"""E57 (ASTM E2807): scans of points, each with the place of its scanner where the file tells it; metres."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from .blocks import BLOCK, Array, Block, Opened, bad, in_unit

MM = 1000.0
FLAT = ("cartesianX", "cartesianY", "cartesianZ")
ROUND = ("sphericalRange", "sphericalAzimuth", "sphericalElevation")
FACING = ("nor:normalX", "nor:normalY", "nor:normalZ")  # of the extension for surface normals
NORMALS_URI = "http://www.libe57.org/E57_NOR_surface_normals.txt"
OWN = "zipplumb"  # of properties that the format itself does not know
OWN_URI = "urn:zip-plumb:deviations:1"
INVALID = ("cartesianInvalidState", "sphericalInvalidState")


def opened(path: Path, unit_mm: float) -> Opened:
    """All scans of a file, one after another; metres, unless somebody says that it was written in another unit."""
    from pye57 import libe57

    try:
        file = libe57.ImageFile(str(path), "r")
        scans = file.root()["data3D"] if file.root().isDefined("data3D") else ()
        each = [_Scan.of(file, scan, unit_mm or MM) for scan in scans if scan.isDefined("points")]
    except libe57.E57Exception as error:
        raise bad(f"It begins as an E57 file and is no sound one ({error}).") from error
    if not each:
        raise bad("This E57 file has no points in it.")
    return Opened(sum(scan.count for scan in each), _blocks(each, libe57.E57Exception))


def _blocks(scans: list[_Scan], trouble: type[Exception]) -> Iterator[Block]:
    try:
        for scan in scans:
            yield from scan.blocks()
    except trouble as error:
        raise bad(f"This E57 file is damaged ({error}).") from error


@dataclass(frozen=True, eq=False)
class _Scan:
    file: Any
    points: Any
    fields: tuple[str, ...]
    count: int
    turn: Rotation
    shift: Array
    placed: bool
    unit_mm: float

    @classmethod
    def of(cls, file: Any, node: Any, unit_mm: float) -> _Scan:
        from pye57 import libe57

        points = node["points"]
        prototype = libe57.StructureNode(points.prototype())
        fields = tuple(prototype.get(k).elementName() for k in range(prototype.childCount()))
        turn, shift, placed = Rotation.identity(), np.zeros(3), node.isDefined("pose")
        if placed:
            pose = node["pose"]
            if pose.isDefined("rotation"):
                quaternion = [pose["rotation"][k].value() for k in "wxyz"]
                if not np.isfinite(quaternion).all() or not np.linalg.norm(quaternion) > 0:
                    raise bad("A scan of this E57 file says no way in which it is turned.")
                turn = Rotation.from_quat(quaternion, scalar_first=True)
            if pose.isDefined("translation"):
                shift = np.array([pose["translation"][k].value() for k in "xyz"])
        return cls(file, points, fields, int(points.childCount()), turn, shift, placed, unit_mm)

    def blocks(self) -> Iterator[Block]:
        from pye57 import libe57

        flat = set(FLAT) <= set(self.fields)
        if not flat and not set(ROUND) <= set(self.fields):
            raise bad("A scan of this E57 file has no places in space.")
        wanted = [*(FLAT if flat else ROUND), *(name for name in ("intensity", *FACING, *INVALID) if name in self.fields)]
        arrays, buffers = {name: np.empty(BLOCK) for name in wanted}, libe57.VectorSourceDestBuffer()
        for name, values in arrays.items():
            buffers.append(libe57.SourceDestBuffer(self.file, name, values, BLOCK, True, True))
        reader = self.points.reader(buffers)
        while count := reader.read():
            yield self._block({name: values[:count].copy() for name, values in arrays.items()}, flat)
        reader.close()

    def _block(self, read: Mapping[str, NDArray], flat: bool) -> Block:
        good = np.logical_and.reduce([read[name] == 0 for name in INVALID if name in read] or [True])
        if flat:
            places = np.column_stack([read[name] for name in FLAT])
        else:
            far, azimuth, elevation = (read[name] for name in ROUND)
            across = far * np.cos(elevation)
            places = np.column_stack([across * np.cos(azimuth), across * np.sin(azimuth), far * np.sin(elevation)])
        good = good & np.isfinite(places).all(axis=1)
        normals = np.column_stack([read[name] for name in FACING]) if set(FACING) <= set(read) else None
        return Block(
            self.unit_mm * (self.turn.apply(places[good]) + self.shift) if good.any() else np.empty((0, 3)),
            in_unit(read["intensity"][good]) if "intensity" in read else None,
            None if normals is None else self.turn.apply(normals[good]) if good.any() else normals[good],
            self.unit_mm * self.shift if self.placed else None,
        )


def write_e57(path: Path, points: Array, columns: Mapping[str, NDArray], normals: Array | None = None, name: str = "") -> None:
    """One scan of points (n, 3), mm, in the part, with numbers (n,) beside each under names of an extension of our own."""
    from pye57 import libe57

    file = libe57.ImageFile(str(path), "w")
    made = partial(_made, libe57, file)
    root = file.root()
    for prefix, uri in (("", libe57.E57_V1_0_URI), ("nor", NORMALS_URI), (OWN, OWN_URI)):
        file.extensionsAdd(prefix, uri)
    root.set("formatName", made("ASTM E57 3D Imaging Data File"))
    root.set("guid", made(f"{{{uuid4()}}}"))
    root.set("versionMajor", made(libe57.E57_FORMAT_MAJOR))
    root.set("versionMinor", made(libe57.E57_FORMAT_MINOR))
    root.set("e57LibraryVersion", made(libe57.E57_LIBRARY_ID))
    root.set("coordinateMetadata", made(""))
    scans = libe57.VectorNode(file, True)
    root.set("data3D", scans)
    root.set("images2D", libe57.VectorNode(file, True))
    scan = libe57.StructureNode(file)
    scan.set("guid", made(f"{{{uuid4()}}}"))
    scan.set("name", made(name))
    each = dict(zip(FLAT, np.asarray(points, float).T / MM, strict=True))
    if normals is not None:
        each |= dict(zip(FACING, np.asarray(normals, float).T, strict=True))
    each |= {f"{OWN}:{key}": np.asarray(values, float) for key, values in columns.items()}
    prototype, buffers = libe57.StructureNode(file), libe57.VectorSourceDestBuffer()
    each = {key: np.ascontiguousarray(values) for key, values in each.items()}
    for key, values in each.items():
        prototype.set(key, libe57.FloatNode(file, 0.0, libe57.E57_DOUBLE))
        buffers.append(libe57.SourceDestBuffer(file, key, values, len(values), True, True))
    vector = libe57.CompressedVectorNode(file, prototype, libe57.VectorNode(file, True))
    scan.set("points", vector)
    scans.append(scan)
    writer = vector.writer(buffers)
    if len(points):
        writer.write(len(points))
    writer.close()
    file.close()


def _made(libe57: Any, file: Any, value: str | int) -> Any:
    return libe57.StringNode(file, value) if isinstance(value, str) else libe57.IntegerNode(file, value)
