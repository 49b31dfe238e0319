"""From a stream of poses to hits: one per press, and by distance while the button is held."""

from __future__ import annotations

from collections import OrderedDict, deque
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from ..core.errors import DeviceError
from ..core.frames import Array, points_of_poses
from ..core.probing import ByDistance, Taking
from ..core.stripes import is_light, packed
from .protocol import PoseMessage, Stripe

REMEMBERED = 250  # poses: two to five seconds, enough for any way in
WAY_IN_MM = 6.0
BEFORE_MM = 30.0  # on the beam, before what it meets
REMEMBERED_PRESSES = 256
CHUNK_BYTES = 2**20
LIGHT_S = 0.25  # without a line, and nothing comes back any more
UNSEEN = (float("nan"),) * 7


@dataclass(frozen=True)
class HitBatch:
    """Hits that are kept together. ``sweep``: the sample of the press that began them.

    ``faces``: of a tracker, the face of each; ``points``: of a scanner, those of each hit's line of light, packed as in
    ``core.stripes``, and ``counts`` of them; ``gap_s``: so long the link was lost before the first of them, while the surface
    was followed.
    """

    kind: str
    session: str
    sweep: int
    ns: tuple[int, ...]
    times: tuple[float, ...]
    poses: tuple[float, ...]
    approach: tuple[float, ...]
    faces: tuple[int, ...] = ()
    points: bytes = b""
    counts: tuple[int, ...] = ()
    gap_s: float = 0.0


