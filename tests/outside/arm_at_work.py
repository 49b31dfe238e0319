"""A stand-in arm swinging in a seat, touching and scanning a sphere: true joint angles, and what it then believes."""

import numpy as np
from scipy.spatial.transform import Rotation

from zipplumb.core.frames import Motion, perpendicular_pair, unit
from zipplumb.devices.sim.kinematics import Encoders, JointChain

OFFSET = np.array([0.3135, -0.2052, 186.4512])
NOISE_RAD, LEFT_RAD = 8e-6, 1e-6
SEAT = np.array([780.0, -60, 40])
UP = np.array([0.0, 0, 1])
AWAY = unit(SEAT * [1, 1, 0])
LEFT = np.array([-AWAY[1], AWAY[0], 0])


def lean(degrees, way):
    """Where the shaft points up to, leaning out of the upright toward a way (rad, 0 away from the arm, + left)."""
    out = np.cos(way) * AWAY + np.sin(way) * LEFT
    return np.cos(np.radians(degrees)) * UP + np.sin(np.radians(degrees)) * out


def swings(joints=7, ways=(0.0, 2 * np.pi / 3, -2 * np.pi / 3), roll=True, offset=OFFSET, seat=SEAT):
    """True angles (n, joints) and sweep numbers: from upright to 45° and back each way, then a roll."""
    chain, angles, sweeps = JointChain(joints), [], []

    def keep(up, sweep, roll_rad=0.0):
        assert chain.place(seat, -up, offset, roll_rad)
        angles.append(chain.angles.copy())
        sweeps.append(sweep)

    for number, way in enumerate(ways, start=1):
        for degrees in np.concatenate([np.linspace(2, 46, 40), np.linspace(46, 2, 20)]):
            keep(lean(degrees, way), number)
    for _ in range(40 if roll and joints == 7 else 0):
        keep(lean(12, 0.4), len(ways) + 1, np.radians(2.5))
    return chain, np.array(angles), np.array(sweeps)


def believed(chain, angles, random, encoders=None):
    """Poses (n, 7) as the arm tells them; exact without a random generator."""
    if random is not None:
        encoders = encoders or Encoders.of_class(random, chain.joints, NOISE_RAD, LEFT_RAD)
        angles = encoders.read(angles, random)
    turns, places = chain.last_axes(angles)
    wxyz = np.roll(Rotation.from_matrix(turns).as_quat(), 1, axis=1)
    return np.hstack([places, wxyz])


def all_round(count=64, radius=12.7 + 3.0, center=SEAT, offset=OFFSET, seed=4, low=-0.55):
    """True angles of hits all round a sphere, the handle leaned and rolled differently."""
    random, chain = np.random.default_rng(seed), JointChain(7)
    k = np.arange(count)
    z = low + (1 - low) * (k + 0.5) / count
    turn = k * np.pi * (3 - np.sqrt(5))
    normals = np.column_stack([np.sqrt(1 - z**2) * np.cos(turn), np.sqrt(1 - z**2) * np.sin(turn), z])
    angles = []
    for normal in normals:
        up = unit(unit(normal + 0.8 * UP) + 0.25 * random.normal(size=3))
        assert chain.place(center + radius * normal, -up, offset, random.uniform(-0.6, 0.6))
        angles.append(chain.angles.copy())
    return chain, np.array(angles)


SCANNER = Motion(Rotation.from_euler("xyz", [0.01, -0.02, 0.015]).as_matrix(), np.array([1.2, 61.0, 121.0]))


def scans(stripes=48, radius=12.7, center=SEAT, mount=SCANNER, seed=6, across=31, varied=1.0):
    """True angles of stripes over a sphere from all sides, and their points (n, 2) in the plane of light.

    ``varied``: how differently the handle is held, as a share of what a person does.
    """
    random, chain = np.random.default_rng(seed), JointChain(7)
    angles, points, which = [], [], []
    rays = np.linspace(-0.12, 0.12, 161)
    while len(angles) < stripes:
        k = len(angles)
        way = 2.4 * k * varied
        up = unit(lean(8 + 50 * varied * ((k * 0.618) % 1), way) + 0.05 * varied * random.normal(size=3))
        aim = center + radius * 0.8 * random.uniform(-1, 1) * unit(np.cross(up, perpendicular_pair(up)[0])) + 100 * up
        if not chain.place(aim - 0 * up, -up, mount.translation, varied * random.uniform(-0.3, 0.3)):
            chain = JointChain(7)
            continue
        base = chain.last_axis(chain.angles) @ mount
        own = base.inverse().points(center)
        directions = np.column_stack([np.sin(rays), 0 * rays, np.cos(rays)])
        along = directions @ own
        inside = along**2 - (own @ own - radius**2)
        hit = inside > 0
        far = along[hit] - np.sqrt(inside[hit])
        if hit.sum() < 9:
            continue
        some = np.linspace(0, hit.sum() - 1, min(across, hit.sum())).astype(int)
        found = (far[:, None] * directions[hit])[some][:, [0, 2]]
        points.append(found)
        which += [k] * len(found)
        angles.append(chain.angles.copy())
    return chain, np.array(angles), np.vstack(points), np.array(which)
