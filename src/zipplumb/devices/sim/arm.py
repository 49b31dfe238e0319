"""The stand-in arm: real joints with real errors, a choice of probes, and a bench with a seat, a sphere and a bar.

``zip-plumb sim arm --real real.json --port 7301 --control 7302``
"""

from __future__ import annotations

import base64
import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from ...core.frames import Array, Motion, unit
from ..protocol import encode
from .bench import Bench, center_in_nest
from .hand import Hand, Sample
from .kinematics import Encoders, JointChain
from .light import LineScanner, Lit
from .real_part import RealFace
from .stand import Stand
from .stand_in import StandIn

SEATED_AGAIN_MM = 0.002  # a head seats as well as the demo's calibrations state of its offset; else no U holds the truth
KNOCK_MM = 0.09
SCANNER = LineScanner()  # a line at every sample
SCAN_AWAY_MM, AWAY_MM, APART_MM = 110.0, (20.0, 500.0), (0.05, 50.0)  # how a scanner is held, and from line to line
MESHES = "real_meshes.npz"
FACES_NEAR = 4  # of which one is chosen for a place


@dataclass(frozen=True)
class TrueProbe:
    """The true probe on the arm. ``offset_mm``: of the tip's center, or of where a scanner stands, in the last axis."""

    name: str
    offset_mm: tuple[float, float, float]
    tip_radius_mm: float
    scanner: bool = False
    lean_rad: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @property
    def axis_from_scanner(self) -> Motion:
        return Motion(Rotation.from_rotvec(self.lean_rad).as_matrix(), np.array(self.offset_mm))


@dataclass(frozen=True)
class Truth:
    """The simulated truth, unknown to the product."""

    probes: tuple[TrueProbe, ...]
    noise_rad: float
    eccentricity_rad: float
    temperature_c: float
    world_from_part: Motion
    faces: dict[int, RealFace]
    sha256: str
    bench: Bench | None = None
    others: dict[str, dict[int, RealFace]] = field(default_factory=dict)
    stands: dict[str, Stand] = field(default_factory=dict)
    meshes: Mapping[str, Array] = field(default_factory=dict)  # (t, 3, 3) of each part as it really is, by its file

    @property
    def offset_mm(self) -> tuple[float, float, float]:
        return self.probes[0].offset_mm

    @classmethod
    def read(cls, path: Path) -> Truth:
        raw = json.loads(path.read_text())
        motion = Motion.from_quaternion(raw["world_from_part"]["quaternion"], raw["world_from_part"]["translation_mm"])
        probes = tuple(TrueProbe(**p) for p in raw["probes"])
        return cls(
            probes, raw["noise_rad"], raw["eccentricity_rad"], raw["temperature_c"], motion, _faces(raw["faces"]),
            raw["sha256"], Bench(**raw["bench"]), {sha: _faces(faces) for sha, faces in raw.get("others", {}).items()},
            {sha: Stand.of_data(stand) for sha, stand in raw.get("stands", {}).items()},
            np.load(meshes) if (meshes := path.with_name(MESHES)).exists() else {},
        )  # fmt: skip


def _faces(raw: list[dict]) -> dict[int, RealFace]:
    return {f["index"]: RealFace.from_dict(f) for f in raw}