class HitMaker:
    """Remembers the way in, and makes batches. One per session of an instrument.

    ``beam``: nothing touches; the way in and out is that of the beam. ``ranges``: it tells places by a range and two angles.
    """

    def __init__(self, session: str, beam: bool = False, ranges: bool = False):
        self.session, self.beam, self.ranges = session, beam, ranges
        self._samples: OrderedDict[int, int] = OrderedDict()
        self.offset_mm: Array = np.zeros(3)
        self.taking: Taking = ByDistance(5.0)
        self._past: deque[PoseMessage] = deque(maxlen=REMEMBERED)
        self._sweep: int | None = None
        self._pending: list[PoseMessage] = []
        self._lines: list[Stripe] = []
        self._light: Stripe | None = None
        self._broken_at: float | None = None
        self._gap_s = 0.0
        self._every = False
        self._last_hit: PoseMessage | None = None

    @property
    def held(self) -> bool:
        """The button is down."""
        return self._sweep is not None

    def must_fit(self, pose: PoseMessage) -> None:
        """Raises DeviceError for a place that is not told as such an instrument tells it."""
        if pose.ranged != self.ranges:
            raise DeviceError(
                f"The instrument sends {'a range' if pose.ranged else 'a pose'}, as its kind does not.", "It was not kept.",
                "Look at its address, and at its software.",
            )  # fmt: skip

    def must_be_new(self, number: int, pose: PoseMessage) -> None:
        """Raises DeviceError for another press at a sample at which one was made: only one of them can be kept."""
        if self._samples.setdefault(pose.n, number) != number:
            raise DeviceError(
                f"The instrument pressed twice at its sample {pose.n}.", "The first hit is kept, this one is not.",
                "Take it again.",
            )  # fmt: skip
        while len(self._samples) > REMEMBERED_PRESSES:
            self._samples.popitem(last=False)

    def tip(self, pose: PoseMessage) -> Array:
        """Tip center in the instrument's frame, mm."""
        return points_of_poses(np.array([pose.values]), self.offset_mm)[0]

    def press(self, pose: PoseMessage, every: bool = False) -> HitBatch:
        """The button went down: one hit, and the beginning of a sweep if it stays down.

        ``every``: the instrument holds it by itself, and each place that it tells is a hit.
        """
        self._sweep, self._gap_s, self._every, self._last_hit = pose.n, 0.0, every, pose
        self.taking.begin(pose.at, self.tip(pose))
        return self._batch("press", pose.n, [pose], self._way_in(pose))

    def pull_off(self, pose: PoseMessage) -> HitBatch:
        """Where the tip is when the feature is finished."""
        if self.beam and self._last_hit is not None:  # where it looks by now is no matter
            pose = replace(pose, values=_along_the_beam(self._last_hit))
        return self._batch("pull_off", pose.n, [pose], UNSEEN)

    def release(self) -> list[HitBatch]:
        batches = self.flush()
        self._sweep = None
        return batches

    def seen(self, pose: PoseMessage) -> None:
        """Every pose of the stream, in order."""
        if self._broken_at is not None:
            self._gap_s += max(0.0, pose.at - self._broken_at)
            self._broken_at = None
            self._past.clear()  # the way in was not seen
        self._past.append(pose)
        if self._sweep is None:
            return
        if (self._every and pose.n != self._sweep) or self.taking.feed(pose.at, self.tip(pose)):
            self._pending.append(pose)

    def link_lost(self) -> list[HitBatch]:
        """The pending hits after a lost link; the sweep continues after the gap, which is reported with it."""
        if self._past:
            self._broken_at = self._past[-1].at
        return self.flush()

    def scanned(self, stripe: Stripe) -> None:
        """A scanner's line; kept while the button is held."""
        if self._sweep is not None and is_light(stripe.points).any():
            self._lines.append(stripe)
            self._light = stripe

    def away_mm(self, at: float) -> float | None:
        """How far what the light meets is, the median of the newest line; NaN where nothing comes back by then, None while
        the button is up."""
        light = self._light
        if self._sweep is None:
            return None
        if light is None or light.pose.n < self._sweep or at - light.pose.at > LIGHT_S:
            return float("nan")
        return float(np.median(light.points[is_light(light.points), 1]))

    def flush(self) -> list[HitBatch]:
        """What came in the running sweep and has not been handed over yet: hits, or chunks of lines of light."""
        if self._sweep is None:
            return []
        if self._lines:
            lines, self._lines, self._pending = self._lines, [], []  # a scanner takes no hits
            return [self._chunk(self._sweep, some) for some in _chunks(lines)]
        if not self._pending:
            return []
        poses, self._pending, self._last_hit = self._pending, [], self._pending[-1]
        ways = (_along_the_beam(pose) if self.beam else UNSEEN for pose in poses)
        batch = self._batch("sweep", self._sweep, poses, tuple(v for way in ways for v in way))
        return [replace(batch, gap_s=self._gap())]

    def _chunk(self, sweep: int, lines: list[Stripe]) -> HitBatch:
        batch = self._batch("stripes", sweep, [line.pose for line in lines], UNSEEN * len(lines))
        points, counts = packed(line.points for line in lines)
        return replace(batch, points=points, counts=counts, gap_s=self._gap())

    def _gap(self) -> float:
        """How long the link was lost before what is handed over now; said once."""
        gap_s, self._gap_s = self._gap_s, 0.0
        return gap_s

    def _way_in(self, hit: PoseMessage) -> tuple[float, ...]:
        """The latest pose at which the tip was clear of the hit; NaN where there is none."""
        if self.beam:
            return _along_the_beam(hit)
        if self._past:
            poses = np.array([p.values for p in self._past])
            tips = points_of_poses(poses, self.offset_mm)
            clear = np.flatnonzero(np.linalg.norm(tips - self.tip(hit), axis=1) >= WAY_IN_MM)
            if len(clear):
                return tuple(poses[clear[-1]])
        return UNSEEN

    def _batch(self, kind: str, sweep: int, poses: list[PoseMessage], approach: tuple[float, ...]) -> HitBatch:
        values = tuple(v for p in poses for v in p.values)
        faces = tuple(p.face for p in poses)
        return HitBatch(
            kind, self.session, sweep, tuple(p.n for p in poses), tuple(p.at for p in poses), values, approach, faces
        )


def _chunks(lines: list[Stripe]) -> Iterator[list[Stripe]]:
    """Of at most ``CHUNK_BYTES`` of points each."""
    some: list[Stripe] = []
    size = 0
    for line in lines:
        if some and size + line.points.nbytes > CHUNK_BYTES:
            yield some
            some, size = [], 0
        some.append(line)
        size += line.points.nbytes
    if some:
        yield some


def _along_the_beam(hit: PoseMessage) -> tuple[float, ...]:
    """A place between the instrument and what its beam met."""
    place = np.array(hit.values[:3])
    far = float(np.linalg.norm(place))
    return (*(place * max(0.0, 1 - BEFORE_MM / max(far, 1e-9))).tolist(), *hit.values[3:])
