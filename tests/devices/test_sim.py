"""The stand-in: it touches the real part, moves as a hand does, and keeps to the protocol."""

import asyncio
import json

import numpy as np
import pytest

from zipplumb.core.frames import Motion, points_of_poses
from zipplumb.devices.protocol import Hello, Press, decode
from zipplumb.devices.sim.arm import SimulatedArm, Truth
from zipplumb.devices.sim.hand import Hand
from zipplumb.devices.sim.real_part import RealFace, spots_on

RADIUS = 3.0


def plate(size=100.0):
    """A square plate at z = 0 as two triangles, facing up."""
    corners = np.array([[[0, 0, 0], [size, 0, 0], [size, size, 0]], [[0, 0, 0], [size, size, 0], [0, size, 0]]], float)
    return corners, np.broadcast_to([0.0, 0, 1], (2, 3, 3))


def flat(**more):
    spots, outward = spots_on(*plate())
    raw = {"index": 0, "kind": "plane", "point": [0, 0, 0], "axis": [0, 0, 1], "spots": spots, "outward": outward}
    return RealFace.from_dict(raw | more)


def bore(radius=20.0, **more):
    turn = np.linspace(0, 6, 60)
    spots = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.linspace(0, 30, 60)])
    raw = {"index": 1, "kind": "cylinder", "point": [0, 0, 0], "axis": [0, 0, 1], "radius": radius, "inside": True}
    return RealFace.from_dict(raw | {"spots": spots, "outward": -spots} | more)


def hand(pace=4.0):
    return Hand(RADIUS, 100.0, pace, np.random.default_rng(3))


def test_spots_keep_clear_of_the_edges():
    spots, _ = spots_on(*plate())
    assert len(spots) > 100
    assert spots[:, :2].min() >= 6
    assert spots[:, :2].max() <= 94
    diagonal = np.abs(spots[:, 0] - spots[:, 1]).min()
    assert diagonal < 2  # an edge that two triangles share is none of the face's


def test_spread_spots_are_far_apart(random):
    chosen = flat().spots[flat().spread(5, random)]
    gaps = np.linalg.norm(chosen[:, None] - chosen[None], axis=2) + 1e9 * np.eye(5)
    assert gaps.min() > 25


def test_the_touched_surface_is_the_real_one():
    leaning = flat(point=[0, 0, 0.5], axis=[0.001, 0, 1])
    surface, outward = leaning.touch(np.array([50.0, 50, 0]))
    assert abs((surface - [0, 0, 0.5]) @ outward) < 1e-12
    surface, outward = bore(radius=20.1).touch(np.array([20.0, 0, 5]))
    assert np.hypot(*surface[:2]) == pytest.approx(20.1)
    assert np.allclose(outward, [-1, 0, 0])


def test_a_wavy_face_waves_by_no_more_than_it_says():
    wavy = flat(wave_mm=0.02)
    heights = [wavy.touch(s)[0][2] for s in wavy.spots]
    assert 0.005 < np.ptp(heights) <= 0.02


@pytest.mark.parametrize("face", [flat(), bore()])
def test_a_hit_is_pressed_in_contact_and_come_at_from_the_air(face):
    samples = list(hand().hits(face, [face.spots[7]]))
    press = next(k for k, s in enumerate(samples) if s.press == ("take", True))
    surface, outward = face.touch(face.spots[7])
    assert np.allclose(samples[press].tip, surface + RADIUS * outward)
    heights = np.array([(s.tip - surface) @ outward for s in samples[max(0, press - 20) : press + 1]])
    assert np.all(heights >= RADIUS - 1e-9)
    assert (samples[-1].tip - surface) @ outward > RADIUS + 5


def test_a_wrong_pull_off_goes_through_the_surface():
    mover, face = hand(), flat()
    list(mover.hits(face, [face.spots[0]]))
    list(mover.go_off(face, wrong=True))
    assert mover.tip[2] < 0


def test_a_clumsy_hit_is_off_by_what_it_slipped():
    mover, face = hand(), flat()
    samples = list(mover.hits(face, [face.spots[0]], slip_mm=0.6))
    press = next(s for s in samples if s.press == ("take", True))
    assert press.tip[2] == pytest.approx(RADIUS + 0.6)


def test_a_sweep_stays_on_the_surface_while_it_is_held():
    face = bore()
    samples = list(hand().sweep(face, [face.spots[k] for k in (0, 10, 20)]))
    down = next(k for k, s in enumerate(samples) if s.press == ("take", True))
    up = next(k for k, s in enumerate(samples) if s.press == ("take", False))
    across = [np.hypot(*s.tip[:2]) for s in samples[down : up + 1]]
    assert np.allclose(across, 20 - RADIUS, atol=1e-9)


PLACE = Motion.from_quaternion([0.9, 0.1, -0.2, 0.3], [400, -120, 60])


def truth(noise=0.01):
    return Truth((0.3, -0.2, 186.0), RADIUS, noise, 20.6, PLACE, {0: flat()}, "abc")


def test_the_pose_carries_the_true_tip_with_the_stated_noise():
    arm = SimulatedArm(truth())
    samples = [arm._next() for _ in range(400)]
    poses = [arm._pose(s) for s in samples]
    tips = points_of_poses(np.array([[*p["p"], *p["q"]] for p in poses]), arm.truth.offset_mm)
    off = tips - PLACE.points(arm.hand.tip)
    assert np.std(off) == pytest.approx(0.01, rel=0.15)
    assert np.abs(off.mean(axis=0)).max() < 0.002


async def _lines(reader, count):
    return [decode(await asyncio.wait_for(reader.readline(), 5)) for _ in range(count)]


def test_an_unanswered_press_is_sent_again_and_an_answered_one_is_not():
    async def run():
        arm = SimulatedArm(truth(), rate_hz=500)
        server = await asyncio.start_server(arm.serve_link, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        streaming = asyncio.create_task(arm.stream())
        try:
            arm.todo.append(arm.hand.press("take"))
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            messages = await _lines(reader, 20)
            assert isinstance(messages[0], Hello)
            press = next(m for m in messages if isinstance(m, Press))
            writer.close()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            again = await _lines(reader, 3)
            assert again[2] == press  # hello, state, and what was not answered
            writer.write((json.dumps({"t": "done", "e": press.number, "tone": "taken"}) + "\n").encode())
            await asyncio.sleep(0.1)
            assert arm.unanswered == {}
            writer.close()
        finally:
            streaming.cancel()
            server.close()

    asyncio.run(run())


def test_orders_that_make_no_sense_are_refused_in_words():
    async def run():
        arm = SimulatedArm(truth())
        server = await asyncio.start_server(arm.serve_control, "127.0.0.1", 0)
        reader, writer = await asyncio.open_connection("127.0.0.1", server.sockets[0].getsockname()[1])
        answers = []
        for order in (
            {"do": "touch", "face": 99},
            {"do": "dance"},
            {},
            {"do": "touch", "face": 0, "hits": 3},
            {"do": "unplug"},
        ):
            writer.write((json.dumps(order) + "\n").encode())
            answers.append(json.loads(await reader.readline()))
        writer.close()
        server.close()
        assert [a["ok"] for a in answers] == [False, False, False, True, True]
        assert "cannot do that" in answers[0]["why"]
        assert answers[4]["plugged"] is False

    asyncio.run(run())