class SimulatedArm(StandIn):
    """6 or 7 axes."""

    kind, serial = "arm", "SIM-0001"

    def __init__(self, truth: Truth, rate_hz: float = 100.0, pace: float = 1.0, seed: int = 7, axes: int = 7):
        random = np.random.default_rng(seed)
        self.probe = truth.probes[0]
        super().__init__(Hand(self.probe.tip_radius_mm, rate_hz, pace, random), rate_hz, random, truth.temperature_c)
        self.truth, self.axes, self.model = truth, axes, f"Stand-in arm, {axes} axes"
        self.chain = JointChain(axes)
        self.encoders = Encoders.of_class(random, axes, truth.noise_rad, truth.eccentricity_rad)
        self.faces, self.part, self.stand = truth.faces, truth.sha256, Stand(truth.world_from_part)
        self.lit = self._lit()
        self.last_face: RealFace | None = None
        self.bent = np.zeros(3)
        self.reaches = True
        self.held = False
        self.placed: tuple | None = None

    @property
    def offset(self) -> Array:
        """Where the tip really is in the last axis: as made, as seated, as bent."""
        return np.array(self.probe.offset_mm) + self.bent

    def _lit(self) -> Lit:
        """What a scanner's light falls on."""
        mesh = self.truth.meshes[self.part] if self.part in self.truth.meshes else np.empty((0, 3, 3))
        return Lit.of(np.asarray(mesh, float), self.stand, self.truth.bench)

    # ---- what it believes ---------------------------------------------------------------

    def sample(self, sample: Sample) -> dict | None:
        wanted = (sample.tip.tobytes(), sample.inward.tobytes(), sample.roll_rad, self.offset.tobytes())
        if wanted != self.placed:
            inward = self.stand.vectors(unit(sample.inward))
            tip = self.stand.points(sample.tip)
            self.reaches = self.chain.place(tip, inward, self.offset, sample.roll_rad) or self.chain.place_anew(
                tip, inward, self.offset
            )
            self.placed = wanted
        if sample.press and sample.press[0] == "take":
            self.held = sample.press[1] and self.reaches
        if not self.reaches and sample.press:  # nobody presses where the arm cannot go
            self.todo.clear()
            return None
        believed = self.chain.last_axis(self.encoders.read(self.chain.angles, self.random))
        return {"p": [round(float(x), 5) for x in believed.translation], "q": _quaternion(believed.rotation)}

    def more(self, head: dict) -> list[bytes]:
        if not (self.probe.scanner and self.held):
            return []
        mount = replace(self.probe, offset_mm=tuple(self.offset)).axis_from_scanner
        scanner = self.chain.last_axis(self.chain.angles) @ mount
        points = SCANNER.line(self.lit, scanner, self.random)
        return [encode(t="stripe", **head, packed=base64.b64encode(points.tobytes()).decode())] if len(points) else []

    def about(self) -> dict:
        return {
            "part": self.part,
            "nests": list(self.stand.nests),
            "probe": self.probe.name,
            "probes": [p.name for p in self.truth.probes],
        }

    # ---- what its hand is told ----------------------------------------------------------

    def told(self, do: str, order: dict) -> dict | None:
        if do == "table":  # what whoever stands there sees lying before the arm
            return {"table": [[index, face.seen_as] for index, face in self.faces.items() if len(face.spots)]}
        if do == "part":
            self._goes_to(order)
        elif do == "nest":
            self.todo.append(self._into_nest(order["name"]))
        elif do == "pull_off":
            if self.last_face is not None:
                self.todo.append(self.hand.go_off(self.last_face, order.get("wrong", False)))
        elif do in ("knock", "head_off", "head_on", "swap"):
            self._handle(do, order)
        elif self.truth.bench is not None and (path := self._at_bench(do, order)) is not None:
            self.todo.append(path)
        else:
            self._touch(do, order)
        return None

    def _goes_to(self, order: dict) -> None:
        """Another part is put before it, or it is carried to where that stands."""
        self.part = order["sha256"]
        known = {self.truth.sha256: self.truth.faces, **self.truth.others}
        self.faces = known.get(self.part) or _faces(order["faces"])
        self.stand = self.truth.stands.get(self.part) or Stand(self.truth.world_from_part)
        self.temperature_c = self.stand.temperature_c or self.truth.temperature_c
        self.lit = self._lit()
        self.news += self.greeting()

    def _into_nest(self, name: str) -> Iterator[Sample]:
        """The ball set into a nest, and taken there. Raises ValueError for one that it does not reach."""
        if name not in self.stand.nests:
            raise ValueError(f"there is no nest “{name}” where it stands")
        center = center_in_nest(self.stand.nests[name], self.probe.tip_radius_mm)
        if not self._reaches(center, self.hand.into_seat(center)):
            raise ValueError(f"it does not reach {name}")
        return self.hand.poses_in_seats([center], self.stand.inverse())

    def _handle(self, do: str, order: dict) -> None:
        """The head comes off, goes back a little differently, or is knocked; ``swap``: another probe without a word."""
        if do == "knock":
            self.bent = self.bent + unit(self.random.normal(size=3)) * KNOCK_MM
        elif do in ("head_on", "swap"):
            name = order.get("probe") or self.probe.name
            self.probe = next((p for p in self.truth.probes if p.name == name), None) or self._unknown(name)
            self.bent = self.random.normal(0, SEATED_AGAIN_MM, 3)
            self.hand.radius = self.probe.tip_radius_mm
        if do != "swap":
            self.news.append(encode(t="event", what=do))

    def _unknown(self, name: str) -> TrueProbe:
        raise ValueError(f"it has no probe “{name}”")

    def _at_bench(self, do: str, order: dict):
        bench, part = self.truth.bench, self.stand.inverse()
        if bench is None:
            return None
        if do in ("swing", "roll", "slip"):
            return self.hand.swing(bench.seat_center(self.probe.tip_radius_mm), part, int(order.get("way", 0)), do)
        if do == "sphere":
            return self.hand.round_sphere(bench, part, int(order.get("hits", 64)))
        if do == "scan":
            return self.hand.scan_sphere(bench, part, self.offset)
        if do == "seat":
            return self.hand.poses_in_seat(bench.seat_center(self.probe.tip_radius_mm), part, int(order.get("hits", 10)))
        if do == "bar":
            return self.hand.poses_in_seats([bench.end_center(k, self.probe.tip_radius_mm) for k in (0, 1) * 3], part)
        if do == "move_sphere":
            self.truth = replace(self.truth, bench=bench.with_sphere_moved())
            self.lit = self._lit()
            return iter(())
        return None

    def _reaches(self, tip: Array, inward: Array) -> bool:
        """Whether the probe can be at a place of the base so that it points there."""
        return JointChain(self.axes).place_anew(tip, inward, self.offset)

    def _must_reach(self, face: RealFace, near: Array) -> None:
        """Raises ValueError for a place that is out of its reach."""
        surface, outward = face.touch(near)
        tip = self.stand.points(surface + self.hand.radius * outward)
        if not self._reaches(tip, self.stand.vectors(unit(-outward))):
            raise ValueError("the arm does not reach there from where it stands")

    def _touch(self, do: str, order: dict) -> None:
        if do == "touch_all":
            places = [np.array(point, float) for point in order["points"]]
            for place in places:
                nearest = sorted(self.faces.values(), key=lambda f: f.beside(place))[:FACES_NEAR]
                face = min(nearest, key=lambda f: f.how_near(place))
                self._must_reach(face, place)
                self.last_face = face
                self.todo.append(self.hand.hits(face, [place]))
            return
        if do == "scan_all":
            self._scan_all()
            return
        if do not in ("touch", "touch_at", "clumsy", "sweep", "scan_face"):
            raise ValueError(f"“{do}” is not known")
        face = self.faces[int(order["face"])]
        self.last_face = face
        if do == "scan_face":
            side, away = int(order.get("side", 0)), _within(order.get("away_mm", SCAN_AWAY_MM), AWAY_MM)
            self.todo.append(self.hand.scan_face(face, side, away, **_how(order)))
            return
        if do == "touch_at":
            self._must_reach(face, np.array(order["point"], float))
            self.todo.append(self.hand.hits(face, [np.array(order["point"], float)]))
            return
        spots = [face.spots[k] for k in face.spread(int(order.get("hits", 4)), self.random)]
        if not spots:
            raise ValueError("that face is too small to touch")
        if do == "touch":
            self.todo.append(self.hand.hits(face, spots))
        elif do == "clumsy":
            self.todo.append(self.hand.hits(face, spots[:1], slip_mm=0.6))
        else:
            self.todo.append(self.hand.sweep(face, spots))

    def _scan_all(self) -> None:
        """Squarely down on all that faces up, then leaning to the four sides."""
        spots = np.vstack([face.spots for face in self.faces.values() if len(face.spots)])
        for side in range(5):
            self.todo.append(self.hand.scan_over(spots, np.array([0, 0, 1.0]), side, SCAN_AWAY_MM))


