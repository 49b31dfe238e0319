"""The stand-in laser tracker and laser radar: a range and two angles, what disturbs them, and what the part hides.

``zip-plumb sim tracker --real shop.json --port 7303 --control 7304``
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import trimesh
from scipy.spatial.transform import Rotation

from ...core.frames import Array, Motion, unit
from ..protocol import encode
from .bench import center_in_nest
from .hand import Hand, Sample
from .on_screws import OnScrews
from .stand_in import StandIn

REFLECTORS_MM = {"38.1": 19.05, "12.7": 6.35}  # published: a 1.5-inch reflector is 38.1 mm across
LIFT_MM = 220.0
PATCH_MM, PATCH_POINTS, MOST_POINTS = 60.0, 49, 2500
AIMED_MM, AIMED_POINTS, AIMED_AT = 14.0, 9, 6  # patches that a hand aims, and how many of those that are proposed
MEANT_MM, FLAT_MM = 40.0, 0.5  # farther from where it is aimed, or less even, nobody takes what the beam meets
RIDES_MM, TURNED_MM_S = 1.0, 1.0  # so near to a nest the reflector rides in it; how fast somebody turns


@dataclass(frozen=True)
class Shop:
    """The simulated truth of a shop, unknown to the product. Frames: world; places mm.

    ``stations`` : world_from_instrument of every place it may stand at
    ``nests`` : (n, 3) centers of a 38.1 mm reflector in them, by name
    ``mesh`` : the real part's triangles, in the world
    ``range_mm``, ``range_per_m_mm``, ``angle_rad`` : noise of one sighting
    ``face_rad`` : by which the axes miss each other, seen as a difference of the faces
    ``details`` : what lies on screws and carries nests; ``parts``: world_from_part of each, by its file's fingerprint
    ``drift_mm_h`` : how the stand creeps; ``lean_rad``: how its own z leans from upright
    """

    stations: tuple[Motion, ...]
    nests: dict[str, Array]
    mesh: trimesh.Trimesh
    range_mm: float
    range_per_m_mm: float
    angle_rad: float
    face_rad: float
    drift_mm_h: float
    temperature_c: float
    bar_mm: float
    details: dict[str, OnScrews] = field(default_factory=dict)
    parts: dict[str, Motion] = field(default_factory=dict)

    @classmethod
    def read(cls, path: Path, kind: str = "tracker") -> Shop:
        """The reading as an instrument of some kind takes it."""
        raw = json.loads(path.read_text())
        stands = raw["stations"] if kind == "tracker" else raw["radar_stations"]
        stations = tuple(Motion.from_quaternion(s["quaternion"], s["translation_mm"]) for s in stands)
        parts = {sha: Motion.from_quaternion(p["quaternion"], p["translation_mm"]) for sha, p in raw.get("parts", {}).items()}
        mesh = trimesh.Trimesh(np.array(raw["mesh"]["vertices"]), np.array(raw["mesh"]["triangles"]), process=False)
        nests = {name: np.array(place, float) for name, place in raw["nests"].items()}
        numbers = {
            k: raw[k] for k in ("range_mm", "range_per_m_mm", "angle_rad", "face_rad", "drift_mm_h", "temperature_c", "bar_mm")
        }
        details = {name: OnScrews.of_data(each) for name, each in raw.get("details", {}).items()}
        return cls(stations, nests, mesh, **numbers, details=details, parts=parts)


class SimulatedTracker(StandIn):
    """Follows a reflector that a hand carries from nest to nest."""

    kind, serial, model = "tracker", "SIM-0002", "Stand-in tracker"

    def __init__(self, shop: Shop, rate_hz: float = 100.0, pace: float = 1.0, seed: int = 11):
        random = np.random.default_rng(seed)
        super().__init__(Hand(REFLECTORS_MM["38.1"], rate_hz, pace, random), rate_hz, random, shop.temperature_c)
        self.shop, self.station, self.face = shop, 0, 1
        self.moved = Motion.identity()
        self.locked = True
        self.blocked = False
        self.nest = next(iter(shop.nests))
        self.reflector = "38.1"
        self.hand.tip = self._center(self.nest)

    def _center(self, nest: str) -> Array:
        return center_in_nest(self.shop.nests[nest], REFLECTORS_MM[self.reflector])

    @property
    def world_from_tracker(self) -> Motion:
        creep = self.shop.drift_mm_h / 3600 * self.n / self.rate
        return Motion(np.eye(3), np.array([creep, 0.0, 0.0])) @ self.moved @ self.shop.stations[self.station]

    def greeting(self) -> list[bytes]:
        up = self.world_from_tracker.rotation.T @ [0.0, 0.0, 1.0]
        lean = Rotation.from_rotvec(self.random.normal(0, 2e-6, 3)).apply(up)
        return [
            encode(t="state", temperature_c=self.temperature_c, pressure_hpa=1012.4, humidity_percent=48.0),
            encode(t="level", up=[round(float(v), 9) for v in unit(lean)], u_rad=3e-6),
            *self.target(),
        ]

    def target(self) -> list[bytes]:
        return [encode(t="target", state="locked" if self.locked else "lost")]

    def alive(self) -> list[bytes]:
        return [encode(t="target", state="lost")]

    def sees(self, place: Array) -> bool:
        """Whether the beam reaches a place in the world past the part."""
        start = self.world_from_tracker.translation
        way = place - start
        far = float(np.linalg.norm(way))
        hits, *_ = self.shop.mesh.ray.intersects_location(start[None], (way / far)[None], multiple_hits=False)
        return not len(hits) or float(np.linalg.norm(hits[0] - start)) > far - 1.0

    def sample(self, sample: Sample) -> dict | None:
        if self.n % 5 == 1 and self.todo:
            self._watch(sample.tip)
        if not self.locked:
            if sample.press:
                self.todo.clear()
            return None
        return self.sighted(self.world_from_tracker.inverse().points(sample.tip), 1.0)

    def _watch(self, place: Array) -> None:
        free = not self.blocked and self.sees(place)
        if free != self.locked:
            self.locked = free
            self.news.append(encode(t="target", state="locked" if free else "lost"))

    def sighted(self, local: Array, grazing: float) -> dict:
        """Range and angles as the instrument reads them; ``grazing`` 1 or more makes the range worse."""
        x, y, z = local
        far, level = float(np.linalg.norm(local)), float(np.hypot(x, y))
        sign = 1.0 if self.face == 1 else -1.0
        u_range = (self.shop.range_mm + self.shop.range_per_m_mm * far / 1000) * grazing
        off = self.random.normal(0, 1, 3) * [u_range, self.shop.angle_rad, self.shop.angle_rad]
        return {
            "r": round(far + off[0], 5),
            "az": round(float(np.arctan2(y, x)) + off[1] + sign * self.shop.face_rad / 2, 9),
            "el": round(float(np.arctan2(z, level)) + off[2] + sign * self.shop.face_rad / 3, 9),
            "face": self.face,
        }

    def about(self) -> dict:
        return {
            "nests": list(self.shop.nests),
            "nest": self.nest,
            "face": self.face,
            "locked": self.locked,
            "station": self.station,
        }

    # ---- what its hand is told ----------------------------------------------------------

    def told(self, do: str, order: dict) -> dict | None:
        if do == "nest":
            self.todo.append(self._carry(order["name"], order.get("take", True)))
        elif do == "nests":
            self.todo += [self._carry(name, True) for name in self.shop.nests if name.startswith("Nest")]
        elif do == "bar":
            self.todo += [self._carry(name, True) for name in ("Bar end 1", "Bar end 2") * 3]
        elif do == "face":
            self.face = 3 - self.face
        elif do == "faces":
            self.todo.append(self._both_faces())
        elif do == "block":
            self.blocked = not self.blocked
            self._watch(self.hand.tip)
        elif do == "search":
            self.news.append(encode(t="target", state="searching"))
            self.locked = False
            self._watch(self.hand.tip)
        elif do == "bump":
            self.moved = Motion(Rotation.from_rotvec([0, 0, 2.5e-5]).as_matrix(), np.array([0.12, -0.05, 0.0])) @ self.moved
        elif do == "knock":
            self.shop.nests[order["name"]] = self.shop.nests[order["name"]] + np.array(order["by"], float)
        elif do == "reflector":
            REFLECTORS_MM[order["name"]]  # it has that
            self.reflector = order["name"]
        elif do == "turn":
            detail = self.shop.details[order["detail"]]
            turns = {name: float(count) for name, count in order["turns"].items()}
            detail.turned(dict.fromkeys(turns, 0.0), self.shop.nests)  # it has all these screws
            if self.nest in detail.nests and np.linalg.norm(self.hand.tip - self._center(self.nest)) < RIDES_MM:
                self.todo.append(self._ridden(detail, turns))
            else:
                self.shop.nests.update(detail.turned(turns, self.shop.nests))
        elif do == "station":
            self.station = int(order["number"]) % len(self.shop.stations)
            self.locked = False
            self._watch(self.hand.tip)
        else:
            return super().told(do, order)
        return None

    def _carry(self, name: str, take: bool) -> Iterator[Sample]:
        place = self._center(name)
        self.nest = name
        up = np.array([0.0, 0.0, LIFT_MM])
        for end in (self.hand.tip + up, place + up, place):
            yield from self.hand._glide(end, self.hand.inward, 1500.0)
        yield from self.hand.rest(0.25)
        if take:
            yield from self.hand.click("take")

    def _ridden(self, detail: OnScrews, turns: Mapping[str, float]) -> Iterator[Sample]:
        """One screw after another is turned, with the reflector in a nest of what they move."""
        for name, count in turns.items():
            self.shop.nests.update(detail.turned({name: count}, self.shop.nests))
            yield from self.hand._glide(self._center(self.nest), self.hand.inward, TURNED_MM_S)

    def _both_faces(self) -> Iterator[Sample]:
        yield from self.hand.click("take")
        self.face = 3 - self.face
        yield from self.hand.rest(0.4)
        yield from self.hand.click("take")
        self.face = 3 - self.face


class SimulatedRadar(SimulatedTracker):
    """A tracker without a reflector: it sees surfaces, with more noise at grazing incidence."""

    kind, serial, model = "radar", "SIM-0003", "Stand-in radar"
    aimed: tuple = (b"", None, None)

    def target(self) -> list[bytes]:
        """It follows none: that its beam meets nothing is no loss."""
        return []

    def alive(self) -> list[bytes]:
        return self.greeting()[:1]

    def told(self, do: str, order: dict) -> dict | None:
        if do in ("patch", "line"):
            at = self._aimed(order)
            across = PATCH_MM / 2 * unit(np.cross(at - self.world_from_tracker.translation, [0, 0, 1.0]))
            ends = at[None] if do == "patch" else np.array([at - across, at + across])
            self.todo.append(self._looked(None, self._places(ends, {"points": PATCH_POINTS, "side_mm": PATCH_MM})))
        elif do == "patches":
            self.todo += [self._looked(None, places) for places in self._in_sight(order)]
        else:
            return super().told(do, order)
        return None

    def _in_sight(self, order: dict) -> list[Array]:
        """Patches round places that a person would aim at: what is seen there is what was meant."""
        found = []
        for at in self._aimed(order):
            patch = self._places(at[None], {"points": AIMED_POINTS, "side_mm": AIMED_MM})
            if self._meets_one_face(patch):
                found.append(patch)
        if not found:
            raise ValueError("nothing of that is seen from where it stands")
        return found[:AIMED_AT]

    def _meets_one_face(self, patch: Array) -> bool:
        """All of it near where it is aimed, and no hole or chamfer among it."""
        seen = [self._first_surface(place) for place in patch]
        if any(each is None for each in seen):
            return False
        met = np.array([self.world_from_tracker.points(each[0]) for each in seen if each])
        across = np.linalg.svd(met - met.mean(axis=0))[2][2]
        return bool(np.linalg.norm(met - patch, axis=1).max() < MEANT_MM and np.ptp(met @ across) < FLAT_MM)

    def _aimed(self, order: dict) -> Array:
        """A place in the world; of a part that is named, where a hand aims at it."""
        at = np.array(order["at"], float)
        return self.shop.parts[order["part"]].points(at) if "part" in order else at

    def look(self, asked: dict) -> str:
        ends = [np.array(asked[name], float) for name in ("at", "to") if name in asked]
        if not all(end.shape == (3,) and np.isfinite(end).all() for end in ends):
            return "there is no such place"
        world = self.world_from_tracker.points(np.array(ends))
        if self._first_surface(world.mean(axis=0)) is None:
            return "nothing is seen there"
        self.todo.append(self._looked(int(asked["o"]), self._places(world, asked)))
        return ""

    def _places(self, world: Array, asked: dict) -> Array:
        """Where it looks: of a patch, rows of places across the sight."""
        points = min(int(asked["points"]), MOST_POINTS)
        if len(world) > 1:
            return np.linspace(world[0], world[1], max(points, 2))
        side = max(2, round(np.sqrt(points)))
        steps = np.linspace(-0.5, 0.5, side) * float(asked["side_mm"])
        sight = unit(world[0] - self.world_from_tracker.translation)
        u = unit(np.cross(sight, [0, 0, 1.0]))
        return np.array([world[0] + a * u + b * np.cross(u, sight) for b in steps for a in steps])

    def _looked(self, number: int | None, places: Array) -> Iterator[Sample]:
        """The button is held from the first place that is seen to the last: by itself, where a look is numbered."""
        seen = [place for place in places if self._first_surface(place) is not None]
        if len(seen) < 2:
            return
        self.looking = number
        for k, self.hand.tip in enumerate(seen):
            press = ("take", k == 0) if k in (0, len(seen) - 1) else None
            yield Sample(self.hand.tip, self.hand.inward, press)
        self.looking = None

    def sample(self, sample: Sample) -> dict | None:
        """The first surface on the way to where it is aimed."""
        if sample.tip.tobytes() != self.aimed[0] or self.moved is not self.aimed[1]:
            self.aimed = (sample.tip.tobytes(), self.moved, self._first_surface(sample.tip))
        seen = self.aimed[2]
        return None if seen is None else self.sighted(*seen)

    def _first_surface(self, aim: Array) -> tuple[Array, float] | None:
        """Where the beam meets the part, in its own frame, and how much worse the range is for grazing it."""
        frame = self.world_from_tracker
        start = frame.translation
        hits, _, triangles = self.shop.mesh.ray.intersects_location(start[None], unit(aim - start)[None], multiple_hits=False)
        if not len(hits):
            return None
        facing = abs(float(self.shop.mesh.face_normals[triangles[0]] @ unit(hits[0] - start)))
        return frame.inverse().points(hits[0]), 1 / max(facing, 0.05)