def _how(order: dict) -> dict:
    """What an order tells of how far the lines of light are to be apart, at any pace, and round which place they are to lie."""
    found: dict = {"lines_mm": _within(order["lines_mm"], APART_MM)} if "lines_mm" in order else {}
    if "round" in order:
        found["about"] = np.array(order["round"], float), float(order["reach_mm"])
    return found


def _within(told: object, least_and_most: tuple[float, float]) -> float:
    least, most = least_and_most
    if not least <= (number := float(str(told))) <= most:
        raise ValueError(f"the light is held from {least:g} to {most:g} mm, not {number:g}")
    return number


def _quaternion(rotation: np.ndarray) -> list[float]:
    """w, x, y, z (S. W. Shepperd, J. Guidance and Control 1 (1978): by the largest of the four)."""
    (a, b, c), (d, e, f), (g, h, i) = rotation.tolist()
    squares = (1 + a + e + i, 1 + a - e - i, 1 - a + e - i, 1 - a - e + i)
    largest = max(range(4), key=squares.__getitem__)
    twice = math.sqrt(squares[largest])
    rows = ((squares[0], h - f, c - g, d - b), (h - f, squares[1], b + d, c + g),
            (c - g, b + d, squares[2], f + h), (d - b, c + g, f + h, squares[3]))  # fmt: skip
    return [round(each / (2 * twice), 9) for each in rows[largest]]
